// What every peripheral is to the chip that holds it, and what the chip is to a peripheral.
//
// All I/O registers live in one register file, which the chip owns, saves and clears at reset. A peripheral claims the registers that
// it has a part in; it is asked to bring them up to date before they are read, and is told of every write instead of the file. Several may share a
// register (the ATmega32's TIMSK): each stores only its own bits.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "chip/avr/names.h"
#include "chip/avr/table.h"
#include "circuit/circuit.h"
#include "kernel/archive.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"

namespace bramix::chip::avr {

class Ports;
class Peripheral;

// Bits of MCUSR.
enum ResetCause : std::uint8_t { kPowerOnReset = 1, kExternalReset = 2, kBrownOutReset = 4, kWatchdogReset = 8, kJtagReset = 16 };

// The chip as its peripherals see it. Cycles are the chip's clock cycles.
class ChipServices {
public:
    explicit ChipServices(const ChipTable& table) : table_(table), names_(table), registers_(table.ioEnd) {}
    virtual ~ChipServices() = default;

    [[nodiscard]] const ChipTable& table() const { return table_; }
    [[nodiscard]] const Names& names() const { return names_; }

    // The register file.
    [[nodiscard]] std::uint8_t& reg(std::uint16_t address) { return registers_[address]; }
    [[nodiscard]] bool is(BitRef bit) const { return (registers_[bit.address] & bit.mask) != 0; }
    void put(BitRef bit, bool on)
    {
        std::uint8_t& r = registers_[bit.address];
        r = static_cast<std::uint8_t>(on ? r | bit.mask : r & ~bit.mask);
    }

    // To be called while a peripheral is made.
    virtual void claim(Peripheral& who, std::uint16_t address) = 0;
    virtual void claimVector(Peripheral& who, std::uint8_t vector) = 0;
    // While this bit is set, the peripheral's clock stands and its registers take no writes.
    virtual void claimPower(Peripheral& who, BitRef bit) = 0;

    // A source's flag and enable bit together decide whether its vector is pending.
    virtual void setInterrupt(std::uint8_t vector, bool flag, bool enabled) = 0;
    // Somebody inside waits for this vector's flag although its interrupt is off.
    [[nodiscard]] bool awaited(std::uint8_t vector) const { return vector != 0 && vector == awaited_; }
    // From now on exactly this vector's flag starts conversions; 0: none.
    virtual void awaitTrigger(std::uint8_t vector) = 0;
    // The output of the analog comparator, for input capture.
    virtual void comparatorChanged(bool level, kernel::Time at) = 0;

    [[nodiscard]] virtual const kernel::ClockDomain& clock() const = 0;
    [[nodiscard]] virtual std::int64_t cycleNow() const = 0;  // of the access or event being handled
    [[nodiscard]] virtual kernel::EventQueue& queue() = 0;
    [[nodiscard]] virtual Ports& ports() = 0;
    [[nodiscard]] virtual double supplyVolts() const = 0;
    // A fuse by name; the field's largest value where the chip has none of this name (unprogrammed).
    [[nodiscard]] virtual unsigned fuse(std::string_view name) const = 0;
    // The core stands still for so many cycles after the instruction in progress.
    virtual void haltCore(int cycles) = 0;
    virtual void resetBy(ResetCause cause) = 0;
    // The frequency of the system clock, from this instant on.
    virtual void setClock(std::uint64_t hz) = 0;

    // Something worth telling once a run; `rule` is a stable name.
    virtual void note(const char* rule, const std::string& text) = 0;
    // Who drives the pins just now: this chip, and the code that it executes.
    [[nodiscard]] virtual circuit::Cause cause() const = 0;
    // Where the word address of the instruction in progress stands: the code of cause(), for those who ask at every edge.
    [[nodiscard]] virtual const std::uint32_t& codeWord() const = 0;
    // Which bits of the port that it reads the instruction in progress, and what follows it, look at; nothing where that is not known.
    [[nodiscard]] virtual std::optional<std::uint8_t> lookedBits() const = 0;

protected:
    const ChipTable& table_;
    const Names names_;
    std::vector<std::uint8_t> registers_;
    std::uint8_t awaited_ = 0;  // the vector whose flag starts conversions
};

// A flag, its enable bit, and the vector that both together raise.
struct InterruptSource {
    std::uint8_t vector = 0;
    BitRef flag;
    BitRef enable;
};

// An alarm at a cycle of the chip's clock: follows the clock when its frequency changes, and waits while the peripheral's clock stands.
class CycleAlarm {
public:
    CycleAlarm(Peripheral& owner, ChipServices& chip, std::function<void(std::int64_t cycle)> callback);

    void arm(std::int64_t cycle)
    {
        due_ = cycle;
        if (!paused_)
            alarm_.arm(chip_.clock().timeOf({cycle}));
    }
    void disarm()
    {
        due_ = kIdle;
        alarm_.disarm();
    }
    [[nodiscard]] bool armed() const { return due_ != kIdle; }
    [[nodiscard]] std::int64_t due() const { return due_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(due_, pausedAt_, paused_, alarm_);
    }

private:
    friend class Peripheral;
    static constexpr std::int64_t kIdle = INT64_MIN;

    void followClock()
    {
        if (armed() && !paused_)
            alarm_.arm(chip_.clock().timeOf({due_}));
    }
    void pause(std::int64_t cycle)
    {
        paused_ = true;
        pausedAt_ = cycle;
        alarm_.disarm();
    }
    void resume(std::int64_t cycle)
    {
        paused_ = false;
        if (armed())
            arm(due_ + cycle - pausedAt_);
    }

    ChipServices& chip_;
    std::function<void(std::int64_t)> callback_;
    kernel::Alarm alarm_;
    std::int64_t due_ = kIdle;
    std::int64_t pausedAt_ = 0;
    bool paused_ = false;
};

class Peripheral {
public:
    explicit Peripheral(ChipServices& chip) : chip_(chip) {}
    virtual ~Peripheral() = default;
    Peripheral(const Peripheral&) = delete;
    Peripheral& operator=(const Peripheral&) = delete;

    // A register by data address, at the cycle of the access (cpu.h says which cycle that is). `value` has only bits that exist.
    virtual std::uint8_t read(std::uint16_t address, std::int64_t /*cycle*/) { return chip_.reg(address); }
    virtual void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) = 0;
    // What a debugger sees: no side effects.
    virtual std::uint8_t peek(std::uint16_t address, std::int64_t /*cycle*/) { return chip_.reg(address); }
    // The register file has been cleared.
    virtual void reset() = 0;
    // The core has entered this vector: a flag that clears itself does so now.
    virtual void interruptTaken(std::uint8_t /*vector*/) {}
    // The deepest sleep in which its clock still runs.
    [[nodiscard]] virtual Sleep runsIn() const { return Sleep::idle; }
    // The frequency of the system clock has changed; cycles count on.
    virtual void clockChanged(std::int64_t /*cycle*/)
    {
        for (CycleAlarm* a : alarms_)
            a->followClock();
    }
    // Who awaits a vector's flag has changed.
    virtual void awaitedChanged() {}
    virtual void save(kernel::SaveArchive& ar) = 0;
    virtual void load(kernel::LoadArchive& ar) = 0;

    enum Stop : std::uint8_t { kBySleep = 1, kByPowerReduction = 2 };
    void stop(Stop why, std::int64_t cycle)
    {
        if (stops_ == 0)
            clockStopped(cycle);
        stops_ |= why;
    }
    // Power-on and reset end every stop without the peripheral's being told.
    void forgetStops()
    {
        stops_ = 0;
        for (CycleAlarm* a : alarms_)
            a->paused_ = false;
    }
    void start(Stop why, std::int64_t cycle)
    {
        if (stops_ == 0)
            return;
        stops_ = static_cast<std::uint8_t>(stops_ & ~why);
        if (stops_ == 0)
            clockStarted(cycle);
    }
    [[nodiscard]] bool stoppedBy(Stop why) const { return (stops_ & why) != 0; }

protected:
    // The clock of this peripheral stops in sleep or by power reduction, and goes on.
    virtual void clockStopped(std::int64_t /*cycle*/) {}
    virtual void clockStarted(std::int64_t /*cycle*/) {}

    void report(const InterruptSource& s) { chip_.setInterrupt(s.vector, chip_.is(s.flag), chip_.is(s.enable)); }
    // Stores those bits of a register that are this peripheral's.
    void store(std::uint16_t address, std::uint8_t value, std::uint8_t mask = 0xFF)
    {
        std::uint8_t& r = chip_.reg(address);
        r = static_cast<std::uint8_t>((r & ~mask) | (value & mask));
    }
    [[nodiscard]] kernel::Time timeOf(std::int64_t cycle) const { return chip_.clock().timeOf({cycle}); }
    [[nodiscard]] std::int64_t cycleOf(kernel::Time at) const { return chip_.clock().firstCycleAtOrAfter(at).n; }
    // The first clock edge at which a change of a pin has passed the synchroniser: it samples at falling edges, half a cycle before.
    [[nodiscard]] std::int64_t synchronised(kernel::Time changed) const { return cycleOf(changed + chip_.clock().span(1) / 2); }

    ChipServices& chip_;
    std::uint8_t stops_ = 0;

private:
    friend class CycleAlarm;
    std::vector<CycleAlarm*> alarms_;
};

inline CycleAlarm::CycleAlarm(Peripheral& owner, ChipServices& chip, std::function<void(std::int64_t)> callback)
    : chip_(chip), callback_(std::move(callback)), alarm_(chip.queue(), [this](kernel::Time) {
          const std::int64_t cycle = due_;
          due_ = kIdle;
          callback_(cycle);
      })
{
    owner.alarms_.push_back(this);
}

// Sends both directions of the archive to the one state() of the class.
template <class Self>
class StatefulPeripheral : public Peripheral {
public:
    using Peripheral::Peripheral;
    void save(kernel::SaveArchive& ar) override
    {
        ar(stops_);
        static_cast<Self&>(*this).state(ar);
    }
    void load(kernel::LoadArchive& ar) override
    {
        ar(stops_);
        static_cast<Self&>(*this).state(ar);
    }
};

}  // namespace bramix::chip::avr
