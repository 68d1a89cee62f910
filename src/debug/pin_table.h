// The pins of a chip as its firmware has set them: direction, output latch, level, and what has taken them over.
// Tested by tests/debug/pin_table_test.cpp.
#pragma once

#include <string>
#include <vector>

#include "chip/avr/chip.h"

namespace bramix::debug {

struct PinRow {
    std::string name;      // "PB5"
    bool output = false;   // whoever decided it: DDR, or what has taken the pin
    bool pullUp = false;
    bool latch = false;    // PORT
    bool level = false;    // at the pin, now
    bool floats = false;   // nothing drives it
    bool digital = true;   // false: DIDR has switched its input off
    std::string function;  // what has the pin just now: "OC1A", "TXD", "SDA"; empty: it is a port pin
    std::uint32_t setBy = UINT32_MAX;  // byte address of the code that set the compare register which has the pin
    bool operator==(const PinRow&) const = default;
};

// In the order of the ports.
[[nodiscard]] std::vector<PinRow> pinTable(const chip::avr::ChipTable& table, const chip::avr::Chip& chip);

}  // namespace bramix::debug
