#include "parts/multimeter.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace bramix::parts {

namespace {

// Between its leads: 10 MΩ for volts, the shunt for amperes, a source of its own for ohms.
class Multimeter final : public StatefulPart<Multimeter>, public circuit::ElementListener {
public:
    enum class Mode : std::uint8_t { volts, amps, ohms, continuity };

    Multimeter(PartContext& context, double shunt)
        : id_(context.id), circuit_(context.circuit), cause_(context.cause), remark_(context.remark), plus_(context.pin("+")), common_(context.pin("COM")), shunt_(shunt),
          between_(circuit_.addResistor(context.net("+"), context.net("COM"), {kInputOhms}, context.id))
    {
        circuit_.watchElement(between_, *this);
        heed();
    }

    // Told as it happens, whether or not anybody looks at the display.
    void elementChanged(circuit::ElementId, kernel::Time) override
    {
        if (mode_ != Mode::amps || !remark_)
            return;
        if (const double amps = std::fabs(circuit_.current(between_).value); amps > kShortAmps)
            remark_({true, "meter-short", fmt::format("{} measures current across a voltage: {} flows through it, a short circuit; put it in series, or set it to V", id_, kernel::formatQuantity(amps, kernel::Unit::ampere, 3)), circuit_.cause()});
    }

    void setControl(std::string_view, double value) override
    {
        mode_ = static_cast<Mode>(std::clamp(static_cast<int>(value), 0, 3));
        place();
    }
    [[nodiscard]] double control(std::string_view) const override { return static_cast<double>(mode_); }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return between_; }

    [[nodiscard]] std::string face() const override
    {
        const double volts = across();
        switch (mode_) {
        case Mode::volts: return floats() ? std::string("---- V") : kernel::formatQuantity(std::fabs(volts) < 5e-7 ? 0 : volts, kernel::Unit::volt);
        case Mode::amps: {
            const double amps = circuit_.current(between_).value;
            return kernel::formatQuantity(std::fabs(amps) < 5e-10 ? 0 : amps, kernel::Unit::ampere);
        }
        case Mode::ohms:
        case Mode::continuity: {
            // A meter of ohms needs a circuit without a voltage of its own.
            if (std::fabs(volts) > kPoweredVolts || std::fabs(circuit_.voltage(circuit_.netOf(plus_)).value) > kPoweredVolts)
                return "powered";
            const double ohms = resistance();
            if (mode_ == Mode::continuity)
                return ohms < kContinuityOhms ? "joined" : "open";
            return ohms > 1e8 ? "open" : kernel::formatQuantity(ohms, kernel::Unit::ohm);
        }
        }
        return {};
    }

    [[nodiscard]] std::vector<std::pair<std::string, double>> figures() const override
    {
        switch (mode_) {
        case Mode::volts:
            if (floats())
                return {};
            return {{"volts", across()}};
        case Mode::amps: return {{"amperes", circuit_.current(between_).value}};
        case Mode::ohms:
        case Mode::continuity: return {{"ohms", resistance()}};
        }
        return {};
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(mode_);
        if constexpr (Archive::kLoading)
            place();
    }

private:
    static constexpr double kInputOhms = 10e6;
    static constexpr double kShortAmps = 2;
    static constexpr double kPoweredVolts = 0.01;
    static constexpr double kContinuityOhms = 50;

    [[nodiscard]] double across() const { return circuit_.voltage(circuit_.netOf(plus_)).value - circuit_.voltage(circuit_.netOf(common_)).value; }
    [[nodiscard]] bool floats() const { return circuit_.stateOf(circuit_.netOf(plus_)) == circuit::NetState::floating && circuit_.stateOf(circuit_.netOf(common_)) == circuit::NetState::floating; }
    // Between the leads, with the meter's own 10 MΩ taken out again: 1/R = 1/Rmeasured - 1/Rinput.
    [[nodiscard]] double resistance() const
    {
        const double both = circuit_.resistanceBetween(circuit_.netOf(plus_), circuit_.netOf(common_)).value;
        return both >= kInputOhms * 0.999 ? 1e12 : 1 / (1 / both - 1 / kInputOhms);
    }
    // Only as amperes has it anything to tell.
    void heed()
    {
        const double most = mode_ == Mode::amps ? kShortAmps * shunt_ : 1e9;
        circuit_.setQuietRange(between_, -most, most);
    }
    void place()
    {
        heed();
        circuit_.setResistance(between_, {mode_ == Mode::amps ? shunt_ : kInputOhms}, cause_);
    }

    std::string id_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    std::function<void(const Remark&)> remark_;
    circuit::PinId plus_, common_;
    double shunt_;
    circuit::ElementId between_;
    Mode mode_ = Mode::volts;
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeMultimeter(PartContext& context)
{
    const auto shunt = context.quantity("shunt", kernel::Unit::ohm, 1e-4, 100);
    if (!shunt)
        return tl::unexpected(shunt.error());
    return std::make_unique<Multimeter>(context, *shunt);
}

}  // namespace bramix::parts
