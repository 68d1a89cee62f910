#include "chip/riscv/peripherals/timer_group.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::riscv {

namespace {

constexpr std::uint32_t kEnable = 1U << 31, kIncrease = 1U << 30, kReload = 1U << 29, kAlarm = 1U << 10, kCrystal = 1U << 9, kKey = 0x50D83AA1;
constexpr std::int64_t kMask = (std::int64_t{1} << 54) - 1;

}  // namespace

TimerGroup::TimerGroup(Soc& soc, unsigned group, unsigned firstSource)
    : soc_(soc), group_(group), firstSource_(firstSource), ring_(soc.queue(), [this](kernel::Time t) {
          raw_ |= 1;
          config_ &= ~kAlarm;
          if ((config_ & kReload) != 0)
              counter_.set(load_, t);
          update();
      }),
      watchdog_(soc.queue(), [this](Watchdog::Does does, unsigned) {
          if (does == Watchdog::Does::interrupts) {
              raw_ |= 2;
              update();
              return;
          }
          soc_.remark("watchdog-reset", fmt::format("the watchdog of timer group {} resets the chip: it runs from reset until it is switched off or fed", group_));
          soc_.wantReset(does == Watchdog::Does::resetsCore ? 0x0B : group_ == 0 ? 0x07 : 0x08);
      })
{
}

void TimerGroup::reset()
{
    config_ = kIncrease | kReload | 1U << 13;
    raw_ = enable_ = 0;
    calibration_ = 0x13000;
    latched_ = alarm_ = load_ = 0;
    counter_ = TickCounter(tickHz());
    counter_.set(0, soc_.instant());
    ring_.disarm();
    // Flash boot mode, on in both groups; it works in group 0 (TRM 12.2.2.3).
    watchConfig_ = 0x4C000;
    watchPrescale_ = 1;
    watchKey_ = kKey;
    watchHold_ = {26'000'000, 0x7FFFFFF, 0xFFFFF, 0xFFFFF};
    watchdog_.setUp(false, 1, {}, soc_.instant());
    watch();
    update();
}

std::uint64_t TimerGroup::tickHz() const
{
    std::uint32_t divider = (config_ >> 13) & 0xFFFFU;
    divider = divider == 0 ? 65'536 : std::max(divider, 2U);
    return std::max<std::uint64_t>(((config_ & kCrystal) != 0 ? soc_.crystalHz() : soc_.busHz()) / divider, 1);
}

void TimerGroup::clockChanged()
{
    counter_.setRate(tickHz(), soc_.instant());
    plan();
    watch();
}

void TimerGroup::plan()
{
    if ((config_ & kAlarm) == 0) {
        ring_.disarm();
        return;
    }
    const kernel::Time due = counter_.timeOf(alarm_);
    if (due != kernel::kNever)
        ring_.arm(due);
    else if (counter_.running())
        ring_.arm(soc_.instant());
    else
        ring_.disarm();
}

void TimerGroup::watch()
{
    const bool on = (watchConfig_ & kEnable) != 0 || (group_ == 0 && (watchConfig_ & 1U << 14) != 0);
    std::array<Watchdog::Stage, 4> stages{};
    for (unsigned s = 0; s < 4; ++s) {
        static constexpr Watchdog::Does kDoes[] = {Watchdog::Does::nothing, Watchdog::Does::interrupts, Watchdog::Does::resetsCore, Watchdog::Does::resetsSystem};
        stages[s] = {kDoes[(watchConfig_ >> (29 - 2 * s)) & 3U], watchHold_[s]};
    }
    // Starting from flash the first stage resets whatever is set.
    if ((watchConfig_ & kEnable) == 0)
        stages = {Watchdog::Stage{Watchdog::Does::resetsSystem, watchHold_[0]}};
    const std::uint64_t hz = (watchConfig_ & 1U << 21) != 0 ? soc_.crystalHz() : soc_.busHz();
    watchdog_.setUp(on, static_cast<double>(hz) / std::max(watchPrescale_, 1U), stages, soc_.instant());
}

void TimerGroup::update()
{
    soc_.setSource(firstSource_, (raw_ & enable_ & 1U) != 0);
    soc_.setSource(firstSource_ + 1, (raw_ & enable_ & 2U) != 0);
}

std::uint32_t TimerGroup::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return config_;
    case 0x04: return static_cast<std::uint32_t>(latched_);
    case 0x08: return static_cast<std::uint32_t>((latched_ & kMask) >> 32);
    case 0x10: return static_cast<std::uint32_t>(alarm_);
    case 0x14: return static_cast<std::uint32_t>(alarm_ >> 32);
    case 0x18: return static_cast<std::uint32_t>(load_);
    case 0x1C: return static_cast<std::uint32_t>(load_ >> 32);
    case 0x48: return watchConfig_;
    case 0x4C: return watchPrescale_ << 16;
    case 0x50: case 0x54: case 0x58: case 0x5C: return watchHold_[(offset - 0x50) / 4];
    case 0x64: return watchKey_;
    case 0x68: return calibration_ | 1U << 15;
    // Crystal clocks in the cycles of the slow clock that were asked for.
    case 0x6C: return static_cast<std::uint32_t>(((calibration_ >> 16) & 0x7FFFU) * soc_.crystalHz() / kSlowRcHz) << 7 | 1U;
    case 0x70: return enable_;
    case 0x74: return raw_;
    case 0x78: return raw_ & enable_;
    case 0xF8: return 0x2006191;
    default: return 0;
    }
}

void TimerGroup::write(std::uint32_t offset, std::uint32_t value)
{
    const kernel::Time now = soc_.instant();
    const auto low = [value](std::int64_t& v) { v = (v & ~std::int64_t{0xFFFFFFFF}) | value; };
    const auto high = [value](std::int64_t& v) { v = (v & 0xFFFFFFFF) | static_cast<std::int64_t>(value & 0x3FFFFFU) << 32; };
    if (offset >= 0x48 && offset <= 0x60 && watchKey_ != kKey) {
        soc_.remark("write-protected", fmt::format("a register of the watchdog of timer group {} is written while it is locked: write 0x50D83AA1 to WDTWPROTECT first", group_));
        return;
    }
    switch (offset) {
    case 0x00:
        config_ = value;
        counter_.setRate(tickHz(), now);
        counter_.setDirection((value & kIncrease) != 0, now);
        counter_.run((value & kEnable) != 0, now);
        plan();
        break;
    case 0x0C: latched_ = counter_.valueAt(now); break;
    case 0x10: low(alarm_), plan(); break;
    case 0x14: high(alarm_), plan(); break;
    case 0x18: low(load_); break;
    case 0x1C: high(load_); break;
    case 0x20: counter_.set(load_, now), plan(); break;
    case 0x48: watchConfig_ = value, watch(); break;
    case 0x4C: watchPrescale_ = value >> 16, watch(); break;
    case 0x50: case 0x54: case 0x58: case 0x5C: watchHold_[(offset - 0x50) / 4] = value, watch(); break;
    case 0x60: watchdog_.feed(now); break;
    case 0x64: watchKey_ = value; break;
    case 0x68: calibration_ = value & 0x7FFF7000U; break;
    case 0x70: enable_ = value & 3U; break;
    case 0x7C: raw_ &= ~value; break;
    default: break;
    }
    update();
}

}  // namespace bramix::chip::riscv
