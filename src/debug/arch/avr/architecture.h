// Debugging AVR code: what arch/architecture.h asks of a family.
#pragma once

#include "debug/arch/architecture.h"

namespace bramix::debug::avr {

[[nodiscard]] const Architecture& architecture();

// Mnemonics as in the "AVR Instruction Set Manual"; conditional branches and flag instructions by their usual names (BREQ, SEI).
[[nodiscard]] InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols);
[[nodiscard]] Symbols functionsOf(const chip::CodeView& code, const chip::Device& device);
[[nodiscard]] std::vector<Frame> unwind(const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most);
// Sources: the "Register Description" sections of each chip's datasheet. The words follow the names, which the chips share; where a chip has no such
// bit, nothing is said.
[[nodiscard]] RegisterText describe(const chip::Device& device, const chip::PeripheralRegister& reg, const std::function<std::uint8_t(std::uint64_t)>& peek);

}  // namespace bramix::debug::avr
