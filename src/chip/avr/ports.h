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
// Tested by tests/chip/avr/ports_test.cpp.
#pragma once

#include <array>
#include <functional>
#include <vector>

#include "chip/avr/peripheral.h"
#include "circuit/circuit.h"

namespace bramix::chip::avr {

// Who else has a say over a pin's output. The greater wins.
enum class Override : std::uint8_t { compareA = 1, compareB = 2, transmitter = 4, receiver = 8 };

// Told of every change of a pin's level, before the synchroniser.
class PinWatcher {
public:
    virtual ~PinWatcher() = default;
    virtual void pinChanged(PortPin pin, bool level, kernel::Time at) = 0;
};

class Ports final : public StatefulPeripheral<Ports>, public circuit::PinListener {
public:
    struct Electrical {
        double supplyVolts = 5.0;
        double outputOhms = 25.0;    // VOL 0.5 V at 20 mA
        double pullUpOhms = 35'000;  // 20 to 50 kΩ
        double limitAmps = 0.040;    // absolute maximum a pin
        [[nodiscard]] circuit::Thresholds thresholds() const { return {0.3 * supplyVolts, 0.6 * supplyVolts}; }
    };

    Ports(const ChipTable& table, ChipServices& chip, circuit::Circuit& circuit, Electrical electrical);

    // Joins a port pin to the circuit. Pins never joined float.
    void attach(PortPin pin, circuit::PinId id);
    [[nodiscard]] circuit::PinId idOf(PortPin pin) const { return at(pin).id; }

    void setOverride(PortPin pin, Override who, bool enabled, bool value, bool forcesDirection = false);
    void setPullUpsDisabled(bool disabled);
    void watch(PortPin pin, PinWatcher& watcher);

    // The level at the pin itself, at this instant.
    [[nodiscard]] bool level(PortPin pin) const { return at(pin).level; }
    // The level at an instant not later than now, as far back as the last few changes.
    [[nodiscard]] bool levelAt(PortPin pin, kernel::Time when) const;
    [[nodiscard]] bool isOutput(PortPin pin) const;

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void pinChanged(circuit::PinId id, bool level, kernel::Time at) override;

    // Called for a read of an input that floats on a wired net.
    std::function<void(PortPin)> floatingRead;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(pullUpsDisabled_);
        for (PortState& p : ports_) {
            ar(p.ddr, p.port);
            for (PinState& s : p.pins)
                ar(s.level, s.overrides, s.values, s.forced, s.changes, s.head);
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

    struct PinState {
        circuit::PinId id = circuit::kNoPin;
        std::vector<PinWatcher*> watchers;
        std::array<Change, kHistory> changes{};  // ring of the last changes
        std::uint8_t head = 0;
        bool level = false;
        std::uint8_t overrides = 0, values = 0, forced = 0;  // bits of Override
    };

    struct PortState {
        const PortRow* row = nullptr;
        std::uint8_t ddr = 0, port = 0;
        std::array<PinState, 8> pins;
    };

    PinState& at(PortPin pin) { return ports_[pin.port].pins[pin.bit]; }
    [[nodiscard]] const PinState& at(PortPin pin) const { return ports_[pin.port].pins[pin.bit]; }
    [[nodiscard]] circuit::Drive driveFor(const PortState& port, unsigned bit) const;
    void drive(PortState& port, std::uint8_t bits);
    void driveAll();
    std::uint8_t readPins(const PortState& port, std::int64_t cycle) const;

    ChipServices& chip_;
    circuit::Circuit& circuit_;
    const Electrical electrical_;
    std::array<PortState, 12> ports_;  // by letter
    std::vector<PortPin> pinOf_;       // by circuit pin, from firstId_
    bool pullUpsDisabled_ = false;
    std::array<std::uint8_t, 0x200> portAt_{};  // data address to port index + 1
};

}  // namespace bramix::chip::avr
