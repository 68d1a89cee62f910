#include "parts/logic.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::parts {

namespace {

constexpr double kSupplyStep = 0.02;  // volts: how closely a supply that moves is followed
constexpr double kLeastTaken = 1e-7;

}  // namespace

LogicPart::LogicPart(PartContext& context, const LogicFamily& family, std::string_view plus, std::string_view minus)
    : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), id_(context.id), family_(family), plus_(context.pin(plus)), minus_(context.pin(minus)), plusName_(plus),
      remark_(context.remark), takes_(kernel::parseQuantity(context.setting("takes"), kernel::Unit::ampere).value_or(0)), usualVolts_(family.mostVolts < 5 ? 3.3 : 5)
{
    // A resistance, so that a supply that sinks is not asked for more than it has.
    load_ = circuit_.addResistor(circuit_.netOf(plus_), circuit_.netOf(minus_), {usualVolts_ / std::max(takes_, kLeastTaken)}, context.id + ".supply");
    for (const circuit::PinId pin : {plus_, minus_})
        circuit_.watchVoltage(pin, this, {.step = kSupplyStep});
}

std::size_t LogicPart::addInput(const PartContext& context, std::string_view pin)
{
    inputs_.push_back(context.pin(pin));
    circuit_.listen(inputs_.back(), *this, {family_.lowShare * 5, family_.highShare * 5});
    return inputs_.size() - 1;
}

std::size_t LogicPart::addOutput(const PartContext& context, std::string_view pin)
{
    outputs_.push_back(context.pin(pin));
    outputNames_.emplace_back(pin);
    does_.push_back({});
    return outputs_.size() - 1;
}

std::string LogicPart::why(std::string_view pin) const
{
    if (pin == plusName_)
        return fmt::format("it takes {} from its supply", kernel::formatQuantity(circuit_.current(load_).value, kernel::Unit::ampere, 3));
    const auto name = std::find(outputNames_.begin(), outputNames_.end(), pin);
    if (name == outputNames_.end())
        return {};
    if (!on_)
        return fmt::format("it is off: {:.3g} V between {} and its ground, less than {:g} V", supply_, plusName_, family_.leastVolts);
    return whyOutput(static_cast<std::size_t>(name - outputNames_.begin()));
}

void LogicPart::drive(std::size_t output, bool high) { put(output, {high ? Output::Kind::high : Output::Kind::low, 0, family_.ohms}); }
void LogicPart::driveVolts(std::size_t output, double volts, double ohms) { put(output, {Output::Kind::stands, volts, ohms}); }
void LogicPart::pullUp(std::size_t output, double ohms) { put(output, {Output::Kind::pulledUp, 0, ohms}); }
void LogicPart::release(std::size_t output) { put(output, {}); }

void LogicPart::put(std::size_t output, Output what)
{
    does_[output] = what;
    if (on_)
        apply(output);
}

void LogicPart::apply(std::size_t output)
{
    const Output& o = does_[output];
    circuit::Drive drive;
    if (on_ && o.kind != Output::Kind::floats) {
        const bool up = o.kind == Output::Kind::high || o.kind == Output::Kind::pulledUp;
        drive = {ground_ + (up ? supply_ : o.kind == Output::Kind::stands ? o.volts : 0), o.ohms};
    }
    circuit_.drive(outputs_[output], drive, cause_);
}

void LogicPart::pinChanged(circuit::PinId pin, bool level, kernel::Time at)
{
    if (!on_)
        return;
    for (std::size_t i = 0; i < inputs_.size(); ++i)
        if (inputs_[i] == pin)
            inputChanged(i, level, at);
}

double LogicPart::netVolts(circuit::PinId pin) const { return circuit_.voltage(circuit_.netOf(pin)).value; }

void LogicPart::voltageChanged(circuit::PinId pin, double, kernel::Time)
{
    if (pin != plus_ && pin != minus_ && pin != also_) {
        if (on_)
            supplyMoved();
        return;
    }
    followSupply();
}

void LogicPart::alsoFollow(circuit::PinId pin)
{
    also_ = pin;
    circuit_.watchVoltage(pin, this, {.step = 0.1});
}

void LogicPart::followSupply()
{
    const bool held = circuit_.stateOf(circuit_.netOf(plus_)) != circuit::NetState::floating && circuit_.stateOf(circuit_.netOf(minus_)) != circuit::NetState::floating;
    const double ground = netVolts(minus_);
    const double supply = held ? supplyFrom(netVolts(plus_) - ground) : 0;
    if (supply == supply_ && ground == ground_)
        return;
    supply_ = supply;
    ground_ = ground;
    const bool was = on_;
    on_ = supply_ >= family_.leastVolts;
    if (supply_ > family_.mostVolts)
        tell(true, "supply-too-high", fmt::format("{} has {:.3g} V between {} and its ground, more than its absolute maximum of {:g} V; give it less", id_, supply_, plusName_, family_.mostVolts));
    constexpr double kReversedVolts = 0.7;  // from here on the diodes inside conduct
    if (supply_ < -kReversedVolts)
        tell(true, "supply-reversed", fmt::format("{} has its supply the wrong way round, {:.3g} V between {} and its ground: silicon does not survive that; swap the two wires", id_, supply_, plusName_));
    if (on_)
        setThresholds();
    if (on_ != was) {
        if (!on_)
            does_.assign(does_.size(), {});
        powered(on_);
    }
    const circuit::Circuit::Batch together(circuit_);
    for (std::size_t i = 0; i < outputs_.size(); ++i)
        apply(i);
    if (on_ && was)
        supplyMoved();
}

void LogicPart::setThresholds()
{
    for (const circuit::PinId pin : inputs_)
        circuit_.setThresholds(pin, {ground_ + family_.lowShare * supply_, ground_ + family_.highShare * supply_});
}

void LogicPart::resume()
{
    if (on_)
        setThresholds();
    for (std::size_t i = 0; i < outputs_.size(); ++i)
        apply(i);
}

void LogicPart::takeMore(double amps) { circuit_.setResistance(load_, {usualVolts_ / std::max(takes_ + amps, kLeastTaken)}, cause_); }

void LogicPart::tell(bool error, std::string_view rule, std::string message)
{
    if (remark_)
        remark_({error, rule, std::move(message), circuit_.cause()});
}

}  // namespace bramix::parts
