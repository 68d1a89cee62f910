#include "bench/rehearsal.h"

#include <algorithm>

#include <fmt/format.h>

#include "kernel/units.h"

namespace bramix::bench {

std::vector<Finding> rehearse(const Document& document, const Catalogue& catalogue, const WorldOptions& options)
{
    if (std::none_of(document.parts.begin(), document.parts.end(), [](const PartItem& p) { return !p.firmware.empty(); }))
        return {};
    const auto world = World::build(document, catalogue, options, nullptr);
    if (!world)
        return {};
    (*world)->runUntil(Time(kRehearsal));
    std::vector<Finding> out;
    for (Finding f : (*world)->findings())
        if (f.rule == "floating-input") {
            f.message = fmt::format("{} (it will be, {} after power-up)", f.message, kernel::formatQuantity(kernel::seconds(f.time), kernel::Unit::second, 3));
            f.wiring = true;
            out.push_back(std::move(f));
        }
    return out;
}

}  // namespace bramix::bench
