// The system timer (ESP32-C3 TRM chapter 10): two counters of 52 bits at 16 MHz, three comparators that ring once or again and again.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>
#include <memory>

#include "chip/base/tick_counter.h"
#include "chip/riscv/peripherals/soc.h"

namespace bramix::chip::riscv {

class SystemTimer final : public StatefulWords<SystemTimer> {
public:
    static constexpr unsigned kFirstSource = 37;
    explicit SystemTimer(Soc& soc);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(conf_, units_, latched_, valid_, load_, raw_, enable_);
        for (Target& t : targets_)
            ar(t.high, t.low, t.conf, t.value, t.period, *t.alarm);
    }

private:
    struct Target {
        std::uint32_t high = 0, low = 0, conf = 0;
        std::int64_t value = 0, period = 0;  // taken over
        std::unique_ptr<kernel::Alarm> alarm;
    };
    void plan(unsigned target);
    void update();

    Soc& soc_;
    std::uint32_t conf_ = 0, raw_ = 0, enable_ = 0;
    std::array<TickCounter, 2> units_{TickCounter(16'000'000), TickCounter(16'000'000)};
    std::array<std::int64_t, 2> latched_{}, load_{};
    std::array<std::uint8_t, 2> valid_{};
    std::array<Target, 3> targets_;
};

}  // namespace bramix::chip::riscv
