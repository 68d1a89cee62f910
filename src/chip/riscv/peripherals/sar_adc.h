// Single conversions of the analog to digital converter (ESP32-C3 TRM chapter 30; ranges: data sheet table 5-5): channels 0 to 4 on GPIO0 to 4, 12 bits.
//
// Full scale by attenuation, as the data sheet has the usable ranges: 0 dB 750 mV, 2.5 dB 1050 mV, 6 dB 1300 mV, 12 dB 2500 mV. The converter is taken as straight within
// them; silicon is not, and is calibrated. Not modelled: converter 2, and conversions by pattern and DMA; told once.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>

#include "chip/riscv/peripherals/gpio.h"

namespace bramix::chip::riscv {

class SarAdc final : public StatefulWords<SarAdc> {
public:
    static constexpr unsigned kSource = 43, kChannels = 5;
    static constexpr int kFullScale = 4096;
    SarAdc(Soc& soc, Gpio& gpio);

    // Of a pad, as it is set up now.
    [[nodiscard]] std::optional<AnalogReading> reading(unsigned pad) const;

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(kept_, one_, data_, raw_, enable_, done_);
    }

private:
    [[nodiscard]] double range() const;
    [[nodiscard]] std::uint32_t convert(unsigned pad) const;
    void update();

    Soc& soc_;
    Gpio& gpio_;
    std::array<std::uint32_t, 64> kept_{};
    std::uint32_t one_ = 0, data_ = 0, raw_ = 0, enable_ = 0;
    kernel::Alarm done_;
};

}  // namespace bramix::chip::riscv
