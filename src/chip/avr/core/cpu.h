// The AVR core: registers, data memory, flash, and two ways to run them that must agree state for state.
//
//   step()   the reference: fetches and decodes each instruction from flash and works out every flag at once. It is the
//            truth, and it runs what lies too close to a deadline for the engine.
//   run()    the engine (engine.cpp): decoded records, lazy flags, one comparison at each taken transfer.
//
// Both stop at the first instruction boundary at or after `deadline`. Anything asynchronous only lowers `deadline`.
//
// Time of an access: an instruction that starts at cycle s and takes n cycles reads I/O at cycle s + n - 1 and its
// write takes effect at s + n, the clock edge that ends it.
//
// Invariant: outside run(), this structure is the whole state. The first 32 bytes of `data` are the registers; the I/O range of
// `data` is plain storage for registers that no peripheral owns.
// Tested by tests/chip/avr/core/instruction_test.cpp and tests/chip/avr/core/engine_test.cpp.
#pragma once

#include <algorithm>
#include <cstdint>
#include <memory>
#include <vector>

#include "chip/code_time.h"
#include "chip/cycle_counts.h"
#include "chip/avr/core/isa.h"
#include "chip/avr/core/stops.h"
#include "kernel/archive.h"

namespace bramix::chip::avr {

// The chip around the core, as the core sees it: I/O registers by data address (0x20 and up).
class IoBus {
public:
    virtual ~IoBus() = default;
    virtual std::uint8_t ioRead(std::uint16_t address, std::int64_t cycle) = 0;
    virtual void ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle) = 0;
    // SBI and CBI change one bit: a flag register must not lose its other flags, a port must not read its pins.
    virtual void ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle) = 0;
    virtual void interruptsEnabled(std::int64_t cycle) = 0;                 // the I flag has been set
    [[nodiscard]] virtual bool interruptPending() const = 0;                // one waits for the I flag
    virtual void sleepInstruction(std::int64_t cycle) = 0;                  // may set Cpu::sleeping
    virtual void watchdogReset(std::int64_t cycle) = 0;                     // WDR
    virtual void storeProgramMemory(std::int64_t cycle) = 0;                // SPM
    virtual std::uint8_t loadProgramMemory(std::uint32_t byteAddress, std::int64_t cycle) = 0;  // LPM, while Cpu::loadsAsk
    virtual void erasedFlash(std::int64_t cycle) = 0;                       // an erased word is passed over
    virtual void executing(std::uint32_t /*word*/) {}                       // an instruction begins, while Cpu::loadsAsk
    virtual void unwrittenRead(std::uint16_t address) = 0;                  // SRAM that nothing has written; told once an address
    virtual void stackInData(std::uint16_t sp) = 0;                         // a new low below Cpu::dataEnd; told once
    virtual void interruptReturned(std::int64_t /*cycle*/) {}               // RETI, at its end
};

enum class FaultKind : std::uint8_t { none, undefinedInstruction, erasedFlash, outsideFlash, outsideData };

struct Fault {
    FaultKind kind = FaultKind::none;
    std::uint32_t pc = 0;       // word address of the instruction at fault
    std::uint32_t address = 0;  // the data address, or the byte address jumped to
    std::int64_t cycle = 0;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(kind, pc, address, cycle);
    }
};

class Engine;

class Cpu {
public:
    Cpu(const Core& core, IoBus& bus);
    ~Cpu();
    // Another chip around it, or the same with something in between.
    void setBus(IoBus& bus) { bus_ = &bus; }

    // What an access to a data address is; one byte an address, so that the engine needs a single look.
    enum Access : std::uint8_t { kPlain = 0, kUnwritten = 1, kAsk = 2 };  // written SRAM, SRAM not written yet, registers and what lies outside

    // Flash and its decoded form. Words beyond the image are erased (0xFFFF).
    void loadFlash(std::vector<std::uint16_t> words);
    [[nodiscard]] const std::vector<std::uint16_t>& flash() const { return flash_; }
    // The firmware has written its own flash since loadFlash().
    [[nodiscard]] bool flashPatched() const { return flashPatched_; }
    // A part of flash has been programmed anew.
    void patchFlash(std::uint32_t firstWord, const std::vector<std::uint16_t>& words);
    // SRAM holds what it came up with.
    void forgetWrites();
    // Erased flash runs on as silicon does (0xFFFF is passed over) instead of being a fault.
    void setErasedRunsOn(bool runsOn) { erasedRunsOn_ = runsOn; }
    [[nodiscard]] bool erasedRunsOn() const { return erasedRunsOn_; }

    // Registers, flags, program counter and memory as after a reset. SRAM keeps what it held.
    void reset();

    // Runs until `deadline`, a fault, sleep, or an instruction after which an interrupt may be taken.
    void run(std::int64_t until);
    // One instruction, by the reference.
    void step();
    // The same, counted where counting is on.
    void stepCounted();
    // Enters an interrupt: pushes the program counter, clears I, four cycles (five with a 22-bit counter).
    void enterInterrupt(std::uint32_t vectorWord);

    [[nodiscard]] bool stopped() const { return fault.kind != FaultKind::none; }

    // Word addresses before whose instruction run() ends, with debugStop set. Replaces those set before.
    void setBreakpoints(const std::vector<std::uint32_t>& words);
    void setWatches(const std::vector<Watch>& watches);
    // The next run goes on from a breakpoint at the present place instead of stopping at it.
    void passBreakpoint() { passedAt_ = instructions; }
    // A breakpoint lies at pc, and has not been passed.
    [[nodiscard]] bool atBreakpoint() const { return !breakpoints_.empty() && passedAt_ != instructions && isBreakpoint(pc); }
    void stopAtBreakpoint() { debugStop = {DebugStop::Kind::breakpoint, pc, 0, 0, 0, false, 0}; }
    // Counts cycles by instruction into this from now on, by the stepper; null: no more.
    void countInto(CycleCounts* counts);
    // Tells it which part of the code runs from now on; null: no more. It must outlive the telling.
    void tellCodeTime(CodeTime* to);
    // Control is somewhere else, or the core sleeps, or has woken.
    void moved(std::int64_t at)
    {
        if (codeTime != nullptr)
            codeTime->enter(sleeping ? CodeTime::kAsleep : codeTime->partAt(pc), at);
    }
    // The instruction at pc jumps to itself.
    [[nodiscard]] bool atSelfJump() const;
    [[nodiscard]] Instruction decodeAt(std::uint32_t word) const { return word < decoded_.size() ? decoded_[word] : Instruction{Op::outside}; }

    // Lowers the deadline of the run in progress.
    void stopBy(std::int64_t cycle)
    {
        if (cycle < deadline)
            deadline = cycle;
    }

    // Data memory as the program sees it, for instructions and for views. The checked forms fault outside memory.
    std::uint8_t readData(std::uint16_t address, std::int64_t at);
    void writeData(std::uint16_t address, std::uint8_t value, std::int64_t at);
    // As a debugger writes, at the present cycle: no watch sees it, SRAM counts as written, a register acts as if an instruction had written it.
    void poke(std::uint16_t address, std::uint8_t value);
    void raise(FaultKind kind, std::uint32_t address);

    [[nodiscard]] const Core& core() const { return core_; }

    std::vector<std::uint8_t> data;  // 0 .. ramEnd
    std::uint32_t pc = 0;            // word address
    std::uint32_t current = 0;       // of the instruction in progress, or of the last one
    std::uint16_t sp = 0;
    std::uint16_t lowestSp = UINT16_MAX;  // low-water mark of the stack; UINT16_MAX until the stack is used
    std::uint8_t sreg = 0;
    std::uint8_t rampz = 0;
    std::uint8_t eind = 0;
    bool sleeping = false;
    bool stopAtHalt = false;      // a mode of running, not state: end the slice where a jump to itself can never be left
    bool loadsAsk = false;        // LPM may not simply read flash: only the stepper runs
    std::uint16_t dataEnd = 0;    // where static data end, or 0
    std::int64_t stall = 0;       // cycles for which the core stands after the instruction in progress
    bool holdInterrupts = false;  // SEI or RETI has just run: one more instruction first
    std::int64_t cycle = 0;
    std::int64_t instructions = 0;
    std::int64_t deadline = 0;
    Fault fault;
    DebugStop debugStop;          // why the debugger wants to look, not state; to be cleared by whoever has looked
    CycleCounts* counts = nullptr;
    CodeTime* codeTime = nullptr; // set by tellCodeTime()

    template <class Archive>
    void state(Archive& ar)
    {
        unmarkWatches();
        std::vector<std::uint8_t> written(access_.begin() + core_.ramStart, access_.begin() + core_.ramEnd + 1);
        ar(written);
        std::copy(written.begin(), written.end(), access_.begin() + core_.ramStart);
        markWatches();
        ar(data, pc, current, sp, lowestSp, sreg, rampz, eind, sleeping, holdInterrupts, loadsAsk, stall, cycle, instructions, fault, spHalves_, spHalfCycle_, spBefore_, stackTold_, dataEnd, flashPatched_);
        if (flashPatched_) {
            ar(flash_);
            if constexpr (Archive::kLoading)
                decodeAgain();
        }
        if constexpr (Archive::kLoading) {
            debugStop = {};
            passedAt_ = -1;
        }
    }

private:
    friend class Engine;

    void writeSp(std::uint16_t value, std::uint8_t half);
    void push8(std::uint8_t value, std::int64_t at);
    std::uint8_t pop8(std::int64_t at);
    void pushPc(std::uint32_t value);
    std::uint32_t popPc();
    void noteSp(std::uint16_t value)
    {
        if (value < lowestSp)
            noteLowSp(value);
    }
    void noteLowSp(std::uint16_t value);
    void decodeWords(std::uint32_t first, std::uint32_t count);
    [[nodiscard]] Instruction decodeWord(std::uint32_t word) const;
    void decodeAgain();
    std::uint8_t readProgram(std::uint32_t byteAddress);
    void skipIf(bool condition);
    void setSreg(std::uint8_t value, std::int64_t at);
    [[nodiscard]] bool isBreakpoint(std::uint32_t word) const { return std::binary_search(breakpoints_.begin(), breakpoints_.end(), word); }
    [[nodiscard]] bool isWatched(std::uint16_t address) const { return !watched_.empty() && watched_[address] != 0; }
    void noteAccess(std::uint16_t address, std::uint8_t before, std::uint8_t value, bool write);
    template <class Call>
    void eachWatched(Call&& call) const;
    void markWatches();
    void unmarkWatches();
    void countedRun();
    std::uint8_t coreIoRead(std::uint16_t address, std::int64_t at);
    void coreIoWrite(std::uint16_t address, std::uint8_t value, std::int64_t at);
    void execute(const Instruction& i);

    const Core core_;
    IoBus* bus_;
    std::vector<std::uint16_t> flash_;
    std::vector<Instruction> decoded_;  // of each word of flash, as if an instruction began there
    std::unique_ptr<Engine> engine_;
    // By data address: all 64 K, and as far beyond as a displacement reaches, so that no address needs a mask.
    static constexpr std::size_t kAddresses = 0x10000 + 64;
    std::vector<std::uint8_t> access_;
    bool erasedRunsOn_ = false;
    bool flashPatched_ = false;         // by the firmware: part of the state from then on
    bool stackTold_ = false;
    std::vector<std::uint32_t> breakpoints_;  // in order
    std::int64_t passedAt_ = -1;              // instructions executed when the breakpoint was last passed
    std::vector<Watch> watches_;
    std::vector<std::uint8_t> watched_;       // by data address: 1 reads, 2 writes; empty while nothing is watched
    std::vector<std::uint8_t> underWatch_;    // what access_ says of the watched SRAM otherwise
    // The two halves of a stack pointer write: the low-water mark is taken when both have come, not in between.
    std::uint16_t spBefore_ = 0;     // before the first half of the write that is under way
    std::uint8_t spHalves_ = 0;
    std::int64_t spHalfCycle_ = 0;
};

}  // namespace bramix::chip::avr
