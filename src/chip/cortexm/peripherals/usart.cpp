#include "chip/cortexm/peripherals/usart.h"

#include <algorithm>
#include <bit>

#include <fmt/format.h>

namespace bramix::chip::cortexm {

Usart::Usart(Services& chip, Gpio& gpio, std::string name, BusOf bus, unsigned interrupt, Pin tx, Pin rx, unsigned sendChannel, unsigned receiveChannel)
    : chip_(chip), gpio_(gpio), name_(std::move(name)), bus_(bus), interrupt_(interrupt), sendChannel_(sendChannel), receiveChannel_(receiveChannel), tx_(tx), rx_(rx), send_(chip, [this](std::int64_t c) { sendDue(c); }), sample_(chip, [this](std::int64_t c) { sampleDue(c); })
{
}

void Usart::reset()
{
    sr_ = kTxe | kTc;
    brr_ = cr1_ = cr2_ = cr3_ = gtpr_ = received_ = 0;
    holding_ = receiving_ = srRead_ = false;
    shiftBits_ = inBits_ = 0;
    level_ = true;
    send_.disarm();
    sample_.disarm();
    show();
    updateInterrupt();
}

void Usart::remap(Pin tx, Pin rx)
{
    gpio_.setAlternate(tx_, name_.c_str(), false, true);
    tx_ = tx;
    rx_ = rx;
    show();
}

SerialFormat Usart::format() const
{
    SerialFormat out;
    out.transmits = enabled() && (cr1_ & 8U) != 0;
    out.receives = enabled() && (cr1_ & 4U) != 0;
    out.bit = chip_.clock().span(bitCycles());
    out.baud = static_cast<double>(chip_.clock().hz()) / static_cast<double>(bitCycles());
    const bool parity = (cr1_ & 0x400U) != 0;
    out.dataBits = frameBits() - (parity ? 1 : 0);
    out.parity = !parity ? SerialFormat::Parity::none : (cr1_ & 0x200U) != 0 ? SerialFormat::Parity::odd : SerialFormat::Parity::even;
    out.stopBits = stopBits();
    return out;
}

void Usart::show() { gpio_.setAlternate(tx_, "TX", enabled() && (cr1_ & 8U) != 0, level_); }

void Usart::updateInterrupt()
{
    const bool wants = ((cr1_ & 0x20U) != 0 && (sr_ & (kRxne | kOre)) != 0) || ((cr1_ & 0x40U) != 0 && (sr_ & kTc) != 0) || ((cr1_ & 0x80U) != 0 && (sr_ & kTxe) != 0) || ((cr1_ & 0x10U) != 0 && (sr_ & kIdle) != 0) ||
                       ((cr1_ & 0x100U) != 0 && (sr_ & kPe) != 0) || ((cr3_ & 1U) != 0 && (sr_ & (kFe | kNe | kOre)) != 0);
    chip_.setInterrupt(interrupt_, wants);
    chip_.requestDma(sendChannel_, (cr3_ & 0x80U) != 0 && (sr_ & kTxe) != 0 && enabled() && (cr1_ & 8U) != 0);
    chip_.requestDma(receiveChannel_, (cr3_ & 0x40U) != 0 && (sr_ & kRxne) != 0);
}

std::uint32_t Usart::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return sr_;
    case 0x04: return received_;
    case 0x08: return brr_;
    case 0x0C: return cr1_;
    case 0x10: return cr2_;
    case 0x14: return cr3_;
    case 0x18: return gtpr_;
    default: return 0;
    }
}

std::uint32_t Usart::read(std::uint32_t offset)
{
    const std::uint32_t out = peek(offset);
    if (offset == 0) {
        srRead_ = true;
    } else if (offset == 4) {
        sr_ &= ~kRxne;
        // Errors and idle are cleared by reading the status and then the data.
        if (std::exchange(srRead_, false))
            sr_ &= ~(kPe | kFe | kNe | kOre | kIdle);
        updateInterrupt();
    }
    return out;
}

void Usart::write(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case 0x00: sr_ &= value | ~(kRxne | kTc); break;
    case 0x04:
        if ((sr_ & kTxe) == 0)
            chip_.remark("uart-overwrite", name_ + " was given a byte while its transmit buffer was full: the byte is lost");
        held_ = value & 0x1FFU;
        heldCode_ = chip_.codeNow();
        holding_ = true;
        sr_ &= ~kTxe;
        if (srRead_)
            sr_ &= ~kTc;
        if (shiftBits_ == 0)
            startSending(chip_.cycleNow());
        break;
    case 0x08: brr_ = value & 0xFFFFU; break;
    case 0x0C:
        cr1_ = value & 0x3FFFU;
        show();
        if (enabled() && (cr1_ & 8U) != 0 && holding_ && shiftBits_ == 0)
            startSending(chip_.cycleNow());
        if (!enabled() || (cr1_ & 4U) == 0) {
            receiving_ = false;
            sample_.disarm();
        }
        break;
    case 0x10: cr2_ = value & 0x7FFFU; break;
    case 0x14: cr3_ = value & 0x7FFU; break;
    case 0x18: gtpr_ = value & 0xFFFFU; break;
    default: break;
    }
    updateInterrupt();
}

void Usart::startSending(std::int64_t cycle)
{
    if (!enabled() || (cr1_ & 8U) == 0 || !holding_)
        return;
    std::uint32_t data = held_ & ((1U << frameBits()) - 1U);
    if ((cr1_ & 0x400U) != 0) {
        data &= (1U << (frameBits() - 1)) - 1U;
        const bool odd = (std::popcount(data) & 1) != 0, wantsOdd = (cr1_ & 0x200U) != 0;
        if (odd != wantsOdd)
            data |= 1U << (frameBits() - 1);
    }
    shift_ = data << 1 | ((1U << stopBits()) - 1U) << (frameBits() + 1);
    shiftBits_ = 1 + frameBits() + stopBits();
    shiftCode_ = heldCode_;
    shiftAt_ = cycle;
    holding_ = false;
    sr_ = (sr_ | kTxe) & ~kTc;
    sendDue(cycle);
}

void Usart::sendDue(std::int64_t cycle)
{
    if (shiftBits_ == 0) {
        if (holding_)
            return startSending(cycle), updateInterrupt();
        sr_ |= kTc;
        return updateInterrupt();
    }
    level_ = (shift_ & 1U) != 0;
    shift_ >>= 1;
    --shiftBits_;
    show();
    shiftAt_ += bitCycles();
    send_.arm(shiftAt_);
    updateInterrupt();
}

void Usart::pinChanged(Pin pin, bool level)
{
    if (pin != rx_ || level || receiving_ || !enabled() || (cr1_ & 4U) == 0)
        return;
    receiving_ = true;
    in_ = inBits_ = 0;
    inAt_ = chip_.cycleNow() + bitCycles() / 2;
    sample_.arm(inAt_);
}

void Usart::sampleDue(std::int64_t)
{
    const bool high = gpio_.level(rx_);
    const unsigned all = frameBits();
    if (inBits_ == 0 && high) {
        receiving_ = false;  // no start bit, a spike
        return;
    }
    if (inBits_ >= 1 && inBits_ <= all)
        in_ |= (high ? 1U : 0U) << (inBits_ - 1);
    if (++inBits_ <= all + 1) {
        inAt_ += bitCycles();
        sample_.arm(inAt_);
        return;
    }
    receiving_ = false;
    if ((sr_ & kRxne) != 0) {
        sr_ |= kOre;
        chip_.remark("uart-overrun", name_ + " lost a received byte: another arrived before it was read");
        return updateInterrupt();
    }
    received_ = in_;
    sr_ |= kRxne;
    if (!high) {
        sr_ |= kFe;
        chip_.remark("uart-framing", fmt::format("{} received a byte with a wrong stop bit: it listens at {:.0f} baud; do both sides agree on the rate?", name_, format().baud));
    }
    if ((cr1_ & 0x400U) != 0 && ((std::popcount(in_) & 1) != 0) != ((cr1_ & 0x200U) != 0))
        sr_ |= kPe;
    updateInterrupt();
}

}  // namespace bramix::chip::cortexm
