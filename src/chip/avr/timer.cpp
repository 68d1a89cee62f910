#include "chip/avr/timer.h"

#include <algorithm>

namespace bramix::chip::avr {

namespace {

constexpr std::uint8_t kCsMask = 7;

}  // namespace

// Table 15-8 and 18-8, by WGM2:0.
const std::array<Timer::Mode, 8> Timer::kModes8{
    Mode{Shape::normal, Top::fixed, 0xFF},     Mode{Shape::phase, Top::fixed, 0xFF},
    Mode{Shape::ctc, Top::ocra},               Mode{Shape::fast, Top::fixed, 0xFF},
    Mode{Shape::reserved, Top::fixed, 0xFF},   Mode{Shape::phase, Top::ocra, 0, true},
    Mode{Shape::reserved, Top::fixed, 0xFF},   Mode{Shape::fast, Top::ocra, 0, true},
};

// Table 16-4, by WGM3:0.
const std::array<Timer::Mode, 16> Timer::kModes16{
    Mode{Shape::normal, Top::fixed, 0xFFFF},   Mode{Shape::phase, Top::fixed, 0xFF},
    Mode{Shape::phase, Top::fixed, 0x1FF},     Mode{Shape::phase, Top::fixed, 0x3FF},
    Mode{Shape::ctc, Top::ocra},               Mode{Shape::fast, Top::fixed, 0xFF},
    Mode{Shape::fast, Top::fixed, 0x1FF},      Mode{Shape::fast, Top::fixed, 0x3FF},
    Mode{Shape::phaseFrequency, Top::icr},     Mode{Shape::phaseFrequency, Top::ocra, 0, true},
    Mode{Shape::phase, Top::icr},              Mode{Shape::phase, Top::ocra, 0, true},
    Mode{Shape::ctc, Top::icr},                Mode{Shape::reserved, Top::fixed, 0xFFFF},
    Mode{Shape::fast, Top::icr, 0, true},      Mode{Shape::fast, Top::ocra, 0, true},
};

Timer::Timer(const TimerRow& row, ChipServices& chip, Prescaler& prescaler)
    : row_(row), chip_(chip), prescaler_(prescaler), alarm_(chip.queue(), [this](kernel::Time due) { sync(chip_.clock().firstCycleAtOrAfter(due).n); schedule(); })
{
}

const Timer::Mode& Timer::mode() const
{
    const unsigned low = tccra_ & 3U;
    return row_.width == 16 ? kModes16[low | ((tccrb_ >> 1) & 12U)] : kModes8[low | ((tccrb_ >> 1) & 4U)];
}

std::uint32_t Timer::top() const
{
    switch (mode().top) {
    case Top::fixed: return mode().fixedTop;
    case Top::ocra: return ocr_[0];
    case Top::icr: return icr_;
    }
    return 0;
}

// 0 where the timer stands.
unsigned Timer::divisor() const
{
    const std::uint16_t d = row_.prescale[tccrb_ & kCsMask];
    return frozen_ || prescaler_.held || d >= kExternalFalling ? 0 : d;
}

std::int64_t Timer::tickAt(std::int64_t cycle) const
{
    const unsigned d = divisor();
    return d == 0 ? lastTick_ : (cycle - prescaler_.zeroCycle) / d;
}

// Whether the compare unit has its pin.
bool Timer::connected(unsigned unit) const
{
    const unsigned c = com(unit);
    if (c == 0 || !(unit == 0 ? row_.ocA : row_.ocB).exists() || mode().shape == Shape::reserved)
        return false;
    return !(c == 1 && buffered() && (unit == 1 || !mode().toggleA));
}

// How many ticks pass before the one in which something happens.
std::int64_t Timer::ticksToPoint(const Counter& c) const
{
    const std::uint32_t limit = top();
    std::uint32_t nearest = c.down ? c.count : c.count <= limit ? limit - c.count : max() - c.count;
    for (const std::uint32_t match : ocr_) {
        if (!c.down && match >= c.count)
            nearest = std::min(nearest, match - c.count);
        if (c.down && match <= c.count)
            nearest = std::min(nearest, c.count - match);
    }
    return nearest;
}

// One tick: moves the count, tells what happened.
unsigned Timer::tick(Counter& c) const
{
    const std::uint32_t limit = top();
    unsigned events = 0;
    if (!c.blocked)
        events = (c.count == ocr_[0] ? kMatchA : 0U) | (c.count == ocr_[1] ? kMatchB : 0U);
    c.blocked = false;
    if (dualSlope()) {
        if (!c.down && c.count >= limit) {
            events |= kAtTop | kTurned;
            c.down = true;
        } else if (c.down && c.count == 0) {
            events |= kAtBottom | kTurned;
            c.down = false;
        }
        if (limit != 0)
            c.count = c.down ? c.count - 1 : c.count + 1;
        else
            c.count = 0;
        return events;
    }
    if (c.count == limit)
        events |= kAtTop;
    if (c.count == max())
        events |= kAtMax;
    const bool wraps = (events & kAtMax) != 0 || ((events & kAtTop) != 0 && mode().shape != Shape::normal);
    c.count = wraps ? 0 : c.count + 1;
    return events | (wraps ? kAtBottom : 0U);
}

void Timer::actOn(unsigned events)
{
    const Mode& m = mode();
    if ((events & kMatchA) != 0)
        flags_ |= kCompareA;
    if ((events & kMatchB) != 0)
        flags_ |= kCompareB;
    if ((events & kAtTop) != 0 && m.top == Top::icr)
        flags_ |= kCapture;
    const bool overflow = m.shape == Shape::fast ? (events & kAtTop) != 0 : dualSlope() ? (events & kAtBottom) != 0 : (events & kAtMax) != 0;
    if (overflow)
        flags_ |= kOverflow;
    const bool fastWrap = m.shape == Shape::fast && (events & kAtBottom) != 0;
    for (unsigned unit = 0; unit < 2; ++unit) {
        const bool match = (events & (unit == 0 ? kMatchA : kMatchB)) != 0;
        if (match || fastWrap)
            matchOutput(unit, fastWrap, counter_.down);
    }
    if ((m.shape == Shape::fast && (events & kAtBottom) != 0) || (m.shape == Shape::phase && (events & kAtTop) != 0) ||
        (m.shape == Shape::phaseFrequency && (events & kAtBottom) != 0))
        loadBuffers();
}

// `bottom`: the count has just become BOTTOM in a fast mode, which wins over a match in the same tick.
void Timer::matchOutput(unsigned unit, bool bottom, bool down)
{
    const unsigned c = com(unit);
    bool value = outputs_[unit];
    const Shape shape = mode().shape;
    if (c == 0)
        return;
    if (c == 1) {
        // Toggling is on the match; in a fast mode the match is at TOP, the tick that wraps.
        value = !value;
    } else if (shape == Shape::fast) {
        value = bottom == (c == 2);
    } else if (dualSlope()) {
        value = down == (c == 2);
    } else {
        value = c == 3;
    }
    if (value == outputs_[unit])
        return;
    outputs_[unit] = value;
    if (connected(unit)) {
        const PortPin pin = unit == 0 ? row_.ocA : row_.ocB;
        chip_.ports().setOverride(pin, unit == 0 ? Override::compareA : Override::compareB, true, value);
    }
}

void Timer::loadBuffers() { ocr_ = ocrBuffer_; }

// Which events of a tick somebody outside would notice.
unsigned Timer::noticed() const
{
    unsigned events = 0;
    const std::uint8_t awaited = timsk_ & static_cast<std::uint8_t>(~flags_);
    const bool pinA = connected(0);
    const bool pinB = connected(1);
    if ((awaited & kCompareA) != 0 || pinA)
        events |= kMatchA;
    if ((awaited & kCompareB) != 0 || pinB)
        events |= kMatchB;
    if ((awaited & kOverflow) != 0)
        events |= kAtMax | kAtTop | kAtBottom;
    if ((awaited & kCapture) != 0)
        events |= kAtTop;
    if (mode().shape == Shape::fast && (pinA || pinB))
        events |= kAtBottom;
    // New compare values come into force at the top or bottom: look again from there.
    if (events != 0 && buffered() && ocr_ != ocrBuffer_)
        events |= kAtTop | kAtBottom;
    return events;
}

void Timer::schedule()
{
    const unsigned d = divisor();
    const unsigned wanted = noticed();
    if (d == 0 || wanted == 0) {
        alarm_.disarm();
        return;
    }
    Counter c = counter_;
    std::int64_t ticks = 0;
    constexpr int kPointsACycle = 8;  // no cycle of a counter has more points than this
    for (int i = 0; i < 2 * kPointsACycle; ++i) {
        const std::int64_t still = ticksToPoint(c);
        if (still > 0) {
            c.count = static_cast<std::uint32_t>(c.down ? c.count - still : c.count + still);
            c.blocked = false;
        }
        ticks += still + 1;
        if ((tick(c) & wanted) != 0) {
            alarm_.arm(chip_.clock().timeOf({prescaler_.zeroCycle + (lastTick_ + ticks) * d}));
            return;
        }
    }
    alarm_.disarm();
}

void Timer::sync(std::int64_t cycle)
{
    const std::int64_t now = tickAt(cycle);
    if (now > lastTick_) {
        advance(now - lastTick_);
        lastTick_ = now;
        updateInterrupts();
    }
}

void Timer::advance(std::int64_t ticks)
{
    // Where nobody watches, whole cycles of the counter leave only flags behind: go through two, then leave out the rest.
    const std::int64_t period = dualSlope() ? 2 * static_cast<std::int64_t>(top()) : static_cast<std::int64_t>(top()) + 1;
    const bool mayShorten = !connected(0) && !connected(1) && period > 0 && counter_.count <= top();
    if (mayShorten && ticks > 4 * period)
        ticks = 2 * period + ticks % period;
    while (ticks > 0) {
        const std::int64_t still = ticksToPoint(counter_);
        if (still >= ticks) {
            counter_.count = static_cast<std::uint32_t>(counter_.down ? counter_.count - ticks : counter_.count + ticks);
            counter_.blocked = false;
            return;
        }
        if (still > 0) {
            counter_.count = static_cast<std::uint32_t>(counter_.down ? counter_.count - still : counter_.count + still);
            counter_.blocked = false;
        }
        ticks -= still + 1;
        actOn(tick(counter_));
    }
}

// Takes up the prescaler's phase anew: ticks count from here.
void Timer::rebase(std::int64_t cycle)
{
    const unsigned d = divisor();
    lastTick_ = d == 0 ? 0 : (cycle - prescaler_.zeroCycle) / d;
    schedule();
}

void Timer::updateInterrupts()
{
    const auto put = [&](std::uint8_t vector, std::uint8_t bit) {
        if (vector != 0)
            chip_.setInterrupt(vector, (flags_ & bit) != 0, (timsk_ & bit) != 0);
    };
    put(row_.compA, kCompareA);
    put(row_.compB, kCompareB);
    put(row_.overflow, kOverflow);
    put(row_.capture, kCapture);
}

void Timer::updatePins()
{
    for (unsigned unit = 0; unit < 2; ++unit) {
        const PortPin pin = unit == 0 ? row_.ocA : row_.ocB;
        if (pin.exists())
            chip_.ports().setOverride(pin, unit == 0 ? Override::compareA : Override::compareB, connected(unit), outputs_[unit]);
    }
}

std::uint16_t Timer::readWord(std::uint16_t low)
{
    if (low == row_.tcnt)
        return static_cast<std::uint16_t>(counter_.count);
    if (low == row_.ocra)
        return ocrBuffer_[0];
    return low == row_.ocrb ? ocrBuffer_[1] : icr_;
}

std::uint8_t Timer::read(std::uint16_t address, std::int64_t cycle)
{
    sync(cycle);
    if (address == row_.tccra)
        return tccra_;
    if (address == row_.tccrb)
        return tccrb_;
    if (address == row_.timsk)
        return timsk_;
    if (address == row_.tifr)
        return flags_;
    if (row_.tccrc != 0 && address == row_.tccrc)
        return 0;  // the force bits always read as zero
    if (row_.width == 8)
        return static_cast<std::uint8_t>(readWord(address));
    const auto low = static_cast<std::uint16_t>(address & ~1);
    const std::uint16_t value = readWord(low);
    if (address != low) {
        // The compare registers are read without the temporary register (16.3).
        return low == row_.ocra || low == row_.ocrb ? static_cast<std::uint8_t>(value >> 8) : temp_;
    }
    if (low != row_.ocra && low != row_.ocrb)
        temp_ = static_cast<std::uint8_t>(value >> 8);
    return static_cast<std::uint8_t>(value);
}

void Timer::writeCompare(unsigned unit, std::uint16_t value)
{
    ocrBuffer_[unit] = value;
    if (!buffered())
        ocr_[unit] = value;
}

void Timer::forceCompare(std::uint8_t bits)
{
    if (buffered())
        return;
    for (unsigned unit = 0; unit < 2; ++unit)
        if ((bits & (0x80 >> unit)) != 0)
            matchOutput(unit, false, false);
}

void Timer::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    sync(cycle);
    if (address == row_.tccra || address == row_.tccrb) {
        const std::uint8_t kept = address == row_.tccrb && row_.width == 8 ? value & 0x0F : value;
        const bool clockChanged = address == row_.tccrb && ((value ^ tccrb_) & kCsMask) != 0;
        (address == row_.tccra ? tccra_ : tccrb_) = kept;
        if (!buffered())
            loadBuffers();
        if (!dualSlope())
            counter_.down = false;
        if (clockChanged) {
            if (row_.prescale[value & kCsMask] >= kExternalFalling)
                chip_.note("not-modelled", std::string(row_.name) + " is set to count an external clock pin, which is not modelled yet: it stands still");
            rebase(cycle);
        }
        if (address == row_.tccrb && row_.width == 8)
            forceCompare(value & 0xC0);
        updatePins();
    } else if (row_.tccrc != 0 && address == row_.tccrc) {
        forceCompare(value & 0xC0);
    } else if (address == row_.timsk) {
        timsk_ = value;
        updateInterrupts();
    } else if (address == row_.tifr) {
        flags_ &= static_cast<std::uint8_t>(~value);
        updateInterrupts();
    } else if (row_.width == 16 && (address & 1) != 0) {
        temp_ = value;
        return;
    } else {
        const auto word = static_cast<std::uint16_t>(row_.width == 16 ? (temp_ << 8) | value : value);
        if (address == row_.tcnt) {
            counter_.count = word;
            counter_.blocked = true;
        } else if (address == row_.ocra || address == row_.ocrb) {
            writeCompare(address == row_.ocra ? 0 : 1, word);
        } else {
            icr_ = word;
        }
    }
    schedule();
}

void Timer::interruptTaken(std::uint8_t vector)
{
    if (vector == row_.compA)
        flags_ &= static_cast<std::uint8_t>(~kCompareA);
    else if (vector == row_.compB)
        flags_ &= static_cast<std::uint8_t>(~kCompareB);
    else if (vector == row_.overflow)
        flags_ &= static_cast<std::uint8_t>(~kOverflow);
    else
        flags_ &= static_cast<std::uint8_t>(~kCapture);
    updateInterrupts();
    schedule();
}

void Timer::reset()
{
    counter_ = {};
    ocr_ = {};
    ocrBuffer_ = {};
    icr_ = 0;
    tccra_ = tccrb_ = timsk_ = flags_ = temp_ = 0;
    outputs_ = {};
    frozen_ = false;
    lastTick_ = 0;
    alarm_.disarm();
    updateInterrupts();
}

void Timer::clockStopped(std::int64_t cycle)
{
    sync(cycle);
    frozen_ = true;
    alarm_.disarm();
}

void Timer::clockStarted(std::int64_t cycle)
{
    frozen_ = false;
    rebase(cycle);
}

}  // namespace bramix::chip::avr
