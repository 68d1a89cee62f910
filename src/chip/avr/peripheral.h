// What every peripheral is to the chip that holds it, and what the chip is to a peripheral.
#pragma once

#include <cstdint>
#include <string>

#include "chip/avr/table.h"
#include "circuit/circuit.h"
#include "kernel/archive.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"

namespace bramix::chip::avr {

class Ports;

// The chip as its peripherals see it. Cycles are the chip's clock cycles.
class ChipServices {
public:
    virtual ~ChipServices() = default;
    // A source's flag and enable bit together decide whether its vector is pending.
    virtual void setInterrupt(std::uint8_t vector, bool flag, bool enabled) = 0;
    [[nodiscard]] virtual const kernel::ClockDomain& clock() const = 0;
    [[nodiscard]] virtual std::int64_t cycleNow() const = 0;  // of the access or event being handled
    [[nodiscard]] virtual kernel::EventQueue& queue() = 0;
    [[nodiscard]] virtual Ports& ports() = 0;
    // Something worth telling once a run; `rule` is a stable name.
    virtual void note(const char* rule, const std::string& text) = 0;
    // Who drives the pins just now: this chip, and the code that it executes.
    [[nodiscard]] virtual circuit::Cause cause() const = 0;
};

class Peripheral {
public:
    virtual ~Peripheral() = default;
    // A register by data address, at the cycle of the access (cpu.h says which cycle that is).
    virtual std::uint8_t read(std::uint16_t address, std::int64_t cycle) = 0;
    virtual void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) = 0;
    virtual void reset() = 0;
    // The core has entered this vector: a flag that clears itself does so now.
    virtual void interruptTaken(std::uint8_t /*vector*/) {}
    // The clock of I/O modules stops in deep sleep and goes on at wake-up.
    virtual void clockStopped(std::int64_t /*cycle*/) {}
    virtual void clockStarted(std::int64_t /*cycle*/) {}
    virtual void save(kernel::SaveArchive& ar) = 0;
    virtual void load(kernel::LoadArchive& ar) = 0;
};

// Sends both directions of the archive to the one state() of the class.
template <class Self>
class StatefulPeripheral : public Peripheral {
public:
    void save(kernel::SaveArchive& ar) override { static_cast<Self&>(*this).state(ar); }
    void load(kernel::LoadArchive& ar) override { static_cast<Self&>(*this).state(ar); }
};

}  // namespace bramix::chip::avr
