// The resistor in series with an LED: what it must be for a current, and what can be bought.
//
// From the drive level and its resistance, and the LED's own curve: R = (V - Vd(I)) / I - Rdrive, Vd(I) = n Vt ln(I/Is + 1) + I Rs.
// Tested by tests/bench/series_resistor_test.cpp.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "bench/catalogue.h"
#include "bench/document.h"
#include "circuit/diode.h"

namespace bramix::bench {

class World;

struct SeriesPath {
    std::string resistor;  // the part
    double ohms = 0;       // as it is now
    double volts = 0;      // between the two ends when it is driven
    double driveOhms = 0;  // of the outputs at both ends
    circuit::DiodeModel diode;
    // Other LEDs on the same output, each behind its own resistance: what they take, the output's resistance takes from all.
    struct Beside {
        double ohms = 0;
        circuit::DiodeModel diode;
    };
    std::vector<Beside> beside;
    double sharedOhms = 0;  // of that output; part of driveOhms

    // What the others take while this one takes so much.
    [[nodiscard]] double besideAmps(double amps) const;

    // What this current needs; absent where the voltage is too low for it.
    [[nodiscard]] std::optional<double> ohmsFor(double amps) const;
    // What this resistance gives.
    [[nodiscard]] double ampsWith(double ohms) const;
};

// The preferred value (IEC 60063) of a series of 12, 24 or 96 a decade that is nearest by ratio.
[[nodiscard]] double nearestPreferred(double ohms, int series);

// The way from a firm voltage through one resistor and this LED to another firm voltage, where there is just that.
[[nodiscard]] std::optional<SeriesPath> seriesPath(const World& world, const Document& document, const Catalogue& catalogue, const std::string& led);

}  // namespace bramix::bench
