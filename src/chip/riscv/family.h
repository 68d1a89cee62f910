// The RISC-V family behind the seam: its devices, and what makes and reads them (chip/family.h).
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include "chip/family.h"
#include "chip/riscv/core/isa.h"

namespace bramix::chip::riscv {

[[nodiscard]] const Family& family();
// An instruction at an address as the seam has it.
[[nodiscard]] InstructionInfo infoOf(const Instruction& i, std::uint32_t address);

}  // namespace bramix::chip::riscv
