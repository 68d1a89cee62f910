// A diode with series resistance: v = n Vt ln(i/Is + 1) + i Rs (Shockley's equation with the ohmic drop of the leads and the
// bulk), and in reverse its leakage and, beyond the breakdown voltage, the avalanche: -v = Vb + n Vt ln(i/Ib + 1) + i Rs. The series resistance is
// solved inside, so that a circuit sees a curve whose slope never exceeds 1/Rs, on which Newton's method started from above cannot
// overshoot.
// Tested by tests/circuit/circuit_test.cpp and device_test.cpp.
#pragma once

#include <limits>

#include "kernel/units.h"

namespace bramix::circuit {

using kernel::Amps;
using kernel::Ohms;
using kernel::Volts;

inline constexpr double kThermalVolts = 0.025852;  // kT/q at 300 K

struct DiodeModel {
    double saturationAmps = 1e-14;
    double ideality = 1.0;
    double seriesOhms = 1.0;
    double breakdownVolts = std::numeric_limits<double>::infinity();  // reverse voltage at breakdownAmps; positive
    double breakdownAmps = 1e-3;
    double leakSiemens = 0;  // besides the junction's own leakage

    // The model that passes `at` when `forward` is across it.
    static DiodeModel through(Volts forward, Amps at, double ideality, Ohms series);

    struct Point {
        double amps;
        double siemens;  // slope of the curve there
    };

    // Current and slope at a voltage across the whole diode; reverse voltages give leakage and breakdown.
    [[nodiscard]] Point at(double volts) const;
};

}  // namespace bramix::circuit
