// Instructions as text, with I/O registers, branch targets and variables by their names; mnemonics as in the family's own manual.
// Tested by tests/debug/disassembler_test.cpp against avr-objdump.
#pragma once

#include <cstdint>
#include <string>

#include "chip/device.h"
#include "chip/instruction.h"
#include "debug/symbols.h"

namespace bramix::debug {

struct InstructionText {
    std::uint32_t address = 0;  // bytes
    unsigned size = 2;          // in code addresses
    std::string mnemonic;
    std::string operands;   // "PORTB, r24"
    std::string note;       // what the operands mean: "stop_lamp", "-> main+12"
    std::string cycles;     // "1", "1/2/3" where it depends
};

// `symbols` may be null.
[[nodiscard]] InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols);

}  // namespace bramix::debug
