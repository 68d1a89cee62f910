// The reference stepper: one instruction, as the manual words it. Every flag is written out from the manual's formulas;
// nothing is shared with the engine but the decoder and the access to memory.
#include "chip/avr/core/cpu.h"

namespace bramix::chip::avr {

namespace {

constexpr bool bit(unsigned value, unsigned n) { return ((value >> n) & 1U) != 0; }

// Puts flags together; S is always N xor V.
std::uint8_t arithmeticFlags(std::uint8_t sreg, bool h, bool v, bool n, bool z, bool c)
{
    return static_cast<std::uint8_t>((sreg & (kI | kT)) | (h ? kH : 0) | (n != v ? kS : 0) | (v ? kV : 0) | (n ? kN : 0) | (z ? kZ : 0) | (c ? kC : 0));
}

std::uint8_t logicFlags(std::uint8_t sreg, std::uint8_t r, bool v)
{
    const bool n = bit(r, 7);
    return static_cast<std::uint8_t>((sreg & (kI | kT | kH | kC)) | (n != v ? kS : 0) | (v ? kV : 0) | (n ? kN : 0) | (r == 0 ? kZ : 0));
}

struct Sum {
    std::uint8_t result;
    std::uint8_t sreg;
};

Sum add(std::uint8_t sreg, unsigned d, unsigned r, unsigned carry)
{
    const auto R = static_cast<std::uint8_t>(d + r + carry);
    const bool h = (bit(d, 3) && bit(r, 3)) || (bit(r, 3) && !bit(R, 3)) || (!bit(R, 3) && bit(d, 3));
    const bool v = (bit(d, 7) && bit(r, 7) && !bit(R, 7)) || (!bit(d, 7) && !bit(r, 7) && bit(R, 7));
    const bool c = (bit(d, 7) && bit(r, 7)) || (bit(r, 7) && !bit(R, 7)) || (!bit(R, 7) && bit(d, 7));
    return {R, arithmeticFlags(sreg, h, v, bit(R, 7), R == 0, c)};
}

// keepZ: SBC, SBCI and CPC only ever clear Z.
Sum subtract(std::uint8_t sreg, unsigned d, unsigned r, unsigned carry, bool keepZ)
{
    const auto R = static_cast<std::uint8_t>(d - r - carry);
    const bool h = (!bit(d, 3) && bit(r, 3)) || (bit(r, 3) && bit(R, 3)) || (bit(R, 3) && !bit(d, 3));
    const bool v = (bit(d, 7) && !bit(r, 7) && !bit(R, 7)) || (!bit(d, 7) && bit(r, 7) && bit(R, 7));
    const bool c = (!bit(d, 7) && bit(r, 7)) || (bit(r, 7) && bit(R, 7)) || (bit(R, 7) && !bit(d, 7));
    const bool z = R == 0 && (!keepZ || (sreg & kZ) != 0);
    return {R, arithmeticFlags(sreg, h, v, bit(R, 7), z, c)};
}

}  // namespace

void Cpu::skipIf(bool condition)
{
    if (!condition)
        return;
    const bool two = pc < core_.flashWords && isTwoWords(flash_[pc]);
    pc += two ? 2 : 1;
    cycle += two ? 2 : 1;
}

void Cpu::step()
{
    const Instruction i = decodeAt(pc);
    const std::uint32_t before = pc;
    const std::int64_t start = cycle;
    current = pc;
    switch (i.op) {
    case Op::undefined: raise(FaultKind::undefinedInstruction, pc * 2); return;
    case Op::erased:
        if (!erasedRunsOn_) {
            raise(FaultKind::erasedFlash, pc * 2);
            return;
        }
        bus_->erasedFlash(cycle);
        break;  // passed over, as silicon does
    case Op::outside: raise(FaultKind::outsideFlash, pc * 2); return;
    default: break;
    }
    holdInterrupts = false;
    if (loadsAsk)
        bus_->executing(pc);
    execute(i);
    if (stopped()) {  // the instruction has not been carried out
        pc = before;
        cycle = fault.cycle = start;
    } else {
        ++instructions;
        cycle += stall;
        moved(cycle);
    }
    stall = 0;
}

void Cpu::execute(const Instruction& i)
{
    const std::int64_t start = cycle;
    const std::int64_t readAt = start + i.cycles - 1;
    const std::int64_t writeAt = start + i.cycles;
    std::uint8_t* R = data.data();
    const auto pair = [&](unsigned low) { return static_cast<std::uint16_t>(R[low] | (R[low + 1] << 8)); };
    const auto setPair = [&](unsigned low, unsigned value) {
        R[low] = static_cast<std::uint8_t>(value);
        R[low + 1] = static_cast<std::uint8_t>(value >> 8);
    };
    const unsigned carry = (sreg & kC) != 0 ? 1 : 0;
    const std::uint32_t next = pc + i.words;
    pc = next;

    const auto arithmetic = [&](Sum s, bool store) {
        sreg = s.sreg;
        if (store)
            R[i.d] = s.result;
    };
    const auto logic = [&](std::uint8_t value, bool v = false) {
        sreg = logicFlags(sreg, value, v);
        R[i.d] = value;
    };
    const auto shift = [&](std::uint8_t from, std::uint8_t value) {
        const bool c = bit(from, 0);
        const bool n = bit(value, 7);
        sreg = arithmeticFlags(sreg, (sreg & kH) != 0, n != c, n, value == 0, c);
        R[i.d] = value;
    };
    const auto multiply = [&](int product, bool fractional) {
        const auto full = static_cast<std::uint16_t>(product);
        const auto value = static_cast<std::uint16_t>(fractional ? full << 1 : full);
        setPair(0, value);
        sreg = static_cast<std::uint8_t>((sreg & ~(kC | kZ)) | (bit(full, 15) ? kC : 0) | (value == 0 ? kZ : 0));
    };
    const auto s8 = [](std::uint8_t v) { return static_cast<int>(static_cast<std::int8_t>(v)); };
    const auto load = [&](unsigned address) { R[i.d] = readData(static_cast<std::uint16_t>(address), readAt); };
    const auto store = [&](unsigned address) { writeData(static_cast<std::uint16_t>(address), R[i.d], writeAt); };
    // The pointer moves only where the access happened.
    const auto loadThrough = [&](unsigned low, int before, int after) {
        const auto address = static_cast<std::uint16_t>(pair(low) + before);
        const std::uint8_t value = readData(address, readAt);
        if (!stopped()) {
            setPair(low, static_cast<unsigned>(address + after));
            R[i.d] = value;
        }
    };
    const auto storeThrough = [&](unsigned low, int before, int after) {
        const auto address = static_cast<std::uint16_t>(pair(low) + before);
        const std::uint8_t value = R[i.d];
        setPair(low, static_cast<unsigned>(address + after));
        writeData(address, value, writeAt);
        if (stopped())
            setPair(low, static_cast<unsigned>(address - before));
    };
    constexpr unsigned X = 26;
    constexpr unsigned Y = 28;
    constexpr unsigned Z = 30;
    const auto jump = [&](std::uint32_t target) {
        pc = target;
        if (target >= core_.flashWords)
            raise(FaultKind::outsideFlash, target * 2);
    };

    cycle = start + i.cycles;
    switch (i.op) {
    case Op::add: arithmetic(add(sreg, R[i.d], R[i.r], 0), true); break;
    case Op::adc: arithmetic(add(sreg, R[i.d], R[i.r], carry), true); break;
    case Op::sub: arithmetic(subtract(sreg, R[i.d], R[i.r], 0, false), true); break;
    case Op::subi: arithmetic(subtract(sreg, R[i.d], i.k, 0, false), true); break;
    case Op::sbc: arithmetic(subtract(sreg, R[i.d], R[i.r], carry, true), true); break;
    case Op::sbci: arithmetic(subtract(sreg, R[i.d], i.k, carry, true), true); break;
    case Op::cp: arithmetic(subtract(sreg, R[i.d], R[i.r], 0, false), false); break;
    case Op::cpc: arithmetic(subtract(sreg, R[i.d], R[i.r], carry, true), false); break;
    case Op::cpi: arithmetic(subtract(sreg, R[i.d], i.k, 0, false), false); break;
    case Op::and_: logic(R[i.d] & R[i.r]); break;
    case Op::andi: logic(static_cast<std::uint8_t>(R[i.d] & i.k)); break;
    case Op::or_: logic(R[i.d] | R[i.r]); break;
    case Op::ori: logic(static_cast<std::uint8_t>(R[i.d] | i.k)); break;
    case Op::eor: logic(R[i.d] ^ R[i.r]); break;
    case Op::com:
        logic(static_cast<std::uint8_t>(~R[i.d]));
        sreg |= kC;
        break;
    case Op::neg: {
        const std::uint8_t d = R[i.d];
        const auto value = static_cast<std::uint8_t>(-d);
        sreg = arithmeticFlags(sreg, bit(value, 3) || bit(d, 3), value == 0x80, bit(value, 7), value == 0, value != 0);
        R[i.d] = value;
        break;
    }
    case Op::inc: logic(static_cast<std::uint8_t>(R[i.d] + 1), R[i.d] == 0x7F); break;
    case Op::dec: logic(static_cast<std::uint8_t>(R[i.d] - 1), R[i.d] == 0x80); break;
    case Op::adiw: {
        const std::uint16_t d = pair(i.d);
        const auto value = static_cast<std::uint16_t>(d + i.k);
        sreg = arithmeticFlags(sreg, (sreg & kH) != 0, !bit(d, 15) && bit(value, 15), bit(value, 15), value == 0, !bit(value, 15) && bit(d, 15));
        setPair(i.d, value);
        break;
    }
    case Op::sbiw: {
        const std::uint16_t d = pair(i.d);
        const auto value = static_cast<std::uint16_t>(d - i.k);
        sreg = arithmeticFlags(sreg, (sreg & kH) != 0, bit(d, 15) && !bit(value, 15), bit(value, 15), value == 0, bit(value, 15) && !bit(d, 15));
        setPair(i.d, value);
        break;
    }
    case Op::mul: multiply(R[i.d] * R[i.r], false); break;
    case Op::muls: multiply(s8(R[i.d]) * s8(R[i.r]), false); break;
    case Op::mulsu: multiply(s8(R[i.d]) * R[i.r], false); break;
    case Op::fmul: multiply(R[i.d] * R[i.r], true); break;
    case Op::fmuls: multiply(s8(R[i.d]) * s8(R[i.r]), true); break;
    case Op::fmulsu: multiply(s8(R[i.d]) * R[i.r], true); break;
    case Op::lsr: shift(R[i.d], static_cast<std::uint8_t>(R[i.d] >> 1)); break;
    case Op::ror: shift(R[i.d], static_cast<std::uint8_t>((R[i.d] >> 1) | (carry << 7))); break;
    case Op::asr: shift(R[i.d], static_cast<std::uint8_t>((R[i.d] >> 1) | (R[i.d] & 0x80))); break;
    case Op::swap: R[i.d] = static_cast<std::uint8_t>((R[i.d] << 4) | (R[i.d] >> 4)); break;

    case Op::mov: R[i.d] = R[i.r]; break;
    case Op::movw: setPair(i.d, pair(i.r)); break;
    case Op::ldi: R[i.d] = static_cast<std::uint8_t>(i.k); break;
    case Op::lds: load(i.k); break;
    case Op::sts: store(i.k); break;
    case Op::ldX: load(pair(X)); break;
    case Op::ldXInc: loadThrough(X, 0, 1); break;
    case Op::ldXDec: loadThrough(X, -1, 0); break;
    case Op::lddY: load(pair(Y) + i.k); break;
    case Op::ldYInc: loadThrough(Y, 0, 1); break;
    case Op::ldYDec: loadThrough(Y, -1, 0); break;
    case Op::lddZ: load(pair(Z) + i.k); break;
    case Op::ldZInc: loadThrough(Z, 0, 1); break;
    case Op::ldZDec: loadThrough(Z, -1, 0); break;
    case Op::stX: store(pair(X)); break;
    case Op::stXInc: storeThrough(X, 0, 1); break;
    case Op::stXDec: storeThrough(X, -1, 0); break;
    case Op::stdY: store(pair(Y) + i.k); break;
    case Op::stYInc: storeThrough(Y, 0, 1); break;
    case Op::stYDec: storeThrough(Y, -1, 0); break;
    case Op::stdZ: store(pair(Z) + i.k); break;
    case Op::stZInc: storeThrough(Z, 0, 1); break;
    case Op::stZDec: storeThrough(Z, -1, 0); break;
    case Op::lpm0: R[0] = readProgram(pair(Z)); break;
    case Op::lpm: R[i.d] = readProgram(pair(Z)); break;
    case Op::lpmInc: {
        const std::uint16_t z = pair(Z);
        setPair(Z, z + 1U);
        R[i.d] = readProgram(z);
        break;
    }
    case Op::elpm0: R[0] = readProgram((static_cast<std::uint32_t>(rampz) << 16) | pair(Z)); break;
    case Op::elpm: R[i.d] = readProgram((static_cast<std::uint32_t>(rampz) << 16) | pair(Z)); break;
    case Op::elpmInc: {
        const std::uint32_t address = (static_cast<std::uint32_t>(rampz) << 16) | pair(Z);
        setPair(Z, address + 1);
        rampz = static_cast<std::uint8_t>((address + 1) >> 16);
        R[i.d] = readProgram(address);
        break;
    }
    case Op::spm: bus_->storeProgramMemory(writeAt); break;
    case Op::in: load(i.k); break;
    case Op::out: store(i.k); break;
    case Op::push: push8(R[i.d], writeAt); break;
    case Op::pop: R[i.d] = pop8(readAt); break;

    case Op::bset:
        if (i.r == 7) {
            holdInterrupts = (sreg & kI) == 0;
            setSreg(sreg | kI, writeAt);
        } else {
            sreg |= static_cast<std::uint8_t>(1 << i.r);
        }
        break;
    case Op::bclr: sreg &= static_cast<std::uint8_t>(~(1 << i.r)); break;
    case Op::bst: sreg = static_cast<std::uint8_t>((sreg & ~kT) | (bit(R[i.d], i.r) ? kT : 0)); break;
    case Op::bld: R[i.d] = static_cast<std::uint8_t>((R[i.d] & ~(1 << i.r)) | ((sreg & kT) != 0 ? 1 << i.r : 0)); break;
    case Op::sbi:
    case Op::cbi: {
        const bool value = i.op == Op::sbi;
        if (isWatched(i.k)) {
            const auto mask = static_cast<std::uint8_t>(1U << i.r);
            noteAccess(i.k, data[i.k], static_cast<std::uint8_t>(value ? data[i.k] | mask : data[i.k] & ~mask), true);
        }
        bus_->ioWriteBit(i.k, i.r, value, writeAt);
        break;
    }

    case Op::rjmp:
    case Op::jmp: jump(i.target); break;
    case Op::ijmp: jump(pair(Z)); break;
    case Op::eijmp: jump((static_cast<std::uint32_t>(eind) << 16) | pair(Z)); break;
    case Op::rcall:
    case Op::call:
        pushPc(next);
        jump(i.target);
        break;
    case Op::icall:
        pushPc(next);
        jump(pair(Z));
        break;
    case Op::eicall:
        pushPc(next);
        jump((static_cast<std::uint32_t>(eind) << 16) | pair(Z));
        break;
    case Op::ret: jump(popPc()); break;
    case Op::reti:
        jump(popPc());
        holdInterrupts = true;
        setSreg(sreg | kI, writeAt);
        bus_->interruptReturned(cycle);
        break;
    case Op::cpse: skipIf(R[i.d] == R[i.r]); break;
    case Op::sbrc: skipIf(!bit(R[i.d], i.r)); break;
    case Op::sbrs: skipIf(bit(R[i.d], i.r)); break;
    case Op::sbic: skipIf(!bit(readData(i.k, start), i.r)); break;
    case Op::sbis: skipIf(bit(readData(i.k, start), i.r)); break;
    case Op::brbs:
    case Op::brbc:
        if (bit(sreg, i.r) == (i.op == Op::brbs)) {
            pc = i.target;
            ++cycle;
        }
        break;

    case Op::sleep: bus_->sleepInstruction(writeAt); break;
    case Op::wdr: bus_->watchdogReset(writeAt); break;
    case Op::nop:
    case Op::break_:  // without a debugger on its own wire, BREAK is a NOP
    case Op::undefined:
    case Op::erased:
    case Op::outside:
    case Op::count: break;
    }
}

}  // namespace bramix::chip::avr
