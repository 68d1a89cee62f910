// What a peripheral is to its microcontroller, and what the microcontroller is to it.
//
// Registers are words at offsets from a base; narrower accesses come as words (the bus bridge repeats what is written, RM0008 2.1). Time is counted in cycles of the core's clock (HCLK); buses
// and timers run at a whole fraction of it.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "circuit/circuit.h"
#include "kernel/archive.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"

namespace bramix::chip::cortexm {

class CycleAlarm;

// Which bus a peripheral hangs on: that decides its clock and its enable bit.
enum class BusOf : std::uint8_t { ahb, apb1, apb2 };

class Services {
public:
    virtual ~Services() = default;
    [[nodiscard]] virtual const kernel::ClockDomain& clock() const = 0;
    [[nodiscard]] virtual std::int64_t cycleNow() const = 0;  // of the access or event being handled
    [[nodiscard]] virtual kernel::EventQueue& queue() = 0;
    // Cycles of the core for one of the bus's clock, and for one of its timers'.
    [[nodiscard]] virtual std::int64_t cyclesPerBusClock(BusOf bus) const = 0;
    [[nodiscard]] virtual std::int64_t cyclesPerTimerClock(BusOf bus) const = 0;
    // An interrupt request, by its number from 0; it pends while it stands.
    virtual void setInterrupt(unsigned number, bool high) = 0;
    // Something worth telling once a run.
    virtual void remark(const char* rule, const std::string& text) = 0;
    // Code address of the instruction in progress.
    [[nodiscard]] virtual std::uint32_t codeNow() const = 0;
    virtual void adopt(CycleAlarm& alarm) = 0;
    // A request to the DMA controller, by its channel from 0; it stands until it is taken back.
    virtual void requestDma(unsigned channel, bool high) = 0;
    // Memory and registers as another master than the core gets at them, 1, 2 or 4 bytes; nothing where nothing answers.
    [[nodiscard]] virtual std::optional<std::uint32_t> masterRead(const char* master, std::uint32_t address, unsigned size) = 0;
    virtual bool masterWrite(const char* master, std::uint32_t address, unsigned size, std::uint32_t value) = 0;
};

// An alarm at a cycle of the core's clock; it follows the clock when its frequency changes.
class CycleAlarm {
public:
    CycleAlarm(Services& chip, std::function<void(std::int64_t cycle)> due) : chip_(chip), alarm_(chip.queue(), [this, due = std::move(due)](kernel::Time) {
        const std::int64_t at = due_;
        due_ = kIdle;
        due(at);
    })
    {
        chip.adopt(*this);
    }
    void arm(std::int64_t cycle)
    {
        due_ = cycle;
        alarm_.arm(chip_.clock().timeOf({cycle}));
    }
    void disarm()
    {
        due_ = kIdle;
        alarm_.disarm();
    }
    [[nodiscard]] bool armed() const { return due_ != kIdle; }
    [[nodiscard]] std::int64_t due() const { return due_; }
    void followClock()
    {
        if (armed())
            alarm_.arm(chip_.clock().timeOf({due_}));
    }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(due_, alarm_);
    }

private:
    static constexpr std::int64_t kIdle = INT64_MIN;
    Services& chip_;
    kernel::Alarm alarm_;
    std::int64_t due_ = kIdle;
};

class Peripheral {
public:
    virtual ~Peripheral() = default;
    // As an instruction reads: it may change something (clear a flag).
    virtual std::uint32_t read(std::uint32_t offset) { return peek(offset); }
    // As a debugger looks, at a cycle.
    [[nodiscard]] virtual std::uint32_t peek(std::uint32_t offset) const = 0;
    virtual void write(std::uint32_t offset, std::uint32_t value) = 0;
    virtual void reset() = 0;
    virtual void clockChanged() {}
    virtual void save(kernel::SaveArchive& ar) = 0;
    virtual void load(kernel::LoadArchive& ar) = 0;
};

template <class Self>
class StatefulPeripheral : public Peripheral {
public:
    void save(kernel::SaveArchive& ar) override { static_cast<Self&>(*this).state(ar); }
    void load(kernel::LoadArchive& ar) override { static_cast<Self&>(*this).state(ar); }
};

}  // namespace bramix::chip::cortexm
