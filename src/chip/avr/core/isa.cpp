#include "chip/avr/core/isa.h"

#include <array>

namespace bramix::chip::avr {

namespace {

// Fields as the manual draws them.
constexpr std::uint8_t d5(std::uint16_t w) { return (w >> 4) & 31; }                            // ---- ---d dddd ----
constexpr std::uint8_t r5(std::uint16_t w) { return (w & 15) | ((w >> 5) & 16); }               // ---- --r- ---- rrrr
constexpr std::uint8_t d4(std::uint16_t w) { return 16 + ((w >> 4) & 15); }                     // ---- ---- dddd ----
constexpr std::uint8_t imm8(std::uint16_t w) { return ((w >> 4) & 0xF0) | (w & 15); }           // ---- KKKK ---- KKKK
constexpr std::uint8_t disp6(std::uint16_t w) { return ((w >> 8) & 32) | ((w >> 7) & 24) | (w & 7); }  // --q- qq-- ---- -qqq
constexpr std::uint8_t io6(std::uint16_t w) { return ((w >> 5) & 48) | (w & 15); }              // ---- -AA- ---- AAAA
constexpr std::uint8_t io5(std::uint16_t w) { return (w >> 3) & 31; }                           // ---- ---- AAAA A---

constexpr std::int32_t signExtend(std::uint32_t value, unsigned bits)
{
    const std::uint32_t sign = 1U << (bits - 1);
    return static_cast<std::int32_t>((value ^ sign)) - static_cast<std::int32_t>(sign);
}

struct Decoder {
    const Core& core;
    std::uint32_t address;
    std::uint16_t w;
    std::uint16_t second;

    [[nodiscard]] std::uint32_t relative(std::int32_t offset) const
    {
        const std::int64_t target = static_cast<std::int64_t>(address) + 1 + offset;
        const auto size = static_cast<std::int64_t>(core.flashWords);
        return static_cast<std::uint32_t>((target % size + size) % size);
    }

    [[nodiscard]] Instruction two(Op op) const { return {op, d5(w), r5(w)}; }
    [[nodiscard]] Instruction immediate(Op op) const { return {op, d4(w), 0, 1, 1, imm8(w)}; }
    [[nodiscard]] Instruction one(Op op, std::uint8_t cycles = 1) const { return {op, d5(w), 0, 1, cycles}; }
    [[nodiscard]] Instruction bare(Op op, std::uint8_t cycles = 1) const { return {op, 0, 0, 1, cycles}; }

    [[nodiscard]] Instruction decode() const;
    [[nodiscard]] Instruction block0() const;
    [[nodiscard]] Instruction block9() const;
    [[nodiscard]] Instruction loadStore() const;
    [[nodiscard]] Instruction oneOperand() const;
    [[nodiscard]] Instruction zeroOperand() const;
};

Instruction Decoder::decode() const
{
    switch (w >> 12) {
    case 0x0: return block0();
    case 0x1: {
        constexpr std::array ops{Op::cpse, Op::cp, Op::sub, Op::adc};
        return two(ops[(w >> 10) & 3]);
    }
    case 0x2: {
        constexpr std::array ops{Op::and_, Op::eor, Op::or_, Op::mov};
        return two(ops[(w >> 10) & 3]);
    }
    case 0x3: return immediate(Op::cpi);
    case 0x4: return immediate(Op::sbci);
    case 0x5: return immediate(Op::subi);
    case 0x6: return immediate(Op::ori);
    case 0x7: return immediate(Op::andi);
    case 0x8:
    case 0xA: {  // 10q0 qqsd dddd yqqq: LDD, STD
        const bool store = (w & 0x0200) != 0;
        const bool y = (w & 0x0008) != 0;
        const Op op = store ? (y ? Op::stdY : Op::stdZ) : (y ? Op::lddY : Op::lddZ);
        return {op, d5(w), 0, 1, 2, disp6(w)};
    }
    case 0x9: return block9();
    case 0xB: return {(w & 0x0800) != 0 ? Op::out : Op::in, d5(w), 0, 1, 1, static_cast<std::uint16_t>(io6(w) + 0x20)};
    case 0xC: return {Op::rjmp, 0, 0, 1, 2, 0, relative(signExtend(w & 0xFFF, 12))};
    case 0xD: return {Op::rcall, 0, 0, 1, static_cast<std::uint8_t>(core.longPc ? 4 : 3), 0, relative(signExtend(w & 0xFFF, 12))};
    case 0xE: return immediate(Op::ldi);
    default: break;  // 0xF
    }
    if (w == 0xFFFF)
        return bare(Op::erased);
    if ((w & 0x0800) == 0)  // 1111 0xkk kkkk ksss
        return {(w & 0x0400) != 0 ? Op::brbc : Op::brbs, 0, static_cast<std::uint8_t>(w & 7), 1, 1, 0, relative(signExtend((w >> 3) & 127, 7))};
    if ((w & 8) != 0)
        return bare(Op::undefined);
    constexpr std::array ops{Op::bld, Op::bst, Op::sbrc, Op::sbrs};  // 1111 1xxd dddd 0bbb
    return {ops[(w >> 9) & 3], d5(w), static_cast<std::uint8_t>(w & 7)};
}

Instruction Decoder::block0() const
{
    switch ((w >> 8) & 15) {
    case 0: return bare(w == 0 ? Op::nop : Op::undefined);
    case 1: return {Op::movw, static_cast<std::uint8_t>((w >> 3) & 30), static_cast<std::uint8_t>((w << 1) & 30)};
    case 2: return core.hasMul ? Instruction{Op::muls, d4(w), static_cast<std::uint8_t>(16 + (w & 15)), 1, 2} : bare(Op::undefined);
    case 3: {
        if (!core.hasMul)
            return bare(Op::undefined);
        constexpr std::array ops{Op::mulsu, Op::fmul, Op::fmuls, Op::fmulsu};  // 0000 0011 xddd xrrr
        const unsigned which = ((w >> 6) & 2) | ((w >> 3) & 1);
        return {ops[which], static_cast<std::uint8_t>(16 + ((w >> 4) & 7)), static_cast<std::uint8_t>(16 + (w & 7)), 1, 2};
    }
    default: break;
    }
    constexpr std::array ops{Op::undefined, Op::cpc, Op::sbc, Op::add};
    return two(ops[(w >> 10) & 3]);
}

Instruction Decoder::block9() const
{
    switch ((w >> 9) & 7) {
    case 0:
    case 1: return loadStore();
    case 2: return oneOperand();
    case 3: {  // 1001 011x KKdd KKKK: ADIW, SBIW
        const auto pair = static_cast<std::uint8_t>(24 + ((w >> 3) & 6));
        const auto k = static_cast<std::uint16_t>(((w >> 2) & 48) | (w & 15));
        return {(w & 0x0100) != 0 ? Op::sbiw : Op::adiw, pair, 0, 1, 2, k};
    }
    case 4:
    case 5: {  // 1001 10xx AAAA Abbb
        constexpr std::array ops{Op::cbi, Op::sbic, Op::sbi, Op::sbis};
        const unsigned which = (w >> 8) & 3;
        const auto cycles = static_cast<std::uint8_t>(which == 0 || which == 2 ? 2 : 1);
        return {ops[which], 0, static_cast<std::uint8_t>(w & 7), 1, cycles, static_cast<std::uint16_t>(io5(w) + 0x20)};
    }
    default: break;
    }
    if (!core.hasMul)
        return bare(Op::undefined);
    Instruction mul = two(Op::mul);
    mul.cycles = 2;
    return mul;
}

// 1001 00sd dddd xxxx
Instruction Decoder::loadStore() const
{
    const bool store = (w & 0x0200) != 0;
    constexpr Op no = Op::undefined;
    constexpr std::array loads{Op::lds, Op::ldZInc, Op::ldZDec, no, Op::lpm, Op::lpmInc, Op::elpm, Op::elpmInc,
                               no, Op::ldYInc, Op::ldYDec, no, Op::ldX, Op::ldXInc, Op::ldXDec, Op::pop};
    constexpr std::array stores{Op::sts, Op::stZInc, Op::stZDec, no, no, no, no, no,
                                no, Op::stYInc, Op::stYDec, no, Op::stX, Op::stXInc, Op::stXDec, Op::push};
    Instruction i = one(store ? stores[w & 15] : loads[w & 15], 2);
    switch (i.op) {
    case Op::lds:
    case Op::sts:
        i.words = 2;
        i.k = second;
        break;
    case Op::elpm:
    case Op::elpmInc:
        if (!core.hasElpm)
            return bare(Op::undefined);
        [[fallthrough]];
    case Op::lpm:
    case Op::lpmInc: i.cycles = 3; break;
    case Op::undefined: return bare(Op::undefined);
    default: break;
    }
    return i;
}

// 1001 010d dddd xxxx, and the jumps and calls that share the block
Instruction Decoder::oneOperand() const
{
    switch (w & 15) {
    case 0: return one(Op::com);
    case 1: return one(Op::neg);
    case 2: return one(Op::swap);
    case 3: return one(Op::inc);
    case 5: return one(Op::asr);
    case 6: return one(Op::lsr);
    case 7: return one(Op::ror);
    case 10: return one(Op::dec);
    case 8:
    case 9: return zeroOperand();
    case 12:
    case 13:
    case 14:
    case 15: {
        if (!core.hasJmp)
            return bare(Op::undefined);
        const std::uint32_t target = (static_cast<std::uint32_t>(((w >> 3) & 62) | (w & 1)) << 16) | second;
        const bool isCall = (w & 2) != 0;
        const auto cycles = static_cast<std::uint8_t>(!isCall ? 3 : core.longPc ? 5 : 4);
        return {isCall ? Op::call : Op::jmp, 0, 0, 2, cycles, 0, target};
    }
    default: break;
    }
    return bare(Op::undefined);
}

Instruction Decoder::zeroOperand() const
{
    if ((w & 0xFF8F) == 0x9408)
        return {Op::bset, 0, static_cast<std::uint8_t>((w >> 4) & 7)};
    if ((w & 0xFF8F) == 0x9488)
        return {Op::bclr, 0, static_cast<std::uint8_t>((w >> 4) & 7)};
    const auto extra = static_cast<std::uint8_t>(core.longPc ? 1 : 0);
    switch (w) {
    case 0x9409: return bare(Op::ijmp, 2);
    case 0x9509: return bare(Op::icall, static_cast<std::uint8_t>(3 + extra));
    case 0x9419: return bare(core.hasEind ? Op::eijmp : Op::undefined, 2);
    case 0x9519: return bare(core.hasEind ? Op::eicall : Op::undefined, 4);
    case 0x9508: return bare(Op::ret, static_cast<std::uint8_t>(4 + extra));
    case 0x9518: return bare(Op::reti, static_cast<std::uint8_t>(4 + extra));
    case 0x9588: return bare(Op::sleep);
    case 0x9598: return bare(Op::break_);
    case 0x95A8: return bare(Op::wdr);
    case 0x95C8: return {Op::lpm0, 0, 0, 1, 3};
    case 0x95D8: return core.hasElpm ? Instruction{Op::elpm0, 0, 0, 1, 3} : bare(Op::undefined);
    case 0x95E8: return bare(Op::spm);
    default: return bare(Op::undefined);
    }
}

}  // namespace

Instruction decode(const Core& core, std::uint32_t address, std::uint16_t first, std::uint16_t second)
{
    return Decoder{core, address, first, second}.decode();
}

const char* mnemonic(Op op)
{
    static constexpr std::array<const char*, static_cast<std::size_t>(Op::count)> names{
        "add", "adc", "sub", "subi", "sbc", "sbci", "and", "andi", "or", "ori", "eor", "com", "neg", "inc", "dec", "cp", "cpc", "cpi",
        "adiw", "sbiw", "mul", "muls", "mulsu", "fmul", "fmuls", "fmulsu", "lsr", "ror", "asr", "swap",
        "mov", "movw", "ldi", "lds", "sts", "ld", "ld", "ld", "ldd", "ld", "ld", "ldd", "ld", "ld",
        "st", "st", "st", "std", "st", "st", "std", "st", "st",
        "lpm", "lpm", "lpm", "elpm", "elpm", "elpm", "spm", "in", "out", "push", "pop",
        "bset", "bclr", "bst", "bld", "sbi", "cbi",
        "rjmp", "ijmp", "eijmp", "jmp", "rcall", "icall", "eicall", "call", "ret", "reti", "cpse", "sbrc", "sbrs", "sbic", "sbis", "brbs", "brbc",
        "nop", "sleep", "wdr", "break",
        "undefined", "erased", "outside"};
    return names[static_cast<std::size_t>(op)];
}

}  // namespace bramix::chip::avr
