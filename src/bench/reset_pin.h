// A chip's reset line: listens to its net, keeps it up, and can hold it down (the live control RESET). For world.cpp and world_build.cpp.
#pragma once

#include "bench/world.h"

namespace bramix::bench {

inline constexpr const char* kResetControl = "RESET";

// The reset pin's own pull-up (30 to 60 kΩ, ATmega328P datasheet table 32-1) and what a finger or a debugger puts on it.
inline constexpr circuit::Drive kResetPullUp{5.0, 45'000};
inline constexpr circuit::Drive kResetHeld{0.0, 10};
inline constexpr circuit::Thresholds kResetThresholds{1.0, 3.0};

class World::ResetPin final : public circuit::PinListener {
public:
    ResetPin(circuit::Circuit& circuit, PinId pin, PinId hold, chip::avr::Chip& chip, Cause cause) : circuit_(circuit), hold_(hold), chip_(chip), cause_(cause)
    {
        circuit.listen(pin, *this, kResetThresholds);
        circuit.drive(pin, kResetPullUp, cause);
    }

    void hold(bool low) { circuit_.drive(hold_, low ? kResetHeld : circuit::kFloating, cause_); }
    void pinChanged(PinId, bool level, Time) override { chip_.setResetLine(level); }

private:
    circuit::Circuit& circuit_;
    PinId hold_;
    chip::avr::Chip& chip_;
    Cause cause_;
};

}  // namespace bramix::bench
