#include "parts/actuators.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "parts/logic.h"

namespace bramix::parts {

namespace {

using kernel::Duration;
using kernel::Time;
using kernel::Unit;
using namespace std::chrono_literals;

constexpr LogicFamily kServo{.leastVolts = 4.0, .mostVolts = 7.5, .lowShare = 0.2, .highShare = 0.45};
constexpr LogicFamily kBridge{.leastVolts = 4.5, .mostVolts = 7.0, .lowShare = 0.16, .highShare = 0.46};
constexpr LogicFamily kStepper{.leastVolts = 4.0, .mostVolts = 13.0, .lowShare = 0.2, .highShare = 0.5};

// The pulse says where to; the horn goes there at its own speed. Without pulses it stands where it is. Pulses beyond those of its range's ends turn it to the end, up to
// the limits of what it understands as a pulse.
class Servo final : public LogicPart {
public:
    Servo(PartContext& context, double least, double most, double shortest, double longest, double range, double perSixty, double moving)
        : LogicPart(context, kServo), least_(least), most_(most), shortest_(shortest), longest_(longest), range_(range), speed_(60 / perSixty), moving_(moving), position_(range / 2), target_(range / 2), there_(context.queue, [this](Time) { takeMore(0); })
    {
        addInput(context, "SIG");
    }
    [[nodiscard]] std::optional<double> angle() const override { return at(queue_.now()); }
    [[nodiscard]] std::string face() const override { return fmt::format("{:.1f}°", at(queue_.now())); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(position_, target_, since_, roseAt_, pulses_, there_);
    }
    [[nodiscard]] double at(Time now) const
    {
        if (!on())
            return position_;
        const double way = speed_ * kernel::seconds(now - since_);
        return position_ + std::clamp(target_ - position_, -way, way);
    }
    void powered(bool on) override
    {
        if (!on)
            position_ = at(queue_.now());
        target_ = position_;
        since_ = queue_.now();
        pulses_ = 0;
        there_.disarm();
        takeMore(0);
    }
    void inputChanged(std::size_t, bool high, Time now) override
    {
        if (high) {
            const Duration period = now - roseAt_;
            if (pulses_ > 0 && period < 3ms)
                tell(false, "servo-pulse", fmt::format("{} gets a pulse every {}; it is made for one every 20 ms, and jitters", id_, kernel::formatQuantity(kernel::seconds(period), Unit::second, 3)));
            roseAt_ = now;
            ++pulses_;
            return;
        }
        if (pulses_ == 0)
            return;
        const double width = kernel::seconds(now - roseAt_);
        const double share = (width - least_) / (most_ - least_);
        if (width < shortest_ || width > longest_) {
            tell(false, "servo-pulse", fmt::format("{} got a pulse of {}; it understands {} to {}: it stays where it is", id_, kernel::formatQuantity(width, Unit::second, 3), kernel::formatQuantity(shortest_, Unit::second),
                                                   kernel::formatQuantity(longest_, Unit::second)));
            return;
        }
        position_ = at(now);
        since_ = now;
        target_ = std::clamp(share, 0.0, 1.0) * range_;
        // It takes the more until it is there; a twitch of less than half a degree is not worth telling.
        const double way = std::fabs(target_ - position_);
        if (way < 0.5 && !there_.armed())
            return;
        takeMore(way > 0 ? moving_ : 0);
        there_.arm(now + Duration(static_cast<std::int64_t>(way / speed_ * 1e12)));
    }

    double least_, most_, shortest_, longest_, range_, speed_, moving_;
    double position_, target_;
    Time since_{}, roseAt_{};
    std::uint32_t pulses_ = 0;
    kernel::Alarm there_;
};

// A winding and a voltage that grows with the speed; the speed follows current and load with its inertia, in steps of a millisecond.
class Motor final : public StatefulPart<Motor>, private circuit::ElementListener {
public:
    Motor(PartContext& context, double volts, double idle, double stall, double speed, double inertia)
        : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), ohms_(volts / stall), idle_(idle), stall_(stall), speedPerVolt_(speed / (volts - idle * volts / stall)), inertia_(inertia),
          element_(circuit_.addSource(context.net("+"), context.net("-"), {0}, {volts / stall}, context.id)), step_(context.queue, [this](Time due) { step(due); })
    {
        circuit_.watchElement(element_, *this);
    }
    void setControl(std::string_view, double value) override
    {
        load_ = value;
        wake();
    }
    [[nodiscard]] double control(std::string_view) const override { return load_; }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }
    [[nodiscard]] std::optional<double> angle() const override { return std::fmod(turns_, 1.0) * 360; }
    [[nodiscard]] std::string face() const override { return fmt::format("{:.0f} turns a minute", speed_); }
    [[nodiscard]] std::string why(std::string_view) const override
    {
        return fmt::format("it turns {:.0f} times a minute and gives {}", speed_, kernel::formatQuantity(std::round(speed_ / speedPerVolt_ * 1000) / 1000, Unit::volt, 3));
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(load_, speed_, turns_, step_);
    }

private:
    static constexpr Duration kStep = 1ms;
    void elementChanged(circuit::ElementId, Time) override { wake(); }
    void wake()
    {
        if (!step_.armed())
            step_.arm(queue_.now() + kStep);
    }
    void step(Time due)
    {
        const double dt = kernel::seconds(kStep);
        const double amps = -circuit_.current(element_).value;  // a source's is what it gives
        // Torque in amperes: what flows, less friction and load against the turning.
        const double drag = idle_ + load_ * (stall_ - idle_);
        double torque = amps;
        if (std::fabs(speed_) > 0.5)
            torque -= std::copysign(drag, speed_);
        else
            torque = std::fabs(amps) > drag ? amps - std::copysign(drag, amps) : 0;
        // Inertia is the time constant of running up without load.
        const double change = torque * ohms_ * speedPerVolt_ * dt / inertia_;
        const double before = speed_;
        speed_ = std::fabs(speed_) <= 0.5 && torque == 0 ? 0 : speed_ + change;
        if (before * speed_ < 0 && std::fabs(amps) <= drag)
            speed_ = 0;
        turns_ += speed_ / 60 * dt;
        circuit_.setSource(element_, {speed_ / speedPerVolt_}, cause_);
        if (speed_ != 0 || std::fabs(amps) > drag)
            step_.arm(due + kStep);
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    double ohms_, idle_, stall_;
    double speedPerVolt_;  // turns a minute
    double inertia_;
    double load_ = 0;
    double speed_ = 0;
    double turns_ = 0;
    circuit::ElementId element_;
    kernel::Alarm step_;
};

// Each output is a switch to the motor's supply and one to ground, of as many ohms as its transistors drop at 600 mA (1.4 V); diodes take what a coil gives back.
class Bridge final : public LogicPart {
public:
    explicit Bridge(PartContext& context) : LogicPart(context, kBridge)
    {
        for (const char* pin : {"EN", "IN1", "IN2"})
            addInput(context, pin);
        const circuit::DiodeModel diode = circuit::DiodeModel::through({1.0}, {0.6}, 1.6, {0.2});
        for (std::size_t i = 0; i < 2; ++i) {
            const char* const pin = i == 0 ? "OUT1" : "OUT2";
            upper_[i] = circuit_.addSwitch(context.net("VM"), context.net(pin), {kOhms}, context.id + " upper");
            lower_[i] = circuit_.addSwitch(context.net(pin), context.net("GND"), {kOhms}, context.id + " lower");
            circuit_.addDiode(context.net(pin), context.net("VM"), diode, context.id + " diode");
            circuit_.addDiode(context.net("GND"), context.net(pin), diode, context.id + " diode");
        }
    }
    [[nodiscard]] std::string why(std::string_view pin) const override
    {
        if (pin != "OUT1" && pin != "OUT2")
            return {};
        if (!on() || !level(0))
            return on() ? "EN is low: both its switches are open" : "it is off: both its switches are open";
        return level(pin == "OUT1" ? 1 : 2) ? "its upper switch is closed" : "its lower switch is closed";
    }
    void save(kernel::SaveArchive& ar) override { logicState(ar); }
    void load(kernel::LoadArchive& ar) override { logicState(ar); }

private:
    static constexpr double kOhms = 2.3;
    void powered(bool) override { show(); }
    void inputChanged(std::size_t, bool, Time) override { show(); }
    void show()
    {
        const circuit::Circuit::Batch together(circuit_);
        for (std::size_t i = 0; i < 2; ++i) {
            const bool enabled = on() && level(0);
            circuit_.setClosed(upper_[i], enabled && level(1 + i), cause_);
            circuit_.setClosed(lower_[i], enabled && !level(1 + i), cause_);
        }
    }

    std::array<circuit::ElementId, 2> upper_{}, lower_{};
};

// Eight half steps a cycle; the rotor follows to the neighbouring one, if it is given the time. Coils that change one after the other within
// kSettle, as firmware writes them, are one change: the currents take longer than that to rise.
class Stepper final : public LogicPart {
public:
    Stepper(PartContext& context, double steps) : LogicPart(context, kStepper), steps_(steps), look_(context.queue, [this](Time due) { look(due - kSettle); })
    {
        for (const char* pin : {"IN1", "IN2", "IN3", "IN4"})
            addInput(context, pin);
    }
    [[nodiscard]] std::optional<double> angle() const override { return static_cast<double>(position_) / steps_ * 360; }
    [[nodiscard]] std::string face() const override { return fmt::format("{:.1f}°, {} half steps", static_cast<double>(position_) / steps_ * 360, position_); }
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

private:
    static constexpr Duration kFastest = 600us;  // a half step
    static constexpr Duration kSettle = 50us;
    static constexpr double kCoilAmps = 0.084;   // 50 Ω behind a transistor that keeps 0.8 V

    template <class Archive>
    void state(Archive& ar)
    {
        logicState(ar);
        ar(position_, phase_, movedAt_, look_);
    }
    void powered(bool) override
    {
        phase_ = -1;
        look_.disarm();
        takeMore(0);
    }
    void inputChanged(std::size_t, bool, Time at) override { look_.arm(at + kSettle); }
    void look(Time at)
    {
        takeMore(kCoilAmps * (level(0) + level(1) + level(2) + level(3)));
        const unsigned coils = (level(0) ? 1U : 0U) | (level(1) ? 2U : 0U) | (level(2) ? 4U : 0U) | (level(3) ? 8U : 0U);
        constexpr std::array<int, 16> kPhase{-1, 0, 2, 1, 4, -2, 3, -2, 6, 7, -2, -2, 5, -2, -2, -2};
        const int wanted = kPhase[coils];
        if (wanted < 0)
            return;  // no coil, or coils against each other: it stays
        if (phase_ < 0) {
            phase_ = wanted;
            return;
        }
        const int turn = (wanted - phase_ + 8) % 8;
        if (turn == 0)
            return;
        if (turn == 4) {
            tell(false, "step-lost", id_ + " was asked for half a cycle at once: it cannot tell which way, and stays");
            return;
        }
        const int by = turn < 4 ? turn : turn - 8;
        if (at - movedAt_ < kFastest * std::abs(by)) {
            tell(false, "step-lost", fmt::format("{} was asked for its next step after {}; it needs {} a half step, and lost it", id_, kernel::formatQuantity(kernel::seconds(at - movedAt_), Unit::second, 3),
                                                 kernel::formatQuantity(kernel::seconds(kFastest), Unit::second)));
            return;
        }
        phase_ = wanted;
        position_ += by;
        movedAt_ = at;
    }

    double steps_;
    std::int64_t position_ = 0;
    int phase_ = -1;
    Time movedAt_{Duration(-1s)};
    kernel::Alarm look_;
};

// Pulls in at three quarters of its rated voltage, lets go at a tenth; the armature takes its time, the contact bounces.
class Relay final : public StatefulPart<Relay>, private circuit::ElementListener {
public:
    Relay(PartContext& context, double volts, double ohms, double henries, Duration bounce)
        : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), pull_(0.75 * volts / ohms), hold_(0.10 * volts / ohms), bounce_(bounce),
          coil_(circuit_.addInductor(context.net("1"), context.net("2"), {henries}, {ohms}, {100'000}, context.id)),
          open_(circuit_.addSwitch(context.net("COM"), context.net("NO"), {0.05}, context.id + " NO")), closed_(circuit_.addSwitch(context.net("COM"), context.net("NC"), {0.05}, context.id + " NC")),
          random_(context.seed, context.id), look_(context.queue, [this](Time due) { look(due); }), move_(context.queue, [this](Time due) { move(due); })
    {
        circuit_.watchElement(coil_, *this);
        circuit_.setClosed(closed_, true, cause_);
    }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return coil_; }
    [[nodiscard]] std::string face() const override { return in_ ? "pulled in" : "released"; }
    [[nodiscard]] std::string why(std::string_view pin) const override
    {
        if (pin == "1" || pin == "2")
            return {};
        const std::string moved = in_ ? "its coil has pulled in" : "its coil has let go";
        return bouncing_ ? moved + fmt::format(": the contact bounces, {} just now", touch_ ? "closed" : "open") : moved;
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(wanted_, in_, bouncing_, touch_, settledAt_, last_, random_, look_, move_);
    }

private:
    static constexpr Duration kLook = 200us, kOperate = 7ms, kRelease = 3ms;

    void elementChanged(circuit::ElementId, Time) override
    {
        if (!look_.armed())
            look_.arm(queue_.now() + kLook);
    }
    // While the current runs along its exponential nobody tells; it is looked at until it stands.
    void look(Time due)
    {
        const double amps = std::fabs(circuit_.current(coil_).value);
        const bool wanted = amps > pull_ || (wanted_ && amps > hold_);
        if (wanted != wanted_) {
            wanted_ = wanted;
            move_.arm(due + (wanted ? kOperate : kRelease));
            bouncing_ = false;
        }
        if (std::fabs(amps - last_) > pull_ * 1e-3)
            look_.arm(due + kLook);
        last_ = amps;
    }
    void move(Time due)
    {
        if (in_ != wanted_) {
            in_ = wanted_;
            settledAt_ = due + bounce_;
            bouncing_ = bounce_ > Duration::zero();
            circuit_.setClosed(in_ ? closed_ : open_, false, cause_);
            circuit_.setClosed(in_ ? open_ : closed_, true, cause_);
        } else if (bouncing_) {
            touch_ = due >= settledAt_ || !touch_;
            circuit_.setClosed(in_ ? open_ : closed_, touch_, cause_);
            bouncing_ = due < settledAt_;
        }
        if (bouncing_) {
            const std::int64_t part = bounce_.count() / 12;
            move_.arm(std::min(due + Duration(part + static_cast<std::int64_t>(random_.below(static_cast<std::uint64_t>(part) * 3 + 1))), settledAt_));
        }
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    double pull_, hold_;
    Duration bounce_;
    circuit::ElementId coil_, open_, closed_;
    kernel::Random random_;
    bool wanted_ = false, in_ = false, bouncing_ = false, touch_ = true;
    Time settledAt_{};
    double last_ = 0;
    kernel::Alarm look_, move_;
};

// An active one is an oscillator of its own; a passive one sounds as its voltage swings.
class Buzzer final : public StatefulPart<Buzzer>, private circuit::VoltageListener {
public:
    Buzzer(PartContext& context, bool active)
        : queue_(context.queue), circuit_(context.circuit), active_(active), plus_(context.pin("+")), minus_(context.pin("-")),
          element_(circuit_.addResistor(context.net("+"), context.net("-"), {active ? 180.0 : 1000.0}, context.id))
    {
        circuit_.watchVoltage(plus_, this, {.step = 0.5});
        circuit_.watchVoltage(minus_, this, {.step = 0.5});
    }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return element_; }
    [[nodiscard]] std::string face() const override
    {
        if (active_)
            return across() > kSounds ? "2.3 kHz" : "silent";
        // Silent when no swing has come for two of its periods.
        if (period_ == Duration::zero() || queue_.now() - roseAt_ > 2 * period_ + Duration(1ms))
            return "silent";
        return kernel::formatQuantity(std::round(100 / kernel::seconds(period_)) / 100, Unit::hertz, 4);
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(high_, roseAt_, period_);
    }

private:
    static constexpr double kSounds = 2.5;
    [[nodiscard]] double across() const { return circuit_.voltage(circuit_.netOf(plus_)).value - circuit_.voltage(circuit_.netOf(minus_)).value; }
    void voltageChanged(circuit::PinId, double, Time at) override
    {
        const double v = across();
        if (high_ ? v > 0.8 : v < 1.6)
            return;
        high_ = !high_;
        if (!high_)
            return;
        const Duration period = at - roseAt_;
        // What an ear hears.
        period_ = period >= 50us && period <= 50ms ? period : Duration::zero();
        roseAt_ = at;
    }

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    bool active_;
    circuit::PinId plus_, minus_;
    circuit::ElementId element_;
    bool high_ = false;
    Time roseAt_{};
    Duration period_{};
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeServo(PartContext& context)
{
    const auto least = context.quantity("least", Unit::second, 0.0002, 0.0014), most = context.quantity("most", Unit::second, 0.0016, 0.003), speed = context.quantity("speed", Unit::second, 0.01, 10);
    const auto range = context.quantity("range", Unit::none, 10, 360);
    const auto moving = context.quantity("moving", Unit::ampere, 0, 5);
    const auto shortest = context.quantity("shortest", Unit::second, 0.0001, 0.0014), longest = context.quantity("longest", Unit::second, 0.0016, 0.004);
    for (const auto* q : {&least, &most, &shortest, &longest, &speed, &range, &moving})
        if (!*q)
            return tl::unexpected(q->error());
    return std::make_unique<Servo>(context, *least, *most, *shortest, *longest, *range, *speed, *moving);
}

kernel::Result<std::unique_ptr<Part>> makeMotor(PartContext& context)
{
    const auto volts = context.quantity("volts", Unit::volt, 0.5, 48);
    const auto idle = context.quantity("current", Unit::ampere, 0.001, 10);
    const auto stall = context.quantity("stall", Unit::ampere, 0.01, 100);
    const auto speed = context.quantity("speed", Unit::none, 10, 100'000);
    const auto inertia = context.quantity("inertia", Unit::second, 0.005, 100);
    for (const auto* q : {&volts, &idle, &stall, &speed, &inertia})
        if (!*q)
            return tl::unexpected(q->error());
    if (*idle >= *stall / 2)
        return kernel::fail(context.id + ".current", "is more than half of the stall current; expected less");
    return std::make_unique<Motor>(context, *volts, *idle, *stall, *speed, *inertia);
}

kernel::Result<std::unique_ptr<Part>> makeBridge(PartContext& context) { return std::make_unique<Bridge>(context); }

kernel::Result<std::unique_ptr<Part>> makeStepper(PartContext& context)
{
    const auto steps = context.quantity("steps", Unit::none, 8, 100'000);
    if (!steps)
        return tl::unexpected(steps.error());
    return std::make_unique<Stepper>(context, *steps);
}

kernel::Result<std::unique_ptr<Part>> makeRelay(PartContext& context)
{
    const auto volts = context.quantity("coil", Unit::volt, 1, 250);
    const auto ohms = context.quantity("resistance", Unit::ohm, 5, 100'000);
    const auto henries = context.quantity("inductance", Unit::henry, 0.001, 10);
    for (const auto* q : {&volts, &ohms, &henries})
        if (!*q)
            return tl::unexpected(q->error());
    const std::string text = context.setting("bounce");
    const auto bounce = text == "off" ? kernel::Result<Duration>(Duration::zero()) : kernel::parseDuration(text);
    if (!bounce)
        return kernel::fail(context.id + ".bounce", bounce.error().what, "\"off\" is a value too");
    return std::make_unique<Relay>(context, *volts, *ohms, *henries, *bounce);
}

kernel::Result<std::unique_ptr<Part>> makeBuzzer(PartContext& context)
{
    const std::string kind = context.setting("kind");
    if (kind != "active" && kind != "passive")
        return kernel::fail(context.id + ".kind", "\"" + kind + "\"; expected active or passive");
    return std::make_unique<Buzzer>(context, kind == "active");
}

}  // namespace bramix::parts
