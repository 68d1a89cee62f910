// Where in the code a local of a function may come to be, change, or end: all that somebody needs to look at who wants to know its values without going through every instruction.
//
// The idea: a local stands in registers or in the frame, by what the compiler has noted for each stretch of code. It can change only where one of its function's own instructions writes
// such a register or stores into memory, where the stretch changes, and while something else runs that the function has called. So of a function of a thousand instructions a few
// dozen are looked at, and a loop that leaves it alone runs at full speed.
// An interrupt leaves registers and frame as they were. What a pointer leads to may be changed by one; that is seen at the next place.
// Tested by tests/debug/local_stops_test.cpp against a listing, and by tests/session/replay/lookback_test.cpp against looking after every instruction.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "chip/device.h"
#include "chip/instruction.h"
#include "debug/symbols.h"

namespace bramix::debug {

// A person names a function with or without what it takes.
[[nodiscard]] bool isNamed(const Function& function, const std::string& name);
// By slot of program memory (Device::codeStep): code of all functions of that name, wherever they have been inlined.
[[nodiscard]] std::vector<bool> codeOf(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device, const std::string& function);

struct LocalStops {
    std::vector<bool> inside;            // codeOf() its function
    std::vector<std::uint32_t> arrivals; // code addresses before whose instruction control may have come from elsewhere: to be looked at before it
    std::vector<std::uint32_t> steps;    // whose instruction may change the local, or leave the function: to be looked at after it
};

// Of `variable`, a local of all functions of that name. `indirect`: what is looked at is reached through it, so any store may change it.
[[nodiscard]] LocalStops localStops(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device, const std::string& function, const std::string& variable, bool indirect);

}  // namespace bramix::debug
