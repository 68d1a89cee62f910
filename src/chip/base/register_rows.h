// Registers of a peripheral as rows of text, made into what registers.h describes.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>

#include "chip/registers.h"

namespace bramix::chip {

struct RegisterRow {
    std::string_view name;
    std::uint32_t offset = 0;
    std::uint32_t reset = 0;
    // "31 NAME 29-27 NAME ...": fields from the highest bit down; empty: a number.
    std::string_view fields{};
    bool moves = false;     // follows pins, counters and clocks by itself: its reset value tells nothing
    bool readActs = false;
};

[[nodiscard]] PeripheralGroup registerGroup(std::string name, std::string about, std::uint64_t base, std::span<const RegisterRow> rows, unsigned bits = 32);

}  // namespace bramix::chip
