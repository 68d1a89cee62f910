#include "chip/avr/core/cpu.h"

#include <algorithm>
#include <utility>

#include "chip/avr/core/engine.h"
#include "kernel/check.h"

namespace bramix::chip::avr {

Cpu::Cpu(const Core& core, IoBus& bus) : data(static_cast<std::size_t>(core.ramEnd) + 1), core_(core), bus_(&bus), engine_(std::make_unique<Engine>(*this)), access_(kAddresses, kAsk)
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
    unmarkWatches();
    std::fill(access_.begin() + core_.ramStart, access_.begin() + core_.ramEnd + 1, std::uint8_t{kUnwritten});
    stackTold_ = false;
    markWatches();
}

void Cpu::noteLowSp(std::uint16_t value)
{
    lowestSp = value;
    if (value < dataEnd && !stackTold_) {
        stackTold_ = true;
        bus_->stackInData(value);
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
    if (codeTime != nullptr)
        codeTime->enter(CodeTime::kInReset, cycle);
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
    return bus_->ioRead(address, at);
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
    bus_->ioWrite(address, value, at);
}

void Cpu::writeSp(std::uint16_t value, std::uint8_t half)
{
    constexpr std::int64_t kTogether = 8;  // cycles; compilers write SREG between the halves
    if (cycle - spHalfCycle_ > kTogether)
        spHalves_ = 0;
    if (spHalves_ == 0)
        spBefore_ = sp;
    sp = value;
    spHalves_ |= half;
    spHalfCycle_ = cycle;
    if (spHalves_ == 3) {
        spHalves_ = 0;
        // Further than any frame is large: a stack put among the variables on purpose, as a task switcher does.
        constexpr int kLargestFrame = 512;
        if (value < dataEnd && (value > spBefore_ || spBefore_ - value > kLargestFrame))
            dataEnd = 0;
        noteSp(sp);
    }
}

void Cpu::setSreg(std::uint8_t value, std::int64_t at)
{
    const bool enabled = (value & kI) != 0 && (sreg & kI) == 0;
    sreg = value;
    if (enabled)
        bus_->interruptsEnabled(at);
}

std::uint8_t Cpu::readData(std::uint16_t address, std::int64_t at)
{
    if (address >= core_.ramStart && address <= core_.ramEnd) [[likely]] {
        std::uint8_t& access = isWatched(address) ? underWatch_[address] : access_[address];
        if (access == kUnwritten) {
            access = kPlain;
            bus_->unwrittenRead(address);
        }
        if (!watched_.empty()) [[unlikely]]
            noteAccess(address, data[address], data[address], false);
        return data[address];
    }
    if (address < 0x20) {
        if (!watched_.empty()) [[unlikely]]
            noteAccess(address, data[address], data[address], false);
        return data[address];
    }
    if (address < core_.ramStart) {
        const std::uint8_t value = coreIoRead(address, at);
        if (!watched_.empty()) [[unlikely]]
            noteAccess(address, value, value, false);
        return value;
    }
    raise(FaultKind::outsideData, address);
    return 0;
}

void Cpu::writeData(std::uint16_t address, std::uint8_t value, std::int64_t at)
{
    if (!watched_.empty() && address <= core_.ramEnd) [[unlikely]]
        noteAccess(address, address == kSreg ? sreg : address == kSpl ? static_cast<std::uint8_t>(sp) : address == kSph ? static_cast<std::uint8_t>(sp >> 8) : data[address], value, true);
    if (address >= core_.ramStart && address <= core_.ramEnd) [[likely]] {
        (isWatched(address) ? underWatch_ : access_)[address] = kPlain;
        data[address] = value;
    } else if (address < 0x20) {
        data[address] = value;
    } else if (address < core_.ramStart)
        coreIoWrite(address, value, at);
    else
        raise(FaultKind::outsideData, address);
}

void Cpu::poke(std::uint16_t address, std::uint8_t value)
{
    if (address >= core_.ramStart && address <= core_.ramEnd) {
        (isWatched(address) ? underWatch_ : access_)[address] = kPlain;
        data[address] = value;
    } else if (address < 0x20) {
        data[address] = value;
    } else if (address < core_.ramStart) {
        coreIoWrite(address, value, cycle);
    }
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
    moved(cycle);  // what it takes to enter is the time of what was interrupted, as on the tape
}

std::uint8_t Cpu::readProgram(std::uint32_t byteAddress)
{
    if (loadsAsk)
        return bus_->loadProgramMemory(byteAddress % (core_.flashWords * 2), cycle);
    const std::uint32_t word = (byteAddress >> 1) % core_.flashWords;
    return static_cast<std::uint8_t>((byteAddress & 1) != 0 ? flash_[word] >> 8 : flash_[word]);
}

// Stops.

void Cpu::setBreakpoints(const std::vector<std::uint32_t>& words)
{
    std::vector<std::uint32_t> sorted = words;
    std::sort(sorted.begin(), sorted.end());
    sorted.erase(std::unique(sorted.begin(), sorted.end()), sorted.end());
    if (sorted == breakpoints_)
        return;
    breakpoints_ = std::move(sorted);
    engine_->decodeAll();
}

void Cpu::setWatches(const std::vector<Watch>& watches)
{
    if (watches == watches_)
        return;
    // The engine's instructions differ where anything is watched at all, and for registers; of SRAM it asks at each access, so what is watched there may change often.
    const auto ofRegisters = [&](std::vector<Watch> all) {
        std::erase_if(all, [&](const Watch& w) { return w.address >= core_.ramStart; });
        return all;
    };
    const bool decodes = watches.empty() != watches_.empty() || ofRegisters(watches) != ofRegisters(watches_);
    unmarkWatches();
    eachWatched([this](std::uint32_t a, const Watch&) { watched_[a] = 0; });
    watches_ = watches;
    if (watches.empty()) {
        watched_.clear();
    } else {
        watched_.resize(kAddresses, 0);
        underWatch_.resize(kAddresses, kAsk);
        eachWatched([this](std::uint32_t a, const Watch& w) { watched_[a] |= static_cast<std::uint8_t>((w.reads ? 1 : 0) | (w.writes ? 2 : 0)); });
    }
    markWatches();
    if (decodes)
        engine_->decodeAll();
}

// By address and watch.
template <class Call>
void Cpu::eachWatched(Call&& call) const
{
    for (const Watch& w : watches_)
        for (std::uint32_t a = w.address; a < std::uint32_t{w.address} + w.length && a <= core_.ramEnd; ++a)
            call(a, w);
}

// The engine asks about every address that is watched.
void Cpu::markWatches()
{
    eachWatched([this](std::uint32_t a, const Watch&) {
        if (a >= core_.ramStart && watched_[a] != 0 && access_[a] != kAsk)
            underWatch_[a] = std::exchange(access_[a], std::uint8_t{kAsk});
    });
}

void Cpu::unmarkWatches()
{
    eachWatched([this](std::uint32_t a, const Watch&) {
        if (a >= core_.ramStart && watched_[a] != 0)
            access_[a] = underWatch_[a];
    });
}

// The first access of an instruction is the one that is told.
void Cpu::noteAccess(std::uint16_t address, std::uint8_t before, std::uint8_t value, bool write)
{
    if ((watched_[address] & (write ? 2 : 1)) == 0 || debugStop.kind != DebugStop::Kind::none)
        return;
    debugStop = {DebugStop::Kind::access, current, address, before, value, write, 0};
    stopBy(INT64_MIN);
}

void Cpu::countInto(CycleCounts* into)
{
    counts = into;
    if (into != nullptr) {
        into->cycles.resize(core_.flashWords);
        into->times.resize(core_.flashWords);
    }
}

void Cpu::tellCodeTime(CodeTime* to)
{
    codeTime = to;
    // Where nobody is told any more, what is decoded for telling does no harm.
    if (to != nullptr)
        engine_->decodeAll();
}

// By the stepper, which costs a few times what the engine does; nobody pays for it while counting is off.
void Cpu::countedRun()
{
    while (cycle < deadline && !sleeping && !stopped()) {
        if (atBreakpoint()) {
            stopAtBreakpoint();
            return;
        }
        stepCounted();
    }
}

namespace {

constexpr std::uint16_t kReti = 0x9518;

}  // namespace

void Cpu::stepCounted()
{
    const std::uint32_t at = pc;
    const std::int64_t began = cycle;
    step();
    if (counts != nullptr && at < counts->cycles.size() && !stopped()) {
        counts->cycles[at] += cycle - began;
        ++counts->times[at];
        counts->stack.note(cycle, sp);
        if (flash_[at] == kReti)
            counts->returned(cycle);
    }
}

void Cpu::run(std::int64_t until)
{
    deadline = until;
    if (counts != nullptr) [[unlikely]]
        countedRun();
    else
        engine_->run();
    current = pc;  // whatever happens between instructions happens here
}

}  // namespace bramix::chip::avr
