// General-purpose ports (RM0008 chapter 9; electrical figures: STM32F103x8 data sheet DS5319 tables 35 to 37): modes, pulls, atomic set and reset, alternate functions, external interrupts.
//
//   CNF MODE   pin                              CNF MODE       pin
//   00  00     analog: no digital input         00  >0         push-pull output of ODR
//   01  00     floating input                   01  >0         open-drain output of ODR
//   10  00     input with the pull that ODR says 10, 11 >0     the same, of the peripheral that has the pin
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include <array>
#include <functional>
#include <optional>
#include <vector>

#include "chip/cortexm/peripherals/peripheral.h"
#include "chip/mcu.h"

namespace bramix::chip::cortexm {

// A pin by port (A = 0) and bit.
struct Pin {
    std::uint8_t port = 0xFF, bit = 0;
    bool operator==(const Pin&) const = default;
    [[nodiscard]] bool exists() const { return port != 0xFF; }
};
constexpr Pin pinOf(char letter, unsigned bit) { return {static_cast<std::uint8_t>(letter - 'A'), static_cast<std::uint8_t>(bit)}; }

class Gpio final : private circuit::PinListener {
public:
    static constexpr unsigned kPorts = 5;
    static constexpr double kOutputOhms = 40;   // VOL 0.4 V at 8 mA, less what its typical value leaves
    static constexpr double kLimitAmps = 0.025, kTogetherAmps = 0.15;

    Gpio(Services& chip, circuit::Circuit& circuit, double pullOhms, std::function<circuit::Cause()> cause) : chip_(chip), circuit_(circuit), cause_(std::move(cause)), pullOhms_(pullOhms) {}

    void attach(Pin pin, circuit::PinId id);
    [[nodiscard]] circuit::PinId idOf(Pin pin) const { return ports_[pin.port].pins[pin.bit].id; }
    [[nodiscard]] std::optional<Pin> pinAt(circuit::PinId id) const;
    // The supply has changed, or everything is restored.
    void refresh(double volts);

    // A peripheral has a pin, and what it puts there; it shows where the pin is set to an alternate function.
    void setAlternate(Pin pin, const char* name, bool enabled, bool level);
    [[nodiscard]] bool level(Pin pin) const { return pin.exists() && ports_[pin.port].pins[pin.bit].level; }
    // At the pin; 0 where it is wired to nothing.
    [[nodiscard]] double volts(Pin pin) const;
    [[nodiscard]] bool isAlternate(Pin pin) const { return (modeOf(pin) & 3U) != 0 && (modeOf(pin) & 8U) != 0; }
    [[nodiscard]] PinStatus statusOf(Pin pin) const;
    // Every change of a pin's level, as its digital input sees it.
    std::function<void(Pin pin, bool level)> changed;
    std::function<void(circuit::PinId id, bool floats, circuit::Thresholds thresholds)> doubtfulRead;

    std::uint32_t read(unsigned port, std::uint32_t offset, bool looks);
    void write(unsigned port, std::uint32_t offset, std::uint32_t value);
    void reset();

    template <class Archive>
    void state(Archive& ar)
    {
        for (Port& p : ports_) {
            ar(p.low, p.high, p.odr, p.lock, p.lockStep);
            for (Line& l : p.pins)
                ar(l.level, l.alternateOn, l.alternateLevel);
        }
    }

private:
    struct Line {
        circuit::PinId id = circuit::kNoPin;
        bool level = false;
        bool alternateOn = false, alternateLevel = false;
        const char* alternate = "";
    };
    struct Port {
        std::uint32_t low = 0x44444444, high = 0x44444444, odr = 0, lock = 0;
        std::uint8_t lockStep = 0;
        std::array<Line, 16> pins{};
    };
    // MODE in bits 0 and 1, CNF in 2 and 3.
    [[nodiscard]] unsigned modeOf(Pin pin) const
    {
        const Port& p = ports_[pin.port];
        return ((pin.bit < 8 ? p.low >> (4 * pin.bit) : p.high >> (4 * (pin.bit - 8))) & 15U);
    }
    void pinChanged(circuit::PinId id, bool level, kernel::Time at) override;
    void drive(Pin pin);
    void setOdr(unsigned port, std::uint32_t value);
    [[nodiscard]] circuit::Thresholds thresholds() const { return {0.35 * std::max(volts_, 1.0), 0.65 * std::max(volts_, 1.0)}; }

    Services& chip_;
    circuit::Circuit& circuit_;
    std::function<circuit::Cause()> cause_;
    double pullOhms_, volts_ = 3.3;
    std::array<Port, kPorts> ports_{};
    std::vector<std::pair<std::uint32_t, Pin>> byId_;
};

}  // namespace bramix::chip::cortexm
