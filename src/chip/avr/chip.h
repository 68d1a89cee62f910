// A whole AVR microcontroller, built from its table: core, ports, timers, UARTs, interrupts, sleep, reset.
//
// It runs ahead of the world to the earliest alarm of the queue: run() executes until then, and every access to a register
// first rings what is due up to its own cycle, so that pins and registers change in their true order.
//
// Invariant: between calls of run(), the queue's present is not later than the end of the last instruction.
// Tested by tests/chip/avr/chip_test.cpp and by the tests of each peripheral.
#pragma once

#include <array>
#include <memory>
#include <string>
#include <vector>

#include "chip/avr/cpu.h"
#include "chip/avr/external_interrupts.h"
#include "chip/avr/peripheral.h"
#include "chip/avr/ports.h"
#include "chip/avr/timer.h"
#include "chip/avr/usart.h"
#include "circuit/circuit.h"

namespace bramix::chip::avr {

// What a chip tells the world above it.
class ChipObserver {
public:
    virtual ~ChipObserver() = default;
    // A remark about what the firmware does; may repeat, the world says it once. `pc` is a byte address.
    virtual void chipNote(const char* rule, const std::string& text, std::uint32_t pc, kernel::Time at) = 0;
    // The core has entered an interrupt, or has returned from one (vector 0).
    virtual void chipInterrupt(std::uint8_t vector, kernel::Time at) = 0;
};

struct ChipOptions {
    std::uint64_t clockHz = 0;  // 0: the chip's usual crystal
    double supplyVolts = 5.0;
    std::uint32_t actor = 0;    // who this chip is in a Cause
    std::uint64_t seed = 1;     // of what SRAM holds at power-up
};

class Chip final : public IoBus, public ChipServices {
public:
    Chip(const ChipTable& table, const ChipOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, ChipObserver& observer);
    ~Chip() override;

    // Joins a port pin ("PB5") to the circuit; false where the chip has no such pin.
    bool attachPin(std::string_view name, circuit::PinId id);
    [[nodiscard]] static PortPin portPin(const ChipTable& table, std::string_view name);

    // Flash from address 0; `bootCode`: the image has code in the boot section, so erased flash runs on into it.
    void loadFlash(std::vector<std::uint16_t> words, bool bootCode);

    // A power-on reset: everything as when the supply has just come up.
    void powerOn();
    // A chip put into a world that is already running: its present cycle begins at `t`.
    void startAt(kernel::Time t) { clock_.restart(t, {cpu_.cycle}, clock_.hz()); }
    // The reset line. While it is low the chip does nothing; 14 clocks after it rises, the core starts.
    void setResetLine(bool high);

    // Executes up to the first instruction boundary at or after `until`, or to the earliest alarm. Does nothing while the
    // chip is held in reset or has faulted.
    void run(kernel::Time until);
    // Executes one instruction or enters one pending interrupt; a sleeping core sleeps on to the next alarm, at most to `until`.
    void stepInstruction(kernel::Time until);

    [[nodiscard]] const ChipTable& table() const { return table_; }
    [[nodiscard]] Cpu& cpu() { return cpu_; }
    [[nodiscard]] const Cpu& cpu() const { return cpu_; }
    [[nodiscard]] kernel::Time now() const { return clock_.timeOf({cpu_.cycle}); }
    [[nodiscard]] bool faulted() const { return cpu_.stopped(); }
    [[nodiscard]] bool inReset() const { return inReset_; }
    // The firmware can never run again: asleep or in a jump to itself, and no interrupt can come.
    [[nodiscard]] bool halted() const;
    // Stop at once when the firmware halts, instead of letting the time pass.
    void stopWhenHalted(bool stop) { cpu_.stopAtHalt = stop; }

    [[nodiscard]] std::size_t usartCount() const { return usarts_.size(); }
    [[nodiscard]] const Usart& usart(std::size_t index) const { return *usarts_[index]; }

    // Reads a register as a debugger does: without side effects where the peripheral allows it.
    [[nodiscard]] std::uint8_t peek(std::uint16_t address) const;

    // IoBus
    std::uint8_t ioRead(std::uint16_t address, std::int64_t cycle) override;
    void ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle) override;
    void interruptsEnabled(std::int64_t cycle) override;
    void sleepInstruction(std::int64_t cycle) override;
    void watchdogReset(std::int64_t cycle) override;
    void storeProgramMemory(std::int64_t cycle) override;
    void erasedFlash(std::int64_t cycle) override;

    // ChipServices
    void setInterrupt(std::uint8_t vector, bool flag, bool enabled) override;
    [[nodiscard]] const kernel::ClockDomain& clock() const override { return clock_; }
    [[nodiscard]] std::int64_t cycleNow() const override { return cpu_.cycle; }
    [[nodiscard]] kernel::EventQueue& queue() override { return queue_; }
    [[nodiscard]] Ports& ports() override { return *ports_; }
    [[nodiscard]] const Ports& ports() const { return *ports_; }
    void note(const char* rule, const std::string& text) override;
    [[nodiscard]] circuit::Cause cause() const override { return {options_.actor, cpu_.current * 2}; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(cpu_, clock_, pending_, enabledVectors_, inReset_, resetLine_, mcusr_, mcucr_, smcr_, gtccr_, plain_, noted_, shared_, own_, ioClockStopped_);
        for (const auto& p : peripherals_) {
            if constexpr (Archive::kLoading)
                p->load(ar);
            else
                p->save(ar);
        }
    }

private:
    // Sleep modes by SM2:0 (table 10-2), as far as they differ in what goes on running.
    [[nodiscard]] Sleep sleepMode() const;
    void own(Peripheral& p, std::initializer_list<std::uint16_t> addresses);
    void enterPendingInterrupt();
    void wake();
    void resetCore(std::uint8_t cause);
    void takeReset();
    void runSlices(kernel::Time until);
    void catchUp(std::int64_t cycle);
    void afterAccess();
    [[nodiscard]] bool interruptDue() const { return pending_ != 0 && (cpu_.sreg & kI) != 0 && !cpu_.holdInterrupts; }
    [[nodiscard]] std::int64_t targetCycle(kernel::Time until) const;
    std::uint8_t readPlain(std::uint16_t address, std::int64_t cycle);
    void writePlain(std::uint16_t address, std::uint8_t value, std::int64_t cycle);
    void writePrescalerControl(std::uint8_t value, std::int64_t cycle);
    void noteUnmodelled(std::uint16_t address);

    const ChipTable& table_;
    const ChipOptions options_;
    kernel::EventQueue& queue_;
    ChipObserver& observer_;
    kernel::ClockDomain clock_;
    Cpu cpu_;
    std::unique_ptr<Ports> ports_;
    Prescaler shared_;
    Prescaler own_;
    std::vector<std::unique_ptr<Timer>> timers_;
    std::vector<std::unique_ptr<Usart>> usarts_;
    std::unique_ptr<ExternalInterrupts> external_;
    std::vector<Peripheral*> peripherals_;
    std::vector<Peripheral*> ownerAt_;    // by data address; null is plain storage
    std::vector<Peripheral*> ownerOf_;    // by vector
    std::vector<const RegisterRow*> rowAt_;

    std::uint64_t pending_ = 0;         // vectors whose flag and enable bit are set
    std::uint64_t enabledVectors_ = 0;  // vectors whose enable bit is set
    bool inReset_ = false;
    bool resetLine_ = true;
    bool resetDue_ = false;
    bool executing_ = false;
    std::uint8_t mcusr_ = 0, mcucr_ = 0, smcr_ = 0, gtccr_ = 0;
    std::vector<std::uint8_t> plain_;
    std::vector<std::uint8_t> noted_;
    bool ioClockStopped_ = false;
    bool ranOverErased_ = false;
};

}  // namespace bramix::chip::avr
