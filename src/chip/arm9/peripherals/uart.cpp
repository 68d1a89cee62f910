#include "chip/arm9/peripherals/uart.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::arm9 {

namespace {

enum : std::uint32_t { kReceive = 1U << 4, kTransmit = 1U << 5, kTimeOut = 1U << 6, kFraming = 1U << 7, kParity = 1U << 8, kBreak = 1U << 9, kOverrun = 1U << 10 };

}  // namespace

Uart::Uart(Host& host, std::string name, unsigned source, std::function<void(bool)> line)
    : host_(host), name_(std::move(name)), source_(source), sender_(host.queue(), std::move(line), [this](kernel::Time t) {
          if (!out_.empty())
              startSending(t);
          update();
      }),
      receiver_(host.queue(), [this](std::uint32_t frame, kernel::Time t) { frameReceived(frame, t); }), timeOut_(host.queue(), [this](kernel::Time) {
          if (!in_.empty()) {
              raw_ |= kTimeOut;
              update();
          }
      })
{
}

void Uart::reset()
{
    raw_ = mask_ = errors_ = integer_ = fraction_ = dma_ = lineControl_ = 0;
    control_ = 0x300;
    levels_ = 0x12;
    monitor_ = false;
    in_.clear();
    out_.clear();
    timeOut_.disarm();
    sender_.reset();
    receiver_.reset();
    setUp();
    update();
}

void Uart::setUpByMonitor()
{
    integer_ = 13;
    fraction_ = 1;
    lineControl_ = 0x60;
    monitor_ = true;
    setUp();
}

kernel::Duration Uart::bit() const
{
    const std::uint64_t sixtyFourths = std::max<std::uint64_t>(std::uint64_t{integer_} * 64 + fraction_, 64);
    return kernel::Duration(static_cast<std::int64_t>(static_cast<double>(sixtyFourths) / 64 * 16 / static_cast<double>(kPeripheralHz) * 1e12));
}

SerialFormat Uart::format() const
{
    SerialFormat out;
    out.transmits = sends();
    out.receives = receives();
    out.bit = bit();
    out.baud = 1 / kernel::seconds(bit());
    out.dataBits = dataBits();
    out.parity = !parity() ? SerialFormat::Parity::none : (lineControl_ & 4U) != 0 ? SerialFormat::Parity::even : SerialFormat::Parity::odd;
    out.stopBits = stopBits();
    return out;
}

void Uart::setUp() { receiver_.setUp(receives() ? stopBitOf(format()) + 1 : 0, bit()); }

void Uart::startSending(kernel::Time at)
{
    const Held next = out_.front();
    out_.pop_front();
    sentBy_ = next.code;
    const SerialFrame frame = frameOf(format(), next.byte);
    sender_.send(frame.bits, frame.count, bit(), at);
    // The queue has emptied to its level (3.3.8); a single character: to nothing.
    static constexpr std::size_t kLevels[] = {2, 4, 8, 12, 14, 14, 14, 14};
    if (depth() == 1 ? out_.empty() : out_.size() == kLevels[levels_ & 7U])
        raw_ |= kTransmit;
}

void Uart::inputChanged(bool level)
{
    if (level == level_)
        return;
    level_ = level;
    receiver_.lineChanged(level, host_.instant());
}

void Uart::frameReceived(std::uint32_t frame, kernel::Time at)
{
    const ReceivedFrame seen = readFrame(format(), frame);
    std::uint32_t value = seen.value;
    if (seen.wrongParity)
        value |= 1U << 9, raw_ |= kParity;
    if (seen.wrongStop)
        value |= seen.breaks ? 1U << 10 | 1U << 8 : 1U << 8, raw_ |= seen.breaks ? kBreak | kFraming : kFraming;
    if (in_.size() < depth()) {
        in_.push_back(static_cast<std::uint16_t>(value));
    } else {
        raw_ |= kOverrun;
        errors_ |= 8;
        host_.remark("serial-overrun", fmt::format("{} has received a character before the one before was read: it is lost", name_));
    }
    static constexpr std::size_t kLevels[] = {2, 4, 8, 12, 14, 14, 14, 14};
    if (depth() == 1 || in_.size() >= kLevels[(levels_ >> 3) & 7U])
        raw_ |= kReceive;
    timeOut_.arm(at + 32 * bit());
    update();
}

void Uart::update() { host_.setSource(source_, (raw_ & mask_) != 0); }

std::uint32_t Uart::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return in_.empty() ? 0 : in_.front();
    case 0x04: return errors_;
    case 0x18: return (sender_.busy() ? 8U : 0U) | (in_.empty() ? 0x10U : 0U) | (out_.size() >= depth() ? 0x20U : 0U) | (in_.size() >= depth() ? 0x40U : 0U) | (out_.empty() ? 0x80U : 0U) | 7U;
    case 0x24: return integer_;
    case 0x28: return fraction_;
    case 0x2C: return lineControl_;
    case 0x30: return control_;
    case 0x34: return levels_;
    case 0x38: return mask_;
    case 0x3C: return raw_;
    case 0x40: return raw_ & mask_;
    case 0x48: return dma_;
    default: return identification(offset, 0x011, 1);
    }
}

std::uint32_t Uart::read(std::uint32_t offset)
{
    const std::uint32_t out = peek(offset);
    if (offset == 0x00 && !in_.empty()) {
        errors_ = (in_.front() >> 8) & 7U;
        in_.pop_front();
        static constexpr std::size_t kLevels[] = {2, 4, 8, 12, 14, 14, 14, 14};
        if (depth() == 1 || in_.size() < kLevels[(levels_ >> 3) & 7U])
            raw_ &= ~kReceive;
        if (in_.empty()) {
            raw_ &= ~kTimeOut;
            timeOut_.disarm();
        }
        update();
    }
    return out;
}

void Uart::write(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case 0x00: {
        if (!sends()) {
            host_.remark("serial-off", fmt::format("{} is written to while it is off (UARTEN and TXE in its control register): nothing is sent", name_));
            return;
        }
        if (out_.size() >= depth())
            host_.remark("serial-full", fmt::format("{} is written to while its transmit queue is full (TXFF): silicon loses the character; look at the flag first", name_));
        constexpr std::size_t kMost = 65'536;
        if (out_.size() < kMost)
            out_.push_back({static_cast<std::uint8_t>(value), host_.codeNow()});
        raw_ &= ~kTransmit;
        if (!sender_.busy())
            startSending(host_.instant());
        break;
    }
    case 0x04: errors_ = 0; break;
    case 0x24: integer_ = value & 0xFFFFU; break;
    case 0x28: fraction_ = value & 0x3FU; break;
    case 0x2C: lineControl_ = value & 0xFFU; break;
    case 0x30:
        control_ = value & 0xFF87U;
        monitor_ = false;
        if ((value & 0xC002U) != 0)
            host_.remark("not-modelled", fmt::format("{} is set up for flow control or infrared, which is not modelled: it works without", name_));
        break;
    case 0x34: levels_ = value & 0x3FU; break;
    case 0x38: mask_ = value & 0x7FFU; break;
    case 0x44: raw_ &= ~value; break;
    case 0x48: dma_ = value & 7U; break;
    default: break;
    }
    setUp();
    update();
}

}  // namespace bramix::chip::arm9
