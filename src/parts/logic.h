// What integrated circuits on a bench have in common: a supply of their own, inputs that read by thresholds which follow it, and outputs that drive to it.
//
// Below its least supply a part is off: its outputs float and it hears nothing; when the supply comes it begins anew. Above its greatest it is told once, and goes on.
// Invariant: while off, no output drives.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "parts/part.h"

namespace bramix::parts {

struct LogicFamily {
    double leastVolts = 3.0;  // works from here on
    double mostVolts = 5.5;   // absolute maximum
    double lowShare = 0.3;    // of the supply: at or below reads 0
    double highShare = 0.7;   // at or above reads 1
    double ohms = 40;         // of an output, either way
};

class LogicPart : public Part, protected circuit::PinListener, protected circuit::VoltageListener {
public:
    [[nodiscard]] bool on() const { return on_; }
    // What it takes from its supply.
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return load_; }
    void wired() override { followSupply(); }
    [[nodiscard]] std::string why(std::string_view pin) const override;

protected:
    LogicPart(PartContext& context, const LogicFamily& family, std::string_view plus = "VCC", std::string_view minus = "GND");

    // While it is made. Inputs and outputs are numbered from 0, each on its own.
    std::size_t addInput(const PartContext& context, std::string_view pin);
    std::size_t addOutput(const PartContext& context, std::string_view pin);

    [[nodiscard]] std::size_t inputs() const { return inputs_.size(); }
    [[nodiscard]] bool level(std::size_t input) const { return on_ && circuit_.level(inputs_[input]); }
    // Of the net of an input or output, against the part's ground.
    [[nodiscard]] double volts(circuit::PinId pin) const { return circuit_.voltage(circuit_.netOf(pin)).value - ground_; }
    [[nodiscard]] circuit::PinId inputPin(std::size_t input) const { return inputs_[input]; }
    [[nodiscard]] circuit::PinId outputPin(std::size_t output) const { return outputs_[output]; }
    void drive(std::size_t output, bool high);
    // An output that stands at a voltage of its own, behind a resistance.
    void driveVolts(std::size_t output, double volts, double ohms);
    void pullUp(std::size_t output, double ohms);
    void release(std::size_t output);
    [[nodiscard]] double supply() const { return supply_; }
    [[nodiscard]] double ground() const { return ground_; }

    // An input has changed while the part is on.
    virtual void inputChanged(std::size_t input, bool level, kernel::Time at) = 0;
    // The supply has come, or gone: everything as at power-up.
    virtual void powered(bool on) = 0;
    // The supply that the part has, of the voltage between its supply pins; a part that can live on something else says so here.
    [[nodiscard]] virtual double supplyFrom(double volts) { return volts; }
    // From now on the supply is worked out anew when this pin's voltage has moved.
    void alsoFollow(circuit::PinId pin);
    void followSupply();
    // The supply has moved while on, or another voltage that the part watches has.
    virtual void supplyMoved() {}
    // Part::why() of an output, while the part is on.
    [[nodiscard]] virtual std::string whyOutput(std::size_t /*output*/) const { return {}; }
    // Whether the part holds this output at a level just now.
    [[nodiscard]] bool holds(std::size_t output) const { return does_[output].kind != Output::Kind::floats; }
    // From now on the part takes so much more than at rest, at its usual voltage: something in it moves or shines.
    void takeMore(double amps);
    void tell(bool error, std::string_view rule, std::string message);

    template <class Archive>
    void logicState(Archive& ar)
    {
        ar(on_, supply_, ground_);
        for (Output& o : does_)
            ar(o);
        if constexpr (Archive::kLoading)
            resume();
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    std::string id_;

private:
    // What an output does, whatever its supply.
    struct Output {
        enum class Kind : std::uint8_t { floats, low, high, pulledUp, stands } kind = Kind::floats;
        double volts = 0;
        double ohms = 0;
        template <class Archive>
        void state(Archive& ar)
        {
            ar(kind, volts, ohms);
        }
    };

    void pinChanged(circuit::PinId pin, bool level, kernel::Time at) final;
    void voltageChanged(circuit::PinId pin, double volts, kernel::Time at) final;
    void setThresholds();
    void resume();
    void put(std::size_t output, Output what);
    void apply(std::size_t output);
    [[nodiscard]] double netVolts(circuit::PinId pin) const;

    LogicFamily family_;
    circuit::PinId plus_, minus_, also_ = circuit::kNoPin;
    std::vector<circuit::PinId> inputs_, outputs_;
    std::vector<std::string> outputNames_;
    std::vector<Output> does_;
    std::string plusName_;
    std::function<void(const Remark&)> remark_;
    double takes_ = 0, usualVolts_ = 5;  // at rest, of the setting "takes"
    circuit::ElementId load_{};
    bool on_ = false;
    double supply_ = 0, ground_ = 0;
};

}  // namespace bramix::parts
