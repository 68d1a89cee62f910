// Debugging code of 14-bit PIC controllers: what arch/architecture.h asks of a family.
#pragma once

#include "debug/arch/architecture.h"

namespace bramix::debug::pic16 {

[[nodiscard]] const Architecture& architecture();

// As the data sheets write instructions, with registers by their names where all banks agree; else the name of each bank's stands in the note.
// Tested by tests/debug/pic16_disassembler_test.cpp against gpdasm.
[[nodiscard]] InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols);

// Symbols and lines of what gputils writes beside an image: an executable COFF file (.cof) or a COD file (.cod) of the same name. Nothing where there is neither.
//
// COFF: magic 0x1234 or 0x1240, sections of 40 bytes, line numbers of 16, symbols of 18 or 20, all little-endian.
// COD: blocks of 512 bytes; the directory at offset 0 names the blocks of file names (0x1AE), lines (0x1B2) and long symbols (0x1CE); their values are big-endian.
// Labels that are called are functions; what lies in RAM, whether it is reserved or given by EQU or CBLOCK, is a variable.
// Tested by tests/debug/pic16_disassembler_test.cpp against gputils itself.
[[nodiscard]] Symbols symbolsBeside(const std::string& firmware, const chip::CodeView& code, const chip::Device& device);

}  // namespace bramix::debug::pic16
