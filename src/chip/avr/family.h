// The AVR family behind the seam: its devices, and what makes and reads them (chip/family.h).
// Tested by tests/chip/avr/family_test.cpp.
#pragma once

#include "chip/avr/core/isa.h"
#include "chip/avr/table.h"
#include "chip/family.h"

namespace bramix::chip::avr {

[[nodiscard]] const Family& family();
// An instruction at a byte address as the seam has it.
[[nodiscard]] InstructionInfo infoOf(const ChipTable& table, const Instruction& i, std::uint32_t address, bool longNext);

}  // namespace bramix::chip::avr
