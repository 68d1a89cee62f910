#include "parts/supply.h"

#include <algorithm>
#include <array>
#include <cmath>

#include <fmt/format.h>

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeSupply(PartContext& context)
{
    // Ground has no such setting.
    constexpr double kMostSupplyVolts = 1000;
    const auto volts = context.setting("voltage").empty() ? kernel::Result<double>(0.0) : context.quantity("voltage", kernel::Unit::volt, -kMostSupplyVolts, kMostSupplyVolts);
    if (!volts)
        return tl::unexpected(volts.error());
    context.circuit.addSupply(context.net("V"), {*volts}, context.pin("V"));
    return std::make_unique<Part>();
}

namespace {

constexpr double kBenchSupplyOhms = 0.05;
constexpr double kMostVolts = 15;
constexpr double kMostAmps = 5;

// A source that is a voltage up to a current: what a bench supply is, and, seen from the other end, a current source.
class LimitedSupply : public StatefulPart<LimitedSupply>, private circuit::ElementListener {
public:
    // `tellsShort`: into a short circuit it is at a loss; a current source is not.
    LimitedSupply(PartContext& context, circuit::NetId plus, circuit::NetId minus, circuit::LimitedSourceModel model, double mostVolts, double mostAmps, bool tellsShort)
        : id_(context.id), remark_(tellsShort ? context.remark : nullptr), circuit_(context.circuit), cause_(context.cause), mostVolts_(mostVolts), mostAmps_(mostAmps)
    {
        auto device = std::make_unique<circuit::LimitedSourceDevice>(model);
        device_ = device.get();
        const std::array nets{plus, minus};
        element_ = circuit_.addDevice(std::move(device), nets, context.id);
        circuit_.watchElement(element_, *this);
    }

    void setControl(std::string_view name, double value) override
    {
        if (name == "volts")
            set(std::clamp(value, leastVolts_, mostVolts_), device_->model().limitAmps);
        else
            set(device_->model().volts, std::clamp(value, 0.0, mostAmps_));
    }
    [[nodiscard]] std::string why(std::string_view) const override
    {
        return fmt::format("it is set to {}, and to {} at most", kernel::formatQuantity(device_->model().volts, kernel::Unit::volt, 4), kernel::formatQuantity(device_->model().limitAmps, kernel::Unit::ampere, 4));
    }
    [[nodiscard]] double control(std::string_view name) const override { return name == "volts" ? device_->model().volts : device_->model().limitAmps; }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }
    // At its limit it shows the current that it holds.
    [[nodiscard]] std::string face() const override
    {
        const auto [plus, minus] = std::pair(circuit_.netsOf(element_)[0], circuit_.netsOf(element_)[1]);
        return kernel::formatQuantity(std::round((circuit_.voltage(plus).value - circuit_.voltage(minus).value) * 1000) / 1000, kernel::Unit::volt, 3) + "  "
            + kernel::formatQuantity(std::round(circuit_.current(element_).value * 1e5) / 1e5, kernel::Unit::ampere, 3);
    }

    [[nodiscard]] std::vector<std::pair<std::string, double>> figures() const override
    {
        const std::vector<circuit::NetId> nets = circuit_.netsOf(element_);
        return {{"volts", circuit_.voltage(nets[0]).value - circuit_.voltage(nets[1]).value}, {"amperes", circuit_.current(element_).value}};
    }

    template <class Archive>
    void state(Archive& ar)
    {
        double volts = device_->model().volts, amps = device_->model().limitAmps;
        ar(volts, amps);
        if constexpr (Archive::kLoading)
            set(volts, amps);
    }

    // Below zero too, on either side of which it may take current as well as give it.
    void reachBelowZero() { leastVolts_ = -mostVolts_; }

private:
    void elementChanged(circuit::ElementId, kernel::Time) override
    {
        constexpr double kShortShare = 0.1, kWorthVolts = 0.5;
        const circuit::LimitedSourceModel& m = device_->model();
        if (!remark_ || m.volts < kWorthVolts)
            return;
        const double amps = circuit_.current(element_).value;
        const double volts = circuit_.voltage(circuit_.netsOf(element_)[0]).value - circuit_.voltage(circuit_.netsOf(element_)[1]).value;
        if (amps > 0.95 * m.limitAmps && std::fabs(volts) < kShortShare * m.volts)
            remark_({true, "supply-short",
                     fmt::format("{} gives its limit of {} into a short circuit: {} are left of its {}; take away what joins its ends", id_, kernel::formatQuantity(m.limitAmps, kernel::Unit::ampere, 3),
                                 kernel::formatQuantity(volts, kernel::Unit::volt, 3), kernel::formatQuantity(m.volts, kernel::Unit::volt, 3)),
                     circuit_.cause()});
        else if (amps < -kBackAmps)
            remark_({true, "supply-back-fed",
                     fmt::format("{} is set to {} and takes {} from a stronger supply; put a diode between them", id_, kernel::formatQuantity(m.volts, kernel::Unit::volt, 3), kernel::formatQuantity(-amps, kernel::Unit::ampere, 3)),
                     circuit_.cause()});
    }
    void set(double volts, double amps)
    {
        if (volts == device_->model().volts && amps == device_->model().limitAmps)
            return;
        device_->set(volts, amps);
        circuit_.deviceChanged(element_, cause_);
    }

    static constexpr double kBackAmps = 0.05;

    std::string id_;
    std::function<void(const Remark&)> remark_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    double mostVolts_, mostAmps_, leastVolts_ = 0;
    circuit::LimitedSourceDevice* device_ = nullptr;
    circuit::ElementId element_{};
};

// Tells where nothing but its own resistance is in the way of its current, and where something stronger pushes current back into it.
class Battery final : public Part, private circuit::ElementListener {
public:
    Battery(PartContext& context, double volts, double ohms)
        : id_(context.id), circuit_(context.circuit), remark_(context.remark), volts_(volts), shortAmps_(volts / ohms),
          element_(circuit_.addSource(context.net("+"), context.net("-"), {volts}, {ohms}, context.id))
    {
        circuit_.watchElement(element_, *this);
        circuit_.setQuietRange(element_, (1 - kShortShare) * volts, (1 + kBackShare) * volts);
    }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }
    [[nodiscard]] std::string face() const override { return kernel::formatQuantity(std::round(circuit_.current(element_).value * 1e5) / 1e5, kernel::Unit::ampere, 3); }
    [[nodiscard]] std::vector<std::pair<std::string, double>> figures() const override
    {
        const double amps = circuit_.current(element_).value;
        return {{"volts", volts_ * (1 - amps / shortAmps_)}, {"amperes", amps}};
    }

private:
    static constexpr double kShortShare = 0.5;   // of its voltage is lost inside
    static constexpr double kBackShare = 0.05;   // of its short-circuit current; a charger pushes less

    void elementChanged(circuit::ElementId, kernel::Time) override
    {
        if (!remark_)
            return;
        const double amps = circuit_.current(element_).value;
        if (amps > kShortShare * shortAmps_)
            remark_({true, "supply-short",
                     fmt::format("{} gives {}, of {} which it gives into a short circuit: only its own resistance limits the current, and {} are left of its {}; take away what joins its ends", id_,
                                 kernel::formatQuantity(amps, kernel::Unit::ampere, 3), kernel::formatQuantity(shortAmps_, kernel::Unit::ampere, 3),
                                 kernel::formatQuantity(volts_ * (1 - amps / shortAmps_), kernel::Unit::volt, 3), kernel::formatQuantity(volts_, kernel::Unit::volt, 3)),
                     circuit_.cause()});
        else if (amps < -kBackShare * shortAmps_)
            remark_({true, "supply-back-fed",
                     fmt::format("{} is a battery of {} and takes {} from a stronger supply; put a diode or a resistor between them", id_, kernel::formatQuantity(volts_, kernel::Unit::volt, 3),
                                 kernel::formatQuantity(-amps, kernel::Unit::ampere, 3)),
                     circuit_.cause()});
    }

    std::string id_;
    circuit::Circuit& circuit_;
    std::function<void(const Remark&)> remark_;
    double volts_, shortAmps_;
    circuit::ElementId element_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeBenchSupply(PartContext& context)
{
    const auto volts = context.quantity("voltage", kernel::Unit::volt, 0, kMostVolts);
    if (!volts)
        return tl::unexpected(volts.error());
    const auto limit = context.quantity("limit", kernel::Unit::ampere, 0.001, kMostAmps);
    if (!limit)
        return tl::unexpected(limit.error());
    return std::make_unique<LimitedSupply>(context, context.net("V"), context.net("GND"), circuit::LimitedSourceModel{*volts, kBenchSupplyOhms, *limit}, kMostVolts, kMostAmps, true);
}

kernel::Result<std::unique_ptr<Part>> makeBattery(PartContext& context)
{
    const auto volts = context.quantity("voltage", kernel::Unit::volt, 0.1, 1000);
    if (!volts)
        return tl::unexpected(volts.error());
    const auto inner = context.quantity("inner", kernel::Unit::ohm, 0.001, 1e5);
    if (!inner)
        return tl::unexpected(inner.error());
    return std::make_unique<Battery>(context, *volts, *inner);
}

kernel::Result<std::unique_ptr<Part>> makeCurrentSource(PartContext& context)
{
    const auto amps = context.quantity("current", kernel::Unit::ampere, 1e-9, kMostAmps);
    if (!amps)
        return tl::unexpected(amps.error());
    const auto volts = context.quantity("compliance", kernel::Unit::volt, 0.1, 1000);
    if (!volts)
        return tl::unexpected(volts.error());
    // As a supply that would like to give a thousand times as much.
    return std::make_unique<LimitedSupply>(context, context.net("+"), context.net("-"), circuit::LimitedSourceModel{*volts, *volts / (*amps * 1000), *amps}, 1000, kMostAmps, false);
}

kernel::Result<std::unique_ptr<Part>> makeVoltageSource(PartContext& context)
{
    constexpr double kMost = 30, kMostCurrent = 1, kInner = 0.01;
    const auto volts = context.quantity("voltage", kernel::Unit::volt, -kMost, kMost);
    if (!volts)
        return tl::unexpected(volts.error());
    const auto limit = context.quantity("limit", kernel::Unit::ampere, 1e-6, kMostCurrent);
    if (!limit)
        return tl::unexpected(limit.error());
    auto source = std::make_unique<LimitedSupply>(context, context.net("+"), context.net("-"), circuit::LimitedSourceModel{*volts, kInner, *limit}, kMost, kMostCurrent, false);
    source->reachBelowZero();
    return source;
}

}  // namespace bramix::parts
