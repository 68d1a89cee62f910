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

DiodeModel::Point DiodeModel::at(double volts) const
{
    const double nvt = ideality * kThermalVolts;
    if (volts <= 0) {
        const double e = std::exp(std::max(volts / nvt, -40.0));
        return {saturationAmps * (e - 1), saturationAmps * e / nvt + 1e-12};
    }
    // Solve nvt * x + Rs * Is * (e^x - 1) = volts for x = ln(i/Is + 1). The left side is convex and rising, and both
    // starting bounds lie above the root, so Newton's steps come down to it without passing.
    const double drop = seriesOhms * saturationAmps;
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
    const double amps = saturationAmps * std::expm1(x);
    return {amps, 1.0 / (nvt / (amps + saturationAmps) + seriesOhms)};
}

}  // namespace bramix::circuit
