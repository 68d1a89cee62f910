// The core of an ARMv7-M microcontroller: registers, both stacks, exceptions, and the plain stepper that is the truth of what each instruction does
// (ARM DDI 0403E; cycles: Cortex-M3 Technical Reference Manual, table 3-1).
//
// Exact: results, flags, exceptions with preemption, tail chaining, late arrival, stacking, fault status and escalation. Cycles are those of the table without
// wait states of memory; a taken branch refills in two more cycles, a load and a store take two, division as many as the quotient needs.
// Invariant: between steps this structure, with Progress, is the whole state. r[13] is the stack pointer in use; the other one stands in `otherSp`.
// Tested by tests/chip/cortexm/core_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <utility>
#include <vector>

#include "chip/base/running_chip.h"
#include "chip/cortexm/core/exceptions.h"
#include "chip/cortexm/core/isa.h"
#include "kernel/archive.h"

namespace bramix::chip::cortexm {

// What stops an instruction: a fault, with its status bits and the address where there is one.
struct Abort {
    unsigned exception = kHardFault;
    std::uint32_t status = 0;
    std::optional<std::uint32_t> address{};
};

// Memory and peripherals as the core sees them. Addresses are aligned to the size (1, 2 or 4 bytes). Throws Abort where nothing answers.
class Bus {
public:
    virtual ~Bus() = default;
    virtual std::uint16_t fetch(std::uint32_t address) = 0;
    virtual std::uint32_t read(std::uint32_t address, unsigned size, std::int64_t cycle) = 0;
    virtual void write(std::uint32_t address, unsigned size, std::uint32_t value, std::int64_t cycle) = 0;
};

class Cpu : public Progress {
public:
    Cpu(Bus& bus, Exceptions& exceptions) : bus_(bus), exceptions_(exceptions) {}

    // Registers as after a reset; stack pointer and first instruction are read from the vector table at 0.
    void reset();
    // One instruction.
    void step();
    // Takes the most urgent exception that is due. False: there is none.
    bool enterDue();
    [[nodiscard]] unsigned due() const { return exceptions_.due(priority()); }
    [[nodiscard]] int priority() const { return exceptions_.executionPriority(primask, faultmask, basepri); }
    // Wakes it from sleep; an event that it has waited for is used up.
    void wake()
    {
        if (std::exchange(sleeping, false) && sleepsForEvent)
            event = false;
    }
    // Decoded anew where code has been written.
    [[nodiscard]] Instruction at(std::uint32_t address);

    [[nodiscard]] std::uint32_t pc() const { return r[15]; }
    [[nodiscard]] bool inHandler() const { return ipsr != 0; }
    [[nodiscard]] bool privileged() const { return inHandler() || (control & 1U) == 0; }
    [[nodiscard]] std::uint32_t mainSp() const { return usesProcessStack() ? otherSp : r[13]; }
    [[nodiscard]] std::uint32_t processSp() const { return usesProcessStack() ? r[13] : otherSp; }
    void setMainSp(std::uint32_t v) { (usesProcessStack() ? otherSp : r[13]) = v & ~3U; }
    void setProcessSp(std::uint32_t v) { (usesProcessStack() ? r[13] : otherSp) = v & ~3U; }
    void setControl(std::uint32_t v);
    [[nodiscard]] std::uint32_t xpsr() const { return apsr | ipsr | (static_cast<std::uint32_t>(itState) & 3U) << 25 | (static_cast<std::uint32_t>(itState) >> 2) << 10 | (thumb ? 1U << 24 : 0U); }
    void setXpsr(std::uint32_t v);

    std::array<std::uint32_t, 16> r{};
    std::uint32_t otherSp = 0;
    std::uint32_t apsr = 0;             // N Z C V Q in bits 31 to 27
    std::uint32_t ipsr = 0;
    std::uint8_t itState = 0;
    bool thumb = true, primask = false, faultmask = false;
    std::uint32_t basepri = 0, control = 0;
    bool event = false, lockedUp = false;
    bool sleepsForEvent = false;        // WFE, not WFI: the event register wakes it
    bool exclusive = false;
    std::uint32_t exclusiveAt = 0;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(r, otherSp, apsr, ipsr, itState, thumb, primask, faultmask, basepri, control, event, lockedUp, sleepsForEvent, exclusive, exclusiveAt);
    }

private:
    [[nodiscard]] bool usesProcessStack() const { return !inHandler() && (control & 2U) != 0; }
    [[nodiscard]] bool holds(unsigned condition) const;
    [[nodiscard]] bool flag(unsigned bit) const { return ((apsr >> bit) & 1U) != 0; }
    void setNz(std::uint32_t value) { apsr = (apsr & 0x3FFFFFFFU) | (value & 0x80000000U) | (value == 0 ? 1U << 30 : 0U); }
    void setFlag(unsigned bit, bool on) { apsr = on ? apsr | 1U << bit : apsr & ~(1U << bit); }
    [[nodiscard]] std::uint32_t reg(unsigned n) const { return n == 15 ? pcValue_ : r[n]; }
    void put(unsigned n, std::uint32_t value);
    std::uint32_t shifted(std::uint32_t value, Shift type, unsigned amount, bool& carry) const;
    std::uint32_t addWithCarry(std::uint32_t a, std::uint32_t b, bool carry, bool setFlags);
    std::uint32_t load(std::uint32_t address, unsigned size);
    void store(std::uint32_t address, unsigned size, std::uint32_t value);
    [[noreturn]] void fail(unsigned exception, std::uint32_t status) const { throw Abort{exception, status}; }
    void branchTo(std::uint32_t address) { next_ = address & ~1U; branched_ = true; }
    // BX, POP and LDR into pc: bit 0 must say Thumb; in a handler it may be the return of an exception.
    void branchExchange(std::uint32_t address);
    void execute(const Instruction& i);
    void dataProcessing(const Instruction& i, bool setFlags);
    void memory(const Instruction& i);
    void multiple(const Instruction& i);
    void system(const Instruction& i);
    void raise(const Abort& abort);
    bool push(std::uint32_t returnAddress);
    void vector(unsigned number);
    void leave(std::uint32_t how);

    const Instruction& fetched(std::uint32_t address);

    // What wide instructions decode to, by both of their halves; right whatever is written to memory.
    struct Decoded {
        std::uint32_t halves = 0xFFFFFFFF;
        Instruction instruction = decode(0xFFFF, 0xFFFF);
    };
    static constexpr std::size_t kDecoded = 1024;
    std::vector<Decoded> decoded_ = std::vector<Decoded>(kDecoded);

    Bus& bus_;
    Exceptions& exceptions_;
    // Of the instruction in progress.
    std::uint32_t pcValue_ = 0, next_ = 0;
    bool branched_ = false, setFlags_ = false;
    int cycles_ = 1;
};

}  // namespace bramix::chip::cortexm
