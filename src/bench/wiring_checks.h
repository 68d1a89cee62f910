// What can be seen of a bench before it runs: wires that lead nowhere, parts half wired, an LED that nothing limits, a bench without ground.
// Each rule has its entry in docs/findings.md and its benches in tests/bench/findings_test.cpp.
#pragma once

#include <functional>
#include <vector>

#include "bench/catalogue.h"
#include "bench/document.h"
#include "bench/finding.h"
#include "circuit/circuit.h"

namespace bramix::bench {

// Where the pins of a bench have come to lie.
struct Wiring {
    const Document& document;
    const Catalogue& catalogue;
    const circuit::Circuit& circuit;
    std::function<std::optional<circuit::PinId>(const PinRef&)> pin;
};

[[nodiscard]] std::vector<Finding> checkWiring(const Wiring& wiring);
// The same, of what shows only when the parts drive what they drive: levels that do not go together.
[[nodiscard]] std::vector<Finding> checkPowered(const Wiring& wiring);

}  // namespace bramix::bench
