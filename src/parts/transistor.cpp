#include "parts/transistor.h"

#include <array>
#include <cmath>

#include "parts/wear.h"

namespace bramix::parts {

namespace {

std::unique_ptr<Part> transistor(PartContext& context, std::unique_ptr<circuit::Device> device, const std::array<circuit::NetId, 3>& nets, double limit)
{
    return std::make_unique<WearingPart>(context, context.circuit.addDevice(std::move(device), nets, context.id), WearLimit{.amps = limit, .margin = 3, .seconds = 0.3, .remedy = "limit its current, or take one for more"});
}

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
    return transistor(context, std::make_unique<circuit::BipolarDevice>(model), nets, *limit);
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
    return transistor(context, std::make_unique<circuit::MosfetDevice>(model), nets, *limit);
}

}  // namespace bramix::parts
