// The analog comparator (ATmega328P datasheet ch. 23; ATmega2560 ch. 25; ATmega32, ATtiny85 "Analog Comparator"): AIN0 or the band gap
// against AIN1 or, while the converter is off and ACME is set, a pin of its multiplexer. The output passes the synchroniser (one to two
// cycles), raises ACI by ACIS, and is the capture input of Timer1 where ACIC says so.
//
// It follows its nets only from the firmware's first access to ACSR on: until then nobody can see it.
// Tested by tests/chip/avr/peripherals/comparator_test.cpp.
#pragma once

#include "chip/avr/peripherals/adc.h"
#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class Comparator final : public StatefulPeripheral<Comparator>, public circuit::VoltageListener {
public:
    Comparator(ChipServices& chip, const Adc& adc);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void voltageChanged(circuit::PinId pin, double volts, kernel::Time at) override;

    [[nodiscard]] BitRef captures() const { return acic_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(following_, level_, alarm_);
        if constexpr (Archive::kLoading)
            follow();
    }

private:
    [[nodiscard]] PortPin negativePin() const;
    [[nodiscard]] bool output() const;
    void follow();
    void settle(std::int64_t cycle);

    const Adc& adc_;
    std::uint16_t acsr_ = 0, acmeAt_ = 0;
    BitRef acd_, acbg_, aco_, aci_, acie_, acic_, acme_;
    std::array<BitRef, 2> acis_{};
    InterruptSource source_;
    PortPin positive_, negative_;
    std::array<PortPin, 16> muxPins_{};
    std::array<circuit::PinId, 2> watched_{circuit::kNoPin, circuit::kNoPin};

    bool following_ = false;
    bool level_ = false;
    CycleAlarm alarm_;
};

}  // namespace bramix::chip::avr
