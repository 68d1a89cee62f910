#include "chip/riscv/peripherals/sar_adc.h"

#include <algorithm>
#include <cmath>

namespace bramix::chip::riscv {

namespace {

constexpr std::uint32_t kOne = 1U << 31, kTwo = 1U << 30, kStart = 1U << 29, kDone1 = 1U << 31;
constexpr kernel::Duration kConversion = std::chrono::microseconds(10);  // 100 kSPS (data sheet table 5-5)

}  // namespace

SarAdc::SarAdc(Soc& soc, Gpio& gpio) : soc_(soc), gpio_(gpio), done_(soc.queue(), [this](kernel::Time) {
    const unsigned channel = (one_ >> 25) & 15U;
    data_ = channel < kChannels ? convert(channel) : 0;
    raw_ |= kDone1;
    update();
})
{
}

void SarAdc::reset()
{
    kept_.fill(0);
    one_ = 0x1A000000;
    data_ = raw_ = enable_ = 0;
    done_.disarm();
    update();
}

double SarAdc::range() const
{
    static constexpr double kRanges[] = {0.75, 1.05, 1.3, 2.5};
    return kRanges[(one_ >> 23) & 3U];
}

std::uint32_t SarAdc::convert(unsigned pad) const
{
    return static_cast<std::uint32_t>(std::clamp(std::floor(gpio_.pins.volts(pad) / range() * kFullScale), 0.0, kFullScale - 1.0));
}

std::optional<AnalogReading> SarAdc::reading(unsigned pad) const
{
    if (pad >= kChannels)
        return std::nullopt;
    return AnalogReading{range(), static_cast<int>(convert(pad)), kFullScale};
}

void SarAdc::update() { soc_.setSource(kSource, (raw_ & enable_) != 0); }

std::uint32_t SarAdc::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x20: return one_;
    case 0x2C: return data_;
    case 0x40: return enable_;
    case 0x44: return raw_;
    case 0x48: return raw_ & enable_;
    default: return offset < 0x100 ? kept_[offset / 4] : 0;
    }
}

void SarAdc::write(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case 0x20: {
        const bool begins = (value & kStart) != 0 && (one_ & kStart) == 0;
        one_ = value;
        if (begins && (value & kTwo) != 0)
            soc_.remark("not-modelled", "the second converter is not modelled: it gives nothing");
        if (begins && (value & kOne) != 0)
            done_.arm(soc_.instant() + kConversion);
        break;
    }
    case 0x40: enable_ = value; break;
    case 0x4C: raw_ &= ~value; break;
    default:
        if (offset < 0x100)
            kept_[offset / 4] = value;
        break;
    }
    update();
}

}  // namespace bramix::chip::riscv
