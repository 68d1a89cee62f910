// Round numbers for rulers.
#pragma once

#include <cmath>

namespace bramix::app {

// 1, 2 or 5 times a power of ten, at least `least` (which must be above 0).
inline double roundStep(double least)
{
    const double power = std::pow(10.0, std::floor(std::log10(least)));
    for (const double m : {1.0, 2.0, 5.0})
        if (m * power >= least * (1 - 1e-9))
            return m * power;
    return 10 * power;
}

}  // namespace bramix::app
