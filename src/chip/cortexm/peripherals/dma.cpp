#include "chip/cortexm/peripherals/dma.h"

namespace bramix::chip::cortexm {

namespace {

// Of a channel's CCR, and of its four bits in ISR.
constexpr std::uint32_t kOn = 1, kFromMemory = 1U << 4, kCircular = 1U << 5, kPeripheralSteps = 1U << 6, kMemorySteps = 1U << 7, kMemoryToMemory = 1U << 14, kControl = 0x7FFF;
constexpr std::uint32_t kAny = 1, kFull = 2, kHalf = 4, kError = 8;

unsigned bytesOf(std::uint32_t field) { return 1U << ((field & 3U) == 3 ? 2U : field & 3U); }

}  // namespace

void Dma::reset()
{
    channels_ = {};
    flags_ = requests_ = 0;
    work_.disarm();
    for (unsigned c = 0; c < kChannels; ++c)
        updateInterrupt(c);
}

void Dma::request(unsigned channel, bool high)
{
    const std::uint32_t bit = 1U << channel;
    requests_ = high ? requests_ | bit : requests_ & ~bit;
    if (high)
        schedule(chip_.cycleNow());
}

bool Dma::ready(unsigned channel) const
{
    const Channel& c = channels_[channel];
    return (c.control & kOn) != 0 && c.count != 0 && ((c.control & kMemoryToMemory) != 0 || ((requests_ >> channel) & 1U) != 0);
}

void Dma::schedule(std::int64_t cycle)
{
    if (work_.armed())
        return;
    for (unsigned c = 0; c < kChannels; ++c)
        if (ready(c))
            return work_.arm(cycle + kTransferCycles);
}

// The highest priority first, the lower channel among equals (13.3.2).
void Dma::workDue(std::int64_t cycle)
{
    int best = -1;
    for (unsigned c = 0; c < kChannels; ++c)
        if (ready(c) && (best < 0 || ((channels_[c].control >> 12) & 3U) > ((channels_[static_cast<unsigned>(best)].control >> 12) & 3U)))
            best = static_cast<int>(c);
    if (best >= 0)
        transfer(static_cast<unsigned>(best));
    schedule(cycle);
}

void Dma::transfer(unsigned channel)
{
    Channel& c = channels_[channel];
    const unsigned peripheralBytes = bytesOf(c.control >> 8), memoryBytes = bytesOf(c.control >> 10);
    const bool out = (c.control & kFromMemory) != 0;
    const auto value = out ? chip_.masterRead("DMA1", c.fromMemory, memoryBytes) : chip_.masterRead("DMA1", c.fromPeripheral, peripheralBytes);
    // What is wider than its target loses the upper bits, what is narrower gets zeros (table 77).
    if (!value || !(out ? chip_.masterWrite("DMA1", c.fromPeripheral, peripheralBytes, *value) : chip_.masterWrite("DMA1", c.fromMemory, memoryBytes, *value))) {
        c.control &= ~kOn;
        return raise(channel, kError);
    }
    if ((c.control & kPeripheralSteps) != 0)
        c.fromPeripheral += peripheralBytes;
    if ((c.control & kMemorySteps) != 0)
        c.fromMemory += memoryBytes;
    --c.count;
    if (c.count == c.reload / 2 && c.reload > 1)
        raise(channel, kHalf);
    if (c.count != 0)
        return;
    raise(channel, kFull);
    if ((c.control & kCircular) != 0 && (c.control & kMemoryToMemory) == 0) {
        c.count = c.reload;
        c.fromPeripheral = c.peripheral;
        c.fromMemory = c.memory;
    }
}

void Dma::raise(unsigned channel, std::uint32_t flag)
{
    flags_ |= (flag | kAny) << (4 * channel);
    updateInterrupt(channel);
}

void Dma::updateInterrupt(unsigned channel) { chip_.setInterrupt(kFirstInterrupt + channel, (flags_ >> (4 * channel) & channels_[channel].control & (kFull | kHalf | kError)) != 0); }

std::uint32_t Dma::peek(std::uint32_t offset) const
{
    if (offset == 0)
        return flags_;
    if (offset < 8 || offset >= 8 + 20 * kChannels)
        return 0;
    const Channel& c = channels_[(offset - 8) / 20];
    switch ((offset - 8) % 20) {
    case 0: return c.control;
    case 4: return c.count;
    case 8: return c.peripheral;
    case 12: return c.memory;
    default: return 0;
    }
}

void Dma::write(std::uint32_t offset, std::uint32_t value)
{
    if (offset == 4) {
        for (unsigned n = 0; n < kChannels; ++n) {
            const std::uint32_t cleared = (value >> (4 * n)) & 15U;
            flags_ &= ~(((cleared & kAny) != 0 ? 15U : cleared) << (4 * n));
            if (((flags_ >> (4 * n)) & (kFull | kHalf | kError)) == 0)
                flags_ &= ~(kAny << (4 * n));
            updateInterrupt(n);
        }
        return;
    }
    if (offset < 8 || offset >= 8 + 20 * kChannels)
        return;
    const unsigned n = (offset - 8) / 20;
    Channel& c = channels_[n];
    const bool on = (c.control & kOn) != 0;
    switch ((offset - 8) % 20) {
    case 0:
        c.control = value & kControl;
        if (!on && (value & kOn) != 0) {
            c.reload = c.count;
            c.fromPeripheral = c.peripheral;
            c.fromMemory = c.memory;
        }
        updateInterrupt(n);
        schedule(chip_.cycleNow());
        break;
    case 4:
    case 8:
    case 12:
        if (on) {
            chip_.remark("dma-enabled", "a count or an address of a DMA channel is written while the channel is enabled: the write has no effect");
            break;
        }
        ((offset - 8) % 20 == 4 ? c.count : (offset - 8) % 20 == 8 ? c.peripheral : c.memory) = (offset - 8) % 20 == 4 ? value & 0xFFFFU : value;
        break;
    default: break;
    }
}

}  // namespace bramix::chip::cortexm
