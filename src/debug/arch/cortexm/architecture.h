// Debugging Thumb code of Cortex-M: what arch/architecture.h asks of a family.
#pragma once

#include "debug/arch/architecture.h"

namespace bramix::debug::cortexm {

[[nodiscard]] const Architecture& architecture();

// As the "ARMv7-M Architecture Reference Manual" writes instructions; inside an IT block with the condition that they have there.
// Tested by tests/debug/cortexm_disassembler_test.cpp against objdump.
[[nodiscard]] InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols);
// By .debug_frame where it describes the code, else by what the prologue has pushed; through the frames that exceptions have stacked (ARM DDI 0403E, B1.5.6).
[[nodiscard]] std::vector<Frame> unwind(const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most);

}  // namespace bramix::debug::cortexm
