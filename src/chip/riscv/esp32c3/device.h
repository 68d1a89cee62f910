// The ESP32-C3 as data (data sheet v1.4, Technical Reference Manual v0.7).
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>

#include "chip/device.h"

namespace bramix::chip::riscv {

inline constexpr std::uint32_t kCodeWindow = 0x42000000, kDataWindow = 0x3C000000, kFlashBytes = 0x400000, kMmuPageBytes = 0x10000;
inline constexpr std::uint32_t kDataSram = 0x3FC80000, kCodeSram = 0x40380000, kSramBytes = 0x60000, kRtcSram = 0x50000000, kRtcSramBytes = 0x2000;
inline constexpr std::uint32_t kPeripherals = 0x60000000, kPeripheralsEnd = 0x600D1000, kRom = 0x40000000, kRomEnd = 0x40060000;
inline constexpr std::uint32_t kDirectBootMagic = 0xAEDB041D, kDirectBootEntry = 0x42000008;
inline constexpr std::uint64_t kCrystalHz = 40'000'000;
// Core registers by index: x0 to x31, pc, then CSRs.
inline constexpr std::size_t kPcRegister = 32, kFirstCsr = 33;
inline constexpr std::array<unsigned, 7> kCsrs{0x300, 0x301, 0x305, 0x340, 0x341, 0x342, 0x343};

[[nodiscard]] const Device& esp32c3();

}  // namespace bramix::chip::riscv
