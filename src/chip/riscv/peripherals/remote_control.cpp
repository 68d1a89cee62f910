#include "chip/riscv/peripherals/remote_control.h"

#include <algorithm>

namespace bramix::chip::riscv {

namespace {

enum : std::uint32_t { kStart = 1, kRewind = 2, kFifoReset = 4, kContinues = 8, kWraps = 16, kIdleLevel = 32, kIdleOut = 64, kStop = 128, kCarrier = 1U << 21 };

}  // namespace

RemoteControl::RemoteControl(Soc& soc, Gpio& gpio) : soc_(soc), gpio_(gpio)
{
    for (unsigned s = 0; s < kSenders; ++s)
        senders_[s].next = std::make_unique<kernel::Alarm>(soc.queue(), [this, s](kernel::Time t) { go(s, t); });
}

void RemoteControl::reset()
{
    kept_.fill(0);
    raw_ = enable_ = 0;
    system_ = 0x5000010;
    for (Sender& s : senders_) {
        s.conf = 0x710200;
        s.half = s.sent = s.fifo = 0;
        s.limit = 0x80;
        s.sends = false;
        s.next->disarm();
    }
    update();
}

double RemoteControl::tickPicos(const Sender& s) const
{
    const std::uint32_t select = (system_ >> 24) & 3U;
    const double source = select == 1 ? static_cast<double>(soc_.busHz()) : select == 2 ? static_cast<double>(kFastRcHz) : static_cast<double>(soc_.crystalHz());
    double divider = 1 + ((system_ >> 4) & 0xFFU);
    if (const std::uint32_t a = (system_ >> 12) & 0x3FU, b = (system_ >> 18) & 0x3FU; a != 0)
        divider += static_cast<double>(b) / a;
    const std::uint32_t own = (s.conf >> 8) & 0xFFU;
    return divider * (own == 0 ? 256 : own) / source * 1e12;
}

void RemoteControl::stop(unsigned index)
{
    Sender& s = senders_[index];
    s.sends = false;
    s.next->disarm();
    const bool idle = (s.conf & kIdleOut) != 0;
    gpio_.setSignal(kRmtSignal + index, idle && (s.conf & kIdleLevel) != 0, index == 0 ? "RMT0" : "RMT1", soc_.codeNow());
    raw_ |= 1U << index;
    update();
}

void RemoteControl::go(unsigned index, kernel::Time at)
{
    Sender& s = senders_[index];
    const std::uint32_t words = std::max((s.conf >> 16) & 7U, 1U) * kBlockWords, halves = 2 * std::min(words, kWords - index * kBlockWords);
    if (s.half >= halves) {
        if ((s.conf & kWraps) == 0) {
            raw_ |= 1U << (4 + index);  // its memory is at an end
            return stop(index);
        }
        s.half = 0;
    }
    const std::uint32_t word = memory_[index * kBlockWords + s.half / 2], symbol = (word >> (16 * (s.half % 2))) & 0xFFFFU;
    ++s.half;
    if ((symbol & 0x7FFFU) == 0) {
        if ((s.conf & kContinues) == 0)
            return stop(index);
        s.half = 0;
        s.next->arm(at + kernel::Duration(1));
        return;
    }
    gpio_.setSignal(kRmtSignal + index, (symbol & 0x8000U) != 0, index == 0 ? "RMT0" : "RMT1", soc_.codeNow());
    if (s.half % 2 == 0 && ++s.sent >= (s.limit & 0x1FFU) && (s.limit & 0x1FFU) != 0) {
        s.sent = 0;
        raw_ |= 1U << (8 + index);
        update();
    }
    s.next->arm(at + kernel::Duration(static_cast<std::int64_t>(tickPicos(s) * (symbol & 0x7FFFU) + 0.5)));
}

void RemoteControl::update() { soc_.setSource(kSource, (raw_ & enable_) != 0); }

std::uint32_t RemoteControl::peek(std::uint32_t offset) const
{
    if (offset >= kMemory && offset < kMemory + 4 * kWords)
        return memory_[(offset - kMemory) / 4];
    switch (offset) {
    case 0x10: case 0x14: return senders_[(offset - 0x10) / 4].conf;
    case 0x28: case 0x2C: return (senders_[(offset - 0x28) / 4].half / 2) | (senders_[(offset - 0x28) / 4].sends ? 1U << 22 : 0U);
    case 0x38: return raw_;
    case 0x3C: return raw_ & enable_;
    case 0x40: return enable_;
    case 0x58: case 0x5C: return senders_[(offset - 0x58) / 4].limit;
    case 0x68: return system_;
    default: return offset < 0x100 ? kept_[offset / 4] : 0;
    }
}

void RemoteControl::write(std::uint32_t offset, std::uint32_t value)
{
    if (offset >= kMemory && offset < kMemory + 4 * kWords) {
        memory_[(offset - kMemory) / 4] = value;
        return;
    }
    switch (offset) {
    case 0x00: case 0x04: {
        // The window: word after word.
        Sender& s = senders_[offset / 4];
        memory_[(offset / 4 * kBlockWords + s.fifo++) % kWords] = value;
        break;
    }
    case 0x10: case 0x14: {
        const unsigned index = (offset - 0x10) / 4;
        Sender& s = senders_[index];
        s.conf = value & ~(kStart | kRewind | kFifoReset | kStop | 1U << 23 | 1U << 24);
        if ((value & kFifoReset) != 0)
            s.fifo = 0;
        if ((value & kRewind) != 0)
            s.half = s.sent = 0;
        if ((value & kStop) != 0 && s.sends)
            stop(index);
        if ((value & kCarrier) != 0 && (value & kStart) != 0)
            soc_.remark("not-modelled", "the carrier of the remote control transmitter is not modelled: levels are sent plainly");
        if ((value & kStart) != 0 && !s.sends) {
            s.sends = true;
            go(index, soc_.instant());
        } else if (!s.sends) {
            gpio_.setSignal(kRmtSignal + index, (value & kIdleOut) != 0 && (value & kIdleLevel) != 0, index == 0 ? "RMT0" : "RMT1", soc_.codeNow());
        }
        break;
    }
    case 0x18: case 0x20:
        soc_.remark("not-modelled", "the remote control receiver is not modelled: nothing is received");
        kept_[offset / 4] = value;
        break;
    case 0x40: enable_ = value; break;
    case 0x44: raw_ &= ~value; break;
    case 0x58: case 0x5C: senders_[(offset - 0x58) / 4].limit = value; break;
    case 0x68: system_ = value; break;
    default:
        if (offset < 0x100)
            kept_[offset / 4] = value;
        break;
    }
    update();
}

}  // namespace bramix::chip::riscv
