#include "bench/rehearsal.h"

#include <algorithm>
#include <set>

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
    static const std::set<std::string, std::less<>> kTold{"floating-input", "outputs-fight", "pin-over-voltage", "pin-overload", "port-overload", "brown-out"};
    for (Finding f : (*world)->findings())
        if (kTold.contains(f.rule)) {
            f.message = fmt::format("{} (it will be, {} after power-up)", f.message, kernel::formatQuantity(kernel::seconds(f.time), kernel::Unit::second, 3));
            f.wiring = true;
            out.push_back(std::move(f));
        }
    return out;
}

}  // namespace bramix::bench
