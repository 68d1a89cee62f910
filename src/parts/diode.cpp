#include "parts/diode.h"

#include "parts/wear.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeDiode(PartContext& context)
{
    const auto forward = context.quantity("forward", kernel::Unit::volt, 0.1, 5);
    const auto current = context.quantity("current", kernel::Unit::ampere, 1e-6, 100);
    const auto series = context.quantity("series", kernel::Unit::ohm, 0.001, 1000);
    const auto breakdown = context.quantity("breakdown", kernel::Unit::volt, 1.8, 5000);
    const auto limit = context.quantity("limit", kernel::Unit::ampere, 1e-4, 1000);
    const auto leakage = context.quantity("leakage", kernel::Unit::ampere, 0, 1);
    for (const auto* q : {&forward, &current, &series, &breakdown, &limit, &leakage})
        if (!*q)
            return tl::unexpected(q->error());
    if (*current * *series > *forward * 0.8)
        return kernel::fail(context.id + ".series", "drops nearly all of the forward voltage at the given current; expected less resistance");
    auto model = circuit::DiodeModel::through({*forward}, {*current}, 1.6, {*series});
    model.breakdownVolts = *breakdown;
    model.breakdownAmps = 0.005;
    // Given at half of the breakdown voltage, where the avalanche has no part in it yet.
    model.leakSiemens = *leakage / (*breakdown / 2);
    return std::make_unique<WearingPart>(context, context.circuit.addDiode(context.net("A"), context.net("K"), model, context.id),
                                         WearLimit{.amps = *limit, .margin = 3, .seconds = 0.5, .remedy = "limit its current, or take one for more"});
}

}  // namespace bramix::parts
