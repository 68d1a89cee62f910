// The 14-bit PIC controllers that Bramix has, as data (data sheets DS35007B, DS30487C, DS39582B).
// Tested by tests/chip/pic16/pic16_test.cpp.
#pragma once

#include <array>
#include <span>
#include <string_view>

#include "chip/device.h"

namespace bramix::chip::pic16 {

// A port: where its registers lie, its pins, and what is special about some of them.
struct Port {
    char letter = 'A';
    std::uint16_t latch = 5, direction = 0x85;
    std::uint8_t pins = 0xFF;
    std::uint8_t schmitt = 0;       // inputs with Schmitt triggers; others TTL
    std::uint8_t openDrain = 0;
    std::uint8_t inputOnly = 0;
};

// How analog inputs are chosen.
enum class AnalogBy : std::uint8_t { none, ansel, adcon1 };

struct Model {
    std::string_view id, title, about;
    std::uint32_t words = 0;
    std::uint16_t eepromBytes = 0;
    std::span<const Port> ports;
    std::span<const std::pair<std::uint16_t, std::uint16_t>> memory;  // general registers of the data space: first and last
    unsigned banks = 2;
    AnalogBy analog = AnalogBy::none;
    std::uint16_t eepromData = 0x08, eepromControl = 0x88;   // EEDATA (EEADR follows), EECON1 (EECON2 follows)
    bool hasPeripheralInterrupts = false, hasInternalOscillator = false;
    std::span<const std::string_view> package;
    std::uint64_t mostHz = 20'000'000;
    double mostVolts = 5.5;
};

[[nodiscard]] std::span<const Device* const> devices();
[[nodiscard]] const Device& deviceOf(const Model& model);
[[nodiscard]] const Model& modelOf(const Device& device);

// Core registers by index.
inline constexpr std::size_t kWRegister = 0, kStatusRegister = 1, kFsrRegister = 2, kPclathRegister = 3, kPcRegister = 4, kDepthRegister = 5, kFirstStack = 6;
// Configuration bits, as OptionBytes keep them: CONFIG1 low, high, CONFIG2 low, high.
[[nodiscard]] constexpr unsigned configOf(const OptionBytes& bytes) { return bytes.size() < 2 ? 0x3FFFU : bytes[0] | bytes[1] << 8; }
struct ConfigField {
    std::string_view name, about;
    std::uint16_t mask = 0;
    unsigned word = 0;
};
[[nodiscard]] std::span<const ConfigField> configFields(const Model& model);

}  // namespace bramix::chip::pic16
