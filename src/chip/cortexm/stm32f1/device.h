// The chips of the STM32F103 line that Bramix has, as data (data sheets DS5319 and DS6107, reference manual RM0008, programming manual PM0056).
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include <array>
#include <span>
#include <string_view>

#include "chip/device.h"
#include "chip/family.h"

namespace bramix::chip::cortexm {

inline constexpr std::uint32_t kFlashBase = 0x08000000, kRamBase = 0x20000000;
inline constexpr unsigned kInterrupts = 43;
// Where the registers of what every chip has begin (RM0008 table 3).
inline constexpr std::uint32_t kRccBase = 0x40021000, kFlashRegisters = 0x40022000, kAfioBase = 0x40010000, kExtiBase = 0x40010400, kGpioBase = 0x40010800;
inline constexpr std::uint64_t kInternalHz = 8'000'000;  // HSI
// Core registers by index: r0 to r12, sp, lr, pc, xpsr, then msp, psp, primask, basepri, faultmask, control.
inline constexpr std::size_t kXpsrRegister = 16, kMspRegister = 17, kPspRegister = 18, kPrimaskRegister = 19, kBasepriRegister = 20, kFaultmaskRegister = 21, kControlRegister = 22;

struct Model {
    std::string_view id, title, about;
    std::uint32_t flashBytes = 0, ramBytes = 0;
    bool largePackage = false;  // 64 pins, not 48
};
[[nodiscard]] std::span<const Device* const> devices();
[[nodiscard]] const Device& deviceOf(const Model& model);
[[nodiscard]] const Model& modelOf(const Device& device);

}  // namespace bramix::chip::cortexm
