#include "chip/cortexm/peripherals/timer.h"

#include <algorithm>

namespace bramix::chip::cortexm {

namespace {

constexpr std::uint32_t kUpdate = 1;

}  // namespace

Timer::Timer(Services& chip, Gpio& gpio, std::string name, BusOf bus, unsigned interrupt, std::array<Pin, 4> pins)
    : chip_(chip), gpio_(gpio), name_(std::move(name)), bus_(bus), interrupt_(interrupt), pins_(pins), event_(chip, [this](std::int64_t cycle) {
          catchUp(cycle);
          plan();
      })
{
    setBy_.fill(UINT32_MAX);
}

void Timer::reset()
{
    cr1_ = cr2_ = smcr_ = dier_ = sr_ = ccer_ = psc_ = dcr_ = bdtr_ = 0;
    ccmr_ = {};
    ccr_ = ccrShadow_ = {};
    setBy_.fill(UINT32_MAX);
    arr_ = arrShadow_ = 0xFFFF;
    pscShadow_ = count_ = 0;
    references_ = {};
    event_.disarm();
    showAll();
    updateInterrupt();
}

void Timer::remap(std::array<Pin, 4> pins)
{
    for (const Pin pin : pins_)
        gpio_.setAlternate(pin, "", false, false);
    pins_ = pins;
    showAll();
}

std::optional<std::uint32_t> Timer::compareSetBy(Pin pin) const
{
    for (unsigned c = 0; c < 4; ++c)
        if (pins_[c] == pin && setBy_[c] != UINT32_MAX)
            return setBy_[c];
    return std::nullopt;
}

std::uint32_t Timer::countAt(std::int64_t cycle) const
{
    if (!running())
        return count_;
    const std::int64_t ticks = std::max<std::int64_t>(cycle - base_, 0) / tickCycles();
    return static_cast<std::uint32_t>((count_ + ticks) % period());
}

// Every event up to a cycle, in its order. Where nothing would be seen of them, whole periods are passed over at once.
void Timer::catchUp(std::int64_t cycle)
{
    while (running()) {
        const std::int64_t tick = tickCycles();
        const std::int64_t ticks = std::max<std::int64_t>(cycle - base_, 0) / tick;
        if (ticks == 0)
            return;
        // The next thing that happens: a match behind where it stands, or the overflow.
        const std::uint32_t top = period();
        std::int64_t next = std::int64_t{top} - count_;
        for (unsigned c = 0; c < 4; ++c)
            if (compares(c) && ccrShadow_[c] > count_ && ccrShadow_[c] < top)
                next = std::min<std::int64_t>(next, std::int64_t{ccrShadow_[c]} - count_);
        if (next > ticks) {
            count_ += static_cast<std::uint32_t>(ticks);
            base_ += ticks * tick;
            return;
        }
        count_ += static_cast<std::uint32_t>(next);
        base_ += next * tick;
        if (count_ >= top) {
            count_ = 0;
            update(false);
        }
        for (unsigned c = 0; c < 4; ++c)
            if (compares(c) && ccrShadow_[c] == count_)
                match(c);
        pwm();
    }
}

void Timer::update(bool byEvent)
{
    if ((cr1_ & 2U) != 0)
        return;  // UDIS
    pscShadow_ = psc_;
    arrShadow_ = arr_;
    ccrShadow_ = ccr_;
    if (!byEvent || (cr1_ & 4U) == 0) {
        sr_ |= kUpdate;
        updateInterrupt();
    }
    if (!byEvent && (cr1_ & 8U) != 0)
        cr1_ &= ~1U;  // one pulse
}

void Timer::match(unsigned c)
{
    sr_ |= 2U << c;
    switch (modeOf(c)) {
    case 1: setReference(c, true); break;
    case 2: setReference(c, false); break;
    case 3: setReference(c, !references_[c]); break;
    default: break;
    }
    updateInterrupt();
}

void Timer::setReference(unsigned c, bool level)
{
    references_[c] = level;
    const bool on = ((ccer_ >> (4 * c)) & 1U) != 0 && compares(c), inverted = ((ccer_ >> (4 * c)) & 2U) != 0;
    static constexpr const char* kNames[] = {"CH1", "CH2", "CH3", "CH4"};
    gpio_.setAlternate(pins_[c], kNames[c], on, level != inverted);
}

// PWM and forced levels follow the counter.
void Timer::pwm()
{
    for (unsigned c = 0; c < 4; ++c)
        switch (modeOf(c)) {
        case 4: setReference(c, false); break;
        case 5: setReference(c, true); break;
        case 6: setReference(c, count_ < ccrShadow_[c]); break;
        case 7: setReference(c, count_ >= ccrShadow_[c]); break;
        default: break;
        }
}

void Timer::showAll()
{
    pwm();
    for (unsigned c = 0; c < 4; ++c)
        setReference(c, references_[c]);
}

void Timer::updateInterrupt() { chip_.setInterrupt(interrupt_, (sr_ & dier_ & 0x5FU) != 0); }

// When the next event is that somebody would notice. A flag that stands already is none.
void Timer::plan()
{
    if (!running()) {
        event_.disarm();
        return;
    }
    const std::uint32_t top = period();
    std::int64_t next = INT64_MAX;
    const bool pins = std::any_of(pins_.begin(), pins_.end(), [this](Pin p) { return p.exists() && gpio_.isAlternate(p); });
    if ((dier_ & kUpdate) != 0 || (sr_ & kUpdate) == 0 || (pins && ccer_ != 0) || (cr1_ & 8U) != 0)
        next = std::int64_t{top} - count_;
    for (unsigned c = 0; c < 4; ++c) {
        const bool shown = ((ccer_ >> (4 * c)) & 1U) != 0 && pins_[c].exists() && modeOf(c) != 0 && modeOf(c) != 4 && modeOf(c) != 5;
        if (!compares(c) || ccrShadow_[c] >= top || !((dier_ & (2U << c)) != 0 || shown))
            continue;
        const std::int64_t to = ccrShadow_[c] > count_ ? std::int64_t{ccrShadow_[c]} - count_ : std::int64_t{top} - count_ + ccrShadow_[c];
        next = std::min(next, to);
    }
    if (next == INT64_MAX)
        event_.disarm();
    else
        event_.arm(base_ + next * tickCycles());
}

std::uint32_t Timer::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return cr1_;
    case 0x04: return cr2_;
    case 0x08: return smcr_;
    case 0x0C: return dier_;
    case 0x10: return sr_;
    case 0x18: return ccmr_[0];
    case 0x1C: return ccmr_[1];
    case 0x20: return ccer_;
    case 0x24: return countAt(chip_.cycleNow());
    case 0x28: return psc_;
    case 0x2C: return arr_;
    case 0x34: case 0x38: case 0x3C: case 0x40: return ccr_[(offset - 0x34) / 4];
    case 0x44: return bdtr_;
    case 0x48: return dcr_;
    default: return 0;
    }
}

void Timer::write(std::uint32_t offset, std::uint32_t value)
{
    const std::int64_t now = chip_.cycleNow();
    catchUp(now);
    value &= 0xFFFFU;
    switch (offset) {
    case 0x00:
        if (!running() && (value & 1U) != 0)
            base_ = now;
        cr1_ = value & 0x3FFU;
        if ((value & 0x70U) != 0)
            chip_.remark("not-modelled", name_ + " is set to count down or centre-aligned, which is not modelled: it counts up");
        break;
    case 0x04: cr2_ = value; break;
    case 0x08:
        smcr_ = value;
        if ((value & 7U) != 0)
            chip_.remark("not-modelled", name_ + " is set to a slave mode, which is not modelled: it counts by its own clock");
        break;
    case 0x0C: dier_ = value; break;
    case 0x10: sr_ &= value; break;
    case 0x14:
        if ((value & 1U) != 0) {
            count_ = 0;
            base_ = now;
            update(true);
        }
        sr_ |= value & 0x1EU;
        break;
    case 0x18: case 0x1C: ccmr_[(offset - 0x18) / 4] = value; break;
    case 0x20: ccer_ = value; break;
    case 0x24:
        count_ = value;
        base_ = now;
        break;
    case 0x28: psc_ = value; break;
    case 0x2C:
        arr_ = value;
        if ((cr1_ & 0x80U) == 0)
            arrShadow_ = value;
        break;
    case 0x34: case 0x38: case 0x3C: case 0x40: {
        const unsigned c = (offset - 0x34) / 4;
        ccr_[c] = value;
        setBy_[c] = chip_.codeNow();
        // Without preload it counts at once.
        if (((ccmr_[c / 2] >> (c % 2 * 8 + 3)) & 1U) == 0 || !running())
            ccrShadow_[c] = value;
        break;
    }
    case 0x44: bdtr_ = value; break;
    case 0x48: dcr_ = value; break;
    default: break;
    }
    showAll();
    updateInterrupt();
    plan();
}

}  // namespace bramix::chip::cortexm
