// SysTick, the cycle counter and the system control registers (PM0056).
#include "chip/cortexm/stm32f1/chip.h"

#include <algorithm>

namespace bramix::chip::cortexm {

std::uint32_t Stm32f1::tickCount() const
{
    if ((tickControl_ & 1U) == 0)
        return tickFrom_;
    const std::int64_t per = (tickControl_ & 4U) != 0 ? 1 : 8, ticks = std::max<std::int64_t>(cycleNow() - tickBase_, 0) / per;
    if (ticks <= tickFrom_)
        return tickFrom_ - static_cast<std::uint32_t>(ticks);
    return tickLoad_ == 0 ? 0 : tickLoad_ - static_cast<std::uint32_t>((ticks - tickFrom_ - 1) % (std::int64_t{tickLoad_} + 1));
}

void Stm32f1::tickStart()
{
    if ((tickControl_ & 1U) == 0 || (tickLoad_ == 0 && tickFrom_ == 0)) {
        tick_.disarm();
        return;
    }
    const std::int64_t per = (tickControl_ & 4U) != 0 ? 1 : 8;
    // From 0 the first clock reloads.
    const std::int64_t to = tickFrom_ == 0 ? std::int64_t{tickLoad_} + 1 : tickFrom_;
    tick_.arm(tickBase_ + to * per);
}

// It has counted to 0.
void Stm32f1::tickDue(std::int64_t cycle)
{
    tickFlag_ = true;
    if ((tickControl_ & 2U) != 0 && !exceptions_.pending(kSysTick)) {
        exceptions_.setPending(kSysTick);
        requestedNow(kSysTick);
    }
    tickFrom_ = 0;
    tickBase_ = cycle;
    tickStart();
}

std::optional<std::uint32_t> Stm32f1::peekPrivate(std::uint32_t a) const
{
    switch (a) {
    case 0xE000E010: return (tickControl_ & 7U) | (tickFlag_ ? 1U << 16 : 0U);
    case 0xE000E014: return tickLoad_;
    case 0xE000E018: return tickCount();
    case 0xE000E01C: return 9000;  // 1 ms at 72 MHz / 8
    case 0xE000EDFC: return demcr_;
    case 0xE0001000: return dwtControl_;
    case 0xE0001004: return (dwtControl_ & 1U) != 0 ? dwtFrom_ + static_cast<std::uint32_t>(cycleNow() - dwtBase_) : dwtFrom_;
    case 0xE0042000: return 0x20036410;  // DBGMCU_IDCODE: medium density
    default: return exceptions_.read(a);
    }
}

void Stm32f1::writePrivate(std::uint32_t a, std::uint32_t value)
{
    switch (a) {
    case 0xE000E010: {
        const std::uint32_t count = tickCount();
        tickFrom_ = count;
        tickBase_ = cycleNow();
        tickControl_ = value & 7U;
        tickStart();
        break;
    }
    case 0xE000E014: {
        const std::uint32_t count = tickCount();
        tickLoad_ = value & 0xFFFFFFU;
        tickFrom_ = count;
        tickBase_ = cycleNow();
        tickStart();
        break;
    }
    case 0xE000E018:
        tickFrom_ = 0;
        tickFlag_ = false;
        tickBase_ = cycleNow();
        tickStart();
        break;
    case 0xE000EDFC: demcr_ = value & 0x010F07F1U; break;
    case 0xE0001000:
        dwtFrom_ = peekPrivate(0xE0001004).value_or(0);
        dwtBase_ = cycleNow();
        dwtControl_ = 0x40000000U | ((demcr_ & 1U << 24) != 0 ? value & 1U : 0U);
        break;
    case 0xE0001004:
        dwtFrom_ = value;
        dwtBase_ = cycleNow();
        break;
    default: (void)exceptions_.write(a, value); break;
    }
}

}  // namespace bramix::chip::cortexm
