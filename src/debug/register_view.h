// Registers of peripherals as a person reads them: grouped by peripheral, each bit by its name, and what the bits mean in words.
// Tested by tests/debug/register_view_test.cpp.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "chip/device.h"

namespace bramix::debug {

struct BitText {
    std::string name;      // empty where reserved
    bool value = false;
    std::string meaning;   // of its present value, or empty
};

struct RegisterText {
    std::uint64_t value = 0;
    std::vector<BitText> bits;  // highest bit first
    std::string meaning;        // of the whole: "clock / 64, fast PWM to 0xFF"
};

// `peek` reads a byte of data without side effects.
[[nodiscard]] RegisterText describeRegister(const chip::Device& device, const chip::PeripheralRegister& reg, const std::function<std::uint8_t(std::uint64_t)>& peek);
// Of any family: fields by their own names and words.
[[nodiscard]] RegisterText describeByFields(const chip::PeripheralRegister& reg, const std::function<std::uint8_t(std::uint64_t)>& peek);

}  // namespace bramix::debug
