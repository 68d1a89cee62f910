// An alarm at a cycle of a core's clock; it follows the clock when its frequency changes.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include <cstdint>
#include <functional>

#include "kernel/event_queue.h"
#include "kernel/time.h"

namespace bramix::chip {

class CycleAlarm;

// The chip whose clock it follows.
class CycleHost {
public:
    virtual ~CycleHost() = default;
    [[nodiscard]] virtual const kernel::ClockDomain& clock() const = 0;
    [[nodiscard]] virtual kernel::EventQueue& queue() = 0;
    // Called once by each alarm; the chip calls followClock() when its clock has changed.
    virtual void adopt(CycleAlarm& alarm) = 0;
};

class CycleAlarm {
public:
    CycleAlarm(CycleHost& chip, std::function<void(std::int64_t cycle)> due)
        : chip_(chip), alarm_(chip.queue(), [this, due = std::move(due)](kernel::Time) {
              const std::int64_t at = due_;
              due_ = kIdle;
              due(at);
          })
    {
        chip.adopt(*this);
    }
    void arm(std::int64_t cycle)
    {
        due_ = cycle;
        alarm_.arm(chip_.clock().timeOf({cycle}));
    }
    void disarm()
    {
        due_ = kIdle;
        alarm_.disarm();
    }
    [[nodiscard]] bool armed() const { return due_ != kIdle; }
    [[nodiscard]] std::int64_t due() const { return due_; }
    void followClock()
    {
        if (armed())
            alarm_.arm(chip_.clock().timeOf({due_}));
    }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(due_, alarm_);
    }

private:
    static constexpr std::int64_t kIdle = INT64_MIN;
    CycleHost& chip_;
    kernel::Alarm alarm_;
    std::int64_t due_ = kIdle;
};

}  // namespace bramix::chip
