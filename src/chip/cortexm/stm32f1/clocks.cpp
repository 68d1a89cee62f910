// RCC (RM0008 chapter 7), AFIO and EXTI (chapters 9 and 10): clocks and their gates, which pin does what, and which of them interrupts.
#include "chip/cortexm/stm32f1/chip.h"

#include <algorithm>

#include <fmt/format.h>

#include "chip/cortexm/family.h"

namespace bramix::chip::cortexm {

std::uint32_t Stm32f1::rccRead(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return rccCr_;
    case 0x04: return rccCfgr_;
    case 0x08: return rccCir_;
    case 0x0C: return apb2Reset_;
    case 0x10: return apb1Reset_;
    case 0x14: return ahbEnable_;
    case 0x18: return apb2Enable_;
    case 0x1C: return apb1Enable_;
    case 0x20: return rccBdcr_;
    case 0x24: return rccCsr_;
    default: return 0;
    }
}

std::uint64_t Stm32f1::pllHz() const
{
    const std::uint64_t hse = options_.clockHz != 0 ? options_.clockHz : 8'000'000;
    const std::uint64_t in = (rccCfgr_ & 1U << 16) == 0 ? kInternalHz / 2 : (rccCfgr_ & 1U << 17) != 0 ? hse / 2 : hse;
    return in * std::min(((rccCfgr_ >> 18) & 15U) + 2, 16U);
}

void Stm32f1::rccWrite(std::uint32_t offset, std::uint32_t value)
{
    const std::int64_t now = cycleNow();
    const auto later = [&](double seconds) { return now + static_cast<std::int64_t>(seconds * static_cast<double>(clock_.hz())); };
    constexpr double kHseStart = 2e-3, kPllLock = 200e-6;  // DS5319 tables 22 and 26
    switch (offset) {
    case 0x00: {
        const std::uint32_t before = rccCr_, source = (rccCfgr_ >> 2) & 3U;
        rccCr_ = (value & 0x010D00F9U) | (before & 0x02020002U) | (before & 0xFF00U);
        // What the system runs by cannot be switched off.
        if (source == 0)
            rccCr_ |= 1U;
        if (source == 1 || source == 2)
            rccCr_ |= before & (source == 1 ? 1U << 16 : 1U << 24);
        rccCr_ = (rccCr_ & 1U) != 0 ? rccCr_ | 2U : rccCr_ & ~2U;
        if ((rccCr_ & 1U << 16) == 0)
            rccCr_ &= ~(1U << 17), hseReady_.disarm();
        else if ((before & 1U << 16) == 0 && options_.hasCrystal)
            hseReady_.arm(later((rccCr_ & 1U << 18) != 0 ? 0 : kHseStart));
        else if ((before & 1U << 16) == 0)
            remark("no-clock", fmt::format("{} waits for an external oscillator, and nothing is wired to OSC_IN and OSC_OUT", device_.title));
        if ((rccCr_ & 1U << 24) == 0)
            rccCr_ &= ~(1U << 25), pllReady_.disarm();
        else if ((before & 1U << 24) == 0)
            pllReady_.arm(later(kPllLock));
        break;
    }
    case 0x04: {
        rccCfgr_ = (value & 0x077FFFF3U) | (rccCfgr_ & 0x0CU);
        const std::uint32_t wanted = value & 3U;
        const bool ready = wanted == 0 ? (rccCr_ & 2U) != 0 : wanted == 1 ? (rccCr_ & 1U << 17) != 0 : wanted == 2 && (rccCr_ & 1U << 25) != 0;
        if (ready)
            rccCfgr_ = (rccCfgr_ & ~0x0CU) | wanted << 2;
        selectClock();
        break;
    }
    case 0x08: rccCir_ = value & 0x1F00U; break;
    case 0x0C: apb2Reset_ = value; break;
    case 0x10: apb1Reset_ = value; break;
    case 0x14: ahbEnable_ = value & 0x557U; break;
    case 0x18: apb2Enable_ = value & 0x38FFFDU; break;
    case 0x1C: apb1Enable_ = value & 0x3AFEC9FFU; break;
    case 0x20: rccBdcr_ = (value & 0x18305U) | ((value & 1U) != 0 ? 2U : 0U); break;
    case 0x24:
        rccCsr_ = (rccCsr_ & 0xFC000000U) | (value & 1U) | ((value & 1U) != 0 ? 2U : 0U);
        if ((value & 1U << 24) != 0)
            rccCsr_ &= 0x00FFFFFFU;
        break;
    default: break;
    }
    // A reset of a peripheral by its bit.
    if (offset == 0x0C || offset == 0x10)
        for (const Slot& slot : slots_)
            if (slot.what != nullptr && slot.enable == offset + 0x0C && ((value >> slot.bit) & 1U) != 0)
                slot.what->reset();
}

void Stm32f1::selectClock()
{
    const std::uint32_t source = (rccCfgr_ >> 2) & 3U;
    std::uint64_t hz = source == 0 ? kInternalHz : source == 1 ? (options_.clockHz != 0 ? options_.clockHz : 8'000'000) : pllHz();
    static constexpr unsigned kDivide[] = {1, 1, 1, 1, 1, 1, 1, 1, 2, 4, 8, 16, 64, 128, 256, 512};
    hz /= kDivide[(rccCfgr_ >> 4) & 15U];
    if (hz == clock_.hz())
        return;
    setClock(hz);
    constexpr std::uint64_t kMost = 72'000'000;
    if (hz > kMost)
        remark("clock-too-fast", fmt::format("{} runs at {:g} MHz; it is made for 72 MHz at most", device_.title, static_cast<double>(hz) / 1e6));
    const unsigned waits = flashAcr_ & 7U, needed = hz > 48'000'000 ? 2 : hz > 24'000'000 ? 1 : 0;
    if (waits < needed)
        remark("flash-wait-states", fmt::format("{} runs at {:g} MHz with {} wait states of flash; it needs {}: silicon reads wrong code; set LATENCY in FLASH_ACR first", device_.title, static_cast<double>(hz) / 1e6, waits, needed));
}

void Stm32f1::clockChanged()
{
    for (const auto& t : timers_)
        t->clockChanged();
}

std::int64_t Stm32f1::cyclesPerBusClock(BusOf bus) const
{
    if (bus == BusOf::ahb)
        return 1;
    const std::uint32_t field = (rccCfgr_ >> (bus == BusOf::apb1 ? 8 : 11)) & 7U;
    return field < 4 ? 1 : 2 << (field - 4);
}

std::int64_t Stm32f1::cyclesPerTimerClock(BusOf bus) const
{
    const std::int64_t divided = cyclesPerBusClock(bus);
    return divided == 1 ? 1 : divided / 2;
}

void Stm32f1::afioWrite(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case 0x00: evcr_ = value & 0xFFU; break;
    case 0x04:
        mapr_ = value;
        remapPins();
        break;
    case 0x08: case 0x0C: case 0x10: case 0x14: exticr_[(offset - 8) / 4] = value & 0xFFFFU; break;
    default: break;
    }
}

void Stm32f1::remapPins()
{
    const bool one = (mapr_ & 4U) != 0;
    usarts_[0]->remap(one ? pinOf('B', 6) : pinOf('A', 9), one ? pinOf('B', 7) : pinOf('A', 10));
    const std::uint32_t tim2 = (mapr_ >> 8) & 3U, tim3 = (mapr_ >> 10) & 3U;
    timers_[0]->remap({(tim2 & 1U) != 0 ? pinOf('A', 15) : pinOf('A', 0), (tim2 & 1U) != 0 ? pinOf('B', 3) : pinOf('A', 1), (tim2 & 2U) != 0 ? pinOf('B', 10) : pinOf('A', 2), (tim2 & 2U) != 0 ? pinOf('B', 11) : pinOf('A', 3)});
    if (tim3 == 3)
        timers_[1]->remap({pinOf('C', 6), pinOf('C', 7), pinOf('C', 8), pinOf('C', 9)});
    else
        timers_[1]->remap({tim3 == 2 ? pinOf('B', 4) : pinOf('A', 6), tim3 == 2 ? pinOf('B', 5) : pinOf('A', 7), pinOf('B', 0), pinOf('B', 1)});
    for (const auto& t : timers_)
        t->clockChanged();
}

void Stm32f1::extiWrite(std::uint32_t offset, std::uint32_t value)
{
    constexpr std::uint32_t kLines = 0x7FFFF;
    value &= kLines;
    switch (offset) {
    case 0x00: imr_ = value; break;
    case 0x04: emr_ = value; break;
    case 0x08: rtsr_ = value; break;
    case 0x0C: ftsr_ = value; break;
    case 0x10: extiPending_ |= value & imr_; break;
    case 0x14: extiPending_ &= ~value; break;
    default: break;
    }
    updateExti();
}

void Stm32f1::updateExti()
{
    const std::uint32_t wants = extiPending_ & imr_;
    for (unsigned line = 0; line < 5; ++line)
        setInterrupt(6 + line, ((wants >> line) & 1U) != 0);
    setInterrupt(23, (wants & 0x3E0U) != 0);
    setInterrupt(40, (wants & 0xFC00U) != 0);
}

void Stm32f1::pinChanged(Pin pin, bool level)
{
    for (const auto& u : usarts_)
        u->pinChanged(pin, level);
    const std::uint32_t selected = (exticr_[pin.bit / 4U] >> (pin.bit % 4U * 4)) & 15U, line = 1U << pin.bit;
    if (selected != pin.port || ((level ? rtsr_ : ftsr_) & line) == 0)
        return;
    if ((emr_ & line) != 0) {
        cpu_.event = true;
        rouse();
    }
    extiPending_ |= line;
    updateExti();
}

void Stm32f1::setInterrupt(unsigned number, bool high)
{
    const unsigned n = kFirstInterrupt + number;
    const bool was = exceptions_.pending(n);
    exceptions_.setLine(n, high);
    if (!was && exceptions_.pending(n))
        requestedNow(n);
}

void Stm32f1::remark(const char* rule, const std::string& text)
{
    const std::string_view name(rule);
    remarkOnce(name == "no-clock" ? Weight::error : name == "not-modelled" || name == "clock-too-fast" ? Weight::note : Weight::warning, rule, text);
}

}  // namespace bramix::chip::cortexm
