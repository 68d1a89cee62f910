// The call stack of a machine whose calls leave the return address in a register: by .debug_frame where it describes the code, else by what the prologue has saved.
// What an exception has put aside is the architecture's.
// Tested by tests/session/any_family_test.cpp.
#pragma once

#include <functional>
#include <utility>
#include <vector>

#include "debug/frames.h"

namespace bramix::debug {

// What the code of a function has saved from its beginning up to the present place.
struct Prologue {
    std::uint32_t depth = 0;                                // how far the stack pointer lies below the CFA
    std::vector<std::pair<unsigned, std::uint32_t>> saved;  // register, distance below the CFA
};

struct LinkMachine {
    unsigned stack = 0, link = 0, counter = 0;   // core registers by index; the DWARF numbers of those below `registers` are the same
    unsigned registers = 16;
    std::vector<unsigned> scratch;               // what a called function may spoil
    std::uint32_t codeBit = 0;                   // set in return addresses besides
    Prologue (*readPrologue)(const Target&, std::uint32_t begin, std::uint32_t pc) = nullptr;
    // Whether the frame whose caller is to be found handles an exception, and its caller then: the registers as the exception has found them. Nothing: it is an ordinary function.
    // `returns` is its return address; `inner` how many exceptions lie below it.
    std::function<bool(const Target&, const Frame& frame, std::uint32_t returns, unsigned inner, Registers& caller, std::string& exception)> leaveException;
};

[[nodiscard]] std::uint32_t wordAt(const Target& target, std::uint32_t address);
[[nodiscard]] std::vector<Frame> unwindByLink(const LinkMachine& machine, const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most);

}  // namespace bramix::debug
