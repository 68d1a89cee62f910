// What a chip takes from its supply for itself: core, clocks and peripherals, without what its pins give.
//
// CMOS takes current in proportion to voltage and clock, so that each state is a conductance from VCC to GND. What single peripherals take on top (the
// converter, the comparator, a running UART) is not told apart. Typical figures of the datasheets' DC characteristics.
// Tested by tests/bench/supply_test.cpp.
#pragma once

#include <cstdint>

#include "kernel/time.h"

namespace bramix::chip::avr {

struct SupplyRow {
    double activeAmps = 5.2e-3;    // at 8 MHz and 5 V
    double idleAmps = 1.2e-3;      // the same, asleep in idle
    double downAmps = 0.1e-6;      // in power-down at 3 V, watchdog off
    double watchdogAmps = 4.1e-6;  // what a watchdog that runs adds there

    [[nodiscard]] double activeSiemens(std::uint64_t hz) const { return activeAmps / (5 * 8e6) * static_cast<double>(hz); }
    [[nodiscard]] double idleSiemens(std::uint64_t hz) const { return idleAmps / (5 * 8e6) * static_cast<double>(hz); }
    [[nodiscard]] double downSiemens(bool watchdog) const { return (downAmps + (watchdog ? watchdogAmps : 0)) / 3; }
};

// Adds up what has been taken.
class Consumption {
public:
    // From `t` on it is this.
    void change(double siemens, double volts, kernel::Time t)
    {
        coulombs_ = coulombs(t);
        since_ = t;
        siemens_ = siemens;
        volts_ = volts;
    }
    [[nodiscard]] double siemens() const { return siemens_; }
    // Since power-up. Before the last change there is no looking.
    [[nodiscard]] double coulombs(kernel::Time t) const { return coulombs_ + (t > since_ ? siemens_ * volts_ * kernel::seconds(t - since_) : 0); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(coulombs_, siemens_, volts_, since_);
    }

private:
    double coulombs_ = 0;
    double siemens_ = 0;
    double volts_ = 0;
    kernel::Time since_{};
};

}  // namespace bramix::chip::avr
