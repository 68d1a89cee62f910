#include "circuit/diode.h"

#include <algorithm>
#include <cmath>

namespace bramix::circuit {

DiodeModel DiodeModel::through(Volts forward, Amps at, double ideality, Ohms series)
{
    DiodeModel model;
    model.ideality = ideality;
    model.seriesOhms = series.value;
    const double junction = forward.value - at.value * series.value;
    model.saturationAmps = at.value / std::expm1(junction / (ideality * kThermalVolts));
    return model;
}

namespace {

// Solves nvt * x + Rs * Is * (e^x - 1) = volts for x = ln(i/Is + 1). The left side is convex and rising, and both
// starting bounds lie above the root, so Newton's steps come down to it without passing.
DiodeModel::Point forward(double volts, double saturation, double nvt, double ohms)
{
    const double drop = ohms * saturation;
    double x = volts / nvt;
    if (drop > 0)
        x = std::min(x, std::log1p(volts / drop));
    for (int i = 0; i < 60; ++i) {
        const double e = std::exp(x);
        const double step = (nvt * x + drop * (e - 1) - volts) / (nvt + drop * e);
        x -= step;
        if (std::fabs(step) < 1e-14 * (1 + std::fabs(x)))
            break;
    }
    const double amps = saturation * std::expm1(x);
    return {amps, 1.0 / (nvt / (amps + saturation) + ohms)};
}

}  // namespace

DiodeModel::Point DiodeModel::at(double volts) const
{
    const double nvt = ideality * kThermalVolts;
    const double leak = leakSiemens + 1e-12;
    if (volts > 0) {
        const Point p = forward(volts, saturationAmps, nvt, seriesOhms);
        return {p.amps + leakSiemens * volts, p.siemens + leakSiemens};
    }
    const double e = std::exp(std::max(volts / nvt, -40.0));
    Point p{saturationAmps * (e - 1) + leakSiemens * volts, saturationAmps * e / nvt + leak};
    // The avalanche is a junction of its own, the other way round, shifted so that it passes breakdownAmps at breakdownVolts.
    if (std::isfinite(breakdownVolts)) {
        constexpr double kSharpness = kThermalVolts * 2;
        const double saturation = breakdownAmps * 1e-6;
        const double knee = breakdownVolts - breakdownAmps * seriesOhms - kSharpness * std::log1p(breakdownAmps / saturation);
        if (-volts > knee) {
            const Point b = forward(-volts - knee, saturation, kSharpness, seriesOhms);
            p.amps -= b.amps;
            p.siemens += b.siemens;
        }
    }
    return p;
}

}  // namespace bramix::circuit
