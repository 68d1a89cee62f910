#include "chip/cortexm/peripherals/adc.h"

#include <algorithm>
#include <cmath>

namespace bramix::chip::cortexm {

namespace {

constexpr std::uint32_t kOn = 1, kContinuous = 2, kCalibrate = 4, kResetCalibration = 8, kDma = 1U << 8, kAlignLeft = 1U << 11, kExternal = 1U << 20, kStart = 1U << 22, kSensor = 1U << 23;
constexpr std::uint32_t kEnd = 2, kStarted = 16, kScan = 1U << 8;
constexpr double kSensorVolts = 1.43, kReferenceVolts = 1.2;  // at 25 degrees; DS5319 tables 12 and 50
constexpr double kMostHz = 14e6;

// Channel 0 to 15: PA0 to PA7, PB0, PB1, PC0 to PC5.
Pin pinOfChannel(unsigned channel)
{
    if (channel < 8)
        return pinOf('A', channel);
    return channel < 10 ? pinOf('B', channel - 8) : channel < 16 ? pinOf('C', channel - 10) : Pin{};
}

}  // namespace

Adc::Adc(Services& chip, Gpio& gpio, std::function<std::int64_t()> divider, std::function<double()> reference)
    : chip_(chip), gpio_(gpio), divider_(std::move(divider)), reference_(std::move(reference)), done_(chip, [this](std::int64_t c) { finished(c); }), ready_(chip, [this](std::int64_t) { cr2_ &= ~(kCalibrate | kResetCalibration); })
{
}

void Adc::reset()
{
    sr_ = cr1_ = cr2_ = data_ = at_ = 0;
    sampling_ = {};
    thresholds_ = {0xFFF, 0};
    offsets_ = {};
    sequence_ = {};
    converting_ = calibrated_ = false;
    done_.disarm();
    ready_.disarm();
    updateInterrupt();
}

std::int64_t Adc::samplingOf(unsigned channel) const
{
    static constexpr std::int64_t kHalves[] = {3, 15, 27, 57, 83, 111, 143, 479};
    const unsigned field = channel < 10 ? (sampling_[1] >> (3 * channel)) & 7U : (sampling_[0] >> (3 * (channel - 10))) & 7U;
    return kHalves[field];
}

double Adc::voltsOf(unsigned channel) const
{
    if (channel >= 16)
        return (cr2_ & kSensor) == 0 ? 0 : channel == 16 ? kSensorVolts : channel == 17 ? kReferenceVolts : 0;
    return gpio_.volts(pinOfChannel(channel));
}

std::uint32_t Adc::convert(unsigned channel) const
{
    const double reference = std::max(reference_(), 0.1);
    double counts = std::floor(voltsOf(channel) / reference * kFullScale);
    // Before it is calibrated it is some counts off (DS5319: up to 63 by its capacitors).
    if (!calibrated_)
        counts += 11;
    return static_cast<std::uint32_t>(std::clamp(counts, 0.0, kFullScale - 1.0));
}

std::optional<AnalogReading> Adc::reading(Pin pin) const
{
    for (unsigned c = 0; c < 16; ++c)
        if (pinOfChannel(c) == pin)
            return AnalogReading{reference_(), static_cast<int>(convert(c)), kFullScale};
    return std::nullopt;
}

void Adc::begin(std::int64_t cycle)
{
    const std::int64_t clock = divider_();
    if (static_cast<double>(chip_.clock().hz()) / static_cast<double>(clock) > kMostHz)
        chip_.remark("adc-clock", "the converter runs at more than 14 MHz: its results are not to be trusted; set ADCPRE in RCC_CFGR");
    converting_ = true;
    // 12.5 clocks behind sampling.
    done_.arm(cycle + (samplingOf(channelAt(at_)) + 25) * clock / 2);
}

void Adc::finished(std::int64_t cycle)
{
    const std::uint32_t value = convert(channelAt(at_));
    data_ = (cr2_ & kAlignLeft) != 0 ? value << 4 : value;
    if ((cr2_ & kDma) != 0)
        chip_.requestDma(kDmaChannel, true);
    const bool scans = (cr1_ & kScan) != 0;
    const bool last = !scans || ++at_ >= length();
    if (!last)
        return begin(cycle);
    at_ = 0;
    converting_ = false;
    sr_ |= kEnd;
    updateInterrupt();
    if ((cr2_ & kContinuous) != 0 && (cr2_ & kOn) != 0)
        begin(cycle);
}

std::uint32_t Adc::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return sr_;
    case 0x04: return cr1_;
    case 0x08: return cr2_;
    case 0x0C: case 0x10: return sampling_[(offset - 0x0C) / 4];
    case 0x14: case 0x18: case 0x1C: case 0x20: return offsets_[(offset - 0x14) / 4];
    case 0x24: case 0x28: return thresholds_[(offset - 0x24) / 4];
    case 0x2C: case 0x30: case 0x34: return sequence_[(offset - 0x2C) / 4];
    case 0x4C: return data_;
    default: return 0;
    }
}

std::uint32_t Adc::read(std::uint32_t offset)
{
    const std::uint32_t out = peek(offset);
    if (offset == 0x4C) {
        sr_ &= ~kEnd;
        chip_.requestDma(kDmaChannel, false);
        updateInterrupt();
    }
    return out;
}

void Adc::write(std::uint32_t offset, std::uint32_t value)
{
    const std::int64_t now = chip_.cycleNow();
    switch (offset) {
    case 0x00:
        sr_ &= value;
        updateInterrupt();
        break;
    case 0x04:
        cr1_ = value & 0xCFFFFFU;
        if ((value & 0xC00080U) != 0)
            chip_.remark("not-modelled", "injected channels and the analog watchdog of ADC1 are not modelled yet: they do nothing");
        updateInterrupt();
        break;
    case 0x08: {
        const std::uint32_t before = cr2_;
        cr2_ = (value & 0x00FEF90BU) | (before & (kCalibrate | kResetCalibration));
        if ((value & kResetCalibration) != 0) {
            cr2_ |= kResetCalibration;
            ready_.arm(now + 14 * divider_());
        }
        if ((value & kCalibrate) != 0) {
            cr2_ |= kCalibrate;
            calibrated_ = true;
            ready_.arm(now + 83 * divider_());  // 11.4: 5.9 us at 14 MHz
        }
        cr2_ &= ~kStart;
        if ((value & kDma) == 0)
            chip_.requestDma(kDmaChannel, false);
        if ((value & kOn) == 0) {
            converting_ = false;
            done_.disarm();
            break;
        }
        // By SWSTART, or by writing ADON once more with nothing else changed (11.3.1).
        const bool bySoftware = (value & kStart) != 0 && (value & kExternal) != 0 && ((value >> 17) & 7U) == 7;
        const bool byOn = (before & kOn) != 0 && ((before ^ value) & ~(kCalibrate | kResetCalibration)) == 0 && (value & (kCalibrate | kResetCalibration | kStart)) == 0;
        if ((value & kStart) != 0 && !bySoftware)
            chip_.remark("adc-start", "SWSTART of ADC1 is set without EXTTRIG and EXTSEL of software: nothing begins");
        if ((bySoftware || byOn) && !converting_) {
            sr_ |= kStarted;
            at_ = 0;
            begin(now);
        }
        break;
    }
    case 0x0C: case 0x10: sampling_[(offset - 0x0C) / 4] = value; break;
    case 0x14: case 0x18: case 0x1C: case 0x20: offsets_[(offset - 0x14) / 4] = value & 0xFFFU; break;
    case 0x24: case 0x28: thresholds_[(offset - 0x24) / 4] = value & 0xFFFU; break;
    case 0x2C: case 0x30: case 0x34: sequence_[(offset - 0x2C) / 4] = value; break;
    default: break;
    }
}

}  // namespace bramix::chip::cortexm
