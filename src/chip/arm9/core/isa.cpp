#include "chip/arm9/core/isa.h"

namespace bramix::chip::arm9 {

namespace {

using Kind = Expanded::Kind;

constexpr std::uint32_t kS = 1U << 20, kImmediate = 1U << 25;
enum : std::uint32_t { kAnd = 0, kEor = 1, kSub = 2, kRsb = 3, kAdd = 4, kAdc = 5, kSbc = 6, kTst = 8, kCmp = 10, kCmn = 11, kOrr = 12, kMov = 13, kBic = 14, kMvn = 15 };

constexpr std::uint32_t data(std::uint32_t op, std::uint32_t s, std::uint32_t d, std::uint32_t n, std::uint32_t operand) { return kAlways | op << 21 | s | n << 16 | d << 12 | operand; }

}  // namespace

// Chapter A6 and A7; the equivalents are those that A7 gives.
Expanded expandThumb(std::uint16_t half)
{
    const std::uint32_t w = half, low = w & 7U, mid = (w >> 3) & 7U, high = (w >> 6) & 7U, imm8 = w & 0xFFU, d8 = (w >> 8) & 7U;
    const auto arm = [](std::uint32_t word) { return Expanded{Kind::arm, word, 0}; };
    switch (w >> 12) {
    case 0: case 1:
        if ((w >> 11) != 3) {
            // Shifts by an immediate: LSL, LSR, ASR.
            return arm(data(kMov, kS, low, 0, bits(w, 10, 6) << 7 | (w >> 11) << 5 | mid));
        }
        return arm(data((w & 0x200U) != 0 ? kSub : kAdd, kS, low, mid, high | ((w & 0x400U) != 0 ? kImmediate : 0U)));
    case 2: case 3: {
        static constexpr std::uint32_t kOps[] = {kMov, kCmp, kAdd, kSub};
        const std::uint32_t op = kOps[(w >> 11) & 3U];
        return arm(data(op, kS, op == kCmp ? 0 : d8, op == kMov ? 0 : d8, kImmediate | imm8));
    }
    case 4: {
        if ((w & 0x800U) != 0)  // from the literal pool
            return arm(0xE59F0000U | d8 << 12 | imm8 << 2);
        if ((w & 0x400U) == 0) {
            switch ((w >> 6) & 15U) {
            case 0: return arm(data(kAnd, kS, low, low, mid));
            case 1: return arm(data(kEor, kS, low, low, mid));
            case 2: return arm(data(kMov, kS, low, 0, mid << 8 | 0x10 | low));  // LSL by a register
            case 3: return arm(data(kMov, kS, low, 0, mid << 8 | 0x30 | low));
            case 4: return arm(data(kMov, kS, low, 0, mid << 8 | 0x50 | low));
            case 5: return arm(data(kAdc, kS, low, low, mid));
            case 6: return arm(data(kSbc, kS, low, low, mid));
            case 7: return arm(data(kMov, kS, low, 0, mid << 8 | 0x70 | low));
            case 8: return arm(data(kTst, kS, 0, low, mid));
            case 9: return arm(data(kRsb, kS, low, mid, kImmediate));
            case 10: return arm(data(kCmp, kS, 0, low, mid));
            case 11: return arm(data(kCmn, kS, 0, low, mid));
            case 12: return arm(data(kOrr, kS, low, low, mid));
            case 13: return arm(0xE0100090U | low << 16 | low << 8 | mid);  // MULS
            case 14: return arm(data(kBic, kS, low, low, mid));
            default: return arm(data(kMvn, kS, low, 0, mid));
            }
        }
        const std::uint32_t d = low | (w & 0x80U) >> 4, m = (w >> 3) & 15U;
        switch ((w >> 8) & 3U) {
        case 0: return arm(data(kAdd, 0, d, d, m));
        case 1: return arm(data(kCmp, kS, 0, d, m));
        case 2: return arm(data(kMov, 0, d, 0, m));
        default: return (w & 7U) != 0 ? Expanded{} : arm((w & 0x80U) != 0 ? 0xE12FFF30U | m : 0xE12FFF10U | m);
        }
    }
    case 5: {
        // Register offsets.
        const std::uint32_t rest = mid << 16 | low << 12 | high;
        switch ((w >> 9) & 7U) {
        case 0: return arm(0xE7800000U | rest);
        case 1: return arm(0xE18000B0U | rest);
        case 2: return arm(0xE7C00000U | rest);
        case 3: return arm(0xE19000D0U | rest);
        case 4: return arm(0xE7900000U | rest);
        case 5: return arm(0xE19000B0U | rest);
        case 6: return arm(0xE7D00000U | rest);
        default: return arm(0xE19000F0U | rest);
        }
    }
    case 6: return arm(((w & 0x800U) != 0 ? 0xE5900000U : 0xE5800000U) | mid << 16 | low << 12 | bits(w, 10, 6) << 2);
    case 7: return arm(((w & 0x800U) != 0 ? 0xE5D00000U : 0xE5C00000U) | mid << 16 | low << 12 | bits(w, 10, 6));
    case 8: {
        const std::uint32_t offset = bits(w, 10, 6) << 1;
        return arm(((w & 0x800U) != 0 ? 0xE1D000B0U : 0xE1C000B0U) | mid << 16 | low << 12 | (offset & 15U) | (offset >> 4) << 8);
    }
    case 9: return arm(((w & 0x800U) != 0 ? 0xE59D0000U : 0xE58D0000U) | d8 << 12 | imm8 << 2);
    case 10: return arm(data(kAdd, 0, d8, (w & 0x800U) != 0 ? kSp : kPc, kImmediate | 15U << 8 | imm8));  // the immediate rotated right by 30
    case 11:
        if ((w & 0xF00U) == 0)
            return arm(data((w & 0x80U) != 0 ? kSub : kAdd, 0, kSp, kSp, kImmediate | 15U << 8 | (w & 0x7FU)));
        if ((w & 0x600U) == 0x400U)
            return arm((w & 0x800U) != 0 ? 0xE8BD0000U | imm8 | (w & 0x100U) << 7 : 0xE92D0000U | imm8 | (w & 0x100U) << 6);
        if ((w & 0xF00U) == 0xE00U)
            return arm(0xE1200070U | (imm8 & 0xF0U) << 4 | (imm8 & 15U));  // BKPT
        return {};
    case 12:
        if ((w & 0x800U) != 0)
            return arm(0xE8900000U | d8 << 16 | imm8 | (((imm8 >> d8) & 1U) != 0 ? 0U : 1U << 21));
        return arm(0xE8A00000U | d8 << 16 | imm8);
    case 13:
        if ((w & 0xF00U) == 0xF00U)
            return arm(0xEF000000U | imm8);
        if ((w & 0xF00U) == 0xE00U)
            return {};
        return {Kind::branch, (w & 0xF00U) << 20, static_cast<std::int32_t>(static_cast<std::int8_t>(imm8)) * 2};
    case 14:
        if ((w & 0x800U) != 0)
            return (w & 1U) != 0 ? Expanded{} : Expanded{Kind::linkLowArm, 0, static_cast<std::int32_t>((w & 0x7FFU) << 1)};
        return {Kind::branch, kAlways, static_cast<std::int32_t>(w << 21) >> 20};
    default:
        if ((w & 0x800U) == 0)
            return {Kind::linkHigh, 0, static_cast<std::int32_t>(w << 21) >> 9};
        return {Kind::linkLow, 0, static_cast<std::int32_t>((w & 0x7FFU) << 1)};
    }
}

}  // namespace bramix::chip::arm9
