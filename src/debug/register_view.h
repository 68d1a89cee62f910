// I/O registers as a person reads them: grouped by peripheral, each bit by its name, and what the bits mean in words.
// Sources: the "Register Description" sections of each chip's datasheet. The words follow the names, which the chips share; where a chip has no such
// bit, nothing is said.
// Tested by tests/debug/register_view_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include <span>

#include "chip/avr/table.h"
#include "chip/device.h"

namespace bramix::debug {

using RegisterRow = chip::avr::RegisterRow;

struct RegisterGroup {
    std::string name;  // "Timer 1", "Port B"
    std::vector<const chip::avr::RegisterRow*> registers;
};

// Every register of a chip, in a fixed order of groups.
std::vector<RegisterGroup> registerGroups(const chip::avr::ChipTable& chip);
[[nodiscard]] std::vector<RegisterGroup> registerGroups(const chip::Device& device);
[[nodiscard]] std::span<const RegisterRow> registersOf(const chip::Device& device);

struct BitText {
    std::string name;      // empty where reserved
    bool value = false;
    std::string meaning;   // of its present value, or empty
};

struct RegisterText {
    std::array<BitText, 8> bits;  // bit 7 first
    std::string meaning;          // of the whole: "clock / 64, fast PWM to 0xFF"
};

// `peek` reads a data address without side effects.
RegisterText describeRegister(const chip::avr::ChipTable& chip, const chip::avr::RegisterRow& row, const std::function<std::uint8_t(std::uint16_t)>& peek);

[[nodiscard]] RegisterText describeRegister(const chip::Device& device, const RegisterRow& row, const std::function<std::uint8_t(std::uint16_t)>& peek);

}  // namespace bramix::debug
