// The functions of code that says nothing of itself, for any family: from its entries on, through every jump and branch, into every call. What is called, or begins, is a function;
// it reaches as far as its code goes on without a gap, up to the next.
// Tested by tests/debug/pic16_disassembler_test.cpp.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "chip/device.h"
#include "chip/instruction.h"
#include "debug/symbols.h"

namespace bramix::debug {

// Entries by address, with the names of those that have one. Others are called code_00d4, by their address; `names` has what is known of them.
[[nodiscard]] std::vector<Function> functionsByFlow(const chip::CodeView& code, const chip::Device& device, const std::map<std::uint32_t, std::string>& entries, const std::map<std::uint32_t, std::string>& names = {});

}  // namespace bramix::debug
