// Operands by instruction, one row a kind.
#include "chip/avr/core/operands.h"

namespace bramix::chip::avr {

namespace {

constexpr std::uint32_t one(unsigned r) { return std::uint32_t{1} << (r & 31U); }
constexpr std::uint32_t pair(unsigned r) { return one(r) | one(r + 1); }
constexpr unsigned X = 26, Y = 28, Z = 30;

}  // namespace

Operands operandsOf(const Instruction& i)
{
    const std::uint32_t d = one(i.d);
    const std::uint32_t r = one(i.r);
    switch (i.op) {
    // arithmetic and logic
    case Op::adc: case Op::sbc: return {d | r, d, true, true, false};
    case Op::add: case Op::sub: case Op::and_: case Op::or_: case Op::eor: return {d | r, d, false, true, false};
    case Op::subi: case Op::andi: case Op::ori: case Op::com: case Op::neg: case Op::inc: case Op::dec: case Op::lsr: case Op::asr: return {d, d, false, true, false};
    case Op::sbci: case Op::ror: return {d, d, true, true, false};
    case Op::cp: return {d | r, 0, false, true, false};
    case Op::cpc: return {d | r, 0, true, true, false};
    case Op::cpi: return {d, 0, false, true, false};
    case Op::adiw: case Op::sbiw: return {pair(i.d), pair(i.d), false, true, false};
    case Op::mul: case Op::muls: case Op::mulsu: case Op::fmul: case Op::fmuls: case Op::fmulsu: return {d | r, pair(0), false, true, false};
    case Op::swap: return {d, d, false, false, false};
    // moves
    case Op::mov: return {r, d, false, false, false};
    case Op::movw: return {pair(i.r), pair(i.d), false, false, false};
    case Op::ldi: case Op::lds: case Op::in: return {0, d, false, false, false};
    case Op::sts: case Op::out: return {d, 0, false, false, false};
    case Op::ldX: return {pair(X), d, false, false, false};
    case Op::ldXInc: case Op::ldXDec: return {pair(X), d | pair(X), false, false, false};
    case Op::lddY: return {pair(Y), d, false, false, false};
    case Op::ldYInc: case Op::ldYDec: return {pair(Y), d | pair(Y), false, false, false};
    case Op::lddZ: case Op::lpm: case Op::elpm: return {pair(Z), d, false, false, false};
    case Op::ldZInc: case Op::ldZDec: case Op::lpmInc: case Op::elpmInc: return {pair(Z), d | pair(Z), false, false, false};
    case Op::stX: return {d | pair(X), 0, false, false, false};
    case Op::stXInc: case Op::stXDec: return {d | pair(X), pair(X), false, false, false};
    case Op::stdY: return {d | pair(Y), 0, false, false, false};
    case Op::stYInc: case Op::stYDec: return {d | pair(Y), pair(Y), false, false, false};
    case Op::stdZ: return {d | pair(Z), 0, false, false, false};
    case Op::stZInc: case Op::stZDec: return {d | pair(Z), pair(Z), false, false, false};
    case Op::lpm0: case Op::elpm0: return {pair(Z), one(0), false, false, false};
    case Op::spm: return {pair(0) | pair(Z), 0, false, false, false};
    case Op::push: return {d, 0, false, false, true};
    case Op::pop: return {0, d, false, false, true};
    // bits
    case Op::bset: case Op::bclr: return {0, 0, false, true, false};
    case Op::bst: return {d, 0, false, true, false};
    case Op::bld: return {d, d, true, false, false};
    // transfers
    case Op::ijmp: case Op::eijmp: return {pair(Z), 0, false, false, false};
    case Op::icall: case Op::eicall: return {pair(Z), 0, false, false, true};
    case Op::rcall: case Op::call: case Op::ret: return {0, 0, false, false, true};
    case Op::reti: return {0, 0, false, true, true};
    case Op::cpse: return {d | r, 0, false, false, false};
    case Op::sbrc: case Op::sbrs: return {d, 0, false, false, false};
    case Op::brbs: case Op::brbc: return {0, 0, true, false, false};
    case Op::sbi: case Op::cbi: case Op::sbic: case Op::sbis: case Op::rjmp: case Op::jmp:
    case Op::nop: case Op::sleep: case Op::wdr: case Op::break_:
    case Op::undefined: case Op::erased: case Op::outside: case Op::count: break;
    }
    return {};
}

std::optional<DataAccess> dataAccess(const Cpu& cpu, const Instruction& i)
{
    const auto at = [&](unsigned low, int offset, bool store) { return DataAccess{static_cast<std::uint16_t>((cpu.data[low] | (cpu.data[low + 1] << 8)) + offset), store}; };
    switch (i.op) {
    case Op::lds: case Op::in: case Op::sbic: case Op::sbis: return DataAccess{i.k, false};
    case Op::sts: case Op::out: case Op::sbi: case Op::cbi: return DataAccess{i.k, true};
    case Op::ldX: case Op::ldXInc: return at(X, 0, false);
    case Op::ldYInc: return at(Y, 0, false);
    case Op::ldZInc: return at(Z, 0, false);
    case Op::ldXDec: return at(X, -1, false);
    case Op::ldYDec: return at(Y, -1, false);
    case Op::ldZDec: return at(Z, -1, false);
    case Op::lddY: return at(Y, i.k, false);
    case Op::lddZ: return at(Z, i.k, false);
    case Op::stX: case Op::stXInc: return at(X, 0, true);
    case Op::stYInc: return at(Y, 0, true);
    case Op::stZInc: return at(Z, 0, true);
    case Op::stXDec: return at(X, -1, true);
    case Op::stYDec: return at(Y, -1, true);
    case Op::stZDec: return at(Z, -1, true);
    case Op::stdY: return at(Y, i.k, true);
    case Op::stdZ: return at(Z, i.k, true);
    default: return std::nullopt;
    }
}

}  // namespace bramix::chip::avr
