// The core of an ARM926EJ-S: ARM and Thumb of ARMv5TE, seven modes with banked registers, exceptions, system control coprocessor, MMU with its TLB, and the plain stepper that is the
// truth of what each instruction does (ARM DDI 0100I; ARM DDI 0198E; cycles: ARM DDI 0222B, chapter 8, without memory's waits).
//
// Caches are functional: what is written is seen by everybody at once, and their operations are taken and have no effect.
// Data aborts leave the base register as it was (DDI 0198E 2.3.6). LDR of an unaligned word rotates, as version 5 does.
// Invariant: between steps this structure is the whole state; r[15] is the address of the next instruction.
// Tested by tests/chip/arm9/core_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "chip/arm9/core/isa.h"
#include "chip/base/page_map.h"
#include "chip/base/running_chip.h"

namespace bramix::chip::arm9 {

// Modes by the lowest five bits of a status register.
inline constexpr std::uint32_t kUser = 0x10, kFiq = 0x11, kIrq = 0x12, kSupervisor = 0x13, kAbort = 0x17, kUndefined = 0x1B, kSystem = 0x1F;
// Exceptions by their number in Device::exceptions: the row of the vector table.
enum Vector : unsigned { kResetVector = 0, kUndefinedVector = 1, kCallVector = 2, kPrefetchVector = 3, kDataVector = 4, kIrqVector = 6, kFiqVector = 7 };
inline constexpr std::uint32_t kN = 1U << 31, kZ = 1U << 30, kC = 1U << 29, kV = 1U << 28, kQ = 1U << 27, kIrqOff = 0x80, kFiqOff = 0x40, kThumb = 0x20;

// What stops an instruction: where, and the fault status (DDI 0198E table 3-9).
struct Abort {
    std::uint32_t address = 0, status = 0;
    bool prefetch = false;
};

// Physical memory that is not plain. Throws Abort with status 8 (external abort) where nothing answers; the core fills in the rest.
class Bus {
public:
    virtual ~Bus() = default;
    virtual std::uint32_t fetch(std::uint32_t address, unsigned size) = 0;
    virtual std::uint32_t read(std::uint32_t address, unsigned size, std::int64_t cycle) = 0;
    virtual void write(std::uint32_t address, unsigned size, std::uint32_t value, std::int64_t cycle) = 0;
    // Interrupts may be due now that were not.
    virtual void interruptsEnabled() = 0;
};

class Cpu : public Progress {
public:
    Cpu(Bus& bus, const PageMap& map) : bus_(bus), map_(map) {}

    void reset(std::uint32_t entry);
    void step();
    // Enters an interrupt's handler.
    void interrupt(Vector which);
    [[nodiscard]] std::uint32_t pc() const { return r[15]; }
    [[nodiscard]] bool thumb() const { return (cpsr & kThumb) != 0; }
    // A register of another mode (r8 to r14), and a mode's SPSR; of the present one too.
    [[nodiscard]] std::uint32_t registerOf(std::uint32_t mode, unsigned n) const;
    void setRegisterOf(std::uint32_t mode, unsigned n, std::uint32_t value);
    [[nodiscard]] std::uint32_t spsrOf(std::uint32_t mode) const { return spsr_[bankOf(mode)]; }
    void setSpsrOf(std::uint32_t mode, std::uint32_t value) { spsr_[bankOf(mode)] = value; }
    void setCpsr(std::uint32_t value);
    // Where a virtual address lies, without faults or side effects; nothing where it is not mapped.
    [[nodiscard]] std::optional<std::uint32_t> physical(std::uint32_t address) const;
    [[nodiscard]] bool mmuOn() const { return (control & 1U) != 0; }

    std::array<std::uint32_t, 16> r{};
    std::uint32_t cpsr = kSupervisor | kIrqOff | kFiqOff;
    // System control coprocessor.
    std::uint32_t control = 0x00050078, tableBase = 0, domains = 0, dataStatus = 0, fetchStatus = 0, faultAddress = 0, processId = 0, contextId = 0;
    std::uint32_t handlers = 0;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(r, cpsr, banked_, spsr_, control, tableBase, domains, dataStatus, fetchStatus, faultAddress, processId, contextId, handlers);
        for (Entry& e : tlb_)
            ar(e.tag, e.physical, e.rights);
    }

private:
    enum class Wants : std::uint8_t { fetch, read, write };
    struct Entry {
        std::uint32_t tag = 1;       // virtual page; 1: none
        std::uint32_t physical = 0;
        std::uint8_t rights = 0;     // bit 0 read, 1 write by privileged code; 2, 3 by a user's
    };
    static constexpr std::size_t kEntries = 64;

    [[nodiscard]] static unsigned bankOf(std::uint32_t mode);
    void switchMode(std::uint32_t mode);
    [[nodiscard]] bool privileged() const { return (cpsr & 0x1FU) != kUser; }
    [[nodiscard]] bool holds(std::uint32_t condition) const;
    [[nodiscard]] std::uint32_t translate(std::uint32_t address, Wants wants, bool privileged);
    // A walk of the tables; the status is a fault's, or 0.
    struct Walk {
        std::uint32_t physical = 0, status = 0;
        std::uint8_t rights = 0;
        bool section = false;
    };
    [[nodiscard]] Walk walk(std::uint32_t modified) const;
    [[nodiscard]] std::uint32_t tableWord(std::uint32_t physical) const;
    [[nodiscard]] std::uint32_t modified(std::uint32_t address) const { return address < 0x02000000U ? address | processId : address; }

    std::uint32_t fetched();
    std::uint32_t load(std::uint32_t address, unsigned size, bool asUser = false);
    void store(std::uint32_t address, unsigned size, std::uint32_t value, bool asUser = false);
    void enter(Vector which, std::uint32_t mode, std::uint32_t returnAddress, bool fiqOff);

    void executeArm(std::uint32_t w);
    void executeThumb(std::uint16_t half);
    void dataProcessing(std::uint32_t w);
    std::uint32_t shifterOperand(std::uint32_t w, bool& carry) const;
    void multiply(std::uint32_t w);
    void miscellaneous(std::uint32_t w);
    void signedMultiply(std::uint32_t w);
    void single(std::uint32_t w);
    void extra(std::uint32_t w);
    void block(std::uint32_t w);
    void swap(std::uint32_t w);
    void statusWrite(std::uint32_t w, std::uint32_t value);
    void coprocessor(std::uint32_t w);
    [[noreturn]] void undefined();
    void branchTo(std::uint32_t address) { next_ = address & ((cpsr & kThumb) != 0 ? ~1U : ~3U); branched_ = true; }
    void branchExchange(std::uint32_t address);
    void setNz(std::uint32_t value) { cpsr = (cpsr & ~(kN | kZ)) | (value & kN) | (value == 0 ? kZ : 0U); }
    void setFlag(std::uint32_t flag, bool on) { cpsr = on ? cpsr | flag : cpsr & ~flag; }
    std::uint32_t addWithCarry(std::uint32_t a, std::uint32_t b, bool carry, bool flags);
    std::uint32_t saturated(std::int64_t value);
    // Returning from an exception: CPSR from SPSR.
    void restoreStatus();

    Bus& bus_;
    const PageMap& map_;
    std::array<std::array<std::uint32_t, 7>, 6> banked_{};  // r8 to r14 by bank: user, FIQ, IRQ, supervisor, abort, undefined
    std::array<std::uint32_t, 6> spsr_{};
    std::array<Entry, kEntries> tlb_{};
    std::uint32_t next_ = 0;
    int cycles_ = 1;
    bool branched_ = false;
};

}  // namespace bramix::chip::arm9
