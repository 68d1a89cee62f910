#include "parts/amplifier.h"

#include <array>

#include <fmt/format.h>

namespace bramix::parts {

namespace {

constexpr double kUsualVolts = 5;        // between the supply pins, at which it takes what its setting says
constexpr double kReversedVolts = 0.7;  // from here on the diodes inside conduct

void tellReversed(const std::function<void(const Remark&)>& remark, const std::string& id, double volts, const circuit::Cause& cause)
{
    if (remark && volts < -kReversedVolts)
        remark({true, "supply-reversed", fmt::format("{} has its supply the wrong way round, {:.3g} V between V+ and V-: silicon does not survive that; swap the two wires", id, volts), cause});
}

class OpAmp final : public Part, private circuit::VoltageListener {
public:
    OpAmp(PartContext& context, circuit::ElementId element) : id_(context.id), circuit_(context.circuit), remark_(context.remark), top_(context.pin("V+")), bottom_(context.pin("V-")), element_(element)
    {
        circuit_.watchVoltage(top_, this, {.step = 0.5});
        circuit_.watchVoltage(bottom_, this, {.step = 0.5});
    }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

private:
    void voltageChanged(circuit::PinId, double, kernel::Time) override
    {
        tellReversed(remark_, id_, circuit_.voltage(circuit_.netOf(top_)).value - circuit_.voltage(circuit_.netOf(bottom_)).value, circuit_.cause());
    }

    std::string id_;
    circuit::Circuit& circuit_;
    std::function<void(const Remark&)> remark_;
    circuit::PinId top_, bottom_;
    circuit::ElementId element_;
};

// Looks at every passing of its inputs, in simulated time, and answers after its delay.
class Comparator final : public StatefulPart<Comparator>, public circuit::VoltageListener {
public:
    Comparator(PartContext& context, bool pushPull, double hysteresis, kernel::Duration delay, double outputOhms)
        : id_(context.id), remark_(context.remark), outputOhms_(outputOhms), circuit_(context.circuit), cause_(context.cause), plus_(context.pin("+")), minus_(context.pin("-")), out_(context.pin("OUT")), top_(context.pin("V+")), bottom_(context.pin("V-")),
          pushPull_(pushPull), hysteresis_(hysteresis), delay_(delay), alarm_(context.queue, [this](kernel::Time) { answer(); })
    {
        circuit_.watchVoltage(plus_, this, {.against = minus_, .offset = threshold()});
        circuit_.watchVoltage(minus_, this, {.against = plus_, .offset = -threshold()});
        circuit_.watchVoltage(top_, this, {.step = 0.05});
        circuit_.watchVoltage(bottom_, this, {.step = 0.05});
    }

    void voltageChanged(circuit::PinId pin, double, kernel::Time at) override
    {
        if (pin == top_ || pin == bottom_)
            tellReversed(remark_, id_, volts(top_) - volts(bottom_), circuit_.cause());
        if ((pin == top_ || pin == bottom_ || wanted() != high_ || !shown_) && !alarm_.armed())
            alarm_.arm(at + delay_);
    }

    [[nodiscard]] std::string why(std::string_view) const override
    {
        return fmt::format("its + had {} of its -, {} before", high_ ? "come above the voltage" : "fallen below the voltage", kernel::formatQuantity(kernel::seconds(delay_), kernel::Unit::second));
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(high_, shown_, alarm_);
        if constexpr (Archive::kLoading)
            put();
    }

private:
    [[nodiscard]] double volts(circuit::PinId pin) const { return circuit_.voltage(circuit_.netOf(pin)).value; }
    [[nodiscard]] bool wanted() const
    {
        return volts(plus_) - volts(minus_) > threshold();
    }
    // What + has to be above - for the output to change: half the hysteresis, one way or the other.
    [[nodiscard]] double threshold() const { return high_ ? -hysteresis_ / 2 : hysteresis_ / 2; }
    void answer()
    {
        high_ = wanted();
        shown_ = true;
        put();
    }
    void put()
    {
        circuit_.setWatchOffset(plus_, threshold());
        circuit_.setWatchOffset(minus_, -threshold());
        if (!shown_ || volts(top_) - volts(bottom_) < 1.8)
            circuit_.drive(out_, circuit::kFloating, cause_);
        else if (high_)
            circuit_.drive(out_, pushPull_ ? circuit::Drive{volts(top_), outputOhms_} : circuit::kFloating, cause_);
        else
            circuit_.drive(out_, {volts(bottom_), outputOhms_}, cause_);
    }

    std::string id_;
    std::function<void(const Remark&)> remark_;
    double outputOhms_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    circuit::PinId plus_, minus_, out_, top_, bottom_;
    bool pushPull_;
    double hysteresis_;
    kernel::Duration delay_;
    kernel::Alarm alarm_;
    bool high_ = false;
    bool shown_ = false;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeOpAmp(PartContext& context)
{
    const auto bandwidth = context.quantity("bandwidth", kernel::Unit::hertz, 1e3, 1e9);
    const auto slew = context.quantity("slew", kernel::Unit::none, 0.001, 10'000);
    const auto headroom = context.quantity("headroom", kernel::Unit::volt, 0.001, 3);
    for (const auto* q : {&bandwidth, &slew, &headroom})
        if (!*q)
            return tl::unexpected(q->error());
    const auto gain = context.quantity("gain", kernel::Unit::none, 10, 1e9);
    const auto ohms = context.quantity("output-resistance", kernel::Unit::ohm, 0.1, 1e5);
    const auto input = context.quantity("input-resistance", kernel::Unit::ohm, 1e3, 1e12);
    const auto takes = context.quantity("takes", kernel::Unit::ampere, 1e-9, 1);
    for (const auto* q : {&gain, &ohms, &input, &takes})
        if (!*q)
            return tl::unexpected(q->error());
    circuit::OpAmpModel model;
    model.gain = *gain;
    model.outputOhms = *ohms;
    model.bleedOhms = *input;
    model.supplyOhms = kUsualVolts / *takes;
    model.bandwidthHz = *bandwidth;
    model.voltsPerSecond = *slew * 1e6;
    model.headroomVolts = *headroom;
    const std::array nets{context.net("+"), context.net("-"), context.net("OUT"), context.net("V+"), context.net("V-"), circuit::kNoNet};
    const auto element = context.circuit.addDevice(std::make_unique<circuit::OpAmpDevice>(model), nets, context.id);
    context.circuit.addInnerCapacitor(element, 5, {circuit::OpAmpModel::kInnerFarads});
    return std::make_unique<OpAmp>(context, element);
}

kernel::Result<std::unique_ptr<Part>> makeComparator(PartContext& context)
{
    const auto hysteresis = context.quantity("hysteresis", kernel::Unit::volt, 0, 2);
    if (!hysteresis)
        return tl::unexpected(hysteresis.error());
    const auto ohms = context.quantity("output-resistance", kernel::Unit::ohm, 1, 1e5);
    if (!ohms)
        return tl::unexpected(ohms.error());
    auto delay = kernel::parseDuration(context.setting("delay"));
    if (!delay) {
        delay.error().where = context.id + ".delay";
        return tl::unexpected(delay.error());
    }
    return std::make_unique<Comparator>(context, context.setting("output") == "push-pull", *hysteresis, std::max(*delay, kernel::Duration(1000)), *ohms);
}

}  // namespace bramix::parts
