// What the two halves of the engine share: the table of handler addresses, which fast() fills in and decoding reads, and the packed count.
// For engine.cpp and engine_decode.cpp only.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <map>
#include <utility>

#include "chip/avr/core/isa.h"

namespace bramix::chip::avr {

inline constexpr std::int64_t kOneInstruction = std::int64_t{1} << 32;

// One entry into fast() spans at most this many cycles, so that its 32-bit count cannot wrap.
inline constexpr std::int64_t kLongestSlice = std::int64_t{1} << 30;

inline constexpr std::size_t kOps = static_cast<std::size_t>(Op::count);

// Handlers that one mnemonic shares among its flag operands. kIfSetC + 2 n is "branch if flag n is set", the next one "if clear".
enum Special : std::size_t { kIfSetC = 0, kSetC = 16, kClearC, kSetT, kClearT, kClearI, kSelfJump, kSlow, kLdsIo, kStsIo, kInSp, kInSreg, kOutSreg, kSetI, kCountByte, kCountWord, kCountLong, kBreakpoint, kAcross, kSpecials };

struct HandlerTable {
    std::array<std::array<const void*, 3>, kOps> byOp{};  // all flags, C and Z only, no flags
    std::array<const void*, kSpecials> special{};
    std::map<std::pair<const void*, const void*>, const void*> pairs;  // what does the work of two handlers, one after the other
};

}  // namespace bramix::chip::avr
