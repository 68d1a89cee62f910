// The ATtiny85's Timer/Counter1 (datasheet 2586 ch. 12 "Timer/Counter1", "Dead Time Generator"): 8 bits, prescaled from the system clock or from the PLL's 64 MHz
// (32 MHz in low-speed mode), two compare units with complementary outputs, OCR1C as top.
//
//   PWM1x  COM1x   OC1x                                 /OC1x
//    0     1 2 3   toggle, clear, set on match          -
//    1     1       cleared on match, set at 0           the complement
//    1     2       cleared on match, set at 0           -
//    1     3       set on match, cleared at 0           -
//
// Dead time: a rising edge of OC1x or /OC1x comes DT1xH or DT1xL periods of the timer's clock, divided by DTPS1, after the other has fallen.
// Lazy like the other timers. A register write reaches the PLL's clock domain without the synchroniser's few cycles.
// Tested by tests/chip/avr/tiny_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class HighSpeedTimer final : public StatefulPeripheral<HighSpeedTimer> {
public:
    explicit HighSpeedTimer(ChipServices& chip);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void clockStopped(std::int64_t cycle) override;
    void clockStarted(std::int64_t cycle) override;
    void clockChanged(std::int64_t /*cycle*/) override { schedule(); }
    void awaitedChanged() override { schedule(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(count_, compare_, buffer_, lastTick_, zero_, outputs_, rising_, alarm_, riseAlarms_[0], riseAlarms_[1]);
    }

private:
    struct Unit {
        std::uint16_t ocr = 0;
        BitRef pwm, com1, com0, force;
        InterruptSource match;
        PortPin pin, complement;
        std::uint16_t deadTime = 0;
        Override lane = Override::compareA;
    };

    [[nodiscard]] bool fromPll() const { return chip_.is(pcke_); }
    [[nodiscard]] unsigned divisor() const;
    [[nodiscard]] std::int64_t sourceCycle(std::int64_t cycle) const;
    [[nodiscard]] kernel::Time timeOfTick(std::int64_t tick) const;
    [[nodiscard]] const kernel::ClockDomain& pll() const { return chip_.is(lsm_) ? pll32_ : pll64_; }
    [[nodiscard]] unsigned top() const;
    [[nodiscard]] bool anyPwm() const { return chip_.is(units_[0].pwm) || chip_.is(units_[1].pwm); }
    [[nodiscard]] unsigned com(const Unit& u) const { return (chip_.is(u.com1) ? 2U : 0U) | (chip_.is(u.com0) ? 1U : 0U); }
    void sync(std::int64_t cycle);
    void tick();
    void rebase(std::int64_t cycle);
    void schedule();
    void setOutput(unsigned unit, bool value);
    void matchOutput(unsigned unit, bool atZero);
    void drive(unsigned unit);
    void updateInterrupts();

    std::uint16_t tccr1_ = 0, gtccr_ = 0, tcnt1_ = 0, ocr1c_ = 0, timsk_ = 0, tifr_ = 0, dtps_ = 0, pllcsr_ = 0;
    BitRef ctc_, pcke_, lsm_, prescalerReset_;
    std::array<Unit, 2> units_{};
    InterruptSource overflow_;
    std::uint8_t enableMask_ = 0, flagMask_ = 0, gtccrMask_ = 0;
    kernel::ClockDomain pll64_{64'000'000};
    kernel::ClockDomain pll32_{32'000'000};

    unsigned count_ = 0;
    std::array<std::uint8_t, 2> compare_{}, buffer_{};
    std::int64_t lastTick_ = 0, zero_ = 0;
    std::array<bool, 2> outputs_{};
    std::array<bool, 2> rising_{};  // a dead time runs: both outputs are low
    kernel::Alarm alarm_;
    std::array<kernel::Alarm, 2> riseAlarms_;
};

}  // namespace bramix::chip::avr
