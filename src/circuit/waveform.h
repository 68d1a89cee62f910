// What a source may do by itself.
#pragma once

#include "kernel/time.h"

namespace bramix::circuit {

using kernel::Time;

// A voltage that changes with time by itself. Between corners it is smooth.
class Waveform {
public:
    virtual ~Waveform() = default;
    [[nodiscard]] virtual double at(Time t) const = 0;
    // The next instant after t at which the voltage jumps or bends; kNever where there is none.
    [[nodiscard]] virtual Time nextCorner(Time t) const = 0;
    // How far apart two looks may be for a parabola through three of them to show the curve.
    [[nodiscard]] virtual kernel::Duration step() const = 0;
};

}  // namespace bramix::circuit
