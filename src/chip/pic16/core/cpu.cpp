#include "chip/pic16/core/cpu.h"

namespace bramix::chip::pic16 {

namespace {

constexpr std::uint8_t kGie = 0x80;

}  // namespace

void Cpu::push(std::uint32_t address)
{
    stack[depth % 8] = static_cast<std::uint16_t>(address);
    if (++depth > 8)
        bus_.stackWrapped(true);
}

std::uint32_t Cpu::pop()
{
    if (depth == 0)
        bus_.stackWrapped(false);
    --depth;
    return stack[depth % 8];
}

std::uint8_t Cpu::readFile(std::uint16_t address)
{
    const std::uint16_t at = own[address];
    std::uint8_t out = 0;
    if (at != kNowhere && at != kIndf)
        out = special[at] != 0 ? bus_.readSpecial(at, cycle + cycles_ - 1) : file[at];
    if (watched)
        bus_.accessed(address, out, out, false);
    return out;
}

void Cpu::writeFile(std::uint16_t address, std::uint8_t value)
{
    const std::uint16_t at = own[address];
    if (at == kNowhere || at == kIndf)
        return;
    const std::uint8_t before = file[at];
    switch (at) {
    case kPcl:
        file[kPcl] = value;
        next_ = (std::uint32_t{file[kPclath]} << 8 | value) & mask();
        ++cycles_;
        break;
    // An instruction that gives flags writes none of the three (DS30487C 2.2.2.1).
    case kStatus: setFlags(givesFlags_ ? 0xE0 : 0xE7, static_cast<std::uint8_t>(value & (givesFlags_ ? 0xE0U : 0xE7U))); break;
    case kPclath: file[kPclath] = value & 0x1FU; break;
    default:
        if (special[at] != 0)
            bus_.writeSpecial(at, value, cycle + cycles_);
        else
            file[at] = value;
        break;
    }
    if (watched)
        bus_.accessed(address, before, value, true);
}

std::uint8_t Cpu::add(std::uint8_t a, std::uint8_t b)
{
    const unsigned sum = a + b;
    setFlags(kC | kDc | kZ, static_cast<std::uint8_t>((sum > 0xFF ? kC : 0) | ((a & 15U) + (b & 15U) > 15 ? kDc : 0) | ((sum & 0xFFU) == 0 ? kZ : 0)));
    return static_cast<std::uint8_t>(sum);
}

// Carry and digit carry are set where nothing was borrowed.
std::uint8_t Cpu::subtract(std::uint8_t from, std::uint8_t what)
{
    const auto out = static_cast<std::uint8_t>(from - what);
    setFlags(kC | kDc | kZ, static_cast<std::uint8_t>((from >= what ? kC : 0) | ((from & 15U) >= (what & 15U) ? kDc : 0) | (out == 0 ? kZ : 0)));
    return out;
}

void Cpu::step()
{
    cycles_ = 1;
    next_ = (pc + 1) & mask();
    file[kPcl] = static_cast<std::uint8_t>(next_);
    execute(decode(program[pc]));
    pc = next_;
    cycle += cycles_;
    ++instructions;
}

void Cpu::interrupt()
{
    push(pc);
    file[kIntcon] &= static_cast<std::uint8_t>(~kGie);
    pc = 4;
    cycle += 2;
    ++handlers;
    entered = 1;
}

void Cpu::execute(const Instruction& i)
{
    const std::uint16_t at = addressOf(i.f);
    givesFlags_ = i.op != Op::bcf && i.op != Op::bsf && i.op != Op::movwf && i.op != Op::swapf && i.op != Op::decfsz && i.op != Op::incfsz;
    const auto store = [&](std::uint8_t value) {
        if (i.toFile)
            writeFile(at, value);
        else
            w = value;
    };
    // Flags are set behind the write: STATUS as a destination keeps what the instruction gives its flags.
    const auto logic = [&](std::uint8_t value) {
        store(value);
        setZ(value);
    };
    const auto skip = [&](bool wanted) {
        if (wanted) {
            next_ = (next_ + 1) & mask();
            ++cycles_;
        }
    };
    switch (i.op) {
    case Op::addwf: {
        const std::uint8_t value = readFile(at);
        const auto sum = static_cast<std::uint8_t>(value + w);
        const std::uint8_t was = w;
        store(sum);
        (void)add(value, was);
        return;
    }
    case Op::subwf: {
        const std::uint8_t value = readFile(at), was = w;
        store(static_cast<std::uint8_t>(value - was));
        (void)subtract(value, was);
        return;
    }
    case Op::andwf: return logic(readFile(at) & w);
    case Op::iorwf: return logic(readFile(at) | w);
    case Op::xorwf: return logic(readFile(at) ^ w);
    case Op::comf: return logic(static_cast<std::uint8_t>(~readFile(at)));
    case Op::decf: return logic(static_cast<std::uint8_t>(readFile(at) - 1));
    case Op::incf: return logic(static_cast<std::uint8_t>(readFile(at) + 1));
    case Op::movf: return logic(readFile(at));
    case Op::clrf:
        writeFile(at, 0);
        setFlags(kZ, kZ);
        return;
    case Op::clrw:
        w = 0;
        setFlags(kZ, kZ);
        return;
    case Op::movwf: return writeFile(at, w);
    case Op::swapf: {
        const std::uint8_t value = readFile(at);
        return store(static_cast<std::uint8_t>(value << 4 | value >> 4));
    }
    case Op::rlf: {
        const std::uint8_t value = readFile(at), carry = file[kStatus] & kC;
        store(static_cast<std::uint8_t>(value << 1 | carry));
        return setFlags(kC, value >> 7);
    }
    case Op::rrf: {
        const std::uint8_t value = readFile(at), carry = file[kStatus] & kC;
        store(static_cast<std::uint8_t>(value >> 1 | carry << 7));
        return setFlags(kC, value & 1U);
    }
    case Op::decfsz: {
        const auto value = static_cast<std::uint8_t>(readFile(at) - 1);
        store(value);
        return skip(value == 0);
    }
    case Op::incfsz: {
        const auto value = static_cast<std::uint8_t>(readFile(at) + 1);
        store(value);
        return skip(value == 0);
    }
    case Op::bcf: return writeFile(at, static_cast<std::uint8_t>(readFile(at) & ~(1U << i.bit)));
    case Op::bsf: return writeFile(at, static_cast<std::uint8_t>(readFile(at) | 1U << i.bit));
    case Op::btfsc: return skip(((readFile(at) >> i.bit) & 1U) == 0);
    case Op::btfss: return skip(((readFile(at) >> i.bit) & 1U) != 0);
    case Op::movlw: w = static_cast<std::uint8_t>(i.k); return;
    case Op::addlw: w = add(w, static_cast<std::uint8_t>(i.k)); return;
    case Op::sublw: w = subtract(static_cast<std::uint8_t>(i.k), w); return;
    case Op::andlw: w &= static_cast<std::uint8_t>(i.k), setZ(w); return;
    case Op::iorlw: w |= static_cast<std::uint8_t>(i.k), setZ(w); return;
    case Op::xorlw: w ^= static_cast<std::uint8_t>(i.k), setZ(w); return;
    case Op::call:
        push(next_);
        next_ = target(i.k);
        ++cycles_;
        return;
    case Op::goto_:
        next_ = target(i.k);
        ++cycles_;
        return;
    case Op::return_: case Op::retlw: case Op::retfie:
        next_ = pop() & mask();
        ++cycles_;
        if (i.op == Op::retlw)
            w = static_cast<std::uint8_t>(i.k);
        if (i.op == Op::retfie) {
            file[kIntcon] |= kGie;
            if (handlers != 0) {
                --handlers;
                returned = true;
            }
            bus_.interruptsEnabled();
        }
        return;
    case Op::clrwdt:
        setFlags(kTo | kPd, kTo | kPd);
        bus_.watchdogCleared();
        return;
    case Op::sleep:
        setFlags(kTo | kPd, kTo);
        sleeping = true;
        bus_.sleepEntered();
        return;
    case Op::option: return writeFile(0x81, w);
    case Op::tris: return writeFile(static_cast<std::uint16_t>(0x80U | (i.f & 7U)), w);
    default: return;  // NOP, and what is no instruction does nothing
    }
}

}  // namespace bramix::chip::pic16
