// What firmware will do wrong in its first moments, found before anybody runs it.
//
// Whether an input floats, or two outputs fight, is seen from wires and firmware together: a key to ground is right with the pin's own pull-up and wrong without.
// So a world of its own is run for a little, and what goes wrong in it by wires and code together is told as something to come.
// Tested by tests/bench/rehearsal_test.cpp.
#pragma once

#include <vector>

#include "bench/world.h"

namespace bramix::bench {

inline constexpr Duration kRehearsal = std::chrono::milliseconds(20);

// What of pins that float, fight or carry too much comes within the first kRehearsal, at the instants at which it will; no other findings. Empty where no chip has firmware,
// or where the bench cannot be built. The document must have passed checkDocument.
[[nodiscard]] std::vector<Finding> rehearse(const Document& document, const Catalogue& catalogue, const WorldOptions& options);

}  // namespace bramix::bench
