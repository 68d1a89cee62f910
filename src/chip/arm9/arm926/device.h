// A microcontroller around an ARM926EJ-S with ARM's own peripherals at the places where bare-metal courses expect them, as data.
// Tested by tests/chip/arm9/arm926_test.cpp.
#pragma once

#include <span>

#include "chip/device.h"

namespace bramix::chip::arm9 {

inline constexpr std::uint32_t kRamBytes = 64U << 20U, kProgramBytes = 4U << 20U, kRawEntry = 0x10000;
inline constexpr std::uint64_t kCoreHz = 96'000'000;
// Core registers by index: r0 to r12, sp, lr, pc, cpsr; then those of other modes by name: r13 and r14 of each, r8 to r12 of FIQ's and of everybody's, and the five SPSRs.
inline constexpr std::size_t kCpsrRegister = 16, kFirstBanked = 17;
struct BankedRegister {
    const char* name;
    std::uint32_t mode;
    unsigned number;  // 16: SPSR
};
[[nodiscard]] std::span<const BankedRegister> bankedRegisters();

[[nodiscard]] const Device& arm926();

}  // namespace bramix::chip::arm9
