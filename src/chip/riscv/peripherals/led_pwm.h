// The LED PWM controller (ESP32-C3 TRM chapter 29): four timers of up to 14 bits with fractional dividers, six channels.
//
// A channel's output is high for DUTY / 16 counts from HPOINT on. Fading is not modelled: the duty is taken over at once, and told.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>
#include <memory>

#include "chip/riscv/peripherals/gpio.h"

namespace bramix::chip::riscv {

class LedPwm final : public StatefulWords<LedPwm> {
public:
    static constexpr unsigned kSource = 23, kChannels = 6, kTimers = 4;
    LedPwm(Soc& soc, Gpio& gpio);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;
    void clockChanged() override { planAll(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(raw_, enable_, conf_);
        for (Channel& c : channels_)
            ar(c.conf0, c.hpoint, c.duty, c.conf1, c.on, c.timer, c.liveHpoint, c.liveDuty, c.level, c.setBy, *c.edge);
        for (Timer& t : timers_)
            ar(t.conf, t.live, t.begin, t.stopped);
    }

private:
    struct Channel {
        std::uint32_t conf0 = 0, hpoint = 0, duty = 0, conf1 = 0;
        // Taken over with PARA_UP.
        bool on = false;
        unsigned timer = 0;
        std::uint32_t liveHpoint = 0, liveDuty = 0;
        bool level = false;
        std::uint32_t setBy = UINT32_MAX;
        std::unique_ptr<kernel::Alarm> edge;
    };
    struct Timer {
        std::uint32_t conf = 0x1800000, live = 0x1800000;
        kernel::Time begin{};          // when it stood at 0
        std::int64_t stopped = 0;      // picoseconds into its period where it is paused
    };
    [[nodiscard]] double sourceHz() const;
    [[nodiscard]] bool runs(const Timer& t) const { return (t.live & 0xC00000U) == 0 && sourceHz() > 0 && ((t.live >> 4) & 0x3FFFFU) >= 256; }
    [[nodiscard]] std::int64_t counts(const Timer& t) const { return std::int64_t{1} << std::min(t.live & 15U, 14U); }
    // Picoseconds of a count, exactly by the divider.
    [[nodiscard]] double countPicos(const Timer& t) const { return static_cast<double>((t.live >> 4) & 0x3FFFFU) / 256.0 / sourceHz() * 1e12; }
    void plan(unsigned channel);
    void planAll();

    Soc& soc_;
    Gpio& gpio_;
    std::uint32_t raw_ = 0, enable_ = 0, conf_ = 0;
    std::array<Channel, kChannels> channels_;
    std::array<Timer, kTimers> timers_;
};

}  // namespace bramix::chip::riscv
