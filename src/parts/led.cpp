#include "parts/led.h"

#include <array>

namespace bramix::parts {

namespace {

// Typical 5 mm indicators: forward voltage at 20 mA by chip material (GaAsP, AlInGaP, InGaN), ideality of such junctions, and
// the ohmic part of the curve above the knee.
struct Color {
    std::string_view name;
    double forwardVolts;
    double ideality;
    double seriesOhms;
};

constexpr std::array kColors{
    Color{"red", 1.95, 1.8, 6},   Color{"amber", 2.05, 1.8, 6}, Color{"yellow", 2.1, 1.9, 7}, Color{"green", 2.15, 2.0, 8},
    Color{"blue", 3.15, 2.6, 10}, Color{"white", 3.15, 2.6, 10}, Color{"infrared", 1.25, 1.5, 2},
};

constexpr double kRatedAmps = 0.020;  // shines fully

class Led final : public Part {
public:
    Led(PartContext& context, const Color& color)
    {
        const auto model = circuit::DiodeModel::through({color.forwardVolts}, {kRatedAmps}, color.ideality, {color.seriesOhms});
        light_ = {context.circuit.addDiode(context.net("A"), context.net("K"), model, context.id), kRatedAmps};
    }

    [[nodiscard]] const Light* light() const override { return &light_; }

private:
    Light light_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeLed(PartContext& context)
{
    const std::string wanted = context.setting("color");
    for (const Color& color : kColors)
        if (color.name == wanted)
            return std::make_unique<Led>(context, color);
    return kernel::fail(context.id + ".color", "\"" + wanted + "\"; expected red, amber, yellow, green, blue, white or infrared");
}

}  // namespace bramix::parts
