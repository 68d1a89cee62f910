#include "chip/cortexm/core/isa.h"

#include <bit>
#include <iterator>

namespace bramix::chip::cortexm {

namespace {

constexpr std::uint32_t bits(std::uint32_t word, unsigned high, unsigned low) { return (word >> low) & ((2U << (high - low)) - 1U); }
constexpr bool bit(std::uint32_t word, unsigned at) { return ((word >> at) & 1U) != 0; }
constexpr std::uint32_t extended(std::uint32_t value, unsigned width) { return static_cast<std::uint32_t>(static_cast<std::int32_t>(value << (32 - width)) >> (32 - width)); }
std::uint8_t reg(std::uint32_t n) { return static_cast<std::uint8_t>(n & 15U); }

// A shift by an immediate (A7.4.2 DecodeImmShift): LSR and ASR by 0 mean 32, ROR by 0 means RRX.
void setShift(Instruction& i, std::uint32_t type, std::uint32_t amount)
{
    i.operand = Operand::shifted;
    i.shift = static_cast<Shift>(type);
    i.amount = static_cast<std::uint8_t>(amount);
    if (amount == 0 && (i.shift == Shift::lsr || i.shift == Shift::asr))
        i.amount = 32;
    else if (amount == 0 && i.shift == Shift::ror)
        i.shift = Shift::rrx, i.amount = 1;
}

Instruction of(Op op) { return {.op = op}; }

Instruction plain(Op op, std::uint32_t d, std::uint32_t n, std::uint32_t m, Flags flags)
{
    Instruction i = of(op);
    i.d = reg(d), i.n = reg(n), i.m = reg(m);
    i.operand = Operand::shifted;
    i.flags = flags;
    return i;
}

Instruction immediate(Op op, std::uint32_t d, std::uint32_t n, std::uint32_t imm, Flags flags)
{
    Instruction i = of(op);
    i.d = reg(d), i.n = reg(n), i.imm = imm;
    i.flags = flags;
    return i;
}

Instruction dataProcessing16(std::uint32_t w)
{
    const std::uint32_t m = bits(w, 5, 3), d = bits(w, 2, 0);
    static constexpr Op kOps[] = {Op::and_, Op::eor, Op::mov, Op::mov, Op::mov, Op::adc, Op::sbc, Op::mov, Op::tst, Op::rsb, Op::cmp, Op::cmn, Op::orr, Op::mul, Op::bic, Op::mvn};
    const std::uint32_t which = bits(w, 9, 6);
    switch (which) {
    case 2: case 3: case 4: case 7: {
        // Shifts by a register: d = d shifted by m.
        Instruction i = of(Op::mov);
        i.d = reg(d), i.n = reg(m), i.m = reg(d);
        i.operand = Operand::byRegister;
        i.shift = which == 2 ? Shift::lsl : which == 3 ? Shift::lsr : which == 4 ? Shift::asr : Shift::ror;
        i.flags = Flags::outsideIt;
        return i;
    }
    case 8: case 10: case 11: return plain(kOps[which], 0, d, m, Flags::always);
    case 9: return immediate(Op::rsb, d, m, 0, Flags::outsideIt);
    case 13: return plain(Op::mul, d, m, d, Flags::outsideIt);
    case 15: return plain(Op::mvn, d, 0, m, Flags::outsideIt);
    default: return plain(kOps[which], d, d, m, Flags::outsideIt);
    }
}

Instruction special16(std::uint32_t w)
{
    const std::uint32_t m = bits(w, 6, 3), d = bits(w, 2, 0) | (bit(w, 7) ? 8U : 0U);
    switch (bits(w, 9, 8)) {
    case 0: return plain(Op::add, d, d, m, Flags::never);
    case 1: return plain(Op::cmp, 0, d, m, Flags::always);
    case 2: return plain(Op::mov, d, 0, m, Flags::never);
    default: {
        Instruction i = of(bit(w, 7) ? Op::blx : Op::bx);
        i.m = reg(m);
        return i;
    }
    }
}

// A load or store with an immediate offset.
Instruction access(Op op, std::uint32_t t, std::uint32_t n, std::uint32_t offset)
{
    Instruction i = of(op);
    i.d = reg(t), i.n = reg(n), i.imm = offset;
    return i;
}

Instruction misc16(std::uint32_t w)
{
    if (bits(w, 11, 8) == 0)
        return immediate(bit(w, 7) ? Op::sub : Op::add, kSp, kSp, bits(w, 6, 0) << 2, Flags::never);
    if ((w & 0x0500U) == 0x0100U) {
        Instruction i = of(bit(w, 11) ? Op::cbnz : Op::cbz);
        i.n = reg(bits(w, 2, 0));
        i.imm = (bit(w, 9) ? 64U : 0U) | bits(w, 7, 3) << 1;
        return i;
    }
    switch (bits(w, 11, 8)) {
    case 2: {
        static constexpr Op kOps[] = {Op::sxth, Op::sxtb, Op::uxth, Op::uxtb};
        Instruction i = of(kOps[bits(w, 7, 6)]);
        i.d = reg(bits(w, 2, 0)), i.m = reg(bits(w, 5, 3));
        return i;
    }
    case 4: case 5: {
        Instruction i = of(Op::stm);
        i.n = kSp, i.up = false, i.writeBack = true;
        i.list = static_cast<std::uint16_t>(bits(w, 7, 0) | (bit(w, 8) ? 1U << kLr : 0U));
        return i.list == 0 ? of(Op::undefined) : i;
    }
    case 6: {
        if ((w & 0xFFE8U) != 0xB660U)
            return of(Op::undefined);
        Instruction i = of(Op::cps);
        i.imm = bits(w, 4, 0);  // bit 4: disable; bit 1: PRIMASK; bit 0: FAULTMASK
        return i;
    }
    case 10: {
        static constexpr Op kOps[] = {Op::rev, Op::rev16, Op::undefined, Op::revsh};
        Instruction i = of(kOps[bits(w, 7, 6)]);
        i.d = reg(bits(w, 2, 0)), i.m = reg(bits(w, 5, 3));
        return i;
    }
    case 12: case 13: {
        Instruction i = of(Op::ldm);
        i.n = kSp, i.writeBack = true;
        i.list = static_cast<std::uint16_t>(bits(w, 7, 0) | (bit(w, 8) ? 1U << kPc : 0U));
        return i.list == 0 ? of(Op::undefined) : i;
    }
    case 14: return immediate(Op::bkpt, 0, 0, bits(w, 7, 0), Flags::never);
    case 15: {
        if (bits(w, 3, 0) != 0) {
            Instruction i = of(Op::it);
            i.condition = static_cast<std::uint8_t>(bits(w, 7, 4));
            i.imm = bits(w, 7, 0);
            return i.condition == 15 ? of(Op::undefined) : i;
        }
        static constexpr Op kOps[] = {Op::nop, Op::yield, Op::wfe, Op::wfi, Op::sev};
        return of(bits(w, 7, 4) < 5 ? kOps[bits(w, 7, 4)] : Op::nop);
    }
    default: return of(Op::undefined);
    }
}

Instruction decode16(std::uint32_t w)
{
    switch (w >> 11) {
    case 0x00: case 0x01: case 0x02: {
        Instruction i = plain(Op::mov, bits(w, 2, 0), 0, bits(w, 5, 3), Flags::outsideIt);
        setShift(i, w >> 11, bits(w, 10, 6));
        return i;
    }
    case 0x03:
        if (bit(w, 10))
            return immediate(bit(w, 9) ? Op::sub : Op::add, bits(w, 2, 0), bits(w, 5, 3), bits(w, 8, 6), Flags::outsideIt);
        return plain(bit(w, 9) ? Op::sub : Op::add, bits(w, 2, 0), bits(w, 5, 3), bits(w, 8, 6), Flags::outsideIt);
    case 0x04: return immediate(Op::mov, bits(w, 10, 8), 0, bits(w, 7, 0), Flags::outsideIt);
    case 0x05: return immediate(Op::cmp, 0, bits(w, 10, 8), bits(w, 7, 0), Flags::always);
    case 0x06: return immediate(Op::add, bits(w, 10, 8), bits(w, 10, 8), bits(w, 7, 0), Flags::outsideIt);
    case 0x07: return immediate(Op::sub, bits(w, 10, 8), bits(w, 10, 8), bits(w, 7, 0), Flags::outsideIt);
    case 0x08: return bit(w, 10) ? special16(w) : dataProcessing16(w);
    case 0x09: return access(Op::ldr, bits(w, 10, 8), kPc, bits(w, 7, 0) << 2);
    case 0x0A: case 0x0B: {
        static constexpr Op kOps[] = {Op::str, Op::strh, Op::strb, Op::ldrsb, Op::ldr, Op::ldrh, Op::ldrb, Op::ldrsh};
        Instruction i = of(kOps[bits(w, 11, 9)]);
        i.d = reg(bits(w, 2, 0)), i.n = reg(bits(w, 5, 3)), i.m = reg(bits(w, 8, 6));
        i.operand = Operand::shifted;
        return i;
    }
    case 0x0C: return access(Op::str, bits(w, 2, 0), bits(w, 5, 3), bits(w, 10, 6) << 2);
    case 0x0D: return access(Op::ldr, bits(w, 2, 0), bits(w, 5, 3), bits(w, 10, 6) << 2);
    case 0x0E: return access(Op::strb, bits(w, 2, 0), bits(w, 5, 3), bits(w, 10, 6));
    case 0x0F: return access(Op::ldrb, bits(w, 2, 0), bits(w, 5, 3), bits(w, 10, 6));
    case 0x10: return access(Op::strh, bits(w, 2, 0), bits(w, 5, 3), bits(w, 10, 6) << 1);
    case 0x11: return access(Op::ldrh, bits(w, 2, 0), bits(w, 5, 3), bits(w, 10, 6) << 1);
    case 0x12: return access(Op::str, bits(w, 10, 8), kSp, bits(w, 7, 0) << 2);
    case 0x13: return access(Op::ldr, bits(w, 10, 8), kSp, bits(w, 7, 0) << 2);
    case 0x14: return immediate(Op::add, bits(w, 10, 8), kPc, bits(w, 7, 0) << 2, Flags::never);  // ADR
    case 0x15: return immediate(Op::add, bits(w, 10, 8), kSp, bits(w, 7, 0) << 2, Flags::never);
    case 0x16: case 0x17: return misc16(w);
    case 0x18: case 0x19: {
        Instruction i = of(bit(w, 11) ? Op::ldm : Op::stm);
        i.n = reg(bits(w, 10, 8));
        i.list = static_cast<std::uint16_t>(bits(w, 7, 0));
        i.writeBack = i.op == Op::stm || ((i.list >> i.n) & 1) == 0;
        return i.list == 0 ? of(Op::undefined) : i;
    }
    case 0x1A: case 0x1B: {
        const std::uint32_t condition = bits(w, 11, 8);
        if (condition == 14)
            return of(Op::undefined);
        if (condition == 15)
            return immediate(Op::svc, 0, 0, bits(w, 7, 0), Flags::never);
        Instruction i = of(Op::b);
        i.condition = static_cast<std::uint8_t>(condition);
        i.imm = extended(bits(w, 7, 0) << 1, 9);
        return i;
    }
    case 0x1C: {
        Instruction i = of(Op::b);
        i.imm = extended(bits(w, 10, 0) << 1, 12);
        return i;
    }
    default: return of(Op::undefined);
    }
}

// A5.3.1, A5.3.11: which operation a field of four bits means; d = 15 with flags makes it a comparison, n = 15 a move.
Instruction operation32(std::uint32_t which, std::uint32_t d, std::uint32_t n, bool flags)
{
    Instruction i = of(Op::undefined);
    i.d = reg(d), i.n = reg(n);
    i.flags = flags ? Flags::always : Flags::never;
    const bool compares = d == kPc && flags;
    switch (which) {
    case 0: i.op = compares ? Op::tst : Op::and_; break;
    case 1: i.op = Op::bic; break;
    case 2: i.op = n == kPc ? Op::mov : Op::orr; break;
    case 3: i.op = n == kPc ? Op::mvn : Op::orn; break;
    case 4: i.op = compares ? Op::teq : Op::eor; break;
    case 8: i.op = compares ? Op::cmn : Op::add; break;
    case 10: i.op = Op::adc; break;
    case 11: i.op = Op::sbc; break;
    case 13: i.op = compares ? Op::cmp : Op::sub; break;
    case 14: i.op = Op::rsb; break;
    default: break;
    }
    if (i.op == Op::tst || i.op == Op::teq || i.op == Op::cmn || i.op == Op::cmp)
        i.d = 0;
    if (i.op == Op::mov || i.op == Op::mvn)
        i.n = 0;
    return i;
}

Instruction multiple32(std::uint32_t w1, std::uint32_t w2)
{
    const std::uint32_t kind = bits(w1, 8, 7);
    if (kind == 0 || kind == 3)
        return of(Op::undefined);
    Instruction i = of(bit(w1, 4) ? Op::ldm : Op::stm);
    i.n = reg(w1);
    i.up = kind == 1;
    i.writeBack = bit(w1, 5);
    i.list = static_cast<std::uint16_t>(w2);
    const bool bad = i.n == kPc || std::popcount(i.list) < 2 || bit(w2, kSp) || (i.op == Op::stm && bit(w2, kPc)) || (i.op == Op::ldm && (w2 & 0xC000U) == 0xC000U);
    return bad ? of(Op::undefined) : i;
}

Instruction dualOrExclusive32(std::uint32_t w1, std::uint32_t w2)
{
    const std::uint32_t op1 = bits(w1, 8, 7), op2 = bits(w1, 5, 4), op3 = bits(w2, 7, 4);
    Instruction i;
    i.n = reg(w1);
    i.d = reg(w2 >> 12);
    if (op1 == 0 && op2 < 2) {
        i.op = op2 == 0 ? Op::strex : Op::ldrex;
        i.imm = bits(w2, 7, 0) << 2;
        // STREX: d receives the result, a is what is stored.
        if (op2 == 0)
            i.a = i.d, i.d = reg(w2 >> 8);
        return i;
    }
    if (op1 == 1 && op2 < 2) {
        static constexpr Op kStores[] = {Op::strexb, Op::strexh}, kLoads[] = {Op::ldrexb, Op::ldrexh};
        if (op2 == 1 && op3 < 2) {
            i.op = op3 == 0 ? Op::tbb : Op::tbh;
            i.m = reg(w2);
            return i;
        }
        if (op3 != 4 && op3 != 5)
            return of(Op::undefined);
        i.op = op2 == 0 ? kStores[op3 - 4] : kLoads[op3 - 4];
        if (op2 == 0)
            i.a = i.d, i.d = reg(w2);
        return i;
    }
    i.op = bit(w1, 4) ? Op::ldrd : Op::strd;
    i.a = reg(w2 >> 8);
    i.index = bit(w1, 8), i.up = bit(w1, 7), i.writeBack = bit(w1, 5);
    i.imm = bits(w2, 7, 0) << 2;
    return !i.index && !i.writeBack ? of(Op::undefined) : i;
}

Instruction shifted32(std::uint32_t w1, std::uint32_t w2)
{
    Instruction i = operation32(bits(w1, 8, 5), bits(w2, 11, 8), w1 & 15U, bit(w1, 4));
    i.m = reg(w2);
    setShift(i, bits(w2, 5, 4), bits(w2, 14, 12) << 2 | bits(w2, 7, 6));
    return i;
}

Instruction modifiedImmediate32(std::uint32_t w1, std::uint32_t w2)
{
    Instruction i = operation32(bits(w1, 8, 5), bits(w2, 11, 8), w1 & 15U, bit(w1, 4));
    const std::uint32_t imm12 = (bit(w1, 10) ? 0x800U : 0U) | bits(w2, 14, 12) << 8 | bits(w2, 7, 0);
    i.imm = expandImmediate(imm12);
    i.carries = (imm12 >> 10) != 0;
    return i;
}

Instruction plainImmediate32(std::uint32_t w1, std::uint32_t w2)
{
    const std::uint32_t d = bits(w2, 11, 8), n = w1 & 15U;
    const std::uint32_t imm12 = (bit(w1, 10) ? 0x800U : 0U) | bits(w2, 14, 12) << 8 | bits(w2, 7, 0), imm16 = n << 12 | imm12;
    const std::uint32_t low = bits(w2, 14, 12) << 2 | bits(w2, 7, 6), width = bits(w2, 4, 0);
    switch (bits(w1, 8, 4)) {
    case 0x00: return immediate(Op::add, d, n, imm12, Flags::never);
    case 0x0A: return immediate(Op::sub, d, n, imm12, Flags::never);
    case 0x04: return immediate(Op::mov, d, 0, imm16, Flags::never);
    case 0x0C: return immediate(Op::movt, d, 0, imm16, Flags::never);
    case 0x10: case 0x12: case 0x18: case 0x1A: {
        Instruction i = immediate(bit(w1, 7) ? Op::usat : Op::ssat, d, n, bit(w1, 7) ? width : width + 1, Flags::never);
        i.m = i.n;
        setShift(i, bit(w1, 5) ? 2 : 0, low);
        return bit(w1, 5) && low == 0 ? of(Op::undefined) : i;
    }
    case 0x14: case 0x1C: {
        Instruction i = immediate(bit(w1, 7) ? Op::ubfx : Op::sbfx, d, n, width + 1, Flags::never);
        i.amount = static_cast<std::uint8_t>(low);
        return low + i.imm > 32 ? of(Op::undefined) : i;
    }
    case 0x16: {
        Instruction i = immediate(n == kPc ? Op::bfc : Op::bfi, d, n, width - low + 1, Flags::never);
        i.amount = static_cast<std::uint8_t>(low);
        return width < low ? of(Op::undefined) : i;
    }
    default: return of(Op::undefined);
    }
}

Instruction branchOrControl32(std::uint32_t w1, std::uint32_t w2)
{
    const bool sign = bit(w1, 10);
    if (bit(w2, 12)) {
        // B and BL with 24 bits: J1 and J2 are kept inverted against the sign.
        const std::uint32_t i1 = bit(w2, 13) == sign ? 1 : 0, i2 = bit(w2, 11) == sign ? 1 : 0;
        Instruction i = of(bit(w2, 14) ? Op::bl : Op::b);
        i.imm = extended((sign ? 1U << 24 : 0U) | i1 << 23 | i2 << 22 | bits(w1, 9, 0) << 12 | bits(w2, 10, 0) << 1, 25);
        return i;
    }
    if (bit(w2, 14))
        return of(Op::undefined);  // BLX to ARM state
    if (bits(w1, 9, 7) != 7) {
        Instruction i = of(Op::b);
        i.condition = static_cast<std::uint8_t>(bits(w1, 9, 6));
        i.imm = extended((sign ? 1U << 20 : 0U) | (bit(w2, 11) ? 1U << 19 : 0U) | (bit(w2, 13) ? 1U << 18 : 0U) | bits(w1, 5, 0) << 12 | bits(w2, 10, 0) << 1, 21);
        return i;
    }
    switch (bits(w1, 10, 4)) {
    case 0x38: case 0x39: {
        Instruction i = of(Op::msr);
        i.n = reg(w1), i.imm = bits(w2, 7, 0);
        i.list = static_cast<std::uint16_t>(bits(w2, 11, 10));  // mask
        return i;
    }
    case 0x3A:
        if (bits(w2, 10, 8) != 0)
            return of(Op::undefined);
        switch (bits(w2, 7, 0)) {
        case 0: return of(Op::nop);
        case 1: return of(Op::yield);
        case 2: return of(Op::wfe);
        case 3: return of(Op::wfi);
        case 4: return of(Op::sev);
        default: return of(bits(w2, 7, 4) == 15 ? Op::dbg : Op::nop);
        }
    case 0x3B:
        switch (bits(w2, 7, 4)) {
        case 2: return of(Op::clrex);
        case 4: return of(Op::dsb);
        case 5: return of(Op::dmb);
        case 6: return of(Op::isb);
        default: return of(Op::undefined);
        }
    case 0x3E: case 0x3F: {
        Instruction i = of(Op::mrs);
        i.d = reg(w2 >> 8), i.imm = bits(w2, 7, 0);
        return i;
    }
    default: return of(Op::undefined);
    }
}

// A5.3.7 to A5.3.10: single loads and stores. `n` = 15 is the literal form.
Instruction single32(std::uint32_t w1, std::uint32_t w2)
{
    const bool load = bit(w1, 4), isSigned = bit(w1, 8);
    const std::uint32_t size = bits(w1, 6, 5), n = w1 & 15U, t = bits(w2, 15, 12);
    static constexpr Op kLoads[] = {Op::ldrb, Op::ldrh, Op::ldr}, kSigned[] = {Op::ldrsb, Op::ldrsh}, kStores[] = {Op::strb, Op::strh, Op::str};
    if (size == 3 || (!load && (isSigned || n == kPc)) || (load && isSigned && size == 2))
        return of(Op::undefined);
    Instruction i = of(load ? isSigned ? kSigned[size] : kLoads[size] : kStores[size]);
    i.d = reg(t), i.n = reg(n);
    // What would load a byte or halfword into pc is a hint to preload.
    const auto done = [&] { return load && t == kPc && size < 2 ? of(Op::pld) : i; };
    if (load && n == kPc) {
        i.imm = bits(w2, 11, 0), i.up = bit(w1, 7);
        return done();
    }
    if (bit(w1, 7)) {
        i.imm = bits(w2, 11, 0);
        return done();
    }
    if (bit(w2, 11)) {
        i.index = bit(w2, 10), i.up = bit(w2, 9), i.writeBack = bit(w2, 8);
        i.imm = bits(w2, 7, 0);
        if (!i.index && !i.writeBack)
            return of(Op::undefined);
        return i.writeBack || (i.index && i.up) ? i : done();  // LDRT and the like: as without privilege
    }
    if (bits(w2, 10, 6) != 0)
        return of(Op::undefined);
    i.m = reg(w2);
    i.operand = Operand::shifted;
    i.amount = static_cast<std::uint8_t>(bits(w2, 5, 4));
    return done();
}

Instruction register32(std::uint32_t w1, std::uint32_t w2)
{
    const std::uint32_t d = bits(w2, 11, 8), n = w1 & 15U, m = w2 & 15U;
    if (bits(w2, 15, 12) != 15)
        return of(Op::undefined);
    if (!bit(w1, 7)) {
        if (bits(w2, 7, 4) == 0) {
            Instruction i = of(Op::mov);
            i.d = reg(d), i.m = reg(n), i.n = reg(m);
            i.operand = Operand::byRegister;
            i.shift = static_cast<Shift>(bits(w1, 6, 5));
            i.flags = bit(w1, 4) ? Flags::always : Flags::never;
            return i;
        }
        if (!bit(w2, 7) || n != kPc)
            return of(Op::undefined);  // additions of extended values are not in this profile's base
        static constexpr Op kOps[] = {Op::sxth, Op::uxth, Op::undefined, Op::undefined, Op::sxtb, Op::uxtb, Op::undefined, Op::undefined};
        Instruction i = of(kOps[bits(w1, 6, 4)]);
        i.d = reg(d), i.m = reg(m);
        i.amount = static_cast<std::uint8_t>(bits(w2, 5, 4) * 8);
        return i;
    }
    if (bits(w2, 7, 6) != 2)
        return of(Op::undefined);
    Instruction i;
    i.d = reg(d), i.m = reg(m);
    switch (bits(w1, 5, 4) << 2 | bits(w2, 5, 4)) {
    case 4: i.op = Op::rev; break;
    case 5: i.op = Op::rev16; break;
    case 6: i.op = Op::rbit; break;
    case 7: i.op = Op::revsh; break;
    case 12: i.op = Op::clz; break;
    default: return of(Op::undefined);
    }
    return m == n ? i : of(Op::undefined);
}

Instruction multiply32(std::uint32_t w1, std::uint32_t w2)
{
    Instruction i;
    i.n = reg(w1), i.m = reg(w2), i.d = reg(w2 >> 8), i.a = reg(w2 >> 12);
    if (!bit(w1, 7)) {
        if (bits(w1, 6, 4) != 0)
            return of(Op::undefined);
        if (bits(w2, 7, 4) == 0)
            i.op = i.a == kPc ? Op::mul : Op::mla;
        else if (bits(w2, 7, 4) == 1)
            i.op = Op::mls;
        return i;
    }
    // d is the upper half of a long result, a its lower.
    switch (bits(w1, 6, 4) << 4 | bits(w2, 7, 4)) {
    case 0x00: i.op = Op::smull; break;
    case 0x1F: i.op = Op::sdiv; break;
    case 0x20: i.op = Op::umull; break;
    case 0x3F: i.op = Op::udiv; break;
    case 0x40: i.op = Op::smlal; break;
    case 0x60: i.op = Op::umlal; break;
    default: return of(Op::undefined);
    }
    return i;
}

Instruction decode32(std::uint32_t w1, std::uint32_t w2)
{
    switch (bits(w1, 12, 11)) {
    case 1:
        if (bit(w1, 10))
            return of(Op::coprocessor);
        if (bit(w1, 9))
            return shifted32(w1, w2);
        return bit(w1, 6) ? dualOrExclusive32(w1, w2) : multiple32(w1, w2);
    case 2:
        if (bit(w2, 15))
            return branchOrControl32(w1, w2);
        return bit(w1, 9) ? plainImmediate32(w1, w2) : modifiedImmediate32(w1, w2);
    default:
        if (bit(w1, 10))
            return of(Op::coprocessor);
        if (bit(w1, 9))
            return bit(w1, 8) ? multiply32(w1, w2) : register32(w1, w2);
        return single32(w1, w2);
    }
}

}  // namespace

std::uint32_t expandImmediate(std::uint32_t imm12)
{
    const std::uint32_t byte = imm12 & 0xFFU;
    switch (imm12 >> 8) {
    case 0: return byte;
    case 1: return byte << 16 | byte;
    case 2: return byte << 24 | byte << 8;
    case 3: return byte << 24 | byte << 16 | byte << 8 | byte;
    default: return std::rotr(0x80U | (imm12 & 0x7FU), static_cast<int>(imm12 >> 7));
    }
}

Instruction decode(std::uint16_t first, std::uint16_t second)
{
    if (!isWide(first))
        return decode16(first);
    Instruction i = decode32(first, second);
    i.size = 4;
    return i;
}

const char* mnemonic(Op op)
{
    static constexpr const char* kNames[] = {"and", "bic", "orr", "orn", "eor", "add", "adc", "sub", "sbc", "rsb", "mov", "mvn", "tst", "teq", "cmp", "cmn", "movt", "bfi", "bfc", "sbfx", "ubfx", "ssat", "usat",
                                             "mul", "mla", "mls", "smull", "umull", "smlal", "umlal", "sdiv", "udiv", "clz", "rbit", "rev", "rev16", "revsh", "sxtb", "sxth", "uxtb", "uxth",
                                             "ldr", "ldrb", "ldrh", "ldrsb", "ldrsh", "str", "strb", "strh", "ldrd", "strd", "ldrex", "ldrexb", "ldrexh", "strex", "strexb", "strexh", "clrex", "ldm", "stm",
                                             "b", "bl", "bx", "blx", "cbz", "cbnz", "tbb", "tbh", "it", "nop", "yield", "wfe", "wfi", "sev", "dsb", "dmb", "isb", "dbg", "pld", "svc", "bkpt", "cps", "mrs", "msr",
                                             "coprocessor", "undefined"};
    static_assert(std::size(kNames) == static_cast<std::size_t>(Op::count));
    return kNames[static_cast<std::size_t>(op)];
}

}  // namespace bramix::chip::cortexm
