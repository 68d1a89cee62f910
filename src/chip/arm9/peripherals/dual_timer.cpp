#include "chip/arm9/peripherals/dual_timer.h"

namespace bramix::chip::arm9 {

namespace {

enum : std::uint32_t { kOnce = 1, kWide = 2, kInterrupts = 0x20, kPeriodic = 0x40, kOn = 0x80 };

}  // namespace

DualTimer::DualTimer(Host& host, unsigned source) : host_(host), source_(source)
{
    for (Half& h : halves_)
        h.zero = std::make_unique<kernel::Alarm>(host.queue(), [this, &h](kernel::Time t) { due(h, t); });
}

void DualTimer::reset()
{
    const kernel::Time now = host_.instant();
    for (Half& h : halves_) {
        h.load = 0;
        h.control = kInterrupts;
        h.raw = false;
        h.counter = TickCounter(kPeripheralHz);
        h.counter.setDirection(false, now);
        h.counter.set(0xFFFFFFFF, now);
        h.zero->disarm();
    }
    update();
}

void DualTimer::plan(Half& h)
{
    if ((h.control & kOn) == 0) {
        h.zero->disarm();
        return;
    }
    h.zero->arm(h.counter.timeOf(0));
}

// It has counted to nothing: the next tick gives the load value, or all ones.
void DualTimer::due(Half& h, kernel::Time at)
{
    h.raw = true;
    update();
    if ((h.control & kOnce) != 0) {
        h.counter.run(false, at);
        h.counter.set(0, at);
        return;
    }
    const std::int64_t from = (h.control & kPeriodic) != 0 ? h.load & maskOf(h) : maskOf(h);
    // At 0 for one tick, then from there on.
    h.counter.set(from + 1, at);
    plan(h);
}

void DualTimer::update()
{
    bool high = false;
    for (const Half& h : halves_)
        high = high || (h.raw && (h.control & kInterrupts) != 0);
    host_.setSource(source_, high);
}

std::uint32_t DualTimer::peek(std::uint32_t offset) const
{
    if (offset >= 0x40)
        return identification(offset, 0x804, 1);
    const Half& h = halves_[offset / 0x20];
    switch (offset % 0x20) {
    case 0x00: case 0x18: return h.load;
    case 0x04: {
        const std::int64_t value = h.counter.valueAt(host_.instant());
        // The tick at which it has just been loaded still shows 0.
        const std::int64_t from = (h.control & kPeriodic) != 0 ? h.load & maskOf(h) : maskOf(h);
        return static_cast<std::uint32_t>(value > from && (h.control & kOn) != 0 && h.raw ? 0 : value) & maskOf(h);
    }
    case 0x08: return h.control;
    case 0x10: return h.raw ? 1 : 0;
    case 0x14: return h.raw && (h.control & kInterrupts) != 0 ? 1 : 0;
    default: return 0;
    }
}

void DualTimer::write(std::uint32_t offset, std::uint32_t value)
{
    if (offset >= 0x40)
        return;
    const kernel::Time now = host_.instant();
    Half& h = halves_[offset / 0x20];
    switch (offset % 0x20) {
    case 0x00:
        h.load = value;
        h.counter.set(value, now);
        plan(h);
        break;
    case 0x08: {
        h.control = value & 0xEFU;
        static constexpr std::uint64_t kDividers[] = {1, 16, 256, 256};
        h.counter.setRate(kPeripheralHz / kDividers[(value >> 2) & 3U], now);
        if ((value & kOn) != 0 && !h.counter.running())
            h.counter.set(h.counter.valueAt(now) & maskOf(h), now);
        h.counter.run((value & kOn) != 0, now);
        plan(h);
        break;
    }
    case 0x0C: h.raw = false; break;
    case 0x18: h.load = value; break;
    default: break;
    }
    update();
}

}  // namespace bramix::chip::arm9
