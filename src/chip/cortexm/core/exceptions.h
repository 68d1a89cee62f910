// Exceptions of an ARMv7-M core: which are pending, enabled and active, their priorities, and the registers of NVIC and system control block that say so
// (ARM DDI 0403E, B1.5, B3.2, B3.4).
//
// Priorities are the manual's: lower is more urgent; reset -3, NMI -2, hard fault -1, others 0 to 255 of which this implementation keeps the upper four bits.
// Tested by tests/chip/cortexm/core_test.cpp.
#pragma once

#include <array>
#include <algorithm>
#include <bitset>
#include <cstdint>
#include <optional>
#include <vector>

namespace bramix::chip::cortexm {

enum : unsigned { kReset = 1, kNmi = 2, kHardFault = 3, kMemManage = 4, kBusFault = 5, kUsageFault = 6, kSvCall = 11, kDebugMonitor = 12, kPendSv = 14, kSysTick = 15, kFirstInterrupt = 16 };

// Bits of the configurable fault status register (B3.2.15).
enum : std::uint32_t {
    kInstructionAccess = 1U << 0, kDataAccess = 1U << 1, kMemUnstack = 1U << 3, kMemStack = 1U << 4, kMemAddressValid = 1U << 7,
    kInstructionBus = 1U << 8, kPreciseBus = 1U << 9, kBusUnstack = 1U << 11, kBusStack = 1U << 12, kBusAddressValid = 1U << 15,
    kUndefinedInstruction = 1U << 16, kInvalidState = 1U << 17, kInvalidPc = 1U << 18, kNoCoprocessor = 1U << 19, kUnaligned = 1U << 24, kDivideByZero = 1U << 25,
};

class Exceptions {
public:
    static constexpr unsigned kMost = 96;  // 80 interrupts

    explicit Exceptions(unsigned interrupts) : count_(kFirstInterrupt + interrupts) { reset(); }

    void reset();
    [[nodiscard]] unsigned count() const { return count_; }

    [[nodiscard]] bool pending(unsigned n) const { return pending_[n]; }
    [[nodiscard]] bool active(unsigned n) const { return active_[n]; }
    [[nodiscard]] bool enabled(unsigned n) const { return enabled_[n]; }
    void setPending(unsigned n, bool on = true) { pending_[n] = on; }
    // A level-sensitive request: pends while it stands, again after its handler where it still does.
    void setLine(unsigned n, bool high)
    {
        if (high && !line_[n])
            pending_[n] = true;
        line_[n] = high;
    }
    void activate(unsigned n)
    {
        pending_[n] = false;
        active_[n] = true;
    }
    void deactivate(unsigned n)
    {
        active_[n] = false;
        if (line_[n])
            pending_[n] = true;
    }
    [[nodiscard]] std::size_t activeCount() const { return active_.count(); }

    // Of the group that preempts; lower is more urgent.
    [[nodiscard]] int priorityOf(unsigned n) const;
    // At which the core works, its masks taken into account (B1.5.4).
    [[nodiscard]] int executionPriority(bool primask, bool faultmask, unsigned basepri) const;
    // The most urgent that is pending and enabled; 0 where there is none.
    [[nodiscard]] unsigned next() const;
    // Whether one could preempt just now.
    [[nodiscard]] unsigned due(int priority) const
    {
        if (pending_.none())
            return 0;
        const unsigned n = next();
        return n != 0 && priorityOf(n) < priority ? n : 0;
    }
    [[nodiscard]] bool anyPending() const { return (pending_ & enabled_).any(); }

    // Registers by address: NVIC from 0xE000E100, system control from 0xE000ED00; nothing for others. Words; narrower writes of priorities come as words with the rest as it was.
    [[nodiscard]] std::optional<std::uint32_t> read(std::uint32_t address) const;
    bool write(std::uint32_t address, std::uint32_t value);

    std::uint32_t vectorTable = 0;
    std::uint32_t control = 0x200;        // CCR: STKALIGN
    std::uint32_t systemControl = 0;      // SCR
    std::uint32_t faultStatus = 0, hardFaultStatus = 0, memAddress = 0, busAddress = 0;
    bool resetWanted = false;             // SYSRESETREQ

    template <class Archive>
    void state(Archive& ar)
    {
        ar(priorities_, group_, vectorTable, control, systemControl, faultStatus, hardFaultStatus, memAddress, busAddress, resetWanted);
        for (auto* set : {&pending_, &enabled_, &active_, &line_}) {
            std::array<std::uint8_t, kMost> plain{};
            for (unsigned n = 0; n < kMost; ++n)
                plain[n] = (*set)[n] ? 1 : 0;
            ar(plain);
            for (unsigned n = 0; n < kMost; ++n)
                (*set)[n] = plain[n] != 0;
        }
    }

private:
    [[nodiscard]] std::uint32_t word(const std::bitset<kMost>& set, unsigned index) const;
    void setWord(std::bitset<kMost>& set, unsigned index, std::uint32_t value, bool to);

    unsigned count_;
    std::bitset<kMost> pending_, enabled_, active_, line_;
    std::array<std::uint8_t, kMost> priorities_{};
    std::uint32_t group_ = 0;  // PRIGROUP
};

}  // namespace bramix::chip::cortexm
