#include "parts/led_group.h"

#include <fmt/format.h>

#include "parts/led.h"
#include "parts/wear.h"

namespace bramix::parts {

namespace {

constexpr double kRatedAmps = 0.020;
constexpr double kMostAmps = 0.030;

struct One {
    std::string name;
    std::string color;
    std::string anode, cathode;
};

// Each LED wears on its own; the part is dead when all of its LEDs are.
class LedGroup final : public StatefulPart<LedGroup> {
public:
    LedGroup(PartContext& context, const std::vector<One>& ones)
    {
        for (const One& one : ones) {
            const auto element = context.circuit.addDiode(context.net(one.anode), context.net(one.cathode), *typicalLed(one.color), context.id + " " + one.name);
            lights_.push_back({element, kRatedAmps, one.name, one.color});
            wear_.push_back(std::make_unique<Wear>(context, element, WearLimit{.amps = kMostAmps, .margin = 2.5, .seconds = 0.4, .remedy = "put a resistor in series with each"}));
        }
    }
    [[nodiscard]] std::vector<Light> lights() const override { return lights_; }
    [[nodiscard]] bool dead() const override
    {
        return std::all_of(wear_.begin(), wear_.end(), [](const auto& w) { return w->dead(); });
    }
    void replace() override
    {
        for (const auto& w : wear_)
            w->replace();
    }

    template <class Archive>
    void state(Archive& ar)
    {
        for (const auto& w : wear_)
            ar(*w);
    }

private:
    std::vector<Light> lights_;
    std::vector<std::unique_ptr<Wear>> wear_;
};

kernel::Result<bool> commonAnode(const PartContext& context)
{
    const std::string common = context.setting("common");
    if (common != "anode" && common != "cathode")
        return kernel::fail(context.id + ".common", "\"" + common + "\"; expected cathode or anode");
    return common == "anode";
}

kernel::Result<std::string> colorOf(const PartContext& context)
{
    const std::string color = context.setting("color");
    if (!typicalLed(color))
        return kernel::fail(context.id + ".color", "\"" + color + "\"; expected red, amber, yellow, green, blue, white or infrared");
    return color;
}

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeColorLed(PartContext& context)
{
    const auto anode = commonAnode(context);
    if (!anode)
        return tl::unexpected(anode.error());
    std::vector<One> ones;
    for (const auto& [pin, color] : {std::pair("R", "red"), std::pair("G", "green"), std::pair("B", "blue")})
        if (*pin != 'B' || context.setting("colors") == "three")
            ones.push_back(*anode ? One{color, color, "COM", pin} : One{color, color, pin, "COM"});
    return std::make_unique<LedGroup>(context, ones);
}

kernel::Result<std::unique_ptr<Part>> makeBarGraph(PartContext& context)
{
    const auto color = colorOf(context);
    if (!color)
        return tl::unexpected(color.error());
    std::vector<One> ones;
    for (int i = 1; i <= 10; ++i)
        ones.push_back({fmt::format("{}", i), *color, fmt::format("A{}", i), fmt::format("K{}", i)});
    return std::make_unique<LedGroup>(context, ones);
}

kernel::Result<std::unique_ptr<Part>> makeSevenSegment(PartContext& context)
{
    const auto anode = commonAnode(context);
    const auto color = colorOf(context);
    if (!anode)
        return tl::unexpected(anode.error());
    if (!color)
        return tl::unexpected(color.error());
    const bool four = context.setting("digits") == "4";
    std::vector<One> ones;
    for (int digit = 1; digit <= (four ? 4 : 1); ++digit)
        for (const char* segment : {"a", "b", "c", "d", "e", "f", "g", "dp"}) {
            const std::string common = four ? fmt::format("{}", digit) : "COM";
            const std::string name = fmt::format("{}{}", digit, segment);
            ones.push_back(*anode ? One{name, *color, common, segment} : One{name, *color, segment, common});
        }
    return std::make_unique<LedGroup>(context, ones);
}

}  // namespace bramix::parts
