// The reset bits of the timer prescalers (ATmega328P datasheet ch. 17.4 "GTCCR"; ATmega32 SFIOR; ATtiny85 GTCCR). A reset bit clears itself at
// once, unless TSM holds it: then the prescaler stands still, so that several timers can be set going together.
// Tested by tests/chip/avr/peripherals/timer_clock_test.cpp.
#pragma once

#include <memory>

#include "chip/avr/peripherals/timer.h"

namespace bramix::chip::avr {

class PrescalerControl final : public StatefulPeripheral<PrescalerControl> {
public:
    PrescalerControl(ChipServices& chip, Prescaler& shared, Prescaler& own, const std::vector<std::unique_ptr<Timer>>& timers);

    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override {}
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    template <class Archive>
    void state(Archive& /*ar*/)
    {
    }

private:
    BitRef hold_, resetShared_, resetOwn_;
    Prescaler& shared_;
    Prescaler& own_;
    const std::vector<std::unique_ptr<Timer>>& timers_;
};

}  // namespace bramix::chip::avr
