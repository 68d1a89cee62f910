#include "parts/supply.h"

#include <algorithm>
#include <array>
#include <cmath>

#include <fmt/format.h>

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeSupply(PartContext& context)
{
    auto volts = kernel::parseQuantity(context.setting("voltage"), kernel::Unit::volt);
    if (!volts) {
        volts.error().where = context.id + ".voltage";
        return tl::unexpected(volts.error());
    }
    context.circuit.addSupply(context.net("V"), {*volts}, context.pin("V"));
    return std::make_unique<Part>();
}

namespace {

constexpr double kBenchSupplyOhms = 0.05;
constexpr double kMostVolts = 15;
constexpr double kMostAmps = 5;

// A source that is a voltage up to a current: what a bench supply is, and, seen from the other end, a current source.
class LimitedSupply : public StatefulPart<LimitedSupply> {
public:
    LimitedSupply(PartContext& context, circuit::NetId plus, circuit::NetId minus, circuit::LimitedSourceModel model, double mostVolts, double mostAmps)
        : circuit_(context.circuit), cause_(context.cause), mostVolts_(mostVolts), mostAmps_(mostAmps)
    {
        auto device = std::make_unique<circuit::LimitedSourceDevice>(model);
        device_ = device.get();
        const std::array nets{plus, minus};
        element_ = circuit_.addDevice(std::move(device), nets, context.id);
    }

    void setControl(std::string_view name, double value) override
    {
        if (name == "volts")
            set(std::clamp(value, 0.0, mostVolts_), device_->model().limitAmps);
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

    template <class Archive>
    void state(Archive& ar)
    {
        double volts = device_->model().volts, amps = device_->model().limitAmps;
        ar(volts, amps);
        if constexpr (Archive::kLoading)
            set(volts, amps);
    }

private:
    void set(double volts, double amps)
    {
        if (volts == device_->model().volts && amps == device_->model().limitAmps)
            return;
        device_->set(volts, amps);
        circuit_.deviceChanged(element_, cause_);
    }

    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    double mostVolts_, mostAmps_;
    circuit::LimitedSourceDevice* device_ = nullptr;
    circuit::ElementId element_{};
};

class Battery final : public Part {
public:
    Battery(PartContext& context, double volts, double ohms) : element_(context.circuit.addSource(context.net("+"), context.net("-"), {volts}, {ohms}, context.id)) {}
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

private:
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
    return std::make_unique<LimitedSupply>(context, context.net("V"), context.net("GND"), circuit::LimitedSourceModel{*volts, kBenchSupplyOhms, *limit}, kMostVolts, kMostAmps);
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
    return std::make_unique<LimitedSupply>(context, context.net("+"), context.net("-"), circuit::LimitedSourceModel{*volts, *volts / (*amps * 1000), *amps}, 1000, kMostAmps);
}

}  // namespace bramix::parts
