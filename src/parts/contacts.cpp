#include "parts/contacts.h"

#include "parts/contact.h"

namespace bramix::parts {

namespace {

using kernel::Duration;

class PushButton final : public StatefulPart<PushButton> {
public:
    PushButton(PartContext& context, Duration bounce)
        : contact_(context, context.circuit.addSwitch(context.net("1"), context.net("2"), kContactOhms, context.id), bounce, "contact")
    {
    }

    void setControl(std::string_view, double value) override { contact_.want(value != 0); }
    [[nodiscard]] double control(std::string_view) const override { return contact_.wanted() ? 1 : 0; }
    [[nodiscard]] std::string why(std::string_view) const override { return contact_.why(); }

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
    [[nodiscard]] std::string why(std::string_view pin) const override { return pin == "A" ? a_.why() : pin == "B" ? b_.why() : whyOf({&a_, &b_}); }

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
