// Which function each word of flash belongs to, by number: the innermost that has a call of its own, so what was inlined counts to where it went.
// A slot of the table of vectors belongs to the handler to which it jumps.
// Tested by tests/debug/function_map_test.cpp.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "chip/avr/table.h"
#include "debug/symbols.h"

namespace bramix::debug {

struct FunctionMap {
    static constexpr std::uint16_t kNone = UINT16_MAX;

    std::vector<std::string> names;
    std::vector<std::uint16_t> at;  // by word: index into names, or kNone

    FunctionMap() = default;
    FunctionMap(const Symbols& symbols, std::span<const std::uint16_t> flash, const chip::avr::ChipTable& chip);

    [[nodiscard]] std::uint16_t of(std::uint32_t word) const { return word < at.size() ? at[word] : kNone; }
};

// The interrupt, as the chip's documents name it, of which a function is the handler ("TIMER1_COMPA" of __vector_11); empty where it is none.
[[nodiscard]] std::string_view handledBy(const chip::avr::ChipTable& chip, const std::string& function);

}  // namespace bramix::debug
