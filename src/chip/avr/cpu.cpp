#include "chip/avr/cpu.h"

#include <algorithm>
#include <utility>

#include "chip/avr/engine.h"
#include "kernel/check.h"

namespace bramix::chip::avr {

Cpu::Cpu(const Core& core, IoBus& bus) : data(static_cast<std::size_t>(core.ramEnd) + 1), core_(core), bus_(bus), engine_(std::make_unique<Engine>(*this)), access_(kAddresses, kAsk)
{
    loadFlash({});
    forgetWrites();
    reset();
}

Cpu::~Cpu() = default;

void Cpu::loadFlash(std::vector<std::uint16_t> words)
{
    kernel::check(words.size() <= core_.flashWords, "image larger than flash");
    words.resize(core_.flashWords, 0xFFFF);
    flash_ = std::move(words);
    flashPatched_ = false;
    decodeAgain();
}

void Cpu::patchFlash(std::uint32_t firstWord, const std::vector<std::uint16_t>& words)
{
    kernel::check(firstWord + words.size() <= flash_.size(), "a page outside flash");
    std::copy(words.begin(), words.end(), flash_.begin() + firstWord);
    flashPatched_ = true;
    decodeAgain();
}

void Cpu::decodeAgain()
{
    decoded_.resize(flash_.size());
    decodeWords(0, static_cast<std::uint32_t>(flash_.size()));
    engine_->decodeAll();
}

void Cpu::decodeWords(std::uint32_t first, std::uint32_t count)
{
    for (std::uint32_t word = first; word < first + count; ++word)
        decoded_[word] = decodeWord(word);
}

void Cpu::forgetWrites()
{
    std::fill(access_.begin() + core_.ramStart, access_.begin() + core_.ramEnd + 1, std::uint8_t{kUnwritten});
    stackTold_ = false;
}

void Cpu::noteLowSp(std::uint16_t value)
{
    lowestSp = value;
    if (value < dataEnd && !stackTold_) {
        stackTold_ = true;
        bus_.stackInData(value);
    }
}

void Cpu::reset()
{
    pc = 0;
    current = 0;
    sreg = 0;
    rampz = 0;
    eind = 0;
    sp = core_.ramEnd;
    sleeping = false;
    holdInterrupts = false;
    fault = {};
}

Instruction Cpu::decodeWord(std::uint32_t word) const
{
    if (word >= core_.flashWords)
        return Instruction{Op::outside};
    const std::uint16_t second = word + 1 < core_.flashWords ? flash_[word + 1] : 0xFFFF;
    const Instruction i = decode(core_, word, flash_[word], second);
    if (i.words == 2 && word + 1 >= core_.flashWords)
        return Instruction{Op::outside};
    return i;
}

bool Cpu::atSelfJump() const
{
    const Instruction i = decodeAt(pc);
    return (i.op == Op::rjmp || i.op == Op::jmp) && i.target == pc;
}

void Cpu::raise(FaultKind kind, std::uint32_t address)
{
    if (stopped())
        return;
    fault = {kind, current, address, cycle};
    stopBy(INT64_MIN);
}

std::uint8_t Cpu::coreIoRead(std::uint16_t address, std::int64_t at)
{
    switch (address) {
    case kSreg: return sreg;
    case kSpl: return static_cast<std::uint8_t>(sp);
    case kSph: return static_cast<std::uint8_t>(sp >> 8);
    case kRampz:
        if (core_.hasElpm)
            return rampz;
        break;
    case kEind:
        if (core_.hasEind)
            return eind;
        break;
    default: break;
    }
    return bus_.ioRead(address, at);
}

void Cpu::coreIoWrite(std::uint16_t address, std::uint8_t value, std::int64_t at)
{
    switch (address) {
    case kSreg: setSreg(value, at); return;
    case kSpl: writeSp(static_cast<std::uint16_t>((sp & 0xFF00) | value), 1); return;
    case kSph: writeSp(static_cast<std::uint16_t>((sp & 0x00FF) | (value << 8)), 2); return;
    case kRampz:
        if (core_.hasElpm) {
            rampz = value;
            return;
        }
        break;
    case kEind:
        if (core_.hasEind) {
            eind = value;
            return;
        }
        break;
    default: break;
    }
    bus_.ioWrite(address, value, at);
}

void Cpu::writeSp(std::uint16_t value, std::uint8_t half)
{
    constexpr std::int64_t kTogether = 8;  // cycles; compilers write SREG between the halves
    if (cycle - spHalfCycle_ > kTogether)
        spHalves_ = 0;
    sp = value;
    if (value < dataEnd)
        dataEnd = 0;  // a stack put among the variables on purpose, as a task switcher does
    spHalves_ |= half;
    spHalfCycle_ = cycle;
    if (spHalves_ == 3) {
        spHalves_ = 0;
        noteSp(sp);
    }
}

void Cpu::setSreg(std::uint8_t value, std::int64_t at)
{
    const bool enabled = (value & kI) != 0 && (sreg & kI) == 0;
    sreg = value;
    if (enabled)
        bus_.interruptsEnabled(at);
}

std::uint8_t Cpu::readData(std::uint16_t address, std::int64_t at)
{
    if (address >= core_.ramStart && address <= core_.ramEnd) [[likely]] {
        if (access_[address] == kUnwritten) {
            access_[address] = kPlain;
            bus_.unwrittenRead(address);
        }
        return data[address];
    }
    if (address < 0x20)
        return data[address];
    if (address < core_.ramStart)
        return coreIoRead(address, at);
    raise(FaultKind::outsideData, address);
    return 0;
}

void Cpu::writeData(std::uint16_t address, std::uint8_t value, std::int64_t at)
{
    if (address >= core_.ramStart && address <= core_.ramEnd) [[likely]] {
        access_[address] = kPlain;
        data[address] = value;
    } else if (address < 0x20) {
        data[address] = value;
    } else if (address < core_.ramStart)
        coreIoWrite(address, value, at);
    else
        raise(FaultKind::outsideData, address);
}

void Cpu::push8(std::uint8_t value, std::int64_t at)
{
    writeData(sp, value, at);
    --sp;
    noteSp(sp);
}

std::uint8_t Cpu::pop8(std::int64_t at)
{
    ++sp;
    return readData(sp, at);
}

// The low byte is pushed first, so that the return address lies in memory with its high byte at the lowest address.
void Cpu::pushPc(std::uint32_t value)
{
    push8(static_cast<std::uint8_t>(value), cycle);
    push8(static_cast<std::uint8_t>(value >> 8), cycle);
    if (core_.longPc)
        push8(static_cast<std::uint8_t>(value >> 16), cycle);
}

std::uint32_t Cpu::popPc()
{
    std::uint32_t value = core_.longPc ? static_cast<std::uint32_t>(pop8(cycle)) << 16 : 0;
    value |= static_cast<std::uint32_t>(pop8(cycle)) << 8;
    value |= pop8(cycle);
    return value;
}

void Cpu::enterInterrupt(std::uint32_t vectorWord)
{
    pushPc(pc);
    sreg &= static_cast<std::uint8_t>(~kI);
    pc = vectorWord;
    cycle += core_.longPc ? 5 : 4;
}

std::uint8_t Cpu::readProgram(std::uint32_t byteAddress)
{
    if (loadsAsk)
        return bus_.loadProgramMemory(byteAddress % (core_.flashWords * 2), cycle);
    const std::uint32_t word = (byteAddress >> 1) % core_.flashWords;
    return static_cast<std::uint8_t>((byteAddress & 1) != 0 ? flash_[word] >> 8 : flash_[word]);
}

void Cpu::run(std::int64_t until)
{
    deadline = until;
    engine_->run();
    current = pc;  // whatever happens between instructions happens here
}

}  // namespace bramix::chip::avr
