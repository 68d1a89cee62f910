// A microcontroller at work, of whatever family: what the bench wires, supplies, loads and runs. Nothing here is called once an instruction.
//
// It runs ahead of the world to the earliest alarm of the queue: run() executes until then, and every access to a register first lets what is due up to its own cycle happen, so
// that pins and registers change in their true order.
// Invariant: between calls of run(), the queue's present is not later than the end of the last instruction.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "chip/code_time.h"
#include "chip/cycle_counts.h"
#include "chip/debug_port.h"
#include "chip/firmware.h"
#include "circuit/circuit.h"
#include "kernel/archive.h"
#include "kernel/time.h"

namespace bramix::chip {

enum class Weight : std::uint8_t { note, warning, error };

// What a microcontroller tells the bench around it.
class McuObserver {
public:
    virtual ~McuObserver() = default;
    // A remark about what the firmware does, by a stable rule name; may repeat, the bench says it once.
    virtual void remark(Weight weight, const char* rule, const std::string& text, std::uint32_t code, kernel::Time at) = 0;
    // The core has entered an exception's handler, or has returned from the innermost.
    virtual void exceptionEntered(unsigned number, kernel::Time at) = 0;
    virtual void exceptionReturned(kernel::Time at) = 0;
    // It has been reset; `cause` as the family numbers them.
    virtual void resetTaken(unsigned /*cause*/, kernel::Time /*at*/) {}
    // The core sleeps, and an exception has just become due that wakes it.
    virtual void woken() {}
    // What it takes from its supply has changed; told in the midst of an instruction.
    virtual void loadChanged() {}
    // Firmware reads an input that nothing drives, or whose voltage lies between the thresholds.
    virtual void uncertainRead(circuit::PinId /*pin*/, bool /*floats*/, circuit::Thresholds /*thresholds*/) {}
};

struct McuOptions {
    std::uint64_t clockHz = 0;       // of the crystal or clock at its clock input; 0: the chip's usual one
    bool hasCrystal = true;          // something oscillates there
    OptionBytes options{};           // empty: those of a chip on nothing (Device::ideal)
    bool startsAtOnce = true;        // an ideal reset: no start-up time at power-up
    double supplyVolts = 5.0;
    double pullUpOhms = 0;           // of the pins' pull-ups; 0: the usual one
    std::uint32_t actor = 0;         // who this chip is in a Cause
    std::uint64_t seed = 1;          // of what RAM holds at power-up
};

// How a serial line is set up just now.
struct SerialFormat {
    bool transmits = false, receives = false;
    kernel::Duration bit{};
    double baud = 0;
    unsigned dataBits = 8;
    enum class Parity : std::uint8_t { none, even, odd } parity = Parity::none;
    unsigned stopBits = 1;
};

// What an asynchronous serial port has to do with the bench: its lines are the pins.
struct SerialPort {
    std::string name;  // "uart0"
    circuit::PinId transmit = circuit::kNoPin, receive = circuit::kNoPin;
    std::string alias{};  // as the maker calls it: "usart1"
};

// What a conversion of an analog input would give just now, if its source had time enough.
struct AnalogReading {
    double reference = 0;  // volts
    int count = 0;
    int fullScale = 1024;  // counts
};

// A pin as the firmware has set it up.
struct PinStatus {
    std::string name;      // "PB5"
    bool output = false;   // whoever decided it: the port, or what has taken the pin
    bool pullUp = false;
    bool latch = false;    // what the port would drive
    bool level = false;    // at the pin, now
    bool floats = false;   // nothing drives it
    bool digital = true;   // false: its digital input is switched off
    std::string function;  // what has the pin just now: "OC1A", "TXD", "SDA"; empty: it is a port pin
    std::uint32_t setBy = UINT32_MAX;  // code address that set up what has the pin
    bool operator==(const PinStatus&) const = default;
};

class Mcu : public DebugPort {
public:
    // Wiring, before power-on.
    // Joins a pin of the package to the circuit; false where the chip has no such pin, or has no use for it.
    virtual bool attachPin(std::string_view pin, circuit::PinId id) = 0;
    // Whether the reset pin is one: an option may have made it a port pin.
    [[nodiscard]] virtual bool hasResetInput() const = 0;
    // While it is low the chip does nothing.
    virtual void setResetLine(bool high) = 0;
    virtual void setSupply(double volts) = 0;
    [[nodiscard]] virtual double supplyVolts() const = 0;
    // What it takes from its supply just now, as a conductance, and what it has taken since power-up in coulombs.
    [[nodiscard]] virtual double supplySiemens() const = 0;
    [[nodiscard]] virtual double chargeTaken() const = 0;
    // Levels and limits of its pins follow its supply, which has been restored.
    virtual void refreshPins() = 0;
    // The resistance of a pin of the circuit as an output, where it is one of the chip's port pins.
    [[nodiscard]] virtual std::optional<double> outputOhms(circuit::PinId pin) const = 0;
    [[nodiscard]] virtual std::optional<AnalogReading> analogReading(circuit::PinId pin) const = 0;
    [[nodiscard]] virtual std::vector<PinStatus> pins() const = 0;
    [[nodiscard]] virtual const std::vector<SerialPort>& serialPorts() const = 0;
    [[nodiscard]] virtual SerialFormat serialFormat(std::size_t port) const = 0;
    // Of the instruction that wrote the character which is going out, or which went out last; UINT32_MAX before the first.
    [[nodiscard]] virtual std::uint32_t sentBy(std::size_t port) const = 0;

    // Contents.
    virtual void loadProgram(const Firmware& firmware) = 0;
    // The firmware has changed its own program memory since loadProgram().
    [[nodiscard]] virtual bool hasChangedProgram() const = 0;
    // Memory that outlives power (EEPROM, or what stands for it); empty where there is none. The revision grows with each byte that the firmware writes.
    [[nodiscard]] virtual std::span<const std::uint8_t> nonVolatile() const = 0;
    [[nodiscard]] virtual std::uint64_t nonVolatileRevision() const = 0;
    virtual void programNonVolatile(const std::vector<std::uint8_t>& image) = 0;
    // A power-on reset: everything as when the supply has just come up.
    virtual void powerOn() = 0;
    // A chip put into a world that is already running: its cycles count from `t`. A power-on is to follow.
    virtual void startAt(kernel::Time t) = 0;

    // Running.
    // Executes up to the first instruction boundary at or after `until`, or to the earliest alarm. Does nothing while the chip is held in reset or has faulted.
    virtual void run(kernel::Time until) = 0;
    // The same for the only chip of a bench: alarms ring on the way, up to `until` or until one of them sets `stop`.
    virtual void runAlone(kernel::Time until, const bool& stop) = 0;
    // Executes one instruction or enters one pending exception; a sleeping core sleeps on to the next alarm, at most to `until`.
    virtual void stepInstruction(kernel::Time until) = 0;
    // Ends the run that is under way at the next instruction boundary.
    virtual void yield() = 0;
    // It sleeps, and only an alarm or another chip can wake it: whoever runs several lets it lie until then.
    [[nodiscard]] virtual bool liesStill() const = 0;
    // Its sleep lasts up to `until` at least.
    virtual void sleepTo(kernel::Time until) = 0;
    [[nodiscard]] virtual kernel::Time now() const = 0;
    [[nodiscard]] virtual bool inReset() const = 0;
    [[nodiscard]] virtual bool faulted() const = 0;
    // The firmware can never run again: asleep or in a jump to itself, and no exception can come.
    [[nodiscard]] virtual bool halted() const = 0;
    // Stop at once when the firmware halts, instead of letting the time pass.
    virtual void stopWhenHalted(bool stop) = 0;
    [[nodiscard]] virtual bool stopsWhenHalted() const = 0;
    // The core's clock.
    [[nodiscard]] virtual const kernel::ClockDomain& clock() const = 0;
    // Who drives the pins just now: this chip, and the code that it executes.
    [[nodiscard]] virtual circuit::Cause cause() const = 0;

    // Listening.
    // Told whenever registers may have changed otherwise than by counting or by an alarm, and when: after each access to one, on entering an exception, at a reset. Empty: nobody is.
    // The listener may look at everything, and change nothing.
    virtual void setChangeListener(std::function<void(kernel::Time)> changed) = 0;
    // Counts cycles by instruction into this from now on; null: no more. It must outlive the counting.
    virtual void countInto(CycleCounts* counts) = 0;
    // Which part of the code has the time, from now on (code_time.h), in stretches about so long; null: no more.
    virtual void tellCodeTime(CodeTime* to, kernel::Duration stretch = kUsualStretch) = 0;
    static constexpr kernel::Duration kUsualStretch = std::chrono::milliseconds(20);
    // Such a stretch in cycles of its clock.
    [[nodiscard]] virtual std::int64_t stretchOfCodeTime() const = 0;
    // The part that runs: code_time.h's number of the present code address.
    [[nodiscard]] virtual std::uint32_t codeSlot() const = 0;

    // Everything that runs, both ways; only from a chip of the same kind with the same firmware.
    virtual void save(kernel::SaveArchive& ar) = 0;
    virtual void load(kernel::LoadArchive& ar) = 0;
};

}  // namespace bramix::chip
