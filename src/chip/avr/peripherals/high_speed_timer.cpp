#include "chip/avr/peripherals/high_speed_timer.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

constexpr std::uint8_t kCsMask = 0x0F;

}  // namespace

HighSpeedTimer::HighSpeedTimer(ChipServices& chip)
    : StatefulPeripheral(chip), alarm_(chip.queue(), [this](kernel::Time due) { sync(cycleOf(due)); schedule(); }),
      riseAlarms_{kernel::Alarm(chip.queue(), [this](kernel::Time) { rising_[0] = false; drive(0); }), kernel::Alarm(chip.queue(), [this](kernel::Time) { rising_[1] = false; drive(1); })}
{
    const Names& names = chip.names();
    tccr1_ = names.reg("TCCR1");
    gtccr_ = names.reg("GTCCR");
    tcnt1_ = names.reg("TCNT1");
    ocr1c_ = names.reg("OCR1C");
    dtps_ = names.reg("DTPS1");
    ctc_ = names.bit("CTC1");
    pcke_ = names.bit("PCKE");
    lsm_ = names.bit("LSM");
    pllcsr_ = pcke_.address;
    prescalerReset_ = names.bit("PSR1");
    overflow_ = {names.vector("TIMER1_OVF"), names.bit("TOV1"), names.bit("TOIE1")};
    timsk_ = overflow_.enable.address;
    tifr_ = overflow_.flag.address;
    enableMask_ = overflow_.enable.mask;
    flagMask_ = overflow_.flag.mask;
    gtccrMask_ = prescalerReset_.mask;
    for (unsigned i = 0; i < 2; ++i) {
        const char u = i == 0 ? 'A' : 'B';
        Unit& unit = units_[i];
        unit.ocr = names.reg(fmt::format("OCR1{}", u));
        unit.pwm = names.bit(fmt::format("PWM1{}", u));
        unit.com1 = names.bit(fmt::format("COM1{}1", u));
        unit.com0 = names.bit(fmt::format("COM1{}0", u));
        unit.force = names.bit(fmt::format("FOC1{}", u));
        unit.match = {names.vector(fmt::format("TIMER1_COMP{}", u)), names.bit(fmt::format("OCF1{}", u)), names.bit(fmt::format("OCIE1{}", u))};
        unit.pin = names.pin(fmt::format("OC1{}", u));
        unit.complement = names.pin(fmt::format("/OC1{}", u));
        unit.deadTime = names.reg(fmt::format("DT1{}", u));
        unit.lane = Override::compareC;
        enableMask_ |= unit.match.enable.mask;
        flagMask_ |= unit.match.flag.mask;
        for (const BitRef b : {unit.pwm, unit.com1, unit.com0, unit.force})
            if (b.address == gtccr_)
                gtccrMask_ |= b.mask;
        chip.claim(*this, unit.ocr);
        chip.claim(*this, unit.deadTime);
        chip.claimVector(*this, unit.match.vector);
    }
    for (const std::uint16_t address : {tccr1_, gtccr_, tcnt1_, ocr1c_, timsk_, tifr_, dtps_, pllcsr_})
        chip.claim(*this, address);
    chip.claimVector(*this, overflow_.vector);
    chip.claimPower(*this, names.bit("PRTIM1"));
}

// CS13:0 (table 12-5): 1, 2, 4 ... 16384.
unsigned HighSpeedTimer::divisor() const
{
    const unsigned cs = chip_.reg(tccr1_) & kCsMask;
    return stops_ != 0 || cs == 0 ? 0 : 1U << (cs - 1);
}

std::int64_t HighSpeedTimer::sourceCycle(std::int64_t cycle) const { return fromPll() ? pll().firstCycleAtOrAfter(timeOf(cycle) + kernel::Duration(1)).n - 1 : cycle; }

kernel::Time HighSpeedTimer::timeOfTick(std::int64_t tick) const
{
    const std::int64_t source = zero_ + tick * divisor();
    return fromPll() ? pll().timeOf({source}) : timeOf(source);
}

unsigned HighSpeedTimer::top() const { return chip_.is(ctc_) || anyPwm() ? chip_.reg(ocr1c_) : 0xFF; }

void HighSpeedTimer::sync(std::int64_t cycle)
{
    const unsigned d = divisor();
    if (d == 0)
        return;
    const std::int64_t now = (sourceCycle(cycle) - zero_) / d;
    if (now <= lastTick_)
        return;
    std::int64_t ticks = now - lastTick_;
    // Whole rounds in which no output moves leave only flags behind.
    const std::int64_t period = static_cast<std::int64_t>(top()) + 1;
    const bool quiet = com(units_[0]) == 0 && com(units_[1]) == 0;
    if (quiet && ticks > 4 * period && count_ <= top())
        ticks = 2 * period + ticks % period;
    for (; ticks > 0; --ticks)
        tick();
    lastTick_ = now;
    updateInterrupts();
}

void HighSpeedTimer::tick()
{
    for (unsigned u = 0; u < 2; ++u)
        if (count_ == compare_[u]) {
            chip_.put(units_[u].match.flag, true);
            matchOutput(u, false);
        }
    const bool wraps = count_ == top() || count_ >= 0xFF;
    count_ = wraps ? 0 : count_ + 1;
    if (!wraps)
        return;
    if (!chip_.is(ctc_) || anyPwm())
        chip_.put(overflow_.flag, true);
    compare_ = buffer_;
    for (unsigned u = 0; u < 2; ++u)
        if (chip_.is(units_[u].pwm))
            matchOutput(u, true);
}

void HighSpeedTimer::matchOutput(unsigned unit, bool atZero)
{
    const unsigned c = com(units_[unit]);
    if (c == 0)
        return;
    if (chip_.is(units_[unit].pwm))
        setOutput(unit, atZero == (c != 3));
    else if (!atZero)
        setOutput(unit, c == 1 ? !outputs_[unit] : c == 3);
}

void HighSpeedTimer::setOutput(unsigned unit, bool value)
{
    if (outputs_[unit] == value)
        return;
    outputs_[unit] = value;
    const Unit& u = units_[unit];
    const unsigned dead = value ? chip_.reg(u.deadTime) >> 4U : chip_.reg(u.deadTime) & 15U;
    if (dead != 0 && chip_.is(u.pwm) && com(u) == 1) {
        const std::int64_t clocks = static_cast<std::int64_t>(dead) << (chip_.reg(dtps_) & 3U);
        const kernel::Time now = chip_.queue().now();
        rising_[unit] = true;
        riseAlarms_[unit].arm(fromPll() ? now + pll().span(clocks) : now + chip_.clock().span(clocks));
    }
    drive(unit);
}

void HighSpeedTimer::drive(unsigned unit)
{
    const Unit& u = units_[unit];
    const unsigned c = com(u);
    const bool value = outputs_[unit];
    chip_.ports().setOverride(u.pin, u.lane, c != 0, value && !rising_[unit]);
    chip_.ports().setOverride(u.complement, u.lane, c == 1 && chip_.is(u.pwm), !value && !rising_[unit]);
}

void HighSpeedTimer::rebase(std::int64_t cycle)
{
    const unsigned d = divisor();
    if (d != 0)
        lastTick_ = (sourceCycle(cycle) - zero_) / d;
    schedule();
}

void HighSpeedTimer::schedule()
{
    const unsigned d = divisor();
    const auto awaits = [&](const InterruptSource& s) { return !chip_.is(s.flag) && (chip_.is(s.enable) || chip_.awaited(s.vector)); };
    std::int64_t nearest = INT64_MAX;
    const unsigned limit = top();
    const unsigned toWrap = count_ <= limit ? limit - count_ : 0xFF - count_;
    for (unsigned u = 0; u < 2 && d != 0; ++u) {
        const bool pin = com(units_[u]) != 0;
        if (!pin && !awaits(units_[u].match))
            continue;
        if (compare_[u] >= count_ && compare_[u] - count_ <= toWrap)
            nearest = std::min<std::int64_t>(nearest, compare_[u] - count_ + 1);
        nearest = std::min<std::int64_t>(nearest, toWrap + 1);  // a match may come in the next round, or the output be set at 0
    }
    if (d != 0 && awaits(overflow_))
        nearest = std::min<std::int64_t>(nearest, toWrap + 1);
    if (nearest == INT64_MAX)
        alarm_.disarm();
    else
        alarm_.arm(timeOfTick(lastTick_ + nearest));
}

void HighSpeedTimer::updateInterrupts()
{
    report(units_[0].match);
    report(units_[1].match);
    report(overflow_);
}

std::uint8_t HighSpeedTimer::read(std::uint16_t address, std::int64_t cycle)
{
    sync(cycle);
    if (address == tcnt1_)
        return static_cast<std::uint8_t>(count_);
    for (unsigned u = 0; u < 2; ++u)
        if (address == units_[u].ocr)
            return buffer_[u];
    return chip_.reg(address);
}

void HighSpeedTimer::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    sync(cycle);
    if (address == timsk_) {
        store(address, value, enableMask_);
    } else if (address == tifr_) {
        store(address, 0, value & flagMask_);
    } else if (address == tcnt1_) {
        count_ = value;
    } else if (address == pllcsr_) {
        const std::uint8_t mask = pcke_.mask | lsm_.mask;
        if (((chip_.reg(address) ^ value) & mask) != 0) {
            store(address, value, mask);
            zero_ = sourceCycle(cycle);
            lastTick_ = 0;
        }
    } else if (address == gtccr_) {
        store(address, value, static_cast<std::uint8_t>(gtccrMask_ & ~prescalerReset_.mask));
        if ((value & prescalerReset_.mask) != 0) {
            zero_ = sourceCycle(cycle);
            lastTick_ = 0;
        }
        for (unsigned u = 0; u < 2; ++u)
            if ((value & units_[u].force.mask) != 0) {
                chip_.put(units_[u].force, false);
                if (!chip_.is(units_[u].pwm))
                    matchOutput(u, false);
            }
    } else if (address == units_[0].ocr || address == units_[1].ocr) {
        const unsigned u = address == units_[0].ocr ? 0 : 1;
        buffer_[u] = value;
        if (!chip_.is(units_[u].pwm))
            compare_[u] = value;
    } else {
        store(address, value);
    }
    if (address == tccr1_) {
        rebase(cycle);
        for (unsigned u = 0; u < 2; ++u)
            if (!chip_.is(units_[u].pwm))
                compare_[u] = buffer_[u];
    }
    drive(0);
    drive(1);
    updateInterrupts();
    schedule();
}

void HighSpeedTimer::interruptTaken(std::uint8_t vector)
{
    for (const Unit& u : units_)
        if (u.match.vector == vector)
            chip_.put(u.match.flag, false);
    if (vector == overflow_.vector)
        chip_.put(overflow_.flag, false);
    updateInterrupts();
    schedule();
}

void HighSpeedTimer::reset()
{
    count_ = 0;
    compare_ = buffer_ = {};
    lastTick_ = 0;
    zero_ = sourceCycle(chip_.cycleNow());
    outputs_ = rising_ = {};
    chip_.reg(ocr1c_) = 0xFF;
    alarm_.disarm();
    riseAlarms_[0].disarm();
    riseAlarms_[1].disarm();
    drive(0);
    drive(1);
    updateInterrupts();
}

void HighSpeedTimer::clockStopped(std::int64_t cycle)
{
    sync(cycle);
    alarm_.disarm();
}

void HighSpeedTimer::clockStarted(std::int64_t cycle)
{
    rebase(cycle);
}

}  // namespace bramix::chip::avr
