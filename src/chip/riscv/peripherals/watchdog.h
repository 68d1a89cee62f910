// A watchdog of four stages, each with its time and what it does (ESP32-C3 TRM chapter 12): those of the timer groups, and the one of the always-on clock.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>
#include <functional>

#include "chip/riscv/peripherals/soc.h"

namespace bramix::chip::riscv {

class Watchdog {
public:
    enum class Does : std::uint8_t { nothing, interrupts, resetsCore, resetsSystem, resetsAll };
    struct Stage {
        Does does = Does::nothing;
        std::uint64_t ticks = 0;
        template <class Archive>
        void state(Archive& ar)
        {
            ar(does, ticks);
        }
    };

    Watchdog(kernel::EventQueue& queue, std::function<void(Does, unsigned stage)> bites) : bites_(std::move(bites)), alarm_(queue, [this](kernel::Time t) { due(t); }) {}

    // From stage 0 on again.
    void feed(kernel::Time now)
    {
        stage_ = 0;
        since_ = now;
        plan();
    }
    void setUp(bool on, double hz, const std::array<Stage, 4>& stages, kernel::Time now)
    {
        const bool begins = on && !on_;
        on_ = on;
        hz_ = hz;
        stages_ = stages;
        if (begins)
            feed(now);
        else
            plan();
    }
    [[nodiscard]] bool on() const { return on_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(on_, hz_, stages_, stage_, since_, alarm_);
    }

private:
    void plan()
    {
        if (!on_ || stages_[stage_].ticks == 0) {
            alarm_.disarm();
            return;
        }
        const double picos = static_cast<double>(stages_[stage_].ticks) / hz_ * 1e12;
        alarm_.arm(since_ + kernel::Duration(static_cast<std::int64_t>(picos)));
    }
    void due(kernel::Time t)
    {
        const unsigned stage = stage_;
        stage_ = (stage_ + 1) % 4;
        since_ = t;
        plan();
        if (stages_[stage].does != Does::nothing)
            bites_(stages_[stage].does, stage);
    }

    std::function<void(Does, unsigned)> bites_;
    bool on_ = false;
    double hz_ = 1;
    std::array<Stage, 4> stages_{};
    unsigned stage_ = 0;
    kernel::Time since_{};
    kernel::Alarm alarm_;
};

}  // namespace bramix::chip::riscv
