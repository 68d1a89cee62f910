// Which bits of a port's pins a piece of code looks at once it has read all eight of them.
//
// From the instruction that reads, straight on: a mask (ANDI), a test of a bit (SBRC, SBRS, BST), also after shifts, swaps, complements and moves to another
// register. Whatever may look at all of them, or leaves the straight way before that, is not known.
// Tested by tests/chip/avr/core/looked_bits_test.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

#include "chip/avr/core/isa.h"

namespace bramix::chip::avr {

// `word`: the address of an instruction that reads the port (IN, LDS, LD, SBIC, SBIS).
[[nodiscard]] std::optional<std::uint8_t> lookedBits(const Core& core, std::span<const std::uint16_t> flash, std::uint32_t word);

}  // namespace bramix::chip::avr
