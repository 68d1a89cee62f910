// The Cortex-M family behind the seam: its devices, and what makes and reads them (chip/family.h).
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include "chip/cortexm/core/isa.h"
#include "chip/family.h"

namespace bramix::chip::cortexm {

[[nodiscard]] const Family& family();
// An instruction at an address as the seam has it.
[[nodiscard]] InstructionInfo infoOf(const Instruction& i, std::uint32_t address);

}  // namespace bramix::chip::cortexm
