// The analog to digital converter (ATmega328P datasheet ch. 24; ATmega2560 ch. 26; ATmega32 "Analog-to-Digital Converter"; ATtiny85 ch. 17).
//
//                      sample after   result after     (ADC clocks; table 24-1)
//   first after ADEN       13.5          25            a conversion begins at the next edge of the ADC clock, which ADEN starts
//   later ones              1.5          13
//   triggered               2            13.5          the trigger puts the prescaler to zero, so its delay is fixed
//
// The sampling capacitor (14 pF) is joined to the channel from the beginning of the conversion to the sample, through the source's own resistance and the
// multiplexer's: V = Vsource + (Vbefore - Vsource) exp(-t / RC) (24.6.1). A source of high resistance is read wrong, as on silicon.
//
// Multiplexer and reference are taken over when a conversion begins. Reading ADCL locks the result until ADCH is read.
// Differential channels convert in 13 clocks like the others (silicon: 13 or 14, by the phase of half the ADC clock).
// Tested by tests/chip/avr/peripherals/adc_test.cpp.
#pragma once

#include <optional>

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class Adc final : public StatefulPeripheral<Adc> {
public:
    // `aref` gives the voltage at the AREF pin, or nothing where nothing holds it.
    using PinVolts = std::function<std::optional<double>()>;
    // `avcc` gives nothing where that pin is left unwired.
    Adc(ChipServices& chip, PinVolts aref, PinVolts avcc);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::noiseReduction; }
    void clockStopped(std::int64_t cycle) override;

    // The flag that ADTS names has risen.
    void trigger(std::int64_t cycle);
    // The core goes to sleep: in noise reduction (and idle) an enabled converter begins by itself.
    void sleepEntered(Sleep mode, std::int64_t cycle);

    [[nodiscard]] bool enabled() const { return chip_.is(aden_); }
    // What a conversion of a pin would give just now, if its source had time enough; nothing for a pin that is no channel, or with no reference to measure against. While the
    // converter is off, against AVCC.
    struct Seen {
        double reference = 0;  // volts
        int count = 0;         // 0 to 1023
    };
    [[nodiscard]] std::optional<Seen> seen(PortPin pin) const;
    // The present multiplexer setting; the analog comparator uses it while the converter is off.
    [[nodiscard]] unsigned mux() const;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(zeroCycle_, first_, running_, latchedMux_, latchedAdmux_, capacitorVolts_, heldVolts_, startCycle_, locked_, sampleAlarm_, doneAlarm_);
    }

private:
    [[nodiscard]] unsigned divisor() const;
    void begin(std::int64_t cycle, bool triggered);
    void sample(std::int64_t cycle);
    void done(std::int64_t cycle);
    void publish(std::uint16_t value);
    [[nodiscard]] unsigned triggerSelect() const;
    void updateTrigger();
    void noteClock();
    [[nodiscard]] Reference reference() const;
    [[nodiscard]] double referenceVolts();
    [[nodiscard]] std::uint16_t convert();
    [[nodiscard]] double channelVolts(std::int8_t channel) const;
    [[nodiscard]] double channelOhms(std::int8_t channel) const;

    PinVolts aref_;
    PinVolts avcc_;
    std::uint16_t adcsra_ = 0, adcsrb_ = 0, admux_ = 0, adcl_ = 0, adch_ = 0;
    BitRef aden_, adsc_, adate_, adif_, adie_, adlar_, bin_, ipr_;
    std::array<BitRef, 3> prescale_{}, triggerSelect_{}, reference_{};
    std::array<BitRef, 6> mux_{};
    InterruptSource source_;
    std::array<std::uint8_t, 8> triggers_{};  // vectors by ADTS
    std::array<PortPin, 16> pins_{};
    std::uint8_t controlBits_ = 0;  // of ADCSRB or SFIOR, those that are ours

    std::int64_t zeroCycle_ = 0;
    bool first_ = true;
    bool running_ = false;
    unsigned latchedMux_ = 0;
    unsigned latchedAdmux_ = 0;
    double capacitorVolts_ = 0;
    double heldVolts_ = 0;
    std::int64_t startCycle_ = 0;
    bool locked_ = false;

    std::uint64_t notedHz_ = 0;  // the last ADC clock that was looked at; derived

    CycleAlarm sampleAlarm_;
    CycleAlarm doneAlarm_;
};

}  // namespace bramix::chip::avr
