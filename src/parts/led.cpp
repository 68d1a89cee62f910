#include "parts/led.h"

#include <array>

#include "parts/wear.h"

namespace bramix::parts {

namespace {

// Typical 5 mm indicators: forward voltage at 20 mA by chip material (GaAsP, AlInGaP, InGaN), ideality of such junctions, and
// the ohmic part of the curve above the knee.
struct Color {
    std::string_view name;
    double forwardVolts;
    double ideality;
    double seriesOhms;
};

constexpr std::array kColors{
    Color{"red", 1.95, 1.8, 6},   Color{"amber", 2.05, 1.8, 6}, Color{"yellow", 2.1, 1.9, 7}, Color{"green", 2.15, 2.0, 8},
    Color{"blue", 3.15, 2.6, 10}, Color{"white", 3.15, 2.6, 10}, Color{"infrared", 1.25, 1.5, 2},
};

constexpr double kRatedAmps = 0.020;  // shines fully
constexpr double kMostAmps = 0.030;   // for good
constexpr double kBreakdownVolts = 7; // a typical one stands somewhat more than the usual guarantee of 5 V
constexpr double kLeakAmps = 100e-9;  // and leaks a hundredth of what is guaranteed
constexpr double kLeakVolts = 5;      // at this voltage

class Led final : public StatefulPart<Led> {
public:
    Led(PartContext& context, const circuit::DiodeModel& model, double rated, double limit)
        : model_(model), light_{context.circuit.addDiode(context.net("A"), context.net("K"), model, context.id), rated, {}, context.setting("color")},
          wear_(context, light_.element, {.amps = limit, .margin = 2.5, .seconds = 0.4, .remedy = "put a resistor in series"})
    {
    }

    [[nodiscard]] std::vector<Light> lights() const override { return {light_}; }
    [[nodiscard]] const circuit::DiodeModel* diode() const override { return &model_; }
    [[nodiscard]] bool dead() const override { return wear_.dead(); }
    void replace() override { wear_.replace(); }
    [[nodiscard]] std::optional<circuit::ElementId> mainElement() const override { return light_.element; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(wear_);
    }

private:
    circuit::DiodeModel model_;
    Light light_;
    Wear wear_;
};

circuit::DiodeModel modelOf(const Color& color, double volts, double amps, double ohms)
{
    auto model = circuit::DiodeModel::through({volts}, {amps}, color.ideality, {ohms});
    model.breakdownVolts = kBreakdownVolts;
    model.leakSiemens = kLeakAmps / kLeakVolts;
    return model;
}

}  // namespace

std::optional<circuit::DiodeModel> typicalLed(std::string_view name)
{
    for (const Color& color : kColors)
        if (color.name == name)
            return modelOf(color, color.forwardVolts, kRatedAmps, color.seriesOhms);
    return std::nullopt;
}

kernel::Result<std::unique_ptr<Part>> makeLed(PartContext& context)
{
    const std::string wanted = context.setting("color");
    for (const Color& color : kColors) {
        if (color.name != wanted)
            continue;
        const auto forward = context.typicalOr("forward", kernel::Unit::volt, 0.5, 20);
        const auto rated = context.typicalOr("current", kernel::Unit::ampere, 1e-5, 10);
        const auto series = context.typicalOr("series", kernel::Unit::ohm, 0.01, 1000);
        const auto limit = context.typicalOr("limit", kernel::Unit::ampere, 1e-5, 20);
        const auto leakage = context.typicalOr("leakage", kernel::Unit::ampere, 0, 1e-3);
        const auto breakdown = context.typicalOr("breakdown", kernel::Unit::volt, 1, 500);
        for (const auto* q : {&forward, &rated, &series, &limit, &leakage, &breakdown})
            if (!*q)
                return tl::unexpected(q->error());
        const double volts = forward->value_or(color.forwardVolts);
        const double amps = rated->value_or(kRatedAmps);
        const double ohms = series->value_or(color.seriesOhms * kRatedAmps / amps);
        if (amps * ohms > 0.8 * volts)
            return kernel::fail(context.id + ".series", "drops nearly all of the forward voltage at the rated current; expected less resistance");
        circuit::DiodeModel model = modelOf(color, volts, amps, ohms);
        model.leakSiemens = leakage->value_or(kLeakAmps) / kLeakVolts;
        model.breakdownVolts = breakdown->value_or(kBreakdownVolts);
        return std::make_unique<Led>(context, model, amps, limit->value_or(amps * kMostAmps / kRatedAmps));
    }
    return kernel::fail(context.id + ".color", "\"" + wanted + "\"; expected red, amber, yellow, green, blue, white or infrared");
}

}  // namespace bramix::parts
