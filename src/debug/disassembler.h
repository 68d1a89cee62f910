// AVR instructions as text, with I/O registers, branch targets and variables by their names.
// Mnemonics as in the "AVR Instruction Set Manual"; conditional branches and flag instructions by their usual names (BREQ, SEI).
// Tested by tests/debug/disassembler_test.cpp against avr-objdump.
#pragma once

#include <cstdint>
#include <span>
#include <string>

#include "chip/avr/table.h"
#include "chip/device.h"
#include "debug/symbols.h"

namespace bramix::debug {

struct InstructionText {
    std::uint32_t address = 0;  // bytes
    unsigned words = 1;
    std::string mnemonic;
    std::string operands;   // "PORTB, r24"
    std::string note;       // what the operands mean: "stop_lamp", "-> main+12"
    std::string cycles;     // "1", "1/2/3" where it depends
};

// `symbols` may be null.
InstructionText disassemble(const chip::avr::ChipTable& chip, std::span<const std::uint16_t> flash, std::uint32_t address, const Symbols* symbols);
[[nodiscard]] InstructionText disassemble(const chip::Device& device, std::span<const std::uint16_t> flash, std::uint32_t address, const Symbols* symbols);

}  // namespace bramix::debug
