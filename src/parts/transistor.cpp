#include "parts/transistor.h"

#include <array>
#include <cmath>

#include "parts/wear.h"

namespace bramix::parts {

namespace {

class Transistor final : public StatefulPart<Transistor> {
public:
    Transistor(PartContext& context, circuit::ElementId element, double limit)
        : element_(element), wear_(context, element_, {.amps = limit, .margin = 3, .seconds = 0.3, .remedy = "limit its current, or take one for more"})
    {
    }
    [[nodiscard]] bool dead() const override { return wear_.dead(); }
    void replace() override { wear_.replace(); }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(wear_);
    }

private:
    circuit::ElementId element_;
    Wear wear_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeBipolar(PartContext& context)
{
    const auto gain = context.quantity("gain", kernel::Unit::none, 5, 10'000);
    const auto turnOn = context.quantity("turn-on", kernel::Unit::volt, 0.2, 1.2);
    const auto limit = context.quantity("limit", kernel::Unit::ampere, 1e-3, 100);
    for (const auto* q : {&gain, &turnOn, &limit})
        if (!*q)
            return tl::unexpected(q->error());
    circuit::BipolarModel model;
    model.saturationAmps = 1e-3 / std::expm1(*turnOn / circuit::kThermalVolts);
    model.forwardGain = *gain;
    model.pnp = context.setting("polarity") == "PNP";
    const std::array nets{context.net("C"), context.net("B"), context.net("E")};
    return std::make_unique<Transistor>(context, context.circuit.addDevice(std::make_unique<circuit::BipolarDevice>(model), nets, context.id), *limit);
}

kernel::Result<std::unique_ptr<Part>> makeMosfet(PartContext& context)
{
    const auto threshold = context.quantity("threshold", kernel::Unit::volt, 0.3, 10);
    const auto on = context.quantity("on", kernel::Unit::ohm, 1e-4, 1000);
    const auto drive = context.quantity("drive", kernel::Unit::volt, 0.5, 30);
    const auto limit = context.quantity("limit", kernel::Unit::ampere, 1e-3, 1000);
    for (const auto* q : {&threshold, &on, &drive, &limit})
        if (!*q)
            return tl::unexpected(q->error());
    if (*drive <= *threshold)
        return kernel::fail(context.id + ".drive", "is not above the threshold; expected the gate voltage at which the on-resistance holds");
    const auto model = circuit::MosfetModel::with({*threshold}, {*on}, {*drive}, context.setting("polarity") == "P");
    const std::array nets{context.net("D"), context.net("G"), context.net("S")};
    return std::make_unique<Transistor>(context, context.circuit.addDevice(std::make_unique<circuit::MosfetDevice>(model), nets, context.id), *limit);
}

}  // namespace bramix::parts
