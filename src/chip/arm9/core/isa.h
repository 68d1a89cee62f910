// The ARM and Thumb instruction sets of ARMv5TE (ARM DDI 0100I, parts A3 to A7).
//
// Instructions are looked at as words. A Thumb instruction is expanded into the ARM instruction that does the same; three of them have none, and are told by their kind.
// Tested by tests/debug/arm9_disassembler_test.cpp against objdump.
#pragma once

#include <cstdint>

namespace bramix::chip::arm9 {

inline constexpr unsigned kSp = 13, kLr = 14, kPc = 15;
inline constexpr std::uint32_t kAlways = 0xE0000000;

struct Expanded {
    enum class Kind : std::uint8_t {
        arm,        // `word` is the ARM instruction; PC-relative addresses count from an aligned PC
        branch,     // to PC + offset, by the condition in the upper four bits of `word`
        linkHigh,   // the first half of a BL: LR = PC + offset
        linkLow,    // the second half of a BL
        linkLowArm, // the second half of a BLX
        undefined,
    } kind = Kind::undefined;
    std::uint32_t word = 0;
    std::int32_t offset = 0;
};
[[nodiscard]] Expanded expandThumb(std::uint16_t half);

constexpr std::uint32_t bits(std::uint32_t word, unsigned high, unsigned low) { return (word >> low) & ((2U << (high - low)) - 1U); }

}  // namespace bramix::chip::arm9
