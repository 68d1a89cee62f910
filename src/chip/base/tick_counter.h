// A counter that runs by a clock of its own, worked out when somebody asks: nothing happens while it counts.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <cstdint>

#include "kernel/time.h"

namespace bramix::chip {

class TickCounter {
public:
    explicit TickCounter(std::uint64_t hz = 1'000'000) : clock_(hz) {}

    [[nodiscard]] bool running() const { return running_; }
    [[nodiscard]] std::uint64_t hz() const { return clock_.hz(); }
    // Up, or down where `up` is false; by another rate.
    void setRate(std::uint64_t hz, kernel::Time now)
    {
        if (hz == clock_.hz())
            return;
        value_ = valueAt(now);
        clock_.restart(now, {0}, hz);
    }
    void setDirection(bool up, kernel::Time now)
    {
        set(valueAt(now), now);
        up_ = up;
    }
    void run(bool on, kernel::Time now)
    {
        if (on == running_)
            return;
        set(valueAt(now), now);
        running_ = on;
    }
    void set(std::int64_t value, kernel::Time now)
    {
        value_ = value;
        clock_.restart(now, {0}, clock_.hz());
    }
    [[nodiscard]] std::int64_t valueAt(kernel::Time now) const
    {
        const std::int64_t passed = running_ ? clock_.firstCycleAtOrAfter(now + kernel::Duration(1)).n - 1 : 0;
        return up_ ? value_ + passed : value_ - passed;
    }
    // When it comes to a value, counting as it does now; kNever where that lies behind it.
    [[nodiscard]] kernel::Time timeOf(std::int64_t value) const
    {
        const std::int64_t steps = up_ ? value - value_ : value_ - value;
        return !running_ || steps < 0 ? kernel::kNever : clock_.timeOf({steps});
    }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(clock_, value_, running_, up_);
    }

private:
    kernel::ClockDomain clock_;
    std::int64_t value_ = 0;  // at the clock's epoch
    bool running_ = false, up_ = true;
};

}  // namespace bramix::chip
