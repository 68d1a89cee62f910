#include "chip/pic16/core/isa.h"

#include <cstddef>

namespace bramix::chip::pic16 {

Instruction decode(std::uint16_t word)
{
    Instruction i;
    i.f = static_cast<std::uint8_t>(word & 0x7FU);
    i.toFile = (word & 0x80U) != 0;
    i.bit = static_cast<std::uint8_t>((word >> 7) & 7U);
    i.k = static_cast<std::uint16_t>(word & 0xFFU);
    switch ((word >> 12) & 3U) {
    case 0: {
        static constexpr Op kOps[] = {Op::nop, Op::clrf, Op::subwf, Op::decf, Op::iorwf, Op::andwf, Op::xorwf, Op::addwf, Op::movf, Op::comf, Op::incf, Op::decfsz, Op::rrf, Op::rlf, Op::swapf, Op::incfsz};
        i.op = kOps[(word >> 8) & 15U];
        if (i.op == Op::clrf && !i.toFile)
            i.op = Op::clrw;
        if (i.op != Op::nop)
            break;
        if (i.toFile) {
            i.op = Op::movwf;
            break;
        }
        switch (word & 0x7FU) {
        case 0x00: case 0x20: case 0x40: case 0x60: break;
        case 0x08: i.op = Op::return_; break;
        case 0x09: i.op = Op::retfie; break;
        case 0x62: i.op = Op::option; break;
        case 0x63: i.op = Op::sleep; break;
        case 0x64: i.op = Op::clrwdt; break;
        case 0x65: case 0x66: case 0x67: i.op = Op::tris; break;
        default: i.op = Op::undefined; break;
        }
        break;
    }
    case 1: {
        static constexpr Op kOps[] = {Op::bcf, Op::bsf, Op::btfsc, Op::btfss};
        i.op = kOps[(word >> 10) & 3U];
        break;
    }
    case 2:
        i.op = (word & 0x800U) != 0 ? Op::goto_ : Op::call;
        i.k = word & 0x7FFU;
        break;
    default: {
        static constexpr Op kOps[] = {Op::movlw, Op::movlw, Op::movlw, Op::movlw, Op::retlw, Op::retlw, Op::retlw, Op::retlw, Op::iorlw, Op::andlw, Op::xorlw, Op::undefined, Op::sublw, Op::sublw, Op::addlw, Op::addlw};
        i.op = kOps[(word >> 8) & 15U];
        break;
    }
    }
    return i;
}

const char* mnemonic(Op op)
{
    static constexpr const char* kNames[] = {"undefined", "addwf", "andwf", "clrf", "clrw", "comf", "decf", "decfsz", "incf", "incfsz", "iorwf", "movf", "movwf", "nop", "rlf", "rrf", "subwf", "swapf", "xorwf",
                                             "bcf", "bsf", "btfsc", "btfss", "addlw", "andlw", "call", "clrwdt", "goto", "iorlw", "movlw", "retfie", "retlw", "return", "sleep", "sublw", "xorlw", "option", "tris"};
    static_assert(sizeof kNames / sizeof *kNames == static_cast<std::size_t>(Op::count));
    return kNames[static_cast<std::size_t>(op)];
}

}  // namespace bramix::chip::pic16
