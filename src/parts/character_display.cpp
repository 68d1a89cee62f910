#include "parts/character_display.h"

#include <algorithm>
#include <cmath>

#include "parts/bus.h"
#include "parts/hd44780.h"
#include "parts/led.h"
#include "parts/logic.h"

namespace bramix::parts {

namespace {

using kernel::Time;

constexpr LogicFamily kDisplay{.leastVolts = 2.7, .mostVolts = 7.0, .lowShare = 0.16, .highShare = 0.44, .ohms = 500};  // 0.8 V and 2.2 V at 5 V
constexpr LogicFamily kExpander{.leastVolts = 2.5, .mostVolts = 7.0, .lowShare = 0.3, .highShare = 0.7, .ohms = 40};
constexpr double kBacklightAmps = 0.020;
constexpr std::uint32_t kGround = 0xB9C45A, kDark = 0x23301E;

std::uint32_t mix(std::uint32_t a, std::uint32_t b, double share)
{
    std::uint32_t out = 0;
    for (const int shift : {16, 8, 0}) {
        const double x = static_cast<double>(a >> shift & 0xFF), y = static_cast<double>(b >> shift & 0xFF);
        out |= static_cast<std::uint32_t>(std::lround(x + (y - x) * share)) << shift;
    }
    return out;
}

// Cells of five by eight dots with a dot's gap between; lit or not by contrast and backlight, each 0 to 1.
Part::Dots picture(const Hd44780& core, bool on, double contrast, double light, Time now)
{
    Part::Dots out;
    out.columns = core.columns() * 6 - 1;
    out.rows = core.rows() * 9 - 1;
    const std::uint32_t ground = mix(0x5C6330, kGround, std::sqrt(std::clamp(light, 0.0, 1.0)));
    out.colors.assign(static_cast<std::size_t>(out.columns * out.rows), ground);
    const double ghost = std::clamp((contrast - 5.2) / 0.8, 0.0, 0.9);  // dots that are off show too
    const double dark = std::clamp((contrast - 2.5) / 1.5, 0.0, 1.0);
    for (int row = 0; row < core.rows(); ++row)
        for (int column = 0; column < core.columns(); ++column)
            for (int y = 0; y < 8; ++y)
                for (int x = 0; x < 5; ++x) {
                    const double share = !on ? 0.0 : core.dot(column, row, x, y, now) ? dark : std::max(ghost, 0.04);
                    out.colors[static_cast<std::size_t>((row * 9 + y) * out.columns + column * 6 + x)] = mix(ground, kDark, share);
                }
    return out;
}

class CharacterDisplay final : public LogicPart {
public:
    CharacterDisplay(PartContext& context, int columns, int rows) : LogicPart(context, kDisplay), core_(columns, rows), contrast_(context.pin("VO"))
    {
        for (const char* pin : {"RS", "RW", "E"})
            addInput(context, pin);
        for (const char* pin : {"D0", "D1", "D2", "D3", "D4", "D5", "D6", "D7"}) {
            addInput(context, pin);
            addOutput(context, pin);
        }
        core_.wrong = [this](std::string_view rule, const std::string& text) { tell(false, rule, id_ + " " + text); };
        light_ = {circuit_.addDiode(context.net("A"), context.net("K"), *typicalLed("green"), context.id + " backlight"), kBacklightAmps, "backlight", "green"};
    }
    [[nodiscard]] std::vector<Light> lights() const override { return {light_}; }
    [[nodiscard]] std::string face() const override { return on() ? core_.text() : std::string(); }
    [[nodiscard]] Dots dots() const override { return picture(core_, on(), supply() - volts(contrast_), circuit_.current(light_.element).value / kBacklightAmps, queue_.now()); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    enum Input : std::size_t { kRs, kRw, kE, kD0 };
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(core_);
    }
    void powered(bool on) override
    {
        if (on)
            core_.powerUp(queue_.now());
    }
    void inputChanged(std::size_t input, bool, Time at) override
    {
        if (input >= kD0 || input == kRs)
            return;
        std::uint8_t data = 0;
        for (std::size_t i = 0; i < 8; ++i)
            data = static_cast<std::uint8_t>(data | (level(kD0 + i) ? 1U << i : 0U));
        core_.lines(level(kRs), level(kRw), level(kE), data, at);
        const circuit::Circuit::Batch together(circuit_);
        for (std::size_t i = 0; i < 8; ++i)
            core_.drives() ? drive(i, (core_.driven() >> i & 1) != 0) : release(i);
    }
    [[nodiscard]] std::string whyOutput(std::size_t output) const override
    {
        return core_.drives() ? fmt::format("E is high and RW asks: it gives 0x{:02X}, of it bit {}", core_.driven(), output) : "E has fallen: it lets its data lines go";
    }

    Hd44780 core_;
    circuit::PinId contrast_;
    Light light_;
};

// The expander's outputs are the display's lines; its own trimmer stands at a good contrast.
class TwoWireCharacterDisplay final : public LogicPart, private TwoWire::Device {
public:
    TwoWireCharacterDisplay(PartContext& context, int columns, int rows, std::uint8_t address)
        : LogicPart(context, kExpander), core_(columns, rows), address_(address), wire_(*this, [this](bool low) { low ? drive(0, false) : release(0); })
    {
        addInput(context, "SCL");
        addInput(context, "SDA");
        addOutput(context, "SDA");
        core_.wrong = [this](std::string_view rule, const std::string& text) { tell(false, rule, id_ + " " + text); };
    }
    [[nodiscard]] std::string face() const override { return on() ? core_.text() : std::string(); }
    [[nodiscard]] Dots dots() const override { return picture(core_, on(), 4.6, on() && (port_ & 0x08) != 0 ? 1 : 0, queue_.now()); }
    [[nodiscard]] std::vector<std::uint8_t> busAddresses() const override { return {address_}; }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(core_, wire_, port_);
    }
    void powered(bool on) override
    {
        wire_.reset();
        port_ = 0xFF;
        if (on)
            core_.powerUp(queue_.now());
    }
    void inputChanged(std::size_t input, bool high, Time) override { input == 0 ? wire_.clock(high) : wire_.data(high); }
    [[nodiscard]] std::string whyOutput(std::size_t) const override { return wire_.why(); }
    bool addressed(std::uint8_t address, bool) override { return address == address_; }
    bool written(std::uint8_t byte) override
    {
        port_ = byte;
        core_.lines((port_ & 1) != 0, (port_ & 2) != 0, (port_ & 4) != 0, port_ & 0xF0, queue_.now());
        return true;
    }
    std::uint8_t wanted() override
    {
        // A pin that is written high is pulled up weakly; the display decides where it drives.
        return core_.drives() ? static_cast<std::uint8_t>((port_ & 0x0F) | (port_ & core_.driven() & 0xF0)) : port_;
    }
    void ended() override {}

    Hd44780 core_;
    std::uint8_t address_;
    std::uint8_t port_ = 0xFF;
    TwoWire wire_;
};

kernel::Result<std::pair<int, int>> sizeOf(const PartContext& context)
{
    const std::string size = context.setting("size");
    if (size == "16x2")
        return std::pair(16, 2);
    if (size == "20x4")
        return std::pair(20, 4);
    return kernel::fail(context.id + ".size", "\"" + size + "\"; expected 16x2 or 20x4");
}

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeCharacterDisplay(PartContext& context)
{
    const auto size = sizeOf(context);
    if (!size)
        return tl::unexpected(size.error());
    return std::make_unique<CharacterDisplay>(context, size->first, size->second);
}

kernel::Result<std::unique_ptr<Part>> makeTwoWireCharacterDisplay(PartContext& context)
{
    const auto size = sizeOf(context);
    if (!size)
        return tl::unexpected(size.error());
    const auto address = context.address("address", 0x20, 0x3F);
    if (!address)
        return tl::unexpected(address.error());
    return std::make_unique<TwoWireCharacterDisplay>(context, size->first, size->second, *address);
}

}  // namespace bramix::parts
