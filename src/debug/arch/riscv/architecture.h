// Debugging code of RISC-V: what arch/architecture.h asks of a family.
#pragma once

#include "debug/arch/architecture.h"

namespace bramix::debug::riscv {

[[nodiscard]] const Architecture& architecture();

// As "The RISC-V Instruction Set Manual" writes instructions, with its pseudo-instructions (volume I, table 25.2 and 25.3); compressed ones as what they stand for.
// Tested by tests/debug/riscv_disassembler_test.cpp against objdump.
[[nodiscard]] InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols);

}  // namespace bramix::debug::riscv
