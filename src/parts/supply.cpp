#include "parts/supply.h"

#include <algorithm>

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

class BenchSupply final : public StatefulPart<BenchSupply> {
public:
    BenchSupply(PartContext& context, double volts) : circuit_(context.circuit), pin_(context.pin("V")), cause_(context.cause), volts_(volts) { drive(); }

    void setControl(std::string_view /*name*/, double value) override
    {
        volts_ = std::clamp(value, 0.0, kMostVolts);
        drive();
    }
    [[nodiscard]] double control(std::string_view /*name*/) const override { return volts_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(volts_);
        if constexpr (Archive::kLoading)
            drive();
    }

private:
    void drive() { circuit_.drive(pin_, {volts_, kBenchSupplyOhms}, cause_); }

    circuit::Circuit& circuit_;
    circuit::PinId pin_;
    circuit::Cause cause_;
    double volts_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeBenchSupply(PartContext& context)
{
    const auto volts = kernel::parseQuantity(context.setting("voltage"), kernel::Unit::volt);
    if (!volts || *volts < 0 || *volts > kMostVolts)
        return kernel::fail(context.id + ".voltage", volts ? "is out of range; expected 0V to 15V" : volts.error().what);
    return std::make_unique<BenchSupply>(context, *volts);
}

}  // namespace bramix::parts
