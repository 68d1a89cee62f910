// What joins a chip to the world besides its port pins: the reset line, the supply, and who listens to what it tells. For world.cpp and
// world_build.cpp.
#pragma once

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "bench/world.h"

namespace bramix::bench {

inline constexpr const char* kResetControl = "RESET";

// What a finger or a debugger puts on the reset line.
inline constexpr circuit::Drive kResetHeld{0.0, 10};

// A chip's reset line: listens to its net, keeps it up, and can hold it down (the live control RESET).
class World::ResetPin final : public circuit::PinListener {
public:
    ResetPin(circuit::Circuit& circuit, PinId pin, PinId hold, chip::Mcu& chip, Cause cause) : circuit_(circuit), pin_(pin), hold_(hold), chip_(chip), input_(*chip.device().resetInput), cause_(cause)
    {
        circuit.listen(pin, *this, thresholds());
        refresh();
    }

    // The chip's supply has changed.
    void refresh()
    {
        circuit_.setThresholds(pin_, thresholds());
        circuit_.drive(pin_, {chip_.supplyVolts(), input_.pullUpOhms}, cause_);
    }
    void hold(bool low) { circuit_.drive(hold_, low ? kResetHeld : circuit::kFloating, cause_); }
    void pinChanged(PinId, bool level, Time) override { chip_.setResetLine(level); }

private:
    [[nodiscard]] circuit::Thresholds thresholds() const
    {
        const double volts = std::max(chip_.supplyVolts(), 1.0);
        return {input_.low * volts, input_.high * volts};
    }

    circuit::Circuit& circuit_;
    PinId pin_;
    PinId hold_;
    chip::Mcu& chip_;
    chip::ResetInput input_;
    Cause cause_;
};

// The supply pins of a chip whose supply is wired on the bench: the chip follows their voltage, and loads them with what it takes for itself and what its pins
// give. The load follows a microsecond later, as behind the capacitor that stands beside every chip, and is a resistance: without voltage it takes nothing.
class World::SupplyPins final : public circuit::VoltageListener {
public:
    SupplyPins(kernel::EventQueue& queue, circuit::Circuit& circuit, PinId vcc, PinId ground, chip::Mcu& chip, ResetPin* reset, const std::string& id)
        : id_(id), queue_(queue), circuit_(circuit), vcc_(vcc), ground_(ground), chip_(chip), reset_(reset), load_(circuit.addResistor(circuit.netOf(vcc), circuit.netOf(ground), {kIdleOhms}, id + ".supply")),
          follow_(queue, [this](Time) { follow(); })
    {
        circuit.watchVoltage(vcc, this, {.step = kStepVolts});
        circuit.watchVoltage(ground, this, {.step = kStepVolts});
    }

    // Before the circuit is sealed, when all supplies are known: a fixed voltage feels no load.
    void watchPins(const std::vector<PinId>& pins)
    {
        pins_ = pins;
        if (!gives())
            return;
        for (const PinId pin : pins) {
            const PinId eye = circuit_.addPin(circuit_.netOf(pin), circuit_.name(pin) + ".load");
            circuit_.watchVoltage(eye, this, {.step = kPinStepVolts});
        }
    }

    void voltageChanged(PinId pin, double, Time) override
    {
        if (pin == vcc_ || pin == ground_)
            look();
        loadChanged();
    }

    // What the chip takes, or what its pins give, may have changed.
    void loadChanged()
    {
        if (gives() && !follow_.armed())
            follow_.arm(queue_.now() + kFollow);
    }

    // Out of VCC and into the chip, and what of it the pins give.
    [[nodiscard]] double pinAmps() const
    {
        double out = 0;
        for (const PinId pin : pins_)
            out += std::max(0.0, circuit_.current(pin).value);
        return out;
    }
    [[nodiscard]] PinId vcc() const { return vcc_; }
    [[nodiscard]] PinId ground() const { return ground_; }
    [[nodiscard]] circuit::ElementId load() const { return load_; }
    // Whether the load above has the pins' current in it already.
    [[nodiscard]] bool gives() const { return !circuit_.isRail(circuit_.netOf(vcc_)); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(follow_, siemens_);
    }

    // Rule and message, told by whoever keeps the findings.
    std::function<void(const char*, std::string)> wrong;

    [[nodiscard]] bool isOf(const chip::Mcu& chip) const { return &chip == &chip_; }
    // Something holds both pins, although its voltage may have yet to rise.
    [[nodiscard]] bool wired() const { return !floats(vcc_) && !floats(ground_); }

    // Unwired, there is no supply.
    void look()
    {
        if (const double across = wired() ? volts(vcc_) - volts(ground_) : 0; across < -kReversedVolts || across > chip_.device().supply.highestVolts) {
            const chip::SupplyInput& supply = chip_.device().supply;
            const std::string figure = kernel::formatQuantity(std::fabs(across), kernel::Unit::volt, 3);
            if (wrong)
                wrong(across < 0 ? "supply-reversed" : "supply-too-high",
                      across < 0 ? fmt::format("{} has its supply the wrong way round, {} from {} to {}: silicon does not survive that; swap the two wires", id_, figure, supply.minus, supply.plus)
                                 : fmt::format("{} has {} between {} and {}, more than its absolute maximum of {}; give it less", id_, figure, supply.plus, supply.minus, kernel::formatQuantity(supply.highestVolts, kernel::Unit::volt)));
        }
        chip_.setSupply(wired() ? std::max(0.0, volts(vcc_) - volts(ground_)) : 0.0);
        if (reset_ != nullptr)
            reset_->refresh();
    }

private:
    static constexpr double kIdleOhms = 30e6;
    static constexpr double kReversedVolts = 0.5;  // what protection diodes of any chip bear
    static constexpr double kPinStepVolts = 0.05;
    static constexpr kernel::Duration kFollow = std::chrono::microseconds(1);

    // Rounded to half a per cent, so that solutions are met again; half of the way where the way is long, so that a weak supply and its load come to rest.
    void follow()
    {
        const double across = volts(vcc_) - volts(ground_);
        double siemens = chip_.supplySiemens() + (across > 0.5 ? pinAmps() / across : 0);
        if (siemens > 3 * siemens_ && siemens_ > 1e-3)
            siemens = (siemens + siemens_) / 2;
        const double unit = std::pow(10, std::floor(std::log10(std::max(siemens, 1e-9))) - 2) * 5;
        siemens = std::max(std::round(siemens / unit) * unit, 1 / kIdleOhms);
        if (siemens == siemens_)
            return;
        siemens_ = siemens;
        circuit_.setResistance(load_, {1 / siemens}, chip_.cause());
    }

    // How closely a chip follows a supply that sinks or rises: finer than the hysteresis of any brown-out detector (50 mV).
    static constexpr double kStepVolts = 0.01;

    [[nodiscard]] double volts(PinId pin) const { return circuit_.voltage(circuit_.netOf(pin)).value; }
    [[nodiscard]] bool floats(PinId pin) const { return circuit_.stateOf(circuit_.netOf(pin)) == NetState::floating; }

    std::string id_;
    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    PinId vcc_;
    PinId ground_;
    chip::Mcu& chip_;
    ResetPin* reset_;
    circuit::ElementId load_;
    kernel::Alarm follow_;
    double siemens_ = 0;
    std::vector<PinId> pins_;
};

// What a chip tells, with which one it is.
class World::ChipListener final : public chip::McuObserver {
public:
    ChipListener(World& world, std::size_t chip) : world_(world), chip_(chip) {}

    void remark(chip::Weight weight, const char* rule, const std::string& text, std::uint32_t code, Time at) override { world_.remark(chip_, weight, rule, text, code, at); }
    void exceptionEntered(unsigned number, Time at) override
    {
        if (world_.observer_ != nullptr)
            world_.observer_->interrupt(chip_, static_cast<std::uint8_t>(number), at);
    }
    void exceptionReturned(Time at) override
    {
        if (world_.observer_ != nullptr)
            world_.observer_->interrupt(chip_, 0, at);
    }
    void resetTaken(unsigned cause, Time at) override
    {
        if (world_.observer_ != nullptr)
            world_.observer_->reset(chip_, cause, at);
    }

    void loadChanged() override
    {
        if (chip_ < world_.chips_.size() && world_.supplyPins_[chip_] != nullptr)
            world_.supplyPins_[chip_]->loadChanged();
    }

    void woken() override
    {
        if (world_.running_ != chip_ && world_.running_ < world_.chips_.size())
            world_.chips_[world_.running_].chip->yield();
    }

    void uncertainRead(PinId pin, bool floats, circuit::Thresholds thresholds) override { world_.uncertainRead(chip_, pin, floats, thresholds); }

private:
    World& world_;
    std::size_t chip_;
};

}  // namespace bramix::bench
