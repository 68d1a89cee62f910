#include "chip/riscv/peripherals/system_timer.h"

#include <algorithm>

namespace bramix::chip::riscv {

namespace {

constexpr std::int64_t kMask = (std::int64_t{1} << 52) - 1;

}  // namespace

SystemTimer::SystemTimer(Soc& soc) : soc_(soc)
{
    for (unsigned t = 0; t < 3; ++t)
        targets_[t].alarm = std::make_unique<kernel::Alarm>(soc.queue(), [this, t](kernel::Time) {
            raw_ |= 1U << t;
            Target& target = targets_[t];
            if ((target.conf & 1U << 30) != 0 && target.period > 0)
                target.value += target.period;
            else
                target.value = -1;  // it has rung; it rings again when it is loaded anew
            plan(t);
            update();
        });
}

void SystemTimer::reset()
{
    conf_ = 0x46000000;  // unit 0 works
    raw_ = enable_ = 0;
    latched_ = load_ = {};
    valid_ = {};
    const kernel::Time now = soc_.instant();
    for (unsigned u = 0; u < 2; ++u) {
        units_[u].set(0, now);
        units_[u].run(u == 0, now);
    }
    for (Target& t : targets_) {
        t.high = t.low = t.conf = 0;
        t.value = -1;
        t.period = 0;
        t.alarm->disarm();
    }
    update();
}

void SystemTimer::plan(unsigned index)
{
    Target& t = targets_[index];
    const TickCounter& unit = units_[t.conf >> 31];
    if (((conf_ >> (24 - index)) & 1U) == 0 || t.value < 0) {
        t.alarm->disarm();
        return;
    }
    // A value that has gone by rings at once (10.4.3).
    const kernel::Time due = unit.timeOf(t.value);
    if (due != kernel::kNever)
        t.alarm->arm(due);
    else if (unit.running())
        t.alarm->arm(soc_.instant());
    else
        t.alarm->disarm();
}

void SystemTimer::update()
{
    for (unsigned t = 0; t < 3; ++t)
        soc_.setSource(kFirstSource + t, ((raw_ & enable_) >> t & 1U) != 0);
}

std::uint32_t SystemTimer::peek(std::uint32_t offset) const
{
    const auto high = [](std::int64_t v) { return static_cast<std::uint32_t>((v & kMask) >> 32); };
    switch (offset) {
    case 0x00: return conf_;
    case 0x04: case 0x08: return valid_[(offset - 4) / 4] != 0 ? 1U << 29 : 0U;
    case 0x0C: case 0x14: return high(load_[(offset - 0x0C) / 8]);
    case 0x10: case 0x18: return static_cast<std::uint32_t>(load_[(offset - 0x10) / 8]);
    case 0x1C: case 0x24: case 0x2C: return targets_[(offset - 0x1C) / 8].high;
    case 0x20: case 0x28: case 0x30: return targets_[(offset - 0x20) / 8].low;
    case 0x34: case 0x38: case 0x3C: return targets_[(offset - 0x34) / 4].conf;
    case 0x40: case 0x48: return high(latched_[(offset - 0x40) / 8]);
    case 0x44: case 0x4C: return static_cast<std::uint32_t>(latched_[(offset - 0x44) / 8]);
    case 0x64: return enable_;
    case 0x68: return raw_;
    case 0x70: return raw_ & enable_;
    case 0xFC: return 0x2006171;
    default: return 0;
    }
}

void SystemTimer::write(std::uint32_t offset, std::uint32_t value)
{
    const kernel::Time now = soc_.instant();
    switch (offset) {
    case 0x00:
        conf_ = value;
        units_[0].run((value & 1U << 30) != 0, now);
        units_[1].run((value & 1U << 29) != 0, now);
        for (unsigned t = 0; t < 3; ++t)
            plan(t);
        break;
    case 0x04: case 0x08:
        if ((value & 1U << 30) != 0) {
            latched_[(offset - 4) / 4] = units_[(offset - 4) / 4].valueAt(now);
            valid_[(offset - 4) / 4] = 1;
        }
        break;
    case 0x0C: case 0x14: {
        std::int64_t& load = load_[(offset - 0x0C) / 8];
        load = (load & 0xFFFFFFFF) | static_cast<std::int64_t>(value & 0xFFFFFU) << 32;
        break;
    }
    case 0x10: case 0x18: {
        std::int64_t& load = load_[(offset - 0x10) / 8];
        load = (load & ~std::int64_t{0xFFFFFFFF}) | value;
        break;
    }
    case 0x1C: case 0x24: case 0x2C: targets_[(offset - 0x1C) / 8].high = value & 0xFFFFFU; break;
    case 0x20: case 0x28: case 0x30: targets_[(offset - 0x20) / 8].low = value; break;
    case 0x34: case 0x38: case 0x3C:
        targets_[(offset - 0x34) / 4].conf = value & 0xC3FFFFFFU;
        break;
    case 0x50: case 0x54: case 0x58: {
        const unsigned index = (offset - 0x50) / 4;
        Target& t = targets_[index];
        t.period = t.conf & 0x3FFFFFFU;
        if ((t.conf & 1U << 30) != 0)
            t.value = units_[t.conf >> 31].valueAt(now) + t.period;
        else
            t.value = static_cast<std::int64_t>(t.high) << 32 | t.low;
        plan(index);
        break;
    }
    case 0x5C: case 0x60: {
        const unsigned u = (offset - 0x5C) / 4;
        units_[u].set(load_[u], now);
        for (unsigned t = 0; t < 3; ++t)
            plan(t);
        break;
    }
    case 0x64: enable_ = value & 7U; break;
    case 0x6C: raw_ &= ~value; break;
    default: break;
    }
    update();
}

}  // namespace bramix::chip::riscv
