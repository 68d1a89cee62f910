// Where a function returns to when nothing describes its frame: the library's assembler, and its C, which comes without descriptions.
//
// The idea: a return address lies right behind a call. Of what stands above the stack pointer, the first that lies behind a call of this function, or of one that
// jumps or runs on into it, is the one; a call through a register may be of any.
// Tested by tests/session/debugger/frames_test.cpp.
#pragma once

#include <cstdint>
#include <map>
#include <optional>

#include "chip/avr/core/isa.h"
#include "debug/frames.h"

namespace bramix::debug::avr {

class ReturnSearch final : public FrameTable::Memory {
public:
    // Whether a word address lies behind a call that may have led into a function (an index into symbols.functions(), not of an inlined one).
    bool isReturnOf(const Symbols& symbols, const Target& target, std::uint32_t word, int function);
    // Data address of the highest byte of the return address, from sp + 1 upwards.
    std::optional<std::uint16_t> find(const Symbols& symbols, const Target& target, std::uint16_t sp, int function);

private:
    bool reaches(const Symbols& symbols, const Target& target, int from, int to);

    std::map<std::pair<int, int>, bool> reaches_;
};

// The instruction at a byte address.
[[nodiscard]] chip::avr::Instruction instructionAt(const Target& target, std::uint32_t address);

}  // namespace bramix::debug::avr
