#include "parts/resistor.h"

#include <algorithm>
#include <cmath>

#include "parts/wear.h"

namespace bramix::parts {

namespace {

constexpr double kLeastOhms = 0.001;
constexpr double kMostOhms = 1e12;

class Potentiometer final : public StatefulPart<Potentiometer> {
public:
    Potentiometer(PartContext& context, double ohms)
        : circuit_(context.circuit), cause_(context.cause), ohms_(ohms), upper_(circuit_.addResistor(context.net("A"), context.net("W"), {ohms}, context.id + " A")),
          lower_(circuit_.addResistor(context.net("W"), context.net("B"), {ohms}, context.id + " B"))
    {
        turn();
    }
    void setControl(std::string_view, double value) override
    {
        position_ = std::clamp(value, 0.0, 1.0);
        turn();
    }
    [[nodiscard]] double control(std::string_view) const override { return position_; }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return upper_; }
    [[nodiscard]] std::string why(std::string_view) const override { return fmt::format("it was turned to {:.0f} %", position_ * 100); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(position_);
        if constexpr (Archive::kLoading)
            turn();
    }

private:
    // A wiper never has quite no resistance to an end.
    void turn()
    {
        const double least = std::max(ohms_ * 1e-4, 0.1);
        const circuit::Circuit::Batch together(circuit_);
        circuit_.setResistance(upper_, {std::max(ohms_ * position_, least)}, cause_);
        circuit_.setResistance(lower_, {std::max(ohms_ * (1 - position_), least)}, cause_);
    }

    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    double ohms_;
    double position_ = 0.5;
    circuit::ElementId upper_, lower_;
};

class SensingResistor final : public StatefulPart<SensingResistor> {
public:
    SensingResistor(PartContext& context, bool light, double ohms, double exponent)
        : circuit_(context.circuit), cause_(context.cause), light_(light), ohms_(ohms), exponent_(exponent), value_(light ? 100 : 20),
          element_(circuit_.addResistor(context.net("1"), context.net("2"), {ohms}, context.id))
    {
        follow();
    }
    void setControl(std::string_view, double value) override
    {
        value_ = value;
        follow();
    }
    [[nodiscard]] double control(std::string_view) const override { return value_; }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }
    [[nodiscard]] std::string why(std::string_view) const override { return fmt::format("it has {} at {:.3g} {}", kernel::formatQuantity(ohms(), kernel::Unit::ohm, 3), value_, light_ ? "lx" : "°C"); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(value_);
        if constexpr (Archive::kLoading)
            follow();
    }

private:
    [[nodiscard]] double ohms() const
    {
        const double ohms = light_ ? ohms_ * std::pow(std::max(value_, 0.01) / 10, -exponent_) : ohms_ * std::exp(exponent_ * (1 / (value_ + 273.15) - 1 / 298.15));
        return std::clamp(ohms, 1.0, 1e9);
    }
    void follow() { circuit_.setResistance(element_, {ohms()}, cause_); }

    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    bool light_;
    double ohms_, exponent_, value_;
    circuit::ElementId element_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeResistor(PartContext& context)
{
    const auto ohms = context.quantity("resistance", kernel::Unit::ohm, kLeastOhms, kMostOhms);
    if (!ohms)
        return tl::unexpected(ohms.error());
    // A board's own resistors have no settings of their own for it.
    const auto watts = context.setting("power").empty() ? kernel::Result<double>(0.25) : context.quantity("power", kernel::Unit::watt, 0.01, 1000);
    if (!watts)
        return tl::unexpected(watts.error());
    return std::make_unique<WearingPart>(context, context.circuit.addResistor(context.net("1"), context.net("2"), {*ohms}, context.id),
                                         WearLimit{.watts = *watts, .margin = 3, .seconds = 2, .ohms = *ohms, .remedy = "take one of more power, or of more resistance"});
}

kernel::Result<std::unique_ptr<Part>> makePotentiometer(PartContext& context)
{
    const auto ohms = context.quantity("resistance", kernel::Unit::ohm, 10, 1e8);
    if (!ohms)
        return tl::unexpected(ohms.error());
    return std::make_unique<Potentiometer>(context, *ohms);
}

kernel::Result<std::unique_ptr<Part>> makeSensingResistor(PartContext& context)
{
    const bool light = context.setting("sense") == "light";
    const auto ohms = context.quantity("resistance", kernel::Unit::ohm, 10, 1e8);
    if (!ohms)
        return tl::unexpected(ohms.error());
    const auto exponent = context.quantity(light ? "gamma" : "beta", kernel::Unit::none, light ? 0.2 : 500, light ? 2 : 10'000);
    if (!exponent)
        return tl::unexpected(exponent.error());
    return std::make_unique<SensingResistor>(context, light, *ohms, *exponent);
}

}  // namespace bramix::parts
