// Which pins of a chip can serve a lead of a part: a bus line, an analog input, a pulse width, a serial line, an interrupt.
// Tested by tests/bench/lists_test.cpp.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "bench/catalogue.h"

namespace bramix::bench {

// The beginnings of function names that serve a lead, best first: {"SDA"}, {"ADC"}, {"OC"} …; empty where any pin does.
[[nodiscard]] std::vector<std::string> functionsFor(const PartKind& kind, const PinKind& pin);

// The first function of a chip's pin ("ADC4 SDA PCINT12") that serves, as it is written there; empty where none does.
[[nodiscard]] std::string servingFunction(std::string_view about, const std::vector<std::string>& wanted);

}  // namespace bramix::bench
