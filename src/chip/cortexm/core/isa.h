// The Thumb instruction set of ARMv7-M (ARM DDI 0403E, chapters A5 to A7): one decoded form for the stepper, the debugger and the disassembler.
//
// Operand fields after decoding:
//   d, n, m, a  register numbers 0..15; a is the accumulator of MLA and the like, the upper half of a long result, or the second register of LDRD
//   imm         immediate, or a branch's offset from the instruction's own address plus 4
//   list        registers of LDM, STM, PUSH, POP, bit by number
// Invariant: an instruction decodes alike wherever it stands; what an IT block changes (flags set or not) is decided when it runs (`flags`).
// Tested by tests/debug/cortexm_disassembler_test.cpp against objdump.
#pragma once

#include <cstdint>

namespace bramix::chip::cortexm {

enum class Op : std::uint8_t {
    // data processing: d = n op operand
    and_, bic, orr, orn, eor, add, adc, sub, sbc, rsb, mov, mvn, tst, teq, cmp, cmn,
    movt, bfi, bfc, sbfx, ubfx, ssat, usat,
    // multiply and divide
    mul, mla, mls, smull, umull, smlal, umlal, sdiv, udiv,
    // bits and bytes
    clz, rbit, rev, rev16, revsh, sxtb, sxth, uxtb, uxth,
    // memory
    ldr, ldrb, ldrh, ldrsb, ldrsh, str, strb, strh, ldrd, strd,
    ldrex, ldrexb, ldrexh, strex, strexb, strexh, clrex, ldm, stm,
    // transfers
    b, bl, bx, blx, cbz, cbnz, tbb, tbh,
    // system
    it, nop, yield, wfe, wfi, sev, dsb, dmb, isb, dbg, pld, svc, bkpt, cps, mrs, msr,
    // not instructions
    coprocessor, undefined,
    count
};

enum class Shift : std::uint8_t { lsl, lsr, asr, ror, rrx };

// The second operand of data processing, or what is added to the address of a load.
enum class Operand : std::uint8_t { immediate, shifted, byRegister };

// Who sets flags.
enum class Flags : std::uint8_t { never, always, outsideIt };

inline constexpr std::uint8_t kSp = 13, kLr = 14, kPc = 15, kAlways = 14;

struct Instruction {
    Op op = Op::undefined;
    std::uint8_t d = 0, n = 0, m = 0, a = 0;
    std::uint8_t size = 2;             // bytes
    std::uint8_t condition = kAlways;  // of a conditional branch; IT: the first condition
    Operand operand = Operand::immediate;
    Shift shift = Shift::lsl;
    std::uint8_t amount = 0;           // of the shift; lowest bit of a bit field
    Flags flags = Flags::never;
    bool carries = false;              // an immediate that was rotated: its highest bit is the carry
    bool index = true, up = true, writeBack = false;  // of an address
    std::uint16_t list = 0;
    std::uint32_t imm = 0;
};

// `second` is the halfword behind the first; used where the first begins an instruction of four bytes.
[[nodiscard]] Instruction decode(std::uint16_t first, std::uint16_t second);

// Whether a halfword begins an instruction of four bytes.
[[nodiscard]] constexpr bool isWide(std::uint16_t first) { return (first & 0xE000U) == 0xE000U && (first & 0x1800U) != 0; }

// Bits 0..11 as the manual's modified immediate constant (A5.3.2).
[[nodiscard]] std::uint32_t expandImmediate(std::uint32_t imm12);

[[nodiscard]] const char* mnemonic(Op op);

}  // namespace bramix::chip::cortexm
