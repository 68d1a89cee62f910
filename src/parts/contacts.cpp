#include "parts/contacts.h"

#include <algorithm>

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;

constexpr circuit::Ohms kContactOhms{0.05};

// One contact that is wanted open or closed and gets there by way of bounces.
class Contact {
public:
    Contact(PartContext& context, circuit::ElementId element, Duration bounce, std::string_view name)
        : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), element_(element), bounce_(bounce),
          random_(context.seed, context.id + "." + std::string(name)), alarm_(context.queue, [this](Time due) { ring(due); })
    {
    }

    void want(bool closed)
    {
        if (closed == wanted_)
            return;
        wanted_ = closed;
        settledAt_ = queue_.now() + (closed ? bounce_ : bounce_ / 3);
        put(closed);
        if (bounce_ > Duration::zero())
            next(queue_.now());
    }

    [[nodiscard]] bool wanted() const { return wanted_; }
    // The position at power-up: there without a bounce.
    void place(bool closed)
    {
        wanted_ = closed;
        put(closed);
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(wanted_, now_, settledAt_, random_, alarm_);
        if constexpr (Archive::kLoading)
            circuit_.setClosed(element_, now_, cause_);
    }

private:
    void put(bool closed)
    {
        now_ = closed;
        circuit_.setClosed(element_, closed, cause_);
    }

    // A stay is a twentieth to a fourth of the bounce time.
    void next(Time from)
    {
        const std::int64_t part = bounce_.count() / 20;
        const Time due = from + Duration(part + static_cast<std::int64_t>(random_.below(static_cast<std::uint64_t>(part) * 4 + 1)));
        alarm_.arm(std::min(due, std::max(settledAt_, from)));
    }

    void ring(Time due)
    {
        if (due >= settledAt_) {
            put(wanted_);
            return;
        }
        put(!now_);
        next(due);
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    circuit::ElementId element_;
    Duration bounce_;
    kernel::Random random_;
    kernel::Alarm alarm_;
    bool wanted_ = false;
    bool now_ = false;
    Time settledAt_{};
};

kernel::Result<Duration> bounceOf(const PartContext& context)
{
    const std::string text = context.setting("bounce");
    if (text == "off")
        return Duration::zero();
    auto bounce = kernel::parseDuration(text);
    if (!bounce) {
        bounce.error().where = context.id + ".bounce";
        bounce.error().next = "\"off\" is a value too";
    } else if (*bounce > std::chrono::seconds(1)) {
        return kernel::fail(context.id + ".bounce", "\"" + text + "\"; expected at most 1s, or \"off\"");
    }
    return bounce;
}

class PushButton final : public StatefulPart<PushButton> {
public:
    PushButton(PartContext& context, Duration bounce)
        : contact_(context, context.circuit.addSwitch(context.net("1"), context.net("2"), kContactOhms, context.id), bounce, "contact")
    {
    }

    void setControl(std::string_view, double value) override { contact_.want(value != 0); }
    [[nodiscard]] double control(std::string_view) const override { return contact_.wanted() ? 1 : 0; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(contact_);
    }

private:
    Contact contact_;
};

class SlideSwitch final : public StatefulPart<SlideSwitch> {
public:
    SlideSwitch(PartContext& context, Duration bounce)
        : a_(context, context.circuit.addSwitch(context.net("C"), context.net("A"), kContactOhms, context.id + " A"), bounce, "a"),
          b_(context, context.circuit.addSwitch(context.net("C"), context.net("B"), kContactOhms, context.id + " B"), bounce, "b"),
          circuit_(context.circuit)
    {
        a_.place(true);
    }

    // Breaks before it makes.
    void setControl(std::string_view, double value) override
    {
        const circuit::Circuit::Batch together(circuit_);
        (value != 0 ? a_ : b_).want(false);
        (value != 0 ? b_ : a_).want(true);
    }
    [[nodiscard]] double control(std::string_view) const override { return b_.wanted() ? 1 : 0; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(a_, b_);
    }

private:
    Contact a_;
    Contact b_;
    circuit::Circuit& circuit_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makePushButton(PartContext& context)
{
    const auto bounce = bounceOf(context);
    if (!bounce)
        return tl::unexpected(bounce.error());
    return std::make_unique<PushButton>(context, *bounce);
}

kernel::Result<std::unique_ptr<Part>> makeSlideSwitch(PartContext& context)
{
    const auto bounce = bounceOf(context);
    if (!bounce)
        return tl::unexpected(bounce.error());
    return std::make_unique<SlideSwitch>(context, *bounce);
}

}  // namespace bramix::parts
