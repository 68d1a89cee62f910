#include "chip/riscv/peripherals/led_pwm.h"

#include <algorithm>
#include <cmath>

namespace bramix::chip::riscv {

LedPwm::LedPwm(Soc& soc, Gpio& gpio) : soc_(soc), gpio_(gpio)
{
    for (unsigned c = 0; c < kChannels; ++c)
        channels_[c].edge = std::make_unique<kernel::Alarm>(soc.queue(), [this, c](kernel::Time) { plan(c); });
}

void LedPwm::reset()
{
    raw_ = enable_ = conf_ = 0;
    for (unsigned c = 0; c < kChannels; ++c) {
        Channel& channel = channels_[c];
        channel.conf0 = channel.hpoint = channel.duty = channel.conf1 = channel.liveHpoint = channel.liveDuty = 0;
        channel.on = channel.level = false;
        channel.timer = 0;
        channel.edge->disarm();
    }
    for (Timer& t : timers_)
        t = {};
}

double LedPwm::sourceHz() const
{
    const std::uint32_t select = conf_ & 3U;
    return select == 1 ? static_cast<double>(soc_.busHz()) : select == 2 ? static_cast<double>(kFastRcHz) : select == 3 ? static_cast<double>(soc_.crystalHz()) : 0;
}

// The level just now, and when it will be another.
void LedPwm::plan(unsigned index)
{
    Channel& c = channels_[index];
    const Timer& t = timers_[c.timer];
    const kernel::Time now = soc_.queue().now();
    c.edge->disarm();
    bool level = (c.conf0 & 8U) != 0;  // at rest
    if (c.on && runs(t)) {
        const std::int64_t all = counts(t), high = std::min<std::int64_t>(c.liveDuty / 16, all), from = c.liveHpoint % all;
        const double count = countPicos(t), period = count * static_cast<double>(all);
        const double passed = static_cast<double>((now - t.begin).count());
        const double periods = std::floor((passed + 0.5) / period);
        const double within = passed - periods * period;
        const double rise = count * static_cast<double>(from), fall = count * static_cast<double>(from + high);
        // High from `rise` to `fall`, which may lie in the next period.
        level = high == all || (within + 0.5 >= rise && within + 0.5 < fall) || within + 0.5 < fall - period;
        if (high != 0 && high != all) {
            double next = 0;
            if (level)
                next = within + 0.5 < fall - period ? fall - period : fall;
            else
                next = within + 0.5 < rise ? rise : rise + period;
            c.edge->arm(t.begin + kernel::Duration(static_cast<std::int64_t>(std::ceil(periods * period + next))));
        }
    }
    c.level = level;
    static constexpr const char* kNames[] = {"LEDC0", "LEDC1", "LEDC2", "LEDC3", "LEDC4", "LEDC5"};
    gpio_.setSignal(kLedcSignal + index, level, c.on ? kNames[index] : nullptr, c.setBy);
}

void LedPwm::planAll()
{
    for (unsigned c = 0; c < kChannels; ++c)
        plan(c);
}

std::uint32_t LedPwm::peek(std::uint32_t offset) const
{
    if (offset < 0x14 * kChannels) {
        const Channel& c = channels_[offset / 0x14];
        switch (offset % 0x14) {
        case 0x00: return c.conf0;
        case 0x04: return c.hpoint;
        case 0x08: return c.duty;
        case 0x0C: return c.conf1;
        default: return c.liveDuty;
        }
    }
    if (offset >= 0xA0 && offset < 0xC0) {
        const Timer& t = timers_[(offset - 0xA0) / 8];
        if (offset % 8 == 0)
            return t.conf;
        if (!runs(t))
            return 0;
        const double passed = static_cast<double>((soc_.instant() - t.begin).count()) / countPicos(t);
        return static_cast<std::uint32_t>(static_cast<std::int64_t>(passed) % counts(t));
    }
    switch (offset) {
    case 0xC0: return raw_;
    case 0xC4: return raw_ & enable_;
    case 0xC8: return enable_;
    case 0xD0: return conf_;
    default: return 0;
    }
}

void LedPwm::write(std::uint32_t offset, std::uint32_t value)
{
    const kernel::Time now = soc_.instant();
    if (offset < 0x14 * kChannels) {
        const unsigned index = offset / 0x14;
        Channel& c = channels_[index];
        switch (offset % 0x14) {
        case 0x00:
            c.conf0 = value & ~0x10U;
            if ((value & 0x10U) != 0) {
                c.on = (value & 4U) != 0;
                c.timer = value & 3U;
                c.liveHpoint = c.hpoint;
                c.liveDuty = c.duty;
                c.setBy = soc_.codeNow();
                plan(index);
            }
            break;
        case 0x04: c.hpoint = value & 0x3FFFU; break;
        case 0x08: c.duty = value & 0x7FFFFU; break;
        case 0x0C:
            c.conf1 = value & 0x7FFFFFFFU;
            // DUTY_START: the duty is the new one; a fade of so many steps would go there slowly.
            if ((value & 1U << 31) != 0) {
                if ((value & 0x3FFU) != 0 && ((value >> 20) & 0x3FFU) > 1)
                    soc_.remark("not-modelled", "fading of an LED PWM channel is not modelled: its duty changes at once");
                c.liveDuty = c.duty;
                c.setBy = soc_.codeNow();
                plan(index);
            }
            break;
        default: break;
        }
        return;
    }
    if (offset >= 0xA0 && offset < 0xC0 && offset % 8 == 0) {
        Timer& t = timers_[(offset - 0xA0) / 8];
        t.conf = value & ~(1U << 25);
        const bool ran = runs(t);
        // Pause and reset act at once; divider and resolution with PARA_UP.
        t.live = (t.live & ~0xC00000U) | (value & 0xC00000U);
        if ((value & 1U << 25) != 0)
            t.live = value & 0xFFFFFFU;
        if (!ran || (value & 1U << 23) != 0)
            t.begin = now;
        planAll();
        return;
    }
    switch (offset) {
    case 0xC8: enable_ = value; break;
    case 0xCC: raw_ &= ~value; break;
    case 0xD0:
        conf_ = value;
        for (Timer& t : timers_)
            t.begin = now;
        planAll();
        break;
    default: break;
    }
    soc_.setSource(kSource, (raw_ & enable_) != 0);
}

}  // namespace bramix::chip::riscv
