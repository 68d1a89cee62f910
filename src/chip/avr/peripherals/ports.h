// The digital ports: DDRx, PORTx, PINx (ATmega328P datasheet ch. 14 "I/O-Ports").
//
//   DDR PORT PUD   pin                         an override (timer output, transmitter) puts its value in place of PORT,
//    0    0   x    floating                    and may force the direction
//    0    1   0    pull-up
//    0    1   1    floating
//    1    0   x    driven low
//    1    1   x    driven high
//
// The synchroniser (ch. 14.2.4): the pin is sampled at the falling clock edge and can be read from the next rising edge on, so a read in
// cycle t sees the pin as it was half a cycle before t. Writing ones to PINx toggles PORTx.
// Electrical figures: datasheet ch. 32.2 "DC Characteristics" and the typical curves of 33.1.7 and 33.1.8, linearised.
// DIDRn switches digital inputs off, which then read 0 (14.2.6).
// Tested by tests/chip/avr/chip_test.cpp.
#pragma once

#include <array>
#include <functional>
#include <optional>
#include <vector>

#include "chip/avr/peripherals/peripheral.h"
#include "circuit/circuit.h"

namespace bramix::chip::avr {

// Who else has a say over a pin. The greater wins. Where compareA and compareC meet on one pin, the output compare modulator joins
// them: the higher for PORT = 1, the lower for 0 (ATmega2560 ch. 19).
enum class Override : std::uint8_t { compareA = 1, compareB = 2, compareC = 4, transmitter = 8, receiver = 16, serialBus = 32, openDrain = 64, taken = 128 };

// What an override does to the direction that DDR gives.
enum class Force : std::uint8_t { none, output, input, openDrain };

// Told of every change of a pin's level, before the synchroniser.
class PinWatcher {
public:
    virtual ~PinWatcher() = default;
    virtual void pinChanged(PortPin pin, bool level, kernel::Time at) = 0;
};

class Ports final : public StatefulPeripheral<Ports>, public circuit::PinListener {
public:
    struct Electrical {
        double outputOhms = 25.0;    // VOL 0.5 V at 20 mA
        double pullUpOhms = 35'000;  // 20 to 50 kΩ
        double limitAmps = 0.040;    // absolute maximum a pin
        double togetherAmps = 0.200; // and through VCC or GND
    };

    Ports(ChipServices& chip, circuit::Circuit& circuit, Electrical electrical);

    // Joins a port pin to the circuit. Pins never joined float.
    void attach(PortPin pin, circuit::PinId id);
    [[nodiscard]] circuit::PinId idOf(PortPin pin) const { return at(pin).id; }

    void setOverride(PortPin pin, Override who, bool enabled, bool value, Force force = Force::none);
    // The supply has changed, or MCUCR.PUD.
    void refresh();
    // With a gate, only while this bit is set: most pins change unheeded most of the time.
    void watch(PortPin pin, PinWatcher& watcher, BitRef gate = {});

    // The resistance of this pin of the circuit as an output, where it is a port pin.
    [[nodiscard]] std::optional<double> outputOf(circuit::PinId id) const
    {
        for (const PortState& port : ports_)
            for (const PinState& pin : port.pins)
                if (pin.id == id && id != circuit::kNoPin)
                    return electrical_.outputOhms;
        return std::nullopt;
    }
    // Which port pin this pin of the circuit is, if any.
    [[nodiscard]] std::optional<PortPin> portPinOf(circuit::PinId id) const
    {
        for (const PortState& port : ports_)
            for (unsigned bit = 0; bit < 8; ++bit)
                if (port.pins[bit].id == id && id != circuit::kNoPin)
                    return PortPin{static_cast<std::uint8_t>(port.row->letter - 'A'), static_cast<std::uint8_t>(bit)};
        return std::nullopt;
    }
    // What an analog input sees: the voltage of its net, and the resistance behind it. An unwired pin is at 0 V behind nothing.
    [[nodiscard]] double volts(PortPin pin) const;
    [[nodiscard]] double sourceOhms(PortPin pin) const;
    // The level at the pin itself, at this instant.
    [[nodiscard]] bool level(PortPin pin) const { return at(pin).level; }
    // Nothing drives the pin: what it reads means nothing.
    [[nodiscard]] bool floats(PortPin pin) const;
    // The level at an instant not later than now, as far back as the last few changes.
    [[nodiscard]] bool levelAt(PortPin pin, kernel::Time when) const;
    [[nodiscard]] bool isOutput(PortPin pin) const;
    [[nodiscard]] bool pulledUp(PortPin pin) const;
    // Whether DIDRn has switched the digital input off.
    [[nodiscard]] bool inputOff(PortPin pin) const { return ((ports_[pin.port].inputOff >> pin.bit) & 1) != 0; }
    // Who has a say over the pin just now, as bits of Override.
    [[nodiscard]] std::uint8_t overridesOf(PortPin pin) const { return at(pin).overrides; }
    [[nodiscard]] bool isDirectionOut(PortPin pin) const { return pin.exists() && ((ports_[pin.port].ddr >> pin.bit) & 1) != 0; }
    [[nodiscard]] bool portBit(PortPin pin) const { return pin.exists() && ((ports_[pin.port].port >> pin.bit) & 1) != 0; }

    std::uint8_t peek(std::uint16_t address, std::int64_t cycle) override;
    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    // SBI and CBI: one bit, the others untouched.
    void writeBit(std::uint16_t address, unsigned bit, bool value)
    {
        PortState* port = portOf(address);
        const auto mask = static_cast<std::uint8_t>(1U << bit);
        if (port == nullptr || (address == port->pinAt && !toggles_)) [[unlikely]]
            return writeBitSlowly(address, mask, value);
        if (address == port->ddrAt) {
            if (((port->ddr >> bit) & 1) == static_cast<unsigned>(value))
                return;
            port->ddr ^= mask;
            port->everOutput |= port->ddr;
            chip_.reg(port->ddrAt) = port->ddr;
        } else {
            if (((address == port->pinAt ? 0U : port->port >> bit) & 1U) == static_cast<unsigned>(value))
                return;
            port->port ^= mask;
            chip_.reg(port->portAt) = port->port;
        }
        driveOne(*port, bit);
    }
    void reset() override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }
    [[nodiscard]] circuit::Thresholds thresholds() const;
    [[nodiscard]] circuit::Circuit& circuit() const { return circuit_; }
    void pinChanged(circuit::PinId id, bool level, kernel::Time at) override;

    // Called for a read of an input that floats, or whose voltage lies between the thresholds.
    std::function<void(PortPin, bool floats)> doubtfulRead;

    template <class Archive>
    void state(Archive& ar)
    {
        for (PortState& p : ports_) {
            ar(p.ddr, p.port, p.inputOff, p.levels, p.lastChange, p.everOutput);
            p.checkedAt = UINT64_MAX;
            for (PinState& s : p.pins)
                ar(s.level, s.doubtfulSince, s.overrides, s.values, s.forces, s.changes, s.head);
        }
        if constexpr (Archive::kLoading)
            driveAll();
    }

private:
    static constexpr std::size_t kHistory = 8;

    struct Change {
        kernel::Time at = kernel::Time::min();  // before any sample, the first of which lies half a cycle before zero
        bool level = false;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(at, level);
        }
    };

    struct Watch {
        PinWatcher* who = nullptr;
        const std::uint8_t* gate = nullptr;  // in the register file, which never moves
        std::uint8_t mask = 0;
    };

    struct PinState {
        circuit::PinId id = circuit::kNoPin;
        std::vector<Watch> watchers;
        std::array<Change, kHistory> changes{};  // ring of the last changes
        std::uint8_t head = 0;
        bool level = false;
        kernel::Time doubtfulSince = kernel::kNever;  // read while it floated, by code of which it is not known whether it looks at this bit
        std::uint8_t overrides = 0, values = 0;  // bits of Override
        std::array<Force, 8> forces{};           // by bit of Override
    };

    struct PortState {
        const PortRow* row = nullptr;
        std::uint16_t pinAt = 0, ddrAt = 0, portAt = 0;  // data addresses
        std::uint8_t ddr = 0, port = 0;
        std::uint8_t levels = 0;                  // of the joined pins, now
        kernel::Time lastChange = kernel::Time::min();
        std::uint64_t checkedAt = UINT64_MAX;     // generation of the circuit at which floating inputs were last looked for,
        std::uint32_t checkedBy = UINT32_MAX;     // and the code that read them
        std::uint8_t joined = 0;                  // bits that are pins of the circuit
        std::uint8_t everOutput = 0;              // bits that firmware has made outputs since the reset
        std::uint8_t inputOff = 0;  // bits whose digital input DIDRn has switched off: they read 0
        std::array<PinState, 8> pins;
    };

    PinState& at(PortPin pin) { return ports_[pin.port].pins[pin.bit]; }
    [[nodiscard]] const PinState& at(PortPin pin) const { return ports_[pin.port].pins[pin.bit]; }
    [[nodiscard]] circuit::Drive driveFor(const PortState& port, unsigned bit) const;
    void setClamp(circuit::PinId id);
    void writeInputDisable(std::uint16_t address, std::uint8_t value);
    void drive(PortState& port, std::uint8_t bits);
    void writeBitSlowly(std::uint16_t address, std::uint8_t mask, bool value);
    void driveOne(PortState& port, unsigned bit)
    {
        PinState& pin = port.pins[bit];
        if (pin.id == circuit::kNoPin)
            return;
        const circuit::Cause cause{actor_, codeWord_ * 2};
        // The common case first: an output that is nobody's but the port's.
        if (pin.overrides == 0 && ((port.ddr >> bit) & 1) != 0) [[likely]] {
            const double volts = ((port.port >> bit) & 1) != 0 ? supply_ : 0.0;
            const circuit::Circuit::Switched done = circuit_.switchQuickly(pin.id, volts, electrical_.outputOhms, cause);
            if (done == circuit::Circuit::Switched::levelChanged)
                levelChanged(port, pin, bit, !pin.level, circuit_.now());
            else if (done == circuit::Circuit::Switched::no)
                circuit_.drive(pin.id, {volts, electrical_.outputOhms}, cause);
        } else {
            circuit_.drive(pin.id, driveFor(port, bit), cause);
        }
    }
    void levelChanged(PortState& port, PinState& pin, unsigned bit, bool level, kernel::Time when)
    {
        pin.level = level;
        port.levels = static_cast<std::uint8_t>((port.levels & ~(1U << bit)) | (static_cast<unsigned>(level) << bit));
        port.lastChange = when;
        pin.changes[pin.head] = {when, level};
        pin.head = static_cast<std::uint8_t>((pin.head + 1U) % kHistory);
        for (const Watch& w : pin.watchers)
            if (w.gate == nullptr || (*w.gate & w.mask) != 0)
                w.who->pinChanged({static_cast<std::uint8_t>(port.row->letter - 'A'), static_cast<std::uint8_t>(bit)}, level, when);
    }
    void driveAll();
    std::uint8_t readPins(PortState& port, std::int64_t cycle);
    void checkFloating(PortState& port);

    // A bit of DIDRn and the pin whose digital input it switches off.
    struct InputDisable {
        BitRef bit;
        PortPin pin;
    };

    [[nodiscard]] PortState* portOf(std::uint16_t address) { return portAt_[address] == 0 ? nullptr : &ports_[portAt_[address] - 1U]; }

    circuit::Circuit& circuit_;
    const Electrical electrical_;
    std::array<PortState, 12> ports_;  // by letter
    std::vector<PortPin> pinOf_;       // by circuit pin, from firstId_
    std::vector<InputDisable> inputDisables_;
    BitRef pullUpDisable_;
    const std::uint32_t& codeWord_;  // of the instruction in progress
    const std::uint32_t actor_;
    const bool toggles_;             // writing ones to PINx toggles PORTx
    double supply_;
    std::array<std::uint8_t, 0x200> portAt_{};  // data address to port index + 1
};

}  // namespace bramix::chip::avr
