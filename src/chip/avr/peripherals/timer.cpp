#include "chip/avr/peripherals/timer.h"

#include <algorithm>
#include <bit>
#include <utility>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

// From an edge at the clock pin, synchronised, to the count (15.0: 2.5 to 3.5 cycles).
constexpr int kEdgeCycles = 2;
// What the noise canceller adds: four equal samples (16.6.2).
constexpr int kCancellerCycles = 4;

constexpr std::array<unsigned, 8> kExternalPrescale{0, 1, 8, 64, 256, 1024, 0, 0};
constexpr std::array<unsigned, 8> kOwnPrescale{0, 1, 8, 32, 64, 128, 256, 1024};

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
    : StatefulPeripheral(chip), row_(row), prescaler_(prescaler), alarm_(chip.queue(), [this](kernel::Time due) { ring(due); }),
      edgeAlarm_(chip.queue(), [this](kernel::Time due) { countEdge(due); }), captureAlarm_(chip.queue(), [this](kernel::Time due) { captureDue(due); }),
      latchAlarm_(chip.queue(), [this](kernel::Time due) { latch(due); })
{
    const Names& names = chip.names();
    const char n = row.number;
    const auto name = [n](const char* pattern, char unit = 'A') { return fmt::format(fmt::runtime(pattern), fmt::arg("n", n), fmt::arg("u", unit)); };
    const bool wide = row.width == 16;
    tcnt_ = names.reg(name(wide ? "TCNT{n}L" : "TCNT{n}"));
    icrAt_ = names.reg(name("ICR{n}L"));
    for (char u = 'A'; u <= 'C'; ++u) {
        // A timer with one unit has it without a letter.
        const std::uint16_t ocr = names.reg({name(wide ? "OCR{n}{u}L" : "OCR{n}{u}", u), u == 'A' ? name("OCR{n}") : std::string("-")});
        if (ocr == 0)
            break;
        const auto either = [&](const char* withLetter, const char* without) { return names.bit({name(withLetter, u), u == 'A' ? name(without) : std::string("-")}); };
        Unit& unit = units_[unitCount_++];
        unit.ocr = ocr;
        unit.com1 = either("COM{n}{u}1", "COM{n}1");
        unit.com0 = either("COM{n}{u}0", "COM{n}0");
        unit.force = either("FOC{n}{u}", "FOC{n}");
        unit.match.flag = either("OCF{n}{u}", "OCF{n}");
        unit.match.enable = either("OCIE{n}{u}", "OCIE{n}");
        unit.match.vector = names.vector({name("TIMER{n}_COMP{u}", u), u == 'A' ? name("TIMER{n}_COMP") : std::string("-")});
        unit.pin = names.pin({name("OC{n}{u}", u), u == 'A' ? name("OC{n}") : std::string("-")});
        unit.lane = n == '0' || n == '2' ? (u == 'A' ? Override::compareA : Override::compareB) : Override::compareC;
    }
    overflow_ = {names.vector(name("TIMER{n}_OVF")), names.bit(name("TOV{n}")), names.bit(name("TOIE{n}"))};
    capture_ = {names.vector(name("TIMER{n}_CAPT")), names.bit(name("ICF{n}")), names.bit({name("ICIE{n}"), name("TICIE{n}")})};
    timsk_ = overflow_.enable.address;
    tifr_ = overflow_.flag.address;
    wgm_ = {names.bit(name("WGM{n}0")), names.bit(name("WGM{n}1")), names.bit(name("WGM{n}2")), names.bit(name("WGM{n}3"))};
    cs_ = {names.bit(name("CS{n}0")), names.bit(name("CS{n}1")), names.bit(name("CS{n}2"))};
    noiseCanceller_ = names.bit(name("ICNC{n}"));
    captureEdge_ = names.bit(name("ICES{n}"));
    if (n == '1')
        fromComparator_ = names.bit("ACIC");
    if (row.prescale == Prescale::asynchronous) {
        as2_ = names.bit("AS2");
        assr_ = as2_.address;
    } else {
        clockPin_ = names.pin(name("T{n}"));
    }
    capturePin_ = names.pin(name("ICP{n}"));

    std::vector<std::uint16_t> own{tcnt_, icrAt_, timsk_, tifr_, assr_, names.reg(name("TCCR{n}")), names.reg(name("TCCR{n}A")), names.reg(name("TCCR{n}B")), names.reg(name("TCCR{n}C"))};
    for (unsigned u = 0; u < unitCount_; ++u)
        own.push_back(units_[u].ocr);
    if (wide)
        for (const std::uint16_t low : std::vector<std::uint16_t>(own))
            if (low == tcnt_ || low == icrAt_ || std::any_of(units_.begin(), units_.end(), [low](const Unit& u) { return u.ocr == low; }))
                own.push_back(static_cast<std::uint16_t>(low + 1));
    for (const std::uint16_t address : own)
        if (address > 1)
            chip.claim(*this, address);
    flagMask_ = overflow_.flag.mask | capture_.flag.mask;
    enableMask_ = overflow_.enable.mask | capture_.enable.mask;
    chip.claimVector(*this, overflow_.vector);
    chip.claimVector(*this, capture_.vector);
    for (unsigned u = 0; u < unitCount_; ++u) {
        flagMask_ |= units_[u].match.flag.mask;
        enableMask_ |= units_[u].match.enable.mask;
        chip.claimVector(*this, units_[u].match.vector);
    }
    chip.claimPower(*this, names.bit(name("PRTIM{n}")));
    if (clockPin_.exists())
        chip.ports().watch(clockPin_, *this);
    if (capturePin_.exists() && !(capturePin_ == clockPin_))
        chip.ports().watch(capturePin_, *this);
    takeMode();
}

void Timer::takeMode()
{
    forgetPlans();
    unsigned wgm = 0;
    for (unsigned i = 0; i < wgm_.size(); ++i)
        wgm |= chip_.is(wgm_[i]) ? 1U << i : 0U;
    mode_ = row_.width == 16 ? &kModes16[wgm] : &kModes8[wgm];
    clockSelect_ = (chip_.is(cs_[0]) ? 1U : 0U) | (chip_.is(cs_[1]) ? 2U : 0U) | (chip_.is(cs_[2]) ? 4U : 0U);
    takeConnections();
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

// 0 where the timer stands, or counts edges of its pin.
unsigned Timer::divisor() const
{
    if (stops_ != 0 || prescaler_.held)
        return 0;
    return (row_.prescale == Prescale::external ? kExternalPrescale : kOwnPrescale)[clockSelect_];
}

std::int64_t Timer::sourceCycle(std::int64_t cycle) const
{
    if (!asynchronous())
        return cycle;
    return watch_.firstCycleAtOrAfter(timeOf(cycle) + kernel::Duration(1)).n - 1;
}

std::int64_t Timer::tickAt(std::int64_t cycle) const
{
    const unsigned d = divisor();
    return d == 0 ? lastTick_ : (sourceCycle(cycle) - prescaler_.zeroCycle) >> std::countr_zero(d);  // every divisor is a power of two
}

kernel::Time Timer::timeOfTick(std::int64_t tick) const
{
    const std::int64_t source = prescaler_.zeroCycle + tick * divisor();
    return asynchronous() ? watch_.timeOf({source}) : timeOf(source);
}

// Whether the compare unit has its pin.
void Timer::takeConnections()
{
    for (unsigned unit = 0; unit < kMostUnits; ++unit) {
        const unsigned c = (chip_.is(units_[unit].com1) ? 2U : 0U) | (chip_.is(units_[unit].com0) ? 1U : 0U);
        com_[unit] = static_cast<std::uint8_t>(c);
        const bool none = c == 0 || !units_[unit].pin.exists() || mode().shape == Shape::reserved;
        connected_[unit] = !none && !(c == 1 && buffered() && (unit != 0 || !mode().toggleA));
    }
}

// How many ticks pass before the one in which something happens.
std::int64_t Timer::ticksToPoint(const Counter& c) const
{
    const std::uint32_t limit = top();
    std::uint32_t nearest = c.down ? c.count : c.count <= limit ? limit - c.count : max() - c.count;
    for (unsigned u = 0; u < unitCount_; ++u) {
        const std::uint32_t match = ocr_[u];
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
    for (unsigned u = 0; u < unitCount_ && !c.blocked; ++u)
        events |= c.count == ocr_[u] ? kMatchA << u : 0U;
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
    for (unsigned u = 0, left = events & (kMatchA | kMatchB | kMatchC); left != 0; ++u, left >>= 1U)
        if ((left & 1U) != 0)
            chip_.put(units_[u].match.flag, true);
    if ((events & kAtTop) != 0 && m.top == Top::icr)
        chip_.put(capture_.flag, true);
    const bool overflow = m.shape == Shape::fast ? (events & kAtTop) != 0 : dualSlope() ? (events & kAtBottom) != 0 : (events & kAtMax) != 0;
    if (overflow)
        chip_.put(overflow_.flag, true);
    const bool fastWrap = m.shape == Shape::fast && (events & kAtBottom) != 0;
    for (unsigned unit = 0; unit < unitCount_; ++unit)
        if (com_[unit] != 0 && (fastWrap || (events & (kMatchA << unit)) != 0))
            matchOutput(unit, fastWrap, counter_.down);
    if (((events & kAtBottom) != 0 && (m.shape == Shape::fast || m.shape == Shape::phaseFrequency)) || ((events & kAtTop) != 0 && m.shape == Shape::phase))
        loadBuffers();
    if ((events & kMatchA) != 0 && onMatchA)
        onMatchA();
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
    if (connected(unit))
        chip_.ports().setOverride(units_[unit].pin, units_[unit].lane, true, value);
}

void Timer::loadBuffers()
{
    if (ocr_ == ocrBuffer_)
        return;
    ocr_ = ocrBuffer_;
    forgetPlans();
}

// The steps of one that is being gone through stay.
void Timer::forgetPlans()
{
    for (Plan& plan : plans_)
        plan.wanted = 0;
    armed_ = nullptr;
}

// Which events of a tick somebody outside would notice.
unsigned Timer::noticed() const
{
    unsigned events = 0;
    bool anyPin = false;
    for (unsigned u = 0; u < unitCount_; ++u) {
        const bool pin = connected(u);
        anyPin = anyPin || pin;
        if (pin || awaits(units_[u].match) || (u == 0 && onMatchA))
            events |= kMatchA << u;
    }
    if (awaits(overflow_))
        events |= kAtMax | kAtTop | kAtBottom;
    if (mode().top == Top::icr && awaits(capture_))
        events |= kAtTop;
    if (mode().shape == Shape::fast && anyPin)
        events |= kAtBottom;
    // New compare values come into force at the top or bottom: look again from there.
    if (events != 0 && buffered() && ocr_ != ocrBuffer_)
        events |= kAtTop | kAtBottom;
    return events;
}

void Timer::schedule()
{
    const unsigned d = divisor();
    const unsigned wanted = d == 0 ? 0 : noticed();
    if (wanted == 0) {
        alarm_.disarm();
        return;
    }
    for (const Plan& plan : plans_)
        if (plan.wanted == wanted && plan.from == counter_)
            return armFor(plan);
    Plan plan{counter_, wanted};
    Counter c = counter_;
    constexpr int kPointsACycle = 10;  // no cycle of a counter has more points than this
    for (int i = 0; i < 2 * kPointsACycle; ++i) {
        const std::int64_t still = ticksToPoint(c);
        if (still > 0) {
            c.count = static_cast<std::uint32_t>(c.down ? c.count - still : c.count + still);
            c.blocked = false;
        }
        plan.ticks += still + 1;
        const unsigned events = tick(c);
        if (events != 0 && plan.steps < Plan::kMostSteps) {
            plan.events[plan.steps] = events;
            plan.after[plan.steps] = c;
        }
        plan.steps += events != 0 ? 1 : 0;
        if ((events & wanted) == 0)
            continue;
        if (plan.steps > Plan::kMostSteps) {
            armed_ = nullptr;
            alarm_.arm(timeOfTick(lastTick_ + plan.ticks));
            return;
        }
        Plan& kept = plans_[nextPlan_];
        nextPlan_ = (nextPlan_ + 1) % plans_.size();
        kept = plan;
        return armFor(kept);
    }
    alarm_.disarm();
}

void Timer::armFor(const Plan& plan)
{
    armed_ = &plan;
    armedAt_ = lastTick_;
    alarm_.arm(timeOfTick(lastTick_ + plan.ticks));
}

// What has been planned happens, where nothing has come between.
void Timer::ring(kernel::Time due)
{
    const std::int64_t cycle = cycleOf(due);
    const Plan* const armed = std::exchange(armed_, nullptr);
    if (armed != nullptr && armedAt_ == lastTick_ && armed->from == counter_ && tickAt(cycle) == lastTick_ + armed->ticks) {
        const Plan plan = *armed;  // what happens may put another in its place
        for (unsigned i = 0; i < plan.steps; ++i) {
            counter_ = plan.after[i];
            actOn(plan.events[i]);
        }
        lastTick_ += plan.ticks;
        updateInterrupts();
    } else {
        sync(cycle);
    }
    schedule();
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
    const bool quiet = !connected(0) && !connected(1) && !connected(2) && !onMatchA;
    if (quiet && period > 0 && counter_.count <= top() && ticks > 4 * period)
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
    if (d != 0)
        lastTick_ = (sourceCycle(cycle) - prescaler_.zeroCycle) >> std::countr_zero(d);
    schedule();
}

// Told only where a flag or an enable bit differs from what was told last: most looks at a timer change neither.
void Timer::updateInterrupts()
{
    const unsigned now = (chip_.reg(tifr_) & flagMask_) | ((chip_.reg(timsk_) & enableMask_) << 8U);
    if (now == told_)
        return;
    const unsigned changed = told_ == kNothingTold ? ~0U : now ^ told_;
    told_ = now;
    const auto tell = [&](const InterruptSource& source) {
        if ((changed & (source.flag.mask | (static_cast<unsigned>(source.enable.mask) << 8U))) != 0)
            report(source);
    };
    for (unsigned u = 0; u < unitCount_; ++u)
        tell(units_[u].match);
    tell(overflow_);
    tell(capture_);
}

void Timer::updatePins()
{
    takeConnections();
    for (unsigned u = 0; u < unitCount_; ++u)
        if (units_[u].pin.exists())
            chip_.ports().setOverride(units_[u].pin, units_[u].lane, connected(u), outputs_[u]);
}

std::uint16_t Timer::readWord(std::uint16_t low) const
{
    if (low == tcnt_)
        return static_cast<std::uint16_t>(counter_.count);
    for (unsigned u = 0; u < unitCount_; ++u)
        if (low == units_[u].ocr)
            return ocrBuffer_[u];
    return icr_;
}

std::uint8_t Timer::peek(std::uint16_t address, std::int64_t cycle)
{
    sync(cycle);
    const auto value = [&](std::uint16_t low) -> int {
        if (low == tcnt_ || (low == icrAt_ && low != 0))
            return readWord(low);
        for (unsigned u = 0; u < unitCount_; ++u)
            if (low == units_[u].ocr)
                return readWord(low);
        return -1;
    };
    if (const int word = value(address); word >= 0)
        return static_cast<std::uint8_t>(word);
    if (row_.width == 16)
        if (const int word = value(static_cast<std::uint16_t>(address - 1)); word >= 0)
            return static_cast<std::uint8_t>(word >> 8);
    return chip_.reg(address);
}

std::uint8_t Timer::read(std::uint16_t address, std::int64_t cycle)
{
    const std::uint8_t value = peek(address, cycle);
    if (row_.width == 8)
        return value;
    // TCNT and ICR go through the temporary register: the low byte first. The compare registers are read without it (16.3).
    if (address == tcnt_ || address == icrAt_)
        temp_ = static_cast<std::uint8_t>(readWord(address) >> 8);
    else if (address == tcnt_ + 1 || address == icrAt_ + 1)
        return temp_;
    return value;
}

void Timer::forceCompare(std::uint16_t address, std::uint8_t value)
{
    for (unsigned u = 0; u < unitCount_; ++u)
        if (units_[u].force.address == address && (value & units_[u].force.mask) != 0) {
            chip_.put(units_[u].force, false);  // always reads as zero
            if (!buffered())
                matchOutput(u, false, false);
        }
}

void Timer::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    sync(cycle);
    if (address == timsk_) {
        store(address, value, enableMask_);
        updateInterrupts();
    } else if (address == tifr_) {
        store(address, 0, value & flagMask_);
        updateInterrupts();
    } else if (assr_ != 0 && address == assr_) {
        writeAssr(value, cycle);
    } else if (!latchLater(address, value, cycle)) {
        apply(address, value, cycle);
    }
    schedule();
}

void Timer::apply(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    forgetPlans();
    const bool wide = row_.width == 16;
    for (unsigned u = 0; u < unitCount_; ++u)
        if (address == units_[u].ocr || (wide && address == units_[u].ocr + 1))
            setBy_[u] = chip_.codeWord();
    for (unsigned u = 0; u <= unitCount_ + 1; ++u) {
        const std::uint16_t low = u < unitCount_ ? units_[u].ocr : u == unitCount_ ? tcnt_ : icrAt_;
        if (low == 0)
            continue;
        if (wide && address == low + 1) {
            temp_ = value;
            return;
        }
        if (address != low)
            continue;
        const auto word = static_cast<std::uint16_t>(wide ? (temp_ << 8) | value : value);
        if (u < unitCount_) {
            ocrBuffer_[u] = word;
            if (!buffered())
                ocr_[u] = word;
        } else if (low == tcnt_) {
            counter_.count = word;
            counter_.blocked = true;
        } else if (mode().top == Top::icr) {
            icr_ = word;
        } else {
            chip_.note("write-protected", fmt::format("ICR{0} was written in a mode that does not use it as TOP: the write has no effect; set WGM{0}3:0 first", row_.number));
        }
        return;
    }
    // Control.
    const unsigned clockBefore = clockSelect_;
    store(address, value);
    takeMode();
    if (!buffered())
        loadBuffers();
    if (!dualSlope())
        counter_.down = false;
    if (clockSelect_ != clockBefore)
        rebase(cycle);
    forceCompare(address, value);
    updatePins();
}

void Timer::interruptTaken(std::uint8_t vector)
{
    for (unsigned u = 0; u < unitCount_; ++u)
        if (units_[u].match.vector == vector)
            chip_.put(units_[u].match.flag, false);
    if (vector == overflow_.vector)
        chip_.put(overflow_.flag, false);
    if (vector == capture_.vector)
        chip_.put(capture_.flag, false);
    updateInterrupts();
    schedule();
}

void Timer::reset()
{
    counter_ = {};
    ocr_ = {};
    ocrBuffer_ = {};
    icr_ = 0;
    temp_ = 0;
    outputs_ = {};
    setBy_.fill(kNobody);
    lastTick_ = 0;
    edges_.clear();
    captures_.clear();
    latches_.clear();
    for (kernel::Alarm* a : {&alarm_, &edgeAlarm_, &captureAlarm_, &latchAlarm_})
        a->disarm();
    takeMode();
    told_ = kNothingTold;
    updateInterrupts();
}

void Timer::clockStopped(std::int64_t cycle)
{
    sync(cycle);
    alarm_.disarm();
}

void Timer::clockStarted(std::int64_t cycle)
{
    rebase(cycle);
}

// The external clock and the capture input.

void Timer::pinChanged(PortPin pin, bool level, kernel::Time at)
{
    if (pin == clockPin_ && externalClock() && level == (clockSelect_ == 7) && stops_ == 0) {
        edges_.push_back(timeOf(synchronised(at) + kEdgeCycles));
        edgeAlarm_.arm(edges_.front());
    }
    if (pin == capturePin_ && !chip_.is(fromComparator_))
        inputChanged(level, at);
}

void Timer::comparatorChanged(bool level, kernel::Time at)
{
    if (chip_.is(fromComparator_))
        inputChanged(level, at);
}

void Timer::countEdge(kernel::Time due)
{
    while (!edges_.empty() && edges_.front() <= due) {
        edges_.pop_front();
        if (externalClock())
            advance(1);
    }
    updateInterrupts();
    if (!edges_.empty())
        edgeAlarm_.arm(edges_.front());
}

void Timer::inputChanged(bool level, kernel::Time at)
{
    if (stops_ != 0)
        return;
    const bool noiseCanceller = chip_.is(noiseCanceller_);
    if (noiseCanceller) {
        // A change back before the fourth sample takes both away.
        while (!captures_.empty() && captures_.back().at > timeOf(synchronised(at) + kEdgeCycles))
            captures_.pop_back();
    }
    captures_.push_back({timeOf(synchronised(at) + kEdgeCycles + (noiseCanceller ? kCancellerCycles : 0)), level});
    captureAlarm_.arm(captures_.front().at);
}

void Timer::captureDue(kernel::Time due)
{
    while (!captures_.empty() && captures_.front().at <= due) {
        const Capture c = captures_.front();
        captures_.pop_front();
        if (c.level != chip_.is(captureEdge_) || mode().top == Top::icr || !capture_.flag.exists())
            continue;
        sync(cycleOf(due));
        icr_ = static_cast<std::uint16_t>(counter_.count);
        forgetPlans();
        chip_.put(capture_.flag, true);
        updateInterrupts();
    }
    if (!captures_.empty())
        captureAlarm_.arm(captures_.front().at);
}

// Asynchronous operation.

// The busy flag of a register, or none where writes need not wait.
BitRef Timer::busyBit(std::uint16_t address) const
{
    const Names& names = chip_.names();
    if (address == tcnt_)
        return names.bit("TCN2UB");
    if (address == units_[0].ocr)
        return names.bit({"OCR2AUB", "OCR2UB"});
    if (unitCount_ > 1 && address == units_[1].ocr)
        return names.bit("OCR2BUB");
    if (address == cs_[0].address)
        return names.bit({"TCR2BUB", "TCR2UB"});
    return names.bit("TCR2AUB");
}

bool Timer::latchLater(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (assr_ == 0 || !asynchronous())
        return false;
    const BitRef busy = busyBit(address);
    if (chip_.is(busy))
        chip_.note("timer-busy", fmt::format("timer{} was written while the last value of the same register waited for the crystal; the datasheet asks to wait for the busy flag", row_.number));
    std::erase_if(latches_, [address](const Latch& l) { return l.address == address; });
    latches_.push_back({watch_.timeOf({sourceCycle(cycle) + 2}), address, value});
    chip_.put(busy, true);
    latchAlarm_.arm(latches_.front().at);
    return true;
}

void Timer::latch(kernel::Time now)
{
    while (!latches_.empty() && latches_.front().at <= now) {
        const Latch l = latches_.front();
        latches_.pop_front();
        chip_.put(busyBit(l.address), false);
        sync(cycleOf(now));
        apply(l.address, l.value, cycleOf(now));
    }
    if (!latches_.empty())
        latchAlarm_.arm(latches_.front().at);
    schedule();
}

// Changing over to the crystal starts its prescaler anew; the registers may be corrupted by it (18.9), which here they are not.
void Timer::writeAssr(std::uint8_t value, std::int64_t cycle)
{
    const auto writable = static_cast<std::uint8_t>(as2_.mask | chip_.names().bit("EXCLK").mask);
    const bool before = asynchronous();
    store(assr_, value, writable);
    if (asynchronous() == before)
        return;
    prescaler_.zeroCycle = sourceCycle(cycle);
    while (!latches_.empty()) {
        const Latch l = latches_.front();
        latches_.pop_front();
        chip_.put(busyBit(l.address), false);
        apply(l.address, l.value, cycle);
    }
    rebase(cycle);
}

}  // namespace bramix::chip::avr
