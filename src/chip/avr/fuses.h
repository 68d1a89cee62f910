// Fuse and lock bytes: a chip's settings outside its program. As in the datasheet, a programmed bit is 0.
// Tested by tests/chip/avr/peripherals/system_control_test.cpp.
#pragma once

#include <array>
#include <string>
#include <vector>

#include "chip/avr/table.h"
#include "kernel/result.h"

namespace bramix::chip::avr {

// low, high, extended, lock
using FuseBytes = std::array<std::uint8_t, 4>;

// Those of a chip on nothing: its crystal, no clock division, no boot reset, no brown-out detection; the rest as shipped.
[[nodiscard]] FuseBytes idealFuses(const ChipTable& table);

// A field's value; all ones where the chip has no such fuse.
[[nodiscard]] unsigned fuseField(const ChipTable& table, const FuseBytes& bytes, std::string_view name);
void setFuseField(const ChipTable& table, FuseBytes& bytes, std::string_view name, unsigned value);

// "BOOTRST" or "low" (case not minded), and "0", "0x62", "0b0010"; a single bit also as "programmed" and "unprogrammed". The error says what was
// expected.
[[nodiscard]] kernel::Result<void> setFuse(const ChipTable& table, FuseBytes& bytes, std::string_view name, std::string_view value);

// The names that setFuse takes, in order: bytes, then fields.
[[nodiscard]] std::vector<std::string> fuseNames(const ChipTable& table);

}  // namespace bramix::chip::avr
