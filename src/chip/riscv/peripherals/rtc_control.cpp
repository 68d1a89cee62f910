#include "chip/riscv/peripherals/rtc_control.h"

namespace bramix::chip::riscv {

namespace {

constexpr std::uint32_t kKey = 0x50D83AA1, kSuperKey = 0x8F1D312A, kEnable = 1U << 31;
constexpr std::uint32_t kSuperSelfFeeds = 1U << 31, kSuperOff = 1U << 30, kSuperFeed = 1U << 29, kSuperReset = 1;

}  // namespace

RtcControl::RtcControl(Soc& soc)
    : soc_(soc), slow_(kSlowRcHz), watchdog_(soc.queue(), [this](Watchdog::Does does, unsigned) {
          if (does == Watchdog::Does::interrupts) {
              raw_ |= 1U << 3;
              update();
              return;
          }
          soc_.remark("watchdog-reset", "the watchdog of the always-on clock resets the chip: it runs from reset until it is switched off or fed");
          soc_.wantReset(does == Watchdog::Does::resetsCore ? 0x0D : does == Watchdog::Does::resetsSystem ? 0x09 : 0x10);
      }),
      super_(soc.queue(), [this](Watchdog::Does, unsigned) {
          soc_.remark("watchdog-reset", "the super watchdog resets the chip: it runs from reset until it is switched off or feeds itself (SWD_CONF)");
          soc_.wantReset(0x12);
      })
{
}

void RtcControl::powerOn()
{
    stores_ = {};
    cause_ = 1;
    slow_ = TickCounter(kSlowRcHz);
    slow_.set(0, soc_.instant());
    slow_.run(true, soc_.instant());
    latched_ = 0;
}

void RtcControl::reset()
{
    kept_.clear();
    config_ = 0x00013214;  // flash boot mode
    hold_ = {200'000, 80'000, 0xFFF, 0xFFF};
    key_ = kKey;
    superConfig_ = 0x04B00000;
    superKey_ = kSuperKey;
    raw_ = enable_ = 0;
    watchdog_.setUp(false, 1, {}, soc_.instant());
    super_.setUp(false, 1, {}, soc_.instant());
    watch();
    update();
}

void RtcControl::watch()
{
    const bool bySelf = (config_ & kEnable) == 0;
    const bool on = !bySelf || (config_ & 1U << 12) != 0;
    std::array<Watchdog::Stage, 4> stages{};
    for (unsigned s = 0; s < 4; ++s) {
        static constexpr Watchdog::Does kDoes[] = {Watchdog::Does::nothing, Watchdog::Does::interrupts, Watchdog::Does::resetsCore, Watchdog::Does::resetsSystem, Watchdog::Does::resetsAll, Watchdog::Does::nothing, Watchdog::Does::nothing, Watchdog::Does::nothing};
        stages[s] = {kDoes[(config_ >> (28 - 3 * s)) & 7U], hold_[s]};
    }
    // The first stage is twice as long as it says (eFuse WDT_DELAY_SEL as shipped, TRM 12.2.2.2).
    stages[0].ticks *= 2;
    if (bySelf)
        stages = {Watchdog::Stage{Watchdog::Does::resetsSystem, std::uint64_t{hold_[0]} * 2}};
    watchdog_.setUp(on, static_cast<double>(kSlowRcHz), stages, soc_.instant());
    // Slightly less than a second (TRM 12.3.2).
    const bool superOn = (superConfig_ & (kSuperOff | kSuperSelfFeeds)) == 0;
    super_.setUp(superOn, static_cast<double>(kSlowRcHz), {Watchdog::Stage{Watchdog::Does::resetsAll, kSlowRcHz * 98 / 100}}, soc_.instant());
}

void RtcControl::update() { soc_.setSource(kSource, (raw_ & enable_) != 0); }

std::uint32_t RtcControl::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x10: return static_cast<std::uint32_t>(latched_);
    case 0x14: return static_cast<std::uint32_t>(latched_ >> 32) & 0xFFFFU;
    case 0x38: return cause_;
    case 0x40: return enable_;
    case 0x44: return raw_;
    case 0x48: return raw_ & enable_;
    case 0x50: case 0x54: case 0x58: case 0x5C: return stores_[(offset - 0x50) / 4];
    case 0xB8: case 0xBC: case 0xC0: case 0xC4: return stores_[4 + (offset - 0xB8) / 4];
    case 0x90: return config_;
    case 0x94: case 0x98: case 0x9C: case 0xA0: return hold_[(offset - 0x94) / 4];
    case 0xA8: return key_;
    case 0xAC: return superConfig_ | (cause_ == 0x12 ? kSuperReset : 0U);
    case 0xB0: return superKey_;
    default: {
        const auto known = kept_.find(offset);
        return known == kept_.end() ? 0 : known->second;
    }
    }
}

void RtcControl::write(std::uint32_t offset, std::uint32_t value)
{
    const kernel::Time now = soc_.instant();
    if (offset >= 0x90 && offset <= 0xA4 && key_ != kKey) {
        soc_.remark("write-protected", "a register of the always-on watchdog is written while it is locked: write 0x50D83AA1 to RTC_CNTL_WDTWPROTECT first");
        return;
    }
    if (offset == 0xAC && superKey_ != kSuperKey) {
        soc_.remark("write-protected", "SWD_CONF is written while it is locked: write 0x8F1D312A to RTC_CNTL_SWD_WPROTECT first");
        return;
    }
    switch (offset) {
    case 0x00:
        kept_[offset] = value & ~(1U << 31 | 1U << 5);
        if ((value & 1U << 31) != 0)
            soc_.wantReset(0x03);
        else if ((value & 1U << 5) != 0)
            soc_.wantReset(0x0C);
        break;
    case 0x0C:
        if ((value & kEnable) != 0)
            latched_ = slow_.valueAt(now);
        break;
    case 0x40: enable_ = value; break;
    case 0x4C: raw_ &= ~value; break;
    case 0x50: case 0x54: case 0x58: case 0x5C: stores_[(offset - 0x50) / 4] = value; break;
    case 0xB8: case 0xBC: case 0xC0: case 0xC4: stores_[4 + (offset - 0xB8) / 4] = value; break;
    case 0x90: config_ = value, watch(); break;
    case 0x94: case 0x98: case 0x9C: case 0xA0: hold_[(offset - 0x94) / 4] = value, watch(); break;
    case 0xA4:
        if ((value & kEnable) != 0)
            watchdog_.feed(now);
        break;
    case 0xA8: key_ = value; break;
    case 0xAC:
        superConfig_ = value & ~(kSuperFeed | kSuperReset);
        watch();
        if ((value & kSuperFeed) != 0 && super_.on())
            super_.feed(now);
        break;
    case 0xB0: superKey_ = value; break;
    default: kept_[offset] = value; break;
    }
    update();
}

}  // namespace bramix::chip::riscv
