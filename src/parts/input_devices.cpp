#include "parts/input_devices.h"

#include <cmath>

#include <fmt/format.h>

#include "parts/contact.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;

// Contacts that each belong to one control.
class Contacts final : public StatefulPart<Contacts> {
public:
    struct One {
        std::string control, a, b;
    };
    Contacts(PartContext& context, const std::vector<One>& ones, Duration bounce)
    {
        for (const One& one : ones) {
            names_.push_back(one.control);
            pins_.emplace_back(one.a, one.b);
            contacts_.push_back(std::make_unique<Contact>(context, context.circuit.addSwitch(context.net(one.a), context.net(one.b), kContactOhms, context.id + " " + one.control), bounce, one.control));
        }
    }
    void setControl(std::string_view name, double value) override
    {
        for (std::size_t i = 0; i < names_.size(); ++i)
            if (names_[i] == name)
                contacts_[i]->want(value != 0);
    }
    [[nodiscard]] double control(std::string_view name) const override
    {
        for (std::size_t i = 0; i < names_.size(); ++i)
            if (names_[i] == name)
                return contacts_[i]->wanted() ? 1 : 0;
        return 0;
    }

    [[nodiscard]] std::string why(std::string_view pin) const override
    {
        std::size_t last = names_.size();
        for (std::size_t i = 0; i < names_.size(); ++i)
            if ((pins_[i].first == pin || pins_[i].second == pin) && (last == names_.size() || contacts_[i]->changedAt() > contacts_[last]->changedAt()))
                last = i;
        return last == names_.size() ? std::string() : names_[last] + ": " + contacts_[last]->why();
    }

    template <class Archive>
    void state(Archive& ar)
    {
        for (const auto& c : contacts_)
            ar(*c);
    }

private:
    std::vector<std::string> names_;
    std::vector<std::pair<std::string, std::string>> pins_;
    std::vector<std::unique_ptr<Contact>> contacts_;
};

// A quarter turn of the contacts at a time: at rest both are open, a detent goes through all four states. CLK leads clockwise.
class Encoder final : public StatefulPart<Encoder> {
public:
    Encoder(PartContext& context, Duration bounce, double detentsPerSecond)
        : queue_(context.queue), quarter_(static_cast<std::int64_t>(1e12 / detentsPerSecond / 4)),
          clock_(context, context.circuit.addSwitch(context.net("CLK"), context.net("GND"), kContactOhms, context.id + " CLK"), bounce, "clk"),
          data_(context, context.circuit.addSwitch(context.net("DT"), context.net("GND"), kContactOhms, context.id + " DT"), bounce, "dt"),
          button_(context, context.circuit.addSwitch(context.net("SW"), context.net("GND"), kContactOhms, context.id + " SW"), bounce * 4, "sw"), step_(context.queue, [this](Time due) { step(due); })
    {
        for (const char* pin : {"CLK", "DT"})
            context.circuit.addResistor(context.net("+"), context.net(pin), {10'000}, context.id + " pull-up");
    }
    void setControl(std::string_view name, double value) override
    {
        if (name == "pressed") {
            button_.want(value != 0);
            return;
        }
        wanted_ = static_cast<std::int64_t>(std::lround(value)) * 4;
        if (wanted_ != at_ && !step_.armed())
            step_.arm(queue_.now());
    }
    [[nodiscard]] double control(std::string_view name) const override { return name == "pressed" ? (button_.wanted() ? 1 : 0) : static_cast<double>(wanted_) / 4; }
    [[nodiscard]] std::optional<double> angle() const override { return static_cast<double>(at_) / 4 * 18; }
    [[nodiscard]] std::string why(std::string_view pin) const override
    {
        if (pin == "SW")
            return button_.why();
        if (pin != "CLK" && pin != "DT")
            return {};
        return fmt::format("{}; it stands {} quarters of a detent from its start", (pin == "CLK" ? clock_ : data_).why(), at_);
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(clock_, data_, button_, wanted_, at_, step_);
    }

private:
    void step(Time due)
    {
        at_ += wanted_ > at_ ? 1 : -1;
        const auto phase = ((at_ % 4) + 4) % 4;
        clock_.want(phase == 1 || phase == 2);
        data_.want(phase == 2 || phase == 3);
        if (at_ != wanted_)
            step_.arm(due + quarter_);
    }

    kernel::EventQueue& queue_;
    Duration quarter_;
    Contact clock_, data_, button_;
    std::int64_t wanted_ = 0, at_ = 0;
    kernel::Alarm step_;
};

class Joystick final : public StatefulPart<Joystick> {
public:
    explicit Joystick(PartContext& context, Duration bounce)
        : circuit_(context.circuit), cause_(context.cause), button_(context, circuit_.addSwitch(context.net("SW"), context.net("GND"), kContactOhms, context.id + " SW"), bounce, "sw")
    {
        for (std::size_t i = 0; i < 2; ++i) {
            const char* const wiper = i == 0 ? "X" : "Y";
            upper_[i] = circuit_.addResistor(context.net("+"), context.net(wiper), {kOhms / 2}, context.id + " " + wiper);
            lower_[i] = circuit_.addResistor(context.net(wiper), context.net("GND"), {kOhms / 2}, context.id + " " + wiper);
        }
    }
    void setControl(std::string_view name, double value) override
    {
        if (name == "pressed") {
            button_.want(value != 0);
            return;
        }
        const std::size_t i = name == "x" ? 0 : 1;
        at_[i] = value;
        const double share = (value + 1) / 2;
        const circuit::Circuit::Batch together(circuit_);
        circuit_.setResistance(upper_[i], {std::max(kOhms * (1 - share), 5.0)}, cause_);
        circuit_.setResistance(lower_[i], {std::max(kOhms * share, 5.0)}, cause_);
    }
    [[nodiscard]] double control(std::string_view name) const override { return name == "pressed" ? (button_.wanted() ? 1 : 0) : at_[name == "x" ? 0 : 1]; }
    [[nodiscard]] std::string why(std::string_view pin) const override { return pin == "SW" ? button_.why() : std::string(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(at_, button_);
    }

private:
    static constexpr double kOhms = 10'000;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    std::array<circuit::ElementId, 2> upper_{}, lower_{};
    std::array<double, 2> at_{};
    Contact button_;
};

class LimitSwitch final : public StatefulPart<LimitSwitch> {
public:
    LimitSwitch(PartContext& context, Duration bounce)
        : circuit_(context.circuit), open_(context, circuit_.addSwitch(context.net("COM"), context.net("NO"), kContactOhms, context.id + " NO"), bounce, "no"),
          closed_(context, circuit_.addSwitch(context.net("COM"), context.net("NC"), kContactOhms, context.id + " NC"), bounce, "nc")
    {
        closed_.place(true);
    }
    void setControl(std::string_view, double value) override
    {
        const circuit::Circuit::Batch together(circuit_);
        (value != 0 ? closed_ : open_).want(false);
        (value != 0 ? open_ : closed_).want(true);
    }
    [[nodiscard]] double control(std::string_view) const override { return open_.wanted() ? 1 : 0; }
    [[nodiscard]] std::string why(std::string_view pin) const override { return pin == "NO" ? open_.why() : pin == "NC" ? closed_.why() : whyOf({&open_, &closed_}); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(open_, closed_);
    }

private:
    circuit::Circuit& circuit_;
    Contact open_, closed_;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeKeypad(PartContext& context)
{
    const auto bounce = bounceOf(context);
    if (!bounce)
        return tl::unexpected(bounce.error());
    constexpr std::string_view kKeys = "123A456B789C*0#D";
    std::vector<Contacts::One> ones;
    for (std::size_t i = 0; i < kKeys.size(); ++i)
        ones.push_back({std::string(1, kKeys[i]), fmt::format("R{}", i / 4 + 1), fmt::format("C{}", i % 4 + 1)});
    return std::make_unique<Contacts>(context, ones, *bounce);
}

kernel::Result<std::unique_ptr<Part>> makeEncoder(PartContext& context)
{
    const auto bounce = bounceOf(context);
    const auto speed = context.quantity("speed", kernel::Unit::none, 1, 500);
    if (!bounce)
        return tl::unexpected(bounce.error());
    if (!speed)
        return tl::unexpected(speed.error());
    return std::make_unique<Encoder>(context, *bounce, *speed);
}

kernel::Result<std::unique_ptr<Part>> makeJoystick(PartContext& context)
{
    const auto bounce = bounceOf(context);
    if (!bounce)
        return tl::unexpected(bounce.error());
    return std::make_unique<Joystick>(context, *bounce);
}

kernel::Result<std::unique_ptr<Part>> makeDipSwitch(PartContext& context)
{
    const auto bounce = bounceOf(context);
    if (!bounce)
        return tl::unexpected(bounce.error());
    std::vector<Contacts::One> ones;
    for (int i = 1; i <= 8; ++i)
        ones.push_back({fmt::format("{}", i), fmt::format("{}A", i), fmt::format("{}B", i)});
    return std::make_unique<Contacts>(context, ones, *bounce);
}

kernel::Result<std::unique_ptr<Part>> makeLimitSwitch(PartContext& context)
{
    const auto bounce = bounceOf(context);
    if (!bounce)
        return tl::unexpected(bounce.error());
    return std::make_unique<LimitSwitch>(context, *bounce);
}

}  // namespace bramix::parts
