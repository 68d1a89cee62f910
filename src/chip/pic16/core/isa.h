// The 35 instructions of 14-bit PIC controllers (PIC16F87/88 data sheet DS30487C, table 16-2; PIC16F84A DS35007B, table 7-2): one decoded form for stepper, debugger and disassembler.
// Tested by tests/debug/pic16_disassembler_test.cpp against gpdasm.
#pragma once

#include <cstdint>

namespace bramix::chip::pic16 {

enum class Op : std::uint8_t {
    undefined,
    // byte-oriented: f, and where the result goes
    addwf, andwf, clrf, clrw, comf, decf, decfsz, incf, incfsz, iorwf, movf, movwf, nop, rlf, rrf, subwf, swapf, xorwf,
    // bit-oriented
    bcf, bsf, btfsc, btfss,
    // literal and control
    addlw, andlw, call, clrwdt, goto_, iorlw, movlw, retfie, retlw, return_, sleep, sublw, xorlw,
    // of older chips, still there
    option, tris,
    count
};

struct Instruction {
    Op op = Op::undefined;
    std::uint8_t f = 0;        // register within its bank, 0 to 127
    std::uint8_t bit = 0;
    bool toFile = false;       // the result goes to f, not to W
    std::uint16_t k = 0;       // literal, or the lower 11 bits of an address
};

[[nodiscard]] Instruction decode(std::uint16_t word);
[[nodiscard]] const char* mnemonic(Op op);

}  // namespace bramix::chip::pic16
