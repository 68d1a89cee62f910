// A bench as lists for the workshop: what is joined to what, and what is needed. Comma separated, with a head line.
// Tested by tests/bench/lists_test.cpp.
#pragma once

#include <string>

#include "bench/catalogue.h"
#include "bench/document.h"

namespace bramix::bench {

// A line a wire: number, from, to, colour; then a line a pin of each named net.
[[nodiscard]] std::string wiringList(const Document& document, const Catalogue& catalogue);
// A line for each kind with equal settings: count, kind, settings that differ from the standard, which parts.
[[nodiscard]] std::string billOfMaterials(const Document& document, const Catalogue& catalogue);

}  // namespace bramix::bench
