// The ATtiny85's universal serial interface (datasheet 2586 ch. 15): a shift register, a 4-bit counter, and the wires of a three-wire or a two-wire bus.
//
//   USICS USICLK   shift register                counter
//   00     0       stands                        stands
//   00     1       USICLK strobe                 USICLK strobe
//   01     x       Timer0 compare match          Timer0 compare match
//   10     0       rising edge of USCK           both edges of USCK
//   11     0       falling edge of USCK          both edges of USCK
//   10,11  1       rising, falling edge          USITC strobe
//
// The output follows the register's top bit while the clock is away from the edge that shifts; so data change at the other edge.
// Two-wire: SDA is pulled low where DDR says output and the top bit or PORT is 0; SCL where DDR says output and PORT is 0. The start detector
// holds SCL low until USISIF is cleared, in mode 3 the counter's overflow until USIOIF is cleared.
// Tested by tests/chip/avr/tiny_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class Usi final : public StatefulPeripheral<Usi>, public PinWatcher {
public:
    explicit Usi(ChipServices& chip);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    // A compare match of Timer0, where it is the clock.
    void timerMatch();
    // Called where the choice of Timer0 as clock has been made or taken back; `restored`: by a snapshot, which has restored the timer too.
    std::function<void(bool on, bool restored)> clockedByTimer;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(shift_, latch_, holdLow_);
        if constexpr (Archive::kLoading)
            chooseClock(true);
    }

private:
    [[nodiscard]] unsigned wires() const;
    [[nodiscard]] unsigned clockSelect() const;
    [[nodiscard]] bool twoWire() const { return wires() >= 2; }
    void chooseClock(bool restored = false);
    void shiftIn();
    void count();
    void present();
    void updatePins();
    void updateInterrupts();

    std::uint16_t usicr_ = 0, usisr_ = 0, usidr_ = 0, usibr_ = 0;
    BitRef wm1_, wm0_, cs1_, cs0_, clk_, tc_, sif_, oif_, pf_, dc_;
    InterruptSource start_, overflow_;
    PortPin di_, do_, usck_;
    std::uint8_t shift_ = 0;
    bool latch_ = false;    // what the output shows
    bool holdLow_ = false;  // SCL, by the start detector or the counter
};

}  // namespace bramix::chip::avr
