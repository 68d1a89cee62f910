// What a peripheral is to its microcontroller, and what the microcontroller is to it.
//
// Registers are words at offsets from a base; narrower accesses come as words (the bus bridge repeats what is written, RM0008 2.1). Time is counted in cycles of the core's clock (HCLK); buses
// and timers run at a whole fraction of it.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "chip/base/cycle_alarm.h"
#include "chip/base/word_peripheral.h"
#include "circuit/circuit.h"
#include "kernel/archive.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"

namespace bramix::chip::cortexm {

// Which bus a peripheral hangs on: that decides its clock and its enable bit.
enum class BusOf : std::uint8_t { ahb, apb1, apb2 };

class Services : public virtual CycleHost {
public:
    [[nodiscard]] virtual std::int64_t cycleNow() const = 0;  // of the access or event being handled
    // Cycles of the core for one of the bus's clock, and for one of its timers'.
    [[nodiscard]] virtual std::int64_t cyclesPerBusClock(BusOf bus) const = 0;
    [[nodiscard]] virtual std::int64_t cyclesPerTimerClock(BusOf bus) const = 0;
    // An interrupt request, by its number from 0; it pends while it stands.
    virtual void setInterrupt(unsigned number, bool high) = 0;
    // Something worth telling once a run.
    virtual void remark(const char* rule, const std::string& text) = 0;
    // Code address of the instruction in progress.
    [[nodiscard]] virtual std::uint32_t codeNow() const = 0;
    // A request to the DMA controller, by its channel from 0; it stands until it is taken back.
    virtual void requestDma(unsigned channel, bool high) = 0;
    // Memory and registers as another master than the core gets at them, 1, 2 or 4 bytes; nothing where nothing answers.
    [[nodiscard]] virtual std::optional<std::uint32_t> masterRead(const char* master, std::uint32_t address, unsigned size) = 0;
    virtual bool masterWrite(const char* master, std::uint32_t address, unsigned size, std::uint32_t value) = 0;
};

using Peripheral = WordPeripheral;
template <class Self>
using StatefulPeripheral = StatefulWords<Self>;

}  // namespace bramix::chip::cortexm
