// The functions of a firmware that says nothing of itself (a plain HEX file, an ELF without symbols), found by following its code: so that it has a call stack, steps out,
// lanes and counts by function like any other.
//
// The idea: from the vectors on, through every jump and branch, into every call. What is called, or stands in a vector, is a function; it reaches as far as its code goes on
// without a gap, up to the next. Code that nothing is seen to lead to (called through a pointer) begins behind the end of other code, and is taken for a function where, followed in turn, it
// is sound: it ends in a return or in known code, and holds nothing that is no instruction. Tables do as a rule not.
// Handlers are named as avr-gcc names them (__vector_11, so that they are known for what they are), the start __init, the prologue that
// functions share __prologue_saves__, all others code_00d4, by their address.
// Tested by tests/debug/code_functions_test.cpp against the symbol tables of compiled firmware.
#pragma once

#include "chip/device.h"
#include "chip/instruction.h"
#include "debug/symbols.h"

namespace bramix::debug {

// What is erased at the end of the code may be left out.
[[nodiscard]] Symbols functionsOf(const chip::CodeView& code, const chip::Device& device);

// Everything that is known of a firmware: by its ELF file, by what stands beside another image, or by its code alone.
[[nodiscard]] Symbols symbolsOfFirmware(const std::string& file, bool isElf, const chip::CodeView& code, const chip::Device& device);

}  // namespace bramix::debug
