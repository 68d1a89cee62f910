#include "parts/amplifier.h"

#include <array>

#include <fmt/format.h>

namespace bramix::parts {

namespace {

class OpAmp final : public Part {
public:
    explicit OpAmp(circuit::ElementId element) : element_(element) {}
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }

private:
    circuit::ElementId element_;
};

// Looks at every passing of its inputs, in simulated time, and answers after its delay.
class Comparator final : public StatefulPart<Comparator>, public circuit::VoltageListener {
public:
    Comparator(PartContext& context, bool pushPull, double hysteresis, kernel::Duration delay)
        : circuit_(context.circuit), cause_(context.cause), plus_(context.pin("+")), minus_(context.pin("-")), out_(context.pin("OUT")), top_(context.pin("V+")), bottom_(context.pin("V-")),
          pushPull_(pushPull), hysteresis_(hysteresis), delay_(delay), alarm_(context.queue, [this](kernel::Time) { answer(); })
    {
        // A passing of the other input's voltage, and every move of half the hysteresis besides, so that the shifted threshold is not missed.
        const double step = hysteresis_ > 0 ? hysteresis_ / 2 : 0.001;
        circuit_.watchVoltage(plus_, this, {.step = step, .against = minus_});
        circuit_.watchVoltage(minus_, this, {.step = step, .against = plus_});
        circuit_.watchVoltage(top_, this, {.step = 0.05});
        circuit_.watchVoltage(bottom_, this, {.step = 0.05});
    }

    void voltageChanged(circuit::PinId pin, double, kernel::Time at) override
    {
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
        const double difference = volts(plus_) - volts(minus_);
        return difference > (high_ ? -hysteresis_ / 2 : hysteresis_ / 2);
    }
    void answer()
    {
        high_ = wanted();
        shown_ = true;
        put();
    }
    void put()
    {
        constexpr double kOutputOhms = 60;
        if (!shown_ || volts(top_) - volts(bottom_) < 1.8)
            circuit_.drive(out_, circuit::kFloating, cause_);
        else if (high_)
            circuit_.drive(out_, pushPull_ ? circuit::Drive{volts(top_), kOutputOhms} : circuit::kFloating, cause_);
        else
            circuit_.drive(out_, {volts(bottom_), kOutputOhms}, cause_);
    }

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
    circuit::OpAmpModel model;
    model.bandwidthHz = *bandwidth;
    model.voltsPerSecond = *slew * 1e6;
    model.headroomVolts = *headroom;
    const std::array nets{context.net("+"), context.net("-"), context.net("OUT"), context.net("V+"), context.net("V-"), circuit::kNoNet};
    const auto element = context.circuit.addDevice(std::make_unique<circuit::OpAmpDevice>(model), nets, context.id);
    context.circuit.addInnerCapacitor(element, 5, {circuit::OpAmpModel::kInnerFarads});
    return std::make_unique<OpAmp>(element);
}

kernel::Result<std::unique_ptr<Part>> makeComparator(PartContext& context)
{
    const auto hysteresis = context.quantity("hysteresis", kernel::Unit::volt, 0, 2);
    if (!hysteresis)
        return tl::unexpected(hysteresis.error());
    auto delay = kernel::parseDuration(context.setting("delay"));
    if (!delay) {
        delay.error().where = context.id + ".delay";
        return tl::unexpected(delay.error());
    }
    return std::make_unique<Comparator>(context, context.setting("output") == "push-pull", *hysteresis, std::max(*delay, kernel::Duration(1000)));
}

}  // namespace bramix::parts
