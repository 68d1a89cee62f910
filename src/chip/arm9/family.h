// The classic ARM family behind the seam: its devices, and what makes and reads them (chip/family.h).
// Tested by tests/chip/arm9/arm926_test.cpp.
#pragma once

#include "chip/arm9/core/isa.h"
#include "chip/family.h"

namespace bramix::chip::arm9 {

[[nodiscard]] const Family& family();
// An instruction at an address as the seam has it.
[[nodiscard]] InstructionInfo infoOfArm(std::uint32_t word, std::uint32_t address);
// `second` is the halfword behind it, which a BL and a BLX need.
[[nodiscard]] InstructionInfo infoOfThumb(std::uint16_t half, std::uint16_t second, std::uint32_t address);

}  // namespace bramix::chip::arm9
