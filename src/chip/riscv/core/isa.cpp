#include "chip/riscv/core/isa.h"

namespace bramix::chip::riscv {

namespace {

constexpr std::uint32_t bits(std::uint32_t word, unsigned high, unsigned low) { return (word >> low) & ((2U << (high - low)) - 1U); }
constexpr std::int32_t signedOf(std::uint32_t value, unsigned width) { return static_cast<std::int32_t>(value << (32U - width)) >> (32U - width); }

Instruction decodeLong(std::uint32_t w)
{
    Instruction i;
    const std::uint32_t f3 = bits(w, 14, 12), f7 = w >> 25;
    i.d = static_cast<std::uint8_t>(bits(w, 11, 7));
    i.a = static_cast<std::uint8_t>(bits(w, 19, 15));
    i.b = static_cast<std::uint8_t>(bits(w, 24, 20));
    const std::int32_t immI = static_cast<std::int32_t>(w) >> 20;
    switch (w & 0x7FU) {
    case 0x37: i.op = Op::lui, i.imm = static_cast<std::int32_t>(w & 0xFFFFF000U); break;
    case 0x17: i.op = Op::auipc, i.imm = static_cast<std::int32_t>(w & 0xFFFFF000U); break;
    case 0x6F:
        i.op = Op::jal;
        i.imm = signedOf(bits(w, 31, 31) << 20 | bits(w, 19, 12) << 12 | bits(w, 20, 20) << 11 | bits(w, 30, 21) << 1, 21);
        break;
    case 0x67:
        if (f3 == 0)
            i.op = Op::jalr;
        i.imm = immI;
        break;
    case 0x63: {
        static constexpr Op kOps[] = {Op::beq, Op::bne, Op::undefined, Op::undefined, Op::blt, Op::bge, Op::bltu, Op::bgeu};
        i.op = kOps[f3];
        i.imm = signedOf(bits(w, 31, 31) << 12 | bits(w, 7, 7) << 11 | bits(w, 30, 25) << 5 | bits(w, 11, 8) << 1, 13);
        break;
    }
    case 0x03: {
        static constexpr Op kOps[] = {Op::lb, Op::lh, Op::lw, Op::undefined, Op::lbu, Op::lhu, Op::undefined, Op::undefined};
        i.op = kOps[f3];
        i.imm = immI;
        break;
    }
    case 0x23: {
        static constexpr Op kOps[] = {Op::sb, Op::sh, Op::sw, Op::undefined, Op::undefined, Op::undefined, Op::undefined, Op::undefined};
        i.op = kOps[f3];
        i.imm = signedOf(f7 << 5 | bits(w, 11, 7), 12);
        break;
    }
    case 0x13: {
        static constexpr Op kOps[] = {Op::addi, Op::slli, Op::slti, Op::sltiu, Op::xori, Op::srli, Op::ori, Op::andi};
        i.op = kOps[f3];
        i.imm = immI;
        if (f3 == 1 || f3 == 5) {
            i.imm = i.b;
            if (f3 == 5 && f7 == 0x20)
                i.op = Op::srai;
            else if (f7 != 0)
                i.op = Op::undefined;
        }
        break;
    }
    case 0x33: {
        static constexpr Op kBase[] = {Op::add, Op::sll, Op::slt, Op::sltu, Op::xor_, Op::srl, Op::or_, Op::and_};
        static constexpr Op kMul[] = {Op::mul, Op::mulh, Op::mulhsu, Op::mulhu, Op::div, Op::divu, Op::rem, Op::remu};
        if (f7 == 0)
            i.op = kBase[f3];
        else if (f7 == 1)
            i.op = kMul[f3];
        else if (f7 == 0x20 && f3 == 0)
            i.op = Op::sub;
        else if (f7 == 0x20 && f3 == 5)
            i.op = Op::sra;
        break;
    }
    case 0x0F:
        if (f3 == 0)
            i.op = Op::fence, i.imm = immI;
        else if (f3 == 1)
            i.op = Op::fencei;
        break;
    case 0x73:
        if (f3 == 0) {
            if (w == 0x00000073)
                i.op = Op::ecall;
            else if (w == 0x00100073)
                i.op = Op::ebreak;
            else if (w == 0x30200073)
                i.op = Op::mret;
            else if (w == 0x10500073)
                i.op = Op::wfi;
        } else if (f3 != 4) {
            static constexpr Op kOps[] = {Op::undefined, Op::csrrw, Op::csrrs, Op::csrrc, Op::undefined, Op::csrrwi, Op::csrrsi, Op::csrrci};
            i.op = kOps[f3];
            i.imm = static_cast<std::int32_t>(w >> 20);
        }
        break;
    default: break;
    }
    return i;
}

Instruction decodeCompressed(std::uint32_t w)
{
    Instruction i;
    i.size = 2;
    const auto reg = [](std::uint32_t three) { return static_cast<std::uint8_t>(8 + three); };
    const auto full = [&](unsigned high, unsigned low) { return static_cast<std::uint8_t>(bits(w, high, low)); };
    const std::uint32_t f3 = bits(w, 15, 13);
    const auto make = [&](Op op, std::uint8_t d, std::uint8_t a, std::uint8_t b, std::int32_t imm) {
        i.op = op;
        i.d = d;
        i.a = a;
        i.b = b;
        i.imm = imm;
    };
    const std::int32_t imm6 = signedOf(bits(w, 12, 12) << 5 | bits(w, 6, 2), 6);
    const std::uint8_t rd = full(11, 7), rs2 = full(6, 2);
    switch ((w & 3U) << 3U | f3) {
    case 0x00:  // C.ADDI4SPN
        if (const std::uint32_t imm = bits(w, 10, 7) << 6 | bits(w, 12, 11) << 4 | bits(w, 5, 5) << 3 | bits(w, 6, 6) << 2; imm != 0)
            make(Op::addi, reg(bits(w, 4, 2)), 2, 0, static_cast<std::int32_t>(imm));
        break;
    case 0x02: make(Op::lw, reg(bits(w, 4, 2)), reg(bits(w, 9, 7)), 0, static_cast<std::int32_t>(bits(w, 5, 5) << 6 | bits(w, 12, 10) << 3 | bits(w, 6, 6) << 2)); break;
    case 0x06: make(Op::sw, 0, reg(bits(w, 9, 7)), reg(bits(w, 4, 2)), static_cast<std::int32_t>(bits(w, 5, 5) << 6 | bits(w, 12, 10) << 3 | bits(w, 6, 6) << 2)); break;
    case 0x08: make(Op::addi, rd, rd, 0, imm6); break;
    case 0x09: case 0x0D:
        make(Op::jal, f3 == 1 ? 1 : 0, 0, 0,
             signedOf(bits(w, 12, 12) << 11 | bits(w, 8, 8) << 10 | bits(w, 10, 9) << 8 | bits(w, 6, 6) << 7 | bits(w, 7, 7) << 6 | bits(w, 2, 2) << 5 | bits(w, 11, 11) << 4 | bits(w, 5, 3) << 1, 12));
        break;
    case 0x0A: make(Op::addi, rd, 0, 0, imm6); break;
    case 0x0B:
        if (rd == 2) {
            const std::int32_t imm = signedOf(bits(w, 12, 12) << 9 | bits(w, 4, 3) << 7 | bits(w, 5, 5) << 6 | bits(w, 2, 2) << 5 | bits(w, 6, 6) << 4, 10);
            if (imm != 0)
                make(Op::addi, 2, 2, 0, imm);
        } else if (imm6 != 0) {
            make(Op::lui, rd, 0, 0, static_cast<std::int32_t>(static_cast<std::uint32_t>(imm6) << 12));
        }
        break;
    case 0x0C: {
        const std::uint8_t r = reg(bits(w, 9, 7)), other = reg(bits(w, 4, 2));
        const bool wide = bits(w, 12, 12) != 0;
        switch (bits(w, 11, 10)) {
        case 0: case 1:
            if (!wide)
                make(bits(w, 11, 10) == 0 ? Op::srli : Op::srai, r, r, 0, static_cast<std::int32_t>(bits(w, 6, 2)));
            break;
        case 2: make(Op::andi, r, r, 0, imm6); break;
        default: {
            static constexpr Op kOps[] = {Op::sub, Op::xor_, Op::or_, Op::and_};
            if (!wide)
                make(kOps[bits(w, 6, 5)], r, r, other, 0);
            break;
        }
        }
        break;
    }
    case 0x0E: case 0x0F:
        make(f3 == 6 ? Op::beq : Op::bne, 0, reg(bits(w, 9, 7)), 0, signedOf(bits(w, 12, 12) << 8 | bits(w, 6, 5) << 6 | bits(w, 2, 2) << 5 | bits(w, 11, 10) << 3 | bits(w, 4, 3) << 1, 9));
        break;
    case 0x10:
        if (bits(w, 12, 12) == 0)
            make(Op::slli, rd, rd, 0, static_cast<std::int32_t>(bits(w, 6, 2)));
        break;
    case 0x12:
        if (rd != 0)
            make(Op::lw, rd, 2, 0, static_cast<std::int32_t>(bits(w, 3, 2) << 6 | bits(w, 12, 12) << 5 | bits(w, 6, 4) << 2));
        break;
    case 0x14:
        if (bits(w, 12, 12) == 0) {
            if (rs2 != 0)
                make(Op::add, rd, 0, rs2, 0);
            else if (rd != 0)
                make(Op::jalr, 0, rd, 0, 0);
        } else if (rs2 != 0) {
            make(Op::add, rd, rd, rs2, 0);
        } else if (rd != 0) {
            make(Op::jalr, 1, rd, 0, 0);
        } else {
            make(Op::ebreak, 0, 0, 0, 0);
        }
        break;
    case 0x16: make(Op::sw, 0, 2, rs2, static_cast<std::int32_t>(bits(w, 8, 7) << 6 | bits(w, 12, 9) << 2)); break;
    default: break;
    }
    return i;
}

}  // namespace

Instruction decode(std::uint32_t word) { return isLong(word) ? decodeLong(word) : decodeCompressed(word & 0xFFFFU); }

const char* mnemonic(Op op)
{
    static constexpr const char* kNames[] = {"undefined", "lui", "auipc", "jal", "jalr", "beq", "bne", "blt", "bge", "bltu", "bgeu", "lb", "lh", "lw", "lbu", "lhu", "sb", "sh", "sw", "addi",
                                             "slti", "sltiu", "xori", "ori", "andi", "slli", "srli", "srai", "add", "sub", "sll", "slt", "sltu", "xor", "srl", "sra", "or", "and", "mul", "mulh",
                                             "mulhsu", "mulhu", "div", "divu", "rem", "remu", "fence", "fence.i", "ecall", "ebreak", "mret", "wfi", "csrrw", "csrrs", "csrrc", "csrrwi", "csrrsi", "csrrci"};
    static_assert(sizeof kNames / sizeof *kNames == static_cast<std::size_t>(Op::count));
    return kNames[static_cast<std::size_t>(op)];
}

}  // namespace bramix::chip::riscv
