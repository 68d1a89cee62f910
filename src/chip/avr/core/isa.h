// The AVR instruction set of the AVRe and AVRe+ cores (Atmel "AVR Instruction Set Manual", rev. 0856): one decoded form for
// the reference stepper, the engine and the disassembler.
//
// Operand fields after decoding:
//   d, r   register numbers 0..31 (pairs by their low register); for bit instructions r is the bit number 0..7
//   k      immediate, displacement q, data address, or I/O address (as data address, +0x20 already added)
//   target word address of a jump, call or branch, wrapped at the end of flash as silicon does
// Aliases are decoded as what they are: LSL is add, ROL adc, TST and, CLR eor, SER ldi, SBR ori, CBR andi.
// Tested by tests/chip/avr/core/isa_test.cpp.
#pragma once

#include <cstdint>

namespace bramix::chip::avr {

// ORDER OP: engine.cpp has one row of labels an entry, in this order.
enum class Op : std::uint8_t {
    // arithmetic and logic
    add, adc, sub, subi, sbc, sbci, and_, andi, or_, ori, eor, com, neg, inc, dec, cp, cpc, cpi, adiw, sbiw,
    mul, muls, mulsu, fmul, fmuls, fmulsu, lsr, ror, asr, swap,
    // moves
    mov, movw, ldi, lds, sts, ldX, ldXInc, ldXDec, lddY, ldYInc, ldYDec, lddZ, ldZInc, ldZDec,
    stX, stXInc, stXDec, stdY, stYInc, stYDec, stdZ, stZInc, stZDec,
    lpm0, lpm, lpmInc, elpm0, elpm, elpmInc, spm, in, out, push, pop,
    // bits
    bset, bclr, bst, bld, sbi, cbi,
    // transfers
    rjmp, ijmp, eijmp, jmp, rcall, icall, eicall, call, ret, reti, cpse, sbrc, sbrs, sbic, sbis, brbs, brbc,
    // control
    nop, sleep, wdr, break_,
    // not instructions
    undefined, erased, outside,
    count
};

// What a core can do; the rest of a chip is in its table.
struct Core {
    std::uint32_t flashWords = 0;
    std::uint16_t ramStart = 0;    // first address of internal SRAM; I/O lies between 0x20 and here
    std::uint16_t ramEnd = 0;      // last address of data memory
    bool longPc = false;           // 22-bit program counter: three bytes a return address, one more cycle a call
    bool hasMul = true;            // MUL family
    bool hasJmp = true;            // JMP, CALL
    bool hasElpm = false;          // ELPM and RAMPZ
    bool hasEind = false;          // EIJMP, EICALL and EIND
};

struct Instruction {
    Op op = Op::undefined;
    std::uint8_t d = 0;
    std::uint8_t r = 0;
    std::uint8_t words = 1;
    std::uint8_t cycles = 1;  // not taken, not skipping
    std::uint16_t k = 0;
    std::uint32_t target = 0;
};

// Decodes the instruction at a word address. `second` is the word after it, used by two-word instructions only.
Instruction decode(const Core& core, std::uint32_t address, std::uint16_t first, std::uint16_t second);

// Whether a word is the first of a two-word instruction; what a skip passes over.
constexpr bool isTwoWords(std::uint16_t word)
{
    return (word & 0xFC0F) == 0x9000 || (word & 0xFE0C) == 0x940C;  // LDS/STS, JMP/CALL
}

// Whether execution never falls through to the next address.
constexpr bool endsRun(Op op)
{
    switch (op) {
    case Op::rjmp: case Op::ijmp: case Op::eijmp: case Op::jmp: case Op::rcall: case Op::icall: case Op::eicall: case Op::call:
    case Op::ret: case Op::reti: case Op::sleep: case Op::undefined: case Op::erased: case Op::outside: return true;
    default: return false;
    }
}

const char* mnemonic(Op op);

// Bits of SREG.
inline constexpr std::uint8_t kC = 1, kZ = 2, kN = 4, kV = 8, kS = 16, kH = 32, kT = 64, kI = 128;

// Data addresses that every core of this family shares.
inline constexpr std::uint16_t kRampz = 0x5B, kEind = 0x5C, kSpl = 0x5D, kSph = 0x5E, kSreg = 0x5F;

}  // namespace bramix::chip::avr
