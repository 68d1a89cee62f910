// The watchdog (ATmega328P datasheet ch. 11.8; ATmega2560 ch. 12.4, ATtiny85 ch. 8.4; ATmega32 "Watchdog Timer").
//
//   WDE WDIE                     time-out          2048 << WDP cycles of 128 kHz; ATmega32: 16384 << WDP of 1 MHz
//    0   0   stopped
//    0   1   interrupt           Clearing WDE or changing WDP needs a write of WDCE and WDE together in the four cycles before
//    1   0   reset               (ATmega32: WDTOE, and for clearing WDE only). While MCUSR.WDRF is set, WDE cannot be
//    1   1   interrupt, then     cleared, so a chip reset by its watchdog runs on with the shortest time-out.
//            reset               The fuse WDTON programmed: always reset mode.
//
// Its oscillator runs in every sleep.
// Tested by tests/chip/avr/peripherals/watchdog_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"

namespace bramix::chip::avr {

class Watchdog final : public StatefulPeripheral<Watchdog> {
public:
    explicit Watchdog(ChipServices& chip);

    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    [[nodiscard]] bool running() const { return alarm_.armed(); }
    // WDR.
    void restart();

    template <class Archive>
    void state(Archive& ar)
    {
        ar(zero_, changeAt_, alarm_);
    }

private:
    [[nodiscard]] bool forced() const { return chip_.fuse("WDTON") == 0; }
    [[nodiscard]] kernel::Duration timeout() const;
    void schedule();
    void expire();

    static constexpr std::int64_t kWindowCycles = 4;

    std::uint16_t wdtcsr_ = 0;
    BitRef wdif_, wdie_, change_, wde_, wdrf_;
    std::array<BitRef, 4> prescale_{};
    InterruptSource source_;
    kernel::Time zero_{};  // when its counter last began
    std::int64_t changeAt_ = INT64_MIN / 2;
    kernel::Alarm alarm_;
};

}  // namespace bramix::chip::avr
