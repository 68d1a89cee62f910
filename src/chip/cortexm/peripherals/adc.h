// The analog to digital converter (RM0008 chapter 11; electrical figures: DS5319 tables 46 to 48): 12 bits, regular sequences by software, once or continuously, scan, calibration, end of
// conversion with its interrupt, the internal temperature and reference channels.
//
// A conversion takes its sampling time and 12.5 ADC clocks; the voltage is that at the end of sampling, as a source without resistance has it.
// Not modelled yet: injected channels, triggers by timers, analog watchdog; each is told once where it is asked for.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include "chip/cortexm/peripherals/gpio.h"

namespace bramix::chip::cortexm {

class Adc final : public StatefulPeripheral<Adc> {
public:
    static constexpr unsigned kInterrupt = 18, kChannels = 18, kDmaChannel = 0;
    static constexpr int kFullScale = 4096;

    // `divider` gives the cycles of the core for one of its clock; `reference` the voltage at VDDA.
    Adc(Services& chip, Gpio& gpio, std::function<std::int64_t()> divider, std::function<double()> reference);

    [[nodiscard]] const std::string& name() const { return name_; }
    // Of a pin, as it would convert now.
    [[nodiscard]] std::optional<AnalogReading> reading(Pin pin) const;

    std::uint32_t read(std::uint32_t offset) override;
    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(sr_, cr1_, cr2_, sampling_, offsets_, thresholds_, sequence_, data_, at_, converting_, calibrated_, done_, ready_);
    }

private:
    [[nodiscard]] unsigned length() const { return 1 + ((sequence_[0] >> 20) & 15U); }
    [[nodiscard]] unsigned channelAt(unsigned place) const { return (sequence_[2 - place / 6] >> (5 * (place % 6))) & 31U; }
    // Half ADC clocks that a channel is sampled for.
    [[nodiscard]] std::int64_t samplingOf(unsigned channel) const;
    [[nodiscard]] double voltsOf(unsigned channel) const;
    [[nodiscard]] std::uint32_t convert(unsigned channel) const;
    void begin(std::int64_t cycle);
    void finished(std::int64_t cycle);
    void updateInterrupt() { chip_.setInterrupt(kInterrupt, (cr1_ & 0x20U) != 0 && (sr_ & 2U) != 0); }

    Services& chip_;
    Gpio& gpio_;
    std::string name_ = "ADC1";
    std::function<std::int64_t()> divider_;
    std::function<double()> reference_;
    std::uint32_t sr_ = 0, cr1_ = 0, cr2_ = 0, data_ = 0, at_ = 0;
    std::array<std::uint32_t, 2> sampling_{}, thresholds_{0xFFF, 0};
    std::array<std::uint32_t, 4> offsets_{};
    std::array<std::uint32_t, 3> sequence_{};
    bool converting_ = false, calibrated_ = false;
    CycleAlarm done_, ready_;
};

}  // namespace bramix::chip::cortexm
