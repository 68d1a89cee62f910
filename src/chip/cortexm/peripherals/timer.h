// A general-purpose timer (RM0008 chapter 15): 16 bits, prescaler, up-counting with auto-reload, four channels that compare (frozen, set, clear, toggle, forced, PWM 1 and 2), update and compare interrupts, one-pulse mode.
//
// The counter is worked out when somebody asks; an alarm stands only where an event would be seen: an interrupt that is enabled, a flag, a pin that a channel drives.
// Not modelled yet: counting down and centre-aligned, capture, slave modes, DMA requests; each is told once where it is asked for.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include <array>

#include "chip/cortexm/peripherals/gpio.h"

namespace bramix::chip::cortexm {

class Timer final : public StatefulPeripheral<Timer> {
public:
    Timer(Services& chip, Gpio& gpio, std::string name, BusOf bus, unsigned interrupt, std::array<Pin, 4> pins);

    void remap(std::array<Pin, 4> pins);
    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;
    void clockChanged() override { plan(); }
    [[nodiscard]] const std::string& name() const { return name_; }
    // The code that last wrote the compare register of a pin.
    [[nodiscard]] std::optional<std::uint32_t> compareSetBy(Pin pin) const;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(cr1_, cr2_, smcr_, dier_, sr_, ccmr_, ccer_, psc_, arr_, dcr_, bdtr_, ccr_, pscShadow_, arrShadow_, ccrShadow_, setBy_, base_, count_, references_, event_);
        for (Pin& p : pins_)
            ar(p.port, p.bit);
    }

private:
    [[nodiscard]] bool running() const { return (cr1_ & 1U) != 0; }
    [[nodiscard]] std::int64_t tickCycles() const { return chip_.cyclesPerTimerClock(bus_) * (std::int64_t{pscShadow_} + 1); }
    [[nodiscard]] std::uint32_t period() const { return arrShadow_ + 1; }
    [[nodiscard]] std::uint32_t countAt(std::int64_t cycle) const;
    void catchUp(std::int64_t cycle);
    void update(bool byEvent);
    void match(unsigned channel);
    void setReference(unsigned channel, bool level);
    void pwm();
    void showAll();
    void plan();
    void updateInterrupt();
    [[nodiscard]] unsigned modeOf(unsigned channel) const { return (ccmr_[channel / 2] >> (channel % 2 * 8 + 4)) & 7U; }
    [[nodiscard]] bool compares(unsigned channel) const { return ((ccmr_[channel / 2] >> (channel % 2 * 8)) & 3U) == 0; }

    Services& chip_;
    Gpio& gpio_;
    std::string name_;
    BusOf bus_;
    unsigned interrupt_;
    std::array<Pin, 4> pins_;
    std::uint32_t cr1_ = 0, cr2_ = 0, smcr_ = 0, dier_ = 0, sr_ = 0;
    std::array<std::uint32_t, 2> ccmr_{};
    std::uint32_t ccer_ = 0, psc_ = 0, arr_ = 0xFFFF, dcr_ = 0, bdtr_ = 0;
    std::array<std::uint32_t, 4> ccr_{}, ccrShadow_{}, setBy_{};
    std::uint32_t pscShadow_ = 0, arrShadow_ = 0xFFFF;
    std::int64_t base_ = 0;    // cycle at which the counter stood at count_
    std::uint32_t count_ = 0;
    std::array<bool, 4> references_{};
    CycleAlarm event_;
};

}  // namespace bramix::chip::cortexm
