// Debugging ARM and Thumb code of classic ARM cores: what arch/architecture.h asks of a family.
#pragma once

#include "debug/arch/architecture.h"

namespace bramix::debug::arm9 {

[[nodiscard]] const Architecture& architecture();

// As the unified assembler language writes instructions. The state of code is what the ELF file's mapping symbols say; without them a word whose condition is "always" is ARM.
// Tested by tests/debug/arm9_disassembler_test.cpp against objdump.
[[nodiscard]] InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols);

}  // namespace bramix::debug::arm9
