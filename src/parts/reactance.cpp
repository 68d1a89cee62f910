#include "parts/reactance.h"

#include <cmath>

#include <fmt/format.h>

namespace bramix::parts {

namespace {

// A capacitor tells of a voltage that it does not stand, and an electrolytic one of a reverse voltage.
class Capacitor final : public StatefulPart<Capacitor>, public circuit::ElementListener {
public:
    Capacitor(PartContext& context, double farads, double ohms, double volts, bool polar)
        : id_(context.id), circuit_(context.circuit), cause_(context.cause), remark_(context.remark), a_(context.net("1")), b_(context.net("2")), volts_(volts), polar_(polar),
          element_(circuit_.addCapacitor(a_, b_, {farads}, {ohms}, {polar ? 1 / (farads * 0.01) : 1e12}, context.id))
    {
        circuit_.watchElement(element_, *this, polar ? std::vector{volts, -kReverseVolts} : std::vector{volts, -volts});
        circuit_.setQuietRange(element_, polar ? -kReverseVolts : -volts, volts);
    }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

    void elementChanged(circuit::ElementId, kernel::Time) override
    {
        const double across = circuit_.voltage(a_).value - circuit_.voltage(b_).value;
        if (!remark_)
            return;
        if (polar_ && across < -kReverseVolts)
            remark_({true, "reversed-polarity", fmt::format("{} is an electrolytic capacitor and has {} the wrong way round; turn it round", id_, kernel::formatQuantity(-across, kernel::Unit::volt, 3)), circuit_.cause()});
        else if (std::fabs(across) > volts_)
            remark_({true, "capacitor-over-voltage", fmt::format("{} has {} across it and stands {}; take one for a higher voltage", id_, kernel::formatQuantity(std::fabs(across), kernel::Unit::volt, 3), kernel::formatQuantity(volts_, kernel::Unit::volt, 3)),
                     circuit_.cause()});
    }

    template <class Archive>
    void state(Archive&)
    {
    }

private:
    static constexpr double kReverseVolts = 1.0;  // an electrolytic one stands a little

    std::string id_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    std::function<void(const Remark&)> remark_;
    circuit::NetId a_, b_;
    double volts_;
    bool polar_;
    circuit::ElementId element_;
};

class Inductor final : public StatefulPart<Inductor>, public circuit::ElementListener {
public:
    Inductor(PartContext& context, double henries, double ohms, double loss)
        : id_(context.id), circuit_(context.circuit), remark_(context.remark), a_(context.net("1")), b_(context.net("2")),
          element_(circuit_.addInductor(a_, b_, {henries}, {ohms}, {loss}, context.id))
    {
        circuit_.watchElement(element_, *this);
        circuit_.setQuietRange(element_, -kKickVolts, kKickVolts);
    }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

    void elementChanged(circuit::ElementId, kernel::Time) override
    {
        const double across = std::fabs(circuit_.voltage(a_).value - circuit_.voltage(b_).value);
        if (across > kKickVolts && remark_)
            remark_({true, "coil-without-diode",
                     fmt::format("{} was switched off with its current flowing and kicks to {}: the switch would not survive it; put a diode across the coil, cathode to the plus side", id_, kernel::formatQuantity(across, kernel::Unit::volt, 2)), circuit_.cause()});
    }

    template <class Archive>
    void state(Archive&)
    {
    }

private:
    static constexpr double kKickVolts = 60;

    std::string id_;
    circuit::Circuit& circuit_;
    std::function<void(const Remark&)> remark_;
    circuit::NetId a_, b_;
    circuit::ElementId element_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeCapacitor(PartContext& context)
{
    const auto farads = context.quantity("capacitance", kernel::Unit::farad, 1e-12, 10);
    if (!farads)
        return tl::unexpected(farads.error());
    const std::string type = context.setting("type");
    const auto series = context.typicalOr("series", kernel::Unit::ohm, 1e-6, 1e6);
    if (!series)
        return tl::unexpected(series.error());
    const auto volts = context.quantity("voltage", kernel::Unit::volt, 1, 1e5);
    if (!volts)
        return tl::unexpected(volts.error());
    const bool polar = type == "electrolytic";
    // Ceramic has the least: its plates are many and short.
    return std::make_unique<Capacitor>(context, *farads, series->value_or(polar ? 0.5 : type == "film" ? 0.05 : 0.02), *volts, polar);
}

kernel::Result<std::unique_ptr<Part>> makeInductor(PartContext& context)
{
    const auto henries = context.quantity("inductance", kernel::Unit::henry, 1e-9, 1000);
    if (!henries)
        return tl::unexpected(henries.error());
    const auto ohms = context.quantity("winding", kernel::Unit::ohm, 1e-6, 1e6);
    if (!ohms)
        return tl::unexpected(ohms.error());
    // Iron, stray capacitance and the spark: what takes the current when nothing else does.
    const auto loss = context.quantity("loss", kernel::Unit::ohm, 1, 1e12);
    if (!loss)
        return tl::unexpected(loss.error());
    return std::make_unique<Inductor>(context, *henries, *ohms, *loss);
}

}  // namespace bramix::parts
