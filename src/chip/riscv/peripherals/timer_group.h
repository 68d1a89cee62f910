// A timer group (ESP32-C3 TRM chapters 11 and 12): one counter of 54 bits with an alarm, and a watchdog of four stages.
//
// The watchdog of group 0 runs from reset in the mode of starting from flash: its first stage resets the chip after 26 million ticks of the bus, until the program switches it off.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>

#include "chip/base/tick_counter.h"
#include "chip/riscv/peripherals/watchdog.h"

namespace bramix::chip::riscv {

class TimerGroup final : public StatefulWords<TimerGroup> {
public:
    // Interrupt sources: of the counter, then of the watchdog.
    TimerGroup(Soc& soc, unsigned group, unsigned firstSource);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;
    void clockChanged() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(config_, counter_, latched_, alarm_, load_, raw_, enable_, calibration_, ring_, watchConfig_, watchPrescale_, watchKey_, watchHold_, watchdog_);
    }

private:
    [[nodiscard]] std::uint64_t tickHz() const;
    void plan();
    void watch();
    void update();

    Soc& soc_;
    unsigned group_, firstSource_;
    std::uint32_t config_ = 0, raw_ = 0, enable_ = 0, calibration_ = 0;
    TickCounter counter_;
    std::int64_t latched_ = 0, alarm_ = 0, load_ = 0;
    kernel::Alarm ring_;
    std::uint32_t watchConfig_ = 0, watchPrescale_ = 0, watchKey_ = 0;
    std::array<std::uint32_t, 4> watchHold_{};
    Watchdog watchdog_;
};

}  // namespace bramix::chip::riscv
