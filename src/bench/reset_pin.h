// What joins a chip to the world besides its port pins: the reset line, the supply, and an ear for what it tells. For world.cpp and
// world_build.cpp.
#pragma once

#include "bench/world.h"

namespace bramix::bench {

inline constexpr const char* kResetControl = "RESET";

// What a finger or a debugger puts on the reset line, and the pin's own pull-up (30 to 60 kΩ, ATmega328P datasheet table 29-1).
inline constexpr circuit::Drive kResetHeld{0.0, 10};
inline constexpr double kResetPullUpOhms = 45'000;

// A chip's reset line: listens to its net, keeps it up, and can hold it down (the live control RESET).
class World::ResetPin final : public circuit::PinListener {
public:
    ResetPin(circuit::Circuit& circuit, PinId pin, PinId hold, chip::avr::Chip& chip, Cause cause) : circuit_(circuit), pin_(pin), hold_(hold), chip_(chip), cause_(cause)
    {
        circuit.listen(pin, *this, thresholds());
        refresh();
    }

    // The chip's supply has changed.
    void refresh()
    {
        circuit_.setThresholds(pin_, thresholds());
        circuit_.drive(pin_, {chip_.supplyVolts(), kResetPullUpOhms}, cause_);
    }
    void hold(bool low) { circuit_.drive(hold_, low ? kResetHeld : circuit::kFloating, cause_); }
    void pinChanged(PinId, bool level, Time) override { chip_.setResetLine(level); }

private:
    // Table 29-1: VRST is 0.2 to 0.9 VCC.
    [[nodiscard]] circuit::Thresholds thresholds() const
    {
        const double volts = std::max(chip_.supplyVolts(), 1.0);
        return {0.2 * volts, 0.6 * volts};
    }

    circuit::Circuit& circuit_;
    PinId pin_;
    PinId hold_;
    chip::avr::Chip& chip_;
    Cause cause_;
};

// VCC and GND of a chip whose supply is wired on the bench.
class World::SupplyPins final : public circuit::VoltageListener {
public:
    SupplyPins(circuit::Circuit& circuit, PinId vcc, PinId ground, chip::avr::Chip& chip, ResetPin* reset) : circuit_(circuit), vcc_(vcc), ground_(ground), chip_(chip), reset_(reset)
    {
        circuit.watchVoltage(vcc, this, {.step = kStepVolts});
        circuit.watchVoltage(ground, this, {.step = kStepVolts});
    }

    void voltageChanged(PinId, double, Time) override { look(); }

    [[nodiscard]] bool isOf(const chip::avr::Chip& chip) const { return &chip == &chip_; }
    // Something holds both pins, although its voltage may have yet to rise.
    [[nodiscard]] bool wired() const { return !floats(vcc_) && !floats(ground_); }

    // Unwired, there is no supply.
    void look()
    {
        chip_.setSupply(wired() ? std::max(0.0, volts(vcc_) - volts(ground_)) : 0.0);
        if (reset_ != nullptr)
            reset_->refresh();
    }

private:
    // How closely a chip follows a supply that sinks or rises: finer than the hysteresis of any brown-out detector (50 mV).
    static constexpr double kStepVolts = 0.01;

    [[nodiscard]] double volts(PinId pin) const { return circuit_.voltage(circuit_.netOf(pin)).value; }
    [[nodiscard]] bool floats(PinId pin) const { return circuit_.stateOf(circuit_.netOf(pin)) == NetState::floating; }

    circuit::Circuit& circuit_;
    PinId vcc_;
    PinId ground_;
    chip::avr::Chip& chip_;
    ResetPin* reset_;
};

class World::ChipEar final : public chip::avr::ChipObserver {
public:
    ChipEar(World& world, std::size_t chip) : world_(world), chip_(chip) {}

    void chipNote(const char* rule, const std::string& text, std::uint32_t pc, Time at) override { world_.chipNote(chip_, rule, text, pc, at); }
    void chipInterrupt(std::uint8_t vector, Time at) override
    {
        if (world_.observer_ != nullptr)
            world_.observer_->interrupt(chip_, vector, at);
    }

    void chipWakes() override
    {
        if (world_.running_ != chip_ && world_.running_ < world_.chips_.size())
            world_.chips_[world_.running_].chip->yield();
    }

private:
    World& world_;
    std::size_t chip_;
};

}  // namespace bramix::bench
