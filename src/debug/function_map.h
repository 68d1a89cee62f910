// Which function each slot of program memory (Device::codeStep) belongs to, by number: the innermost that has a call of its own, so what was inlined counts to where it went.
// A slot of the table of vectors belongs to the handler to which it jumps.
// Tested by tests/debug/function_map_test.cpp.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "chip/device.h"
#include "chip/instruction.h"
#include "debug/symbols.h"

namespace bramix::debug {

struct FunctionMap {
    static constexpr std::uint16_t kNone = UINT16_MAX;

    std::vector<std::string> names;
    std::vector<std::uint16_t> at;  // by slot: index into names, or kNone

    FunctionMap() = default;
    FunctionMap(const Symbols& symbols, const chip::CodeView& code, const chip::Device& device);

    // Of a code address.
    [[nodiscard]] std::uint16_t of(std::uint32_t address) const
    {
        const std::size_t slot = address < begin ? SIZE_MAX : (address - begin) / step;
        return slot < at.size() ? at[slot] : kNone;
    }

    std::uint32_t begin = 0, step = 1;  // of the slots
};

// The exception, as the chip's documents name it, of which a function is the handler ("TIMER1_COMPA" of __vector_11); empty where it is none.
[[nodiscard]] std::string_view handledBy(const chip::Device& device, const std::string& function);

}  // namespace bramix::debug
