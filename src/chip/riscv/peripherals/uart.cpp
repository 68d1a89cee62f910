#include "chip/riscv/peripherals/uart.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::riscv {

namespace {

enum : std::uint32_t { kFull = 1, kEmpty = 2, kParityError = 4, kFramingError = 8, kOverflow = 16, kBreak = 0x80, kTimeOut = 0x100, kTxDone = 1U << 14 };
enum : std::uint32_t { kFifo = 0x00, kRaw = 0x04, kStatusMasked = 0x08, kEnable = 0x0C, kClear = 0x10, kDivider = 0x14, kStatus = 0x1C, kConf0 = 0x20, kConf1 = 0x24, kMemory = 0x60, kClock = 0x78, kId = 0x80 };

}  // namespace

Uart::Uart(Soc& soc, Gpio& gpio, std::string name, unsigned source, unsigned signal)
    : soc_(soc), gpio_(gpio), name_(std::move(name)), source_(source), signal_(signal), sender_(soc.queue(), [this](bool level) { gpio_.setSignal(signal_, level, "TXD", sentBy_); }, [this](kernel::Time t) {
          if (out_.empty()) {
              raw_ |= kTxDone;
          } else {
              startSending(t);
          }
          update();
      }),
      receiver_(soc.queue(), [this](std::uint32_t frame, kernel::Time t) { frameReceived(frame, t); }), timeOut_(soc.queue(), [this](kernel::Time) {
          if (!in_.empty()) {
              raw_ |= kTimeOut;
              update();
          }
      })
{
}

void Uart::reset()
{
    raw_ = enable_ = 0;
    divider_ = 694;       // reset values of TRM 26.6
    conf0_ = 0x1C;
    conf1_ = 0xC060;
    clock_ = 0x03701000;  // XTAL_CLK
    keptRegisters_.fill(0);
    keptRegisters_[kMemory / 4] = 0x140012;
    in_.clear();
    out_.clear();
    timeOut_.disarm();
    sender_.reset();
    receiver_.reset();
    setUp();
    update();
}

void Uart::setUpByRom()
{
    const std::uint64_t sixteenths = (soc_.crystalHz() * 16 / (1 + ((clock_ >> 12) & 0xFFU)) + 57'600) / 115'200;
    divider_ = static_cast<std::uint32_t>(sixteenths / 16 | (sixteenths % 16) << 20);
    setUp();
}

std::uint64_t Uart::sourceHz() const
{
    const std::uint32_t select = (clock_ >> 20) & 3U;
    return select == 1 ? soc_.busHz() : select == 2 ? kFastRcHz : soc_.crystalHz();
}

kernel::Duration Uart::bit() const
{
    const std::uint64_t sixteenths = std::max<std::uint64_t>((divider_ & 0xFFFU) * 16 + ((divider_ >> 20) & 15U), 16);
    const std::uint64_t before = 1 + ((clock_ >> 12) & 0xFFU);
    return kernel::Duration(static_cast<std::int64_t>(static_cast<double>(sixteenths * before) / 16.0 / static_cast<double>(sourceHz()) * 1e12));
}

SerialFormat Uart::format() const
{
    SerialFormat out;
    out.transmits = out.receives = true;
    out.bit = bit();
    out.baud = 1 / kernel::seconds(bit());
    out.dataBits = dataBits();
    out.parity = !parity() ? SerialFormat::Parity::none : (conf0_ & 1U) != 0 ? SerialFormat::Parity::odd : SerialFormat::Parity::even;
    out.stopBits = stopBits();
    return out;
}

void Uart::setUp() { receiver_.setUp(stopBitOf(format()) + 1, bit()); }

void Uart::startSending(kernel::Time at)
{
    const Held next = out_.front();
    out_.pop_front();
    sentBy_ = next.code;
    const SerialFrame frame = frameOf(format(), next.byte);
    sender_.send(frame.bits, frame.count, bit(), at);
}

void Uart::inputChanged(bool level)
{
    if (level == level_)
        return;
    level_ = level;
    if (!level)
        timeOut_.disarm();
    receiver_.lineChanged(level, soc_.instant());
}

void Uart::frameReceived(std::uint32_t frame, kernel::Time at)
{
    const ReceivedFrame seen = readFrame(format(), frame);
    if (seen.wrongParity)
        raw_ |= kParityError;
    if (seen.wrongStop)
        raw_ |= seen.breaks ? kBreak : kFramingError;
    if (in_.size() < kDepth)
        in_.push_back(static_cast<std::uint8_t>(seen.value));
    else
        raw_ |= kOverflow;
    // Silence of so many bit times behind it (RX_TOUT_THRHD, in bits).
    if ((conf1_ & 1U << 21) != 0)
        timeOut_.arm(at + static_cast<std::int64_t>(std::max((keptRegisters_[kMemory / 4] >> 16) & 0x3FFU, 1U)) * bit());
    update();
}

void Uart::update()
{
    if (in_.size() > (conf1_ & 0x1FFU))
        raw_ |= kFull;
    if (out_.size() < ((conf1_ >> 9) & 0x1FFU))
        raw_ |= kEmpty;
    soc_.setSource(source_, (raw_ & enable_) != 0);
}

std::uint32_t Uart::peek(std::uint32_t offset) const
{
    switch (offset) {
    case kFifo: return in_.empty() ? 0 : in_.front();
    case kRaw: return raw_;
    case kStatusMasked: return raw_ & enable_;
    case kEnable: return enable_;
    case kDivider: return divider_;
    case kStatus: return static_cast<std::uint32_t>(in_.size()) | (level_ ? 1U << 15 : 0U) | static_cast<std::uint32_t>(out_.size()) << 16 | (sender_.level() ? 1U << 31 : 0U);
    case kConf0: return conf0_;
    case kConf1: return conf1_;
    case kClock: return clock_;
    case kId: return 0x500;
    case 0x7C: return 0x2008270;
    default: return offset < 0x100 ? keptRegisters_[offset / 4] : 0;
    }
}

std::uint32_t Uart::read(std::uint32_t offset)
{
    const std::uint32_t out = peek(offset);
    if (offset == kFifo && !in_.empty()) {
        in_.pop_front();
        if (in_.empty())
            timeOut_.disarm();
        update();
    }
    return out;
}

void Uart::write(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case kFifo:
        if (out_.size() >= kDepth)
            return;
        out_.push_back({static_cast<std::uint8_t>(value), soc_.codeNow()});
        if (!sender_.busy())
            startSending(soc_.instant());
        break;
    case kEnable: enable_ = value; break;
    case kClear: raw_ &= ~value; break;
    case kDivider: divider_ = value & 0x00F00FFFU; break;
    case kConf0:
        if ((value & 1U << 17) != 0)
            in_.clear();
        if ((value & 1U << 18) != 0)
            out_.clear();
        if ((value & 0x9000U) != 0)
            soc_.remark("not-modelled", fmt::format("{} is set up for flow control or infrared, which is not modelled: it works without", name_));
        conf0_ = value;
        break;
    case kConf1: conf1_ = value; break;
    case kClock: clock_ = value; break;
    default:
        if (offset < 0x100)
            keptRegisters_[offset / 4] = value;
        break;
    }
    setUp();
    update();
}

}  // namespace bramix::chip::riscv
