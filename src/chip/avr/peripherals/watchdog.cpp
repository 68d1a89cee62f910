#include "chip/avr/peripherals/watchdog.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

constexpr unsigned kLongest = 9;  // WDP above it is reserved (table 11-2)

}  // namespace

Watchdog::Watchdog(ChipServices& chip) : StatefulPeripheral(chip), alarm_(chip.queue(), [this](kernel::Time) { expire(); })
{
    const Names& names = chip.names();
    wdtcsr_ = names.reg({"WDTCSR", "WDTCR"});
    wdif_ = names.bit("WDIF");
    wdie_ = names.bit("WDIE");
    change_ = names.bit({"WDCE", "WDTOE"});
    wde_ = names.bit("WDE");
    wdrf_ = names.bit("WDRF");
    for (unsigned i = 0; i < 4; ++i)
        prescale_[i] = names.bit(fmt::format("WDP{}", i));
    source_ = {names.vector("WDT"), wdif_, wdie_};
    chip.claim(*this, wdtcsr_);
    chip.claimVector(*this, source_.vector);
}

kernel::Duration Watchdog::timeout() const
{
    unsigned p = 0;
    for (unsigned i = 0; i < 4; ++i)
        p |= chip_.is(prescale_[i]) ? 1U << i : 0U;
    p = std::min(p, kLongest);
    constexpr kernel::Duration kCycle128k = std::chrono::nanoseconds(7'812) + kernel::Duration(500);
    constexpr kernel::Duration kCycle1M = std::chrono::microseconds(1);
    return chip_.table().oldWatchdog ? kCycle1M * (16'384LL << p) : kCycle128k * (2'048LL << p);
}

void Watchdog::schedule()
{
    if (chip_.is(wde_) || chip_.is(wdie_))
        alarm_.arm(std::max(zero_ + timeout(), chip_.queue().now()));
    else
        alarm_.disarm();
}

void Watchdog::restart()
{
    zero_ = chip_.queue().now();
    schedule();
}

void Watchdog::expire()
{
    zero_ = chip_.queue().now();
    if (chip_.is(wdie_)) {
        chip_.put(wdif_, true);
        report(source_);
        schedule();
        return;
    }
    chip_.resetBy(kWatchdogReset);
}

std::uint8_t Watchdog::read(std::uint16_t address, std::int64_t cycle)
{
    if (cycle - changeAt_ > kWindowCycles)
        chip_.put(change_, false);
    return chip_.reg(address);
}

void Watchdog::write(std::uint16_t /*address*/, std::uint8_t value, std::int64_t cycle)
{
    const bool old = chip_.table().oldWatchdog;
    const bool open = cycle - changeAt_ <= kWindowCycles;
    const bool wantsEnable = (value & wde_.mask) != 0;
    // Its counter stands at zero while it is off.
    if (!chip_.is(wde_) && !chip_.is(wdie_))
        zero_ = chip_.queue().now();
    std::uint8_t prescaleMask = 0;
    for (const BitRef b : prescale_)
        prescaleMask |= b.mask;
    const bool changesPrescale = ((chip_.reg(wdtcsr_) ^ value) & prescaleMask) != 0;
    if ((value & wdif_.mask) != 0)
        chip_.put(wdif_, false);
    store(wdtcsr_, value, wdie_.mask);
    if ((value & change_.mask) != 0 && wantsEnable) {
        changeAt_ = cycle;
        chip_.put(change_, true);
        if (old)
            store(wdtcsr_, value, prescaleMask);
        chip_.put(wde_, true);
    } else {
        if (open || old)
            store(wdtcsr_, value, prescaleMask);
        else if (changesPrescale)
            chip_.note("timed-sequence", "the watchdog's time-out was written without WDCE and WDE set together in the four cycles before: it does not change");
        if (wantsEnable || forced()) {
            chip_.put(wde_, true);
        } else if (chip_.is(wde_)) {
            if (open && (old || !chip_.is(wdrf_)))
                chip_.put(wde_, false);
            else
                chip_.note("timed-sequence", chip_.is(wdrf_) && open ? "WDE cannot be cleared while WDRF is set in MCUSR: the watchdog runs on; clear WDRF first"
                                                                     : "WDE was cleared without the timed sequence before it: the watchdog runs on");
        }
        changeAt_ = INT64_MIN / 2;
        chip_.put(change_, false);
    }
    report(source_);
    schedule();
}

// In interrupt and reset mode, the interrupt leaves the reset for the next time-out.
void Watchdog::interruptTaken(std::uint8_t /*vector*/)
{
    chip_.put(wdif_, false);
    if (chip_.is(wde_))
        chip_.put(wdie_, false);
    report(source_);
    schedule();
}

void Watchdog::reset()
{
    changeAt_ = INT64_MIN / 2;
    zero_ = chip_.queue().now();
    if (forced() || (!chip_.table().oldWatchdog && chip_.is(wdrf_)))
        chip_.put(wde_, true);
    report(source_);
    schedule();
}

}  // namespace bramix::chip::avr
