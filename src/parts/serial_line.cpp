#include "parts/serial_line.h"

#include <bit>
#include <cmath>

#include <fmt/format.h>

namespace bramix::parts {

using kernel::Duration;
using kernel::Time;

namespace {

// A bridge chip drives through a series resistor, so that a port pin on the same wire wins without harm.
constexpr double kOhms = 1500;

}  // namespace

SerialLine::SerialLine(PartContext& context, std::optional<Duration> fixedBit)
    : queue_(context.queue), circuit_(context.circuit), cause_(context.cause), rx_(context.pin("R")), tx_(context.pin("T")), fixedBit_(fixedBit),
      sendAlarm_(context.queue, [this](Time due) { sendEdge(due); }), listenAlarm_(context.queue, [this](Time due) { sample(due); })
{
    circuit_.listen(rx_, *this, {});
}

LineFormat SerialLine::format() const
{
    LineFormat f;
    if (follow)
        f = follow();
    if (fixedBit_) {
        f = LineFormat{};
        f.bit = *fixedBit_;
    }
    if (f.bit <= Duration::zero())
        f.bit = std::chrono::microseconds(104);
    return f;
}

void SerialLine::drive(bool level)
{
    txLevel_ = level;
    circuit_.drive(tx_, {level ? highVolts_ : 0.0, kOhms}, cause_);
}

void SerialLine::connect()
{
    if (!connected_) {
        connected_ = true;
        drive(true);
    }
}

void SerialLine::send(std::string_view bytes)
{
    const bool fresh = !connected_;
    connect();
    toSend_.insert(toSend_.end(), bytes.begin(), bytes.end());
    if (sendCount_ == 0 && !toSend_.empty()) {
        if (fresh)
            sendAlarm_.arm(queue_.now() + 2 * format().bit);  // the receiver must see an idle line first
        else if (!sendAlarm_.armed())
            startNext(queue_.now());
    }
}

void SerialLine::startNext(Time at)
{
    const LineFormat f = format();
    const std::uint8_t byte = toSend_.front();
    toSend_.pop_front();
    unsigned bits = static_cast<unsigned>(byte & ((1U << std::min(f.dataBits, 8U)) - 1)) << 1;
    sendCount_ = 1 + f.dataBits;
    if (f.parity != LineFormat::Parity::none) {
        const unsigned odd = static_cast<unsigned>(std::popcount(bits)) & 1U;
        bits |= (f.parity == LineFormat::Parity::even ? odd : odd ^ 1U) << sendCount_++;
    }
    for (unsigned i = 0; i < f.stopBits; ++i)
        bits |= 1U << sendCount_++;
    sendBits_ = static_cast<std::uint16_t>(bits);
    sendAt_ = 0;
    sendStart_ = at;
    sendBit_ = f.bit;
    if (sending)
        sending(byte, at);
    sendEdge(at);
}

void SerialLine::sendEdge(Time at)
{
    if (sendAt_ >= sendCount_) {
        sendCount_ = 0;
        if (!toSend_.empty())
            startNext(at);
        return;
    }
    const bool level = ((sendBits_ >> sendAt_) & 1) != 0;
    drive(level);
    do
        ++sendAt_;
    while (sendAt_ < sendCount_ && (((sendBits_ >> sendAt_) & 1) != 0) == level);
    sendAlarm_.arm(sendStart_ + sendBit_ * sendAt_);
}

std::string SerialLine::why(std::string_view pin) const
{
    if (pin != "T")
        return {};
    if (sendCount_ == 0 || sendAt_ == 0)
        return "the line is taken hold of, and rests high";
    // It stands in the first of some bits that are alike; sendAt_ is the one after them.
    const auto bit = [this](unsigned i) { return sendBits_ >> i & 1; };
    unsigned first = sendAt_ - 1;
    while (first > 0 && bit(first - 1) == bit(sendAt_ - 1))
        --first;
    const LineFormat f = format();
    const unsigned byte = sendBits_ >> 1 & ((1U << f.dataBits) - 1);
    const std::string what = first == 0 ? "the start bit" : first <= f.dataBits ? fmt::format("bit {}", first - 1) : first == f.dataBits + 1 && f.parity != LineFormat::Parity::none ? "the parity bit" : "the stop bit";
    return byte >= 0x20 && byte < 0x7F ? fmt::format("{} of 0x{:02X}, '{}', which is sent to it", what, byte, static_cast<char>(byte)) : fmt::format("{} of 0x{:02X}, which is sent to it", what, byte);
}

// A character's samples lie in the middle of its bits. They are worked out where the line changes and at the last one, from what the line showed.
void SerialLine::pinChanged(circuit::PinId /*pin*/, bool level, Time at)
{
    if (listening_)
        takeSamples(at, listenLevel_);
    listenLevel_ = level;
    if (fixedBit_) {
        heard_.edge(at);
        judgeRate(at);
    }
    if (level || listening_)
        return;
    const LineFormat f = format();
    if (!f.active)
        return;
    listening_ = true;
    listenStart_ = at;
    listenBit_ = f.bit;
    listenAt_ = 0;
    listenBits_ = 0;
    listenCount_ = 1 + f.dataBits + (f.parity == LineFormat::Parity::none ? 0 : 1) + 1;
    listenAlarm_.arm(sampleTime(listenCount_ - 1));
}

Time SerialLine::sampleTime(unsigned bit) const { return listenStart_ + listenBit_ * bit + listenBit_ / 2; }

// Those that lie before `until`, of a line that showed this level.
void SerialLine::takeSamples(Time until, bool level)
{
    while (listening_ && listenAt_ < listenCount_ && sampleTime(listenAt_) < until) {
        if (listenAt_ == 0 && level) {  // a spike, not a start bit
            listening_ = false;
            listenAlarm_.disarm();
            return;
        }
        if (level)
            listenBits_ = static_cast<std::uint16_t>(listenBits_ | (1U << listenAt_));
        ++listenAt_;
    }
}

// The stop bit's sample has come.
void SerialLine::sample(Time at)
{
    const bool bit = circuit_.level(rx_);
    takeSamples(at + Duration(1), bit);
    if (!listening_)
        return;
    listening_ = false;
    const LineFormat f = format();
    const unsigned data = (listenBits_ >> 1) & ((1U << f.dataBits) - 1);
    bool good = bit;
    if (f.parity != LineFormat::Parity::none) {
        const unsigned odd = static_cast<unsigned>(std::popcount(data)) & 1U;
        const unsigned expected = f.parity == LineFormat::Parity::even ? odd : odd ^ 1U;
        good = good && ((listenBits_ >> (1 + f.dataBits)) & 1U) == expected;
    }
    bad_ += good ? 0 : 1;
    if (received)
        received(static_cast<std::uint8_t>(data), good, at);
}

// Levels shorter than a bit say so by themselves; where they are longer, broken characters do.
void SerialLine::judgeRate(Time at)
{
    constexpr double kSame = 0.03, kShorter = 0.9;
    if (otherRateTold_ || heard_.count() % kernel::ShortestLevel::kLevels != 0 || !heard_.sure() || !otherRate)
        return;
    const double expected = 1 / kernel::seconds(*fixedBit_), heard = heard_.rate();
    const bool shorter = kernel::seconds(heard_.shortest()) < kShorter * kernel::seconds(*fixedBit_);
    if (std::abs(heard / expected - 1) < kSame || (!shorter && bad_ == 0))
        return;
    otherRateTold_ = true;
    otherRate(heard, expected, at);
}

kernel::Result<std::unique_ptr<Part>> makeSerialLine(PartContext& context)
{
    const std::string baud = context.setting("baud");
    std::optional<Duration> bit;
    if (baud != "follow") {
        const auto rate = kernel::parseQuantity(baud, kernel::Unit::none);
        if (!rate || *rate < 50 || *rate > 4'000'000)
            return kernel::fail(context.id + ".baud", "\"" + baud + "\"; expected \"follow\" or a rate from 50 to 4000000");
        bit = Duration(static_cast<std::int64_t>(std::llround(static_cast<double>(kernel::kPicosPerSecond) / *rate)));
    }
    return std::make_unique<SerialLine>(context, bit);
}

}  // namespace bramix::parts
