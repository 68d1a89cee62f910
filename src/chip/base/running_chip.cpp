#include "chip/base/running_chip.h"

#include <bit>

namespace bramix::chip {

RunningChip::RunningChip(const Device& device, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer, Progress& core, std::uint64_t hz, SupplyFigures supply)
    : device_(device), options_(options), queue_(queue), circuit_(circuit), observer_(observer), clock_(hz), volts_(options.supplyVolts), core_(core), supply_(supply), slotShift_(std::countr_zero(device.codeStep)), powered_(options.supplyVolts > supply.onVolts),
      since_(device.exceptions.size()), served_(device.exceptions.size())
{
}

// Supply and reset.

void RunningChip::setResetLine(bool high)
{
    if (high == resetLine_)
        return;
    resetLine_ = high;
    if (!high)
        resetNow(1);
    else
        core_.cycle = std::max(core_.cycle, clock_.firstCycleAtOrAfter(queue_.now()).n);
    moved();
}

void RunningChip::setSupply(double volts)
{
    if (volts == volts_)
        return;
    settleCharge();
    volts_ = volts;
    const bool on = powered_ ? volts > supply_.offVolts : volts > supply_.onVolts;
    if (on != powered_) {
        powered_ = on;
        powerOn();
        core_.cycle = std::max(core_.cycle, clock_.firstCycleAtOrAfter(queue_.now()).n);
    }
    refreshPins();
}

double RunningChip::supplySiemens() const
{
    if (!powered_)
        return 0;
    const double amps = supply_.idleAmps + supply_.ampsPerMhz * static_cast<double>(clock_.hz()) / 1e6;
    return amps * (core_.sleeping ? supply_.sleepShare : 1) / supply_.usualVolts;
}

double RunningChip::chargeTaken() const { return charge_ + supplySiemens() * volts_ * static_cast<double>(core_.cycle - chargedAt_) / static_cast<double>(clock_.hz()); }

void RunningChip::settleCharge()
{
    charge_ = chargeTaken();
    chargedAt_ = core_.cycle;
}

std::uint64_t RunningChip::fillWithNoise(std::span<std::uint8_t> memory) const
{
    std::uint64_t noise = options_.seed * 0x9E3779B97F4A7C15U + 1;
    for (std::uint8_t& byte : memory) {
        noise ^= noise << 13U;
        noise ^= noise >> 7U;
        noise ^= noise << 17U;
        byte = static_cast<std::uint8_t>(noise);
    }
    return noise;
}

void RunningChip::powerOn()
{
    fillMemories();
    told_.clear();
    served_.assign(served_.size(), {});
    resetNow(kPowerOnCause);
}

void RunningChip::startAt(kernel::Time t)
{
    core_.cycle = 0;
    chargedAt_ = 0;
    clock_.restart(t, {0}, clock_.hz());
}

void RunningChip::resetNow(unsigned cause)
{
    accessCycle_ = 0;
    core_.sleeping = core_.returned = false;
    core_.entered = 0;
    lowest_ = UINT64_MAX;
    resetState(cause);
    core_.current = codeAddress();
    if (resetStops_ && cause != kPowerOnCause)
        setStop({.kind = StopInfo::Kind::reset, .code = codeAddress()});
    if (counts_ != nullptr)
        counts_->forgetOpen();
    leaveSlice();
    moved();
    observer_.resetTaken(cause, queue_.now());
    tell();
}

void RunningChip::setClock(std::uint64_t hz)
{
    if (hz == clock_.hz())
        return;
    const std::int64_t cycle = cycleNow();
    charge_ = chargeTaken();
    chargedAt_ = cycle;
    if (codeTime_ != nullptr)
        codeTime_->cut(cycle, std::max<std::int64_t>(static_cast<std::int64_t>(static_cast<double>(hz) * kernel::seconds(stretch_)), 64));
    clock_.restart(clock_.timeOf({cycle}), {cycle}, hz);
    for (CycleAlarm* alarm : alarms_)
        alarm->followClock();
    clockChanged();
    yield();
    observer_.loadChanged();
}

// Running.

void RunningChip::slices(kernel::Time until, const bool* stop)
{
    yields_ = false;
    while (!inReset() && !faulted() && !hasStopped()) {
        const kernel::Time next = queue_.nextDue();
        const std::int64_t to = clock_.firstCycleAtOrAfter(std::min(until, next)).n;
        if (core_.cycle >= to) {
            if (stop == nullptr || next > until)
                return;
            queue_.advanceTo(next);
            yields_ = false;
            if (*stop)
                return;
            continue;
        }
        if (core_.sleeping) {
            if (wakes()) {
                settleCharge();
                wake();
                moved();
                continue;
            }
            if (stopAtHalt_ && halted())
                return;
            sleepOn(to);
            continue;
        }
        if (takeDue())
            continue;
        target_ = to;
        next_ = next;
        if (looked())
            runLooked();
        else
            runCore();
        // Between instructions it is the next one.
        core_.current = codeAddress();
        if (stopAtHalt_ && halted())
            return;
        if (yields_) {
            if (stop == nullptr)
                return;
            yields_ = false;
            if (*stop)
                return;
        }
    }
}

void RunningChip::runLooked()
{
    do {
        const std::uint32_t at = codeAddress();
        if (!breakpoints_.empty() && breaksAt(at) && passedAt_ != core_.instructions) {
            setStop({.kind = StopInfo::Kind::breakpoint, .code = at});
            return;
        }
        stepLooked();
        // A jump to itself may be the end of the program.
        if (stopAtHalt_ && codeAddress() == at && halted())
            return;
    } while (!sliceEnds());
}

void RunningChip::stepInstruction(kernel::Time until)
{
    if (inReset() || faulted())
        return;
    if (core_.sleeping && wakes()) {
        settleCharge();
        wake();
        moved();
    }
    if (takeDue())
        return;
    if (core_.sleeping)
        sleepOn(std::max(core_.cycle, clock_.firstCycleAtOrAfter(std::min(until, queue_.nextDue())).n));
    else
        stepLooked();
    core_.current = codeAddress();
}

void RunningChip::stepLooked()
{
    const std::int64_t before = core_.cycle;
    const std::uint64_t sp = stackPointer();
    const std::size_t slot = counts_ == nullptr ? 0 : codeSlot();
    core_.current = codeAddress();
    step();
    accessCycle_ = 0;
    if (counts_ != nullptr) {
        if (slot < counts_->cycles.size()) {
            counts_->cycles[slot] += core_.cycle - before;
            ++counts_->times[slot];
        }
        counts_->stack.note(core_.cycle, static_cast<std::uint32_t>(stackPointer()));
    }
    // Where it stood before the program has set it up tells nothing.
    if (stackPointer() != sp)
        noteStack(stackPointer());
    fellAsleep();
    after();
}

// What a step has entered and left is told in its order.
void RunningChip::after()
{
    moved();
    if (core_.returned) {
        core_.returned = false;
        if (counts_ != nullptr)
            counts_->returned(core_.cycle);
        observer_.exceptionReturned(now());
    }
    if (const unsigned n = std::exchange(core_.entered, 0U); n != 0 && n < served_.size()) {
        Served& s = served_[n];
        const std::int64_t latency = std::max<std::int64_t>(core_.cycle - since_[n], 0);
        ++s.count;
        s.total += latency;
        s.worst = std::max(s.worst, latency);
        if (counts_ != nullptr)
            counts_->entered(n, core_.cycle);
        if (exceptionStops_[n])
            setStop({.kind = StopInfo::Kind::exception, .code = codeAddress(), .exception = n});
        observer_.exceptionEntered(n, now());
        tell();
    }
}

bool RunningChip::takeDue()
{
    const std::int64_t before = core_.cycle;
    if (!enterDue())
        return false;
    core_.current = codeAddress();
    if (counts_ != nullptr)
        counts_->entries += core_.cycle - before;
    noteStack(stackPointer());
    after();
    return true;
}

void RunningChip::sleepOn(std::int64_t to)
{
    if (counts_ != nullptr)
        counts_->asleep += to - core_.cycle;
    core_.cycle = to;
}

void RunningChip::sleepTo(kernel::Time until)
{
    if (core_.sleeping && !inReset())
        sleepOn(std::max(core_.cycle, clock_.firstCycleAtOrAfter(until).n));
}

void RunningChip::rouse()
{
    leaveSlice();
    if (core_.sleeping && wakes()) {
        sleepTo(queue_.now());
        observer_.woken();
    }
}

void RunningChip::requestedNow(unsigned exception)
{
    since_[exception] = clock_.firstCycleAtOrAfter(queue_.now()).n;
    yield();
    rouse();
}

// Telling.

void RunningChip::remarkOnce(Weight weight, const char* rule, const std::string& text)
{
    if (told_.insert(std::string(rule) + text).second)
        observer_.remark(weight, rule, text, core_.current, now());
}

void RunningChip::noteAccess(std::uint64_t at, unsigned size, std::uint64_t before, std::uint64_t value, bool write, const char* by)
{
    if (hasStopped())
        return;
    for (const Watchpoint& w : watchpoints_)
        if ((write ? w.writes : w.reads) && at < w.address + w.length && at + size > w.address) {
            setStop({.kind = StopInfo::Kind::access, .code = core_.current, .address = std::max<std::uint64_t>(at, w.address), .before = before, .value = value, .write = write, .by = by});
            return;
        }
}

void RunningChip::countInto(CycleCounts* counts)
{
    counts_ = counts;
    if (counts != nullptr) {
        const std::size_t slots = (device_.codeEnd - device_.codeBegin) / device_.codeStep;
        counts->cycles.resize(slots);
        counts->times.resize(slots);
    }
}

void RunningChip::tellCodeTime(CodeTime* to, kernel::Duration stretch)
{
    codeTime_ = to;
    stretch_ = stretch;
    if (to == nullptr)
        return;
    to->begin(CodeTime::kInReset, core_.cycle, stretchOfCodeTime());
    moved();
}

// Debugging.

ExceptionStatus RunningChip::exception(unsigned n) const
{
    if (n >= served_.size())
        return {};
    const bool raised = requested(n), on = enabled(n);
    return {raised, on, raised && on, served_[n].count, served_[n].worst, served_[n].total};
}

void RunningChip::setBreakpoints(std::span<const std::uint32_t> addresses)
{
    breakpoints_.assign(addresses.begin(), addresses.end());
    std::sort(breakpoints_.begin(), breakpoints_.end());
    leaveSlice();
}

void RunningChip::setWatchpoints(std::span<const Watchpoint> watchpoints)
{
    watchpoints_.assign(watchpoints.begin(), watchpoints.end());
    watchpointsChanged();
}

void RunningChip::resume(bool passBreakpoint)
{
    stop_ = {};
    if (passBreakpoint)
        passedAt_ = core_.instructions;
}

}  // namespace bramix::chip
