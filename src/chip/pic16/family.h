// The 14-bit PIC family behind the seam: its devices, and what makes and reads them (chip/family.h).
// Tested by tests/chip/pic16/pic16_test.cpp.
#pragma once

#include "chip/family.h"
#include "chip/pic16/core/isa.h"

namespace bramix::chip::pic16 {

[[nodiscard]] const Family& family();
// An instruction at an address as the seam has it. A jump's page is taken to be its own, where PCLATH does not say otherwise.
[[nodiscard]] InstructionInfo infoOf(const Instruction& i, std::uint32_t address, std::uint32_t codeEnd);

}  // namespace bramix::chip::pic16
