// The clocked modes of the USART: synchronous (20.3.3) and SPI master (ch. 21).
#include "chip/avr/peripherals/usart.h"

namespace bramix::chip::avr {

namespace {

// UCSRnC in these modes.
constexpr std::uint8_t kUdord = 0x04, kUcpha = 0x02, kUcpol = 0x01;
// UCSRnA, UCSRnB
constexpr std::uint8_t kTxc = 0x40, kUdre = 0x20, kRxen = 0x10, kTxen = 0x08;

constexpr unsigned kSpiEdges = 16;

}  // namespace

unsigned Usart::clockMode() const
{
    // The ATmega32 has one mode bit, and no SPI mode.
    return ubrrh_ == ucsrc_ ? (controlC_ >> 6) & 1U : (controlC_ >> 6) & 3U;
}

// DDR of XCK decides who gives the clock.
bool Usart::givesClock() const { return isSpi() || chip_.ports().isDirectionOut(xck_); }

void Usart::setClockLine(bool level)
{
    clockLevel_ = level;
    chip_.ports().setOverride(xck_, Override::serialBus, true, level);
}

// Called where the mode or the enables have changed.
void Usart::updateClock(std::int64_t cycle)
{
    const bool on = (controlB_ & (kRxen | kTxen)) != 0;
    if (!isClocked() || !on || !xck_.exists()) {
        clockAlarm_.disarm();
        spiBits_ = 0;
        chip_.ports().setOverride(xck_, Override::serialBus, false, false);
        return;
    }
    if (isSpi()) {
        if (spiBits_ == 0)
            setClockLine((controlC_ & kUcpol) != 0);
    } else if (givesClock() && !clockAlarm_.armed()) {
        setClockLine(false);
        clockAlarm_.arm(cycle + sampleCycles());
    }
}

void Usart::clockTick(std::int64_t cycle)
{
    if (isSpi()) {
        if (spiBits_ == 0)
            return;
        const bool leading = spiBits_ % 2 == 0;
        setClockLine(!clockLevel_);
        spiEdge(leading, cycle);
        if (spiBits_ > 0)
            clockAlarm_.arm(cycle + sampleCycles());
        return;
    }
    if (!givesClock()) {
        chip_.ports().setOverride(xck_, Override::serialBus, false, false);
        return;
    }
    setClockLine(!clockLevel_);
    clockEdge(clockLevel_, cycle);
    clockAlarm_.arm(cycle + sampleCycles());
}

// UCPOL = 0: data change at the rising edge of XCK and are sampled at the falling one.
void Usart::clockEdge(bool level, std::int64_t cycle)
{
    if (level != ((controlC_ & kUcpol) != 0))
        shiftOut(cycle);
    else
        sampleIn();
}

void Usart::shiftOut(std::int64_t cycle)
{
    if (!shifting_)
        return;
    if (shiftAt_ < shiftCount_) {
        setLine(((shiftBits_ >> shiftAt_) & 1) != 0);
        ++shiftAt_;
        return;
    }
    shifting_ = false;
    if (bufferFull_) {
        bufferFull_ = false;
        statusA_ |= kUdre;
        load(buffer_, cycle);
        shiftOut(cycle);
    } else {
        statusA_ |= kTxc;
        updateLines();
    }
    updateInterrupts();
}

void Usart::sampleIn()
{
    if ((controlB_ & kRxen) == 0)
        return;
    const bool bit = chip_.ports().level(rxd_);
    if (!receiving_) {
        if (bit)
            return;
        receiving_ = true;
        rxBit_ = 0;
        rxBits_ = 0;
    }
    if (bit)
        rxBits_ = static_cast<std::uint16_t>(rxBits_ | (1U << rxBit_));
    ++rxBit_;
    const UartFormat f = format();
    if (rxBit_ == 1 + f.dataBits + (f.parity == UartFormat::Parity::none ? 0U : 1U) + 1)
        receiveDone();
}

void Usart::spiBegin(std::uint8_t data, std::int64_t cycle)
{
    shifting_ = true;
    shiftBits_ = data;
    shiftAt_ = 0;
    rxBits_ = 0;
    rxBit_ = 0;
    spiBits_ = kSpiEdges;
    if ((controlC_ & kUcpha) == 0)
        setLine(((data >> ((controlC_ & kUdord) != 0 ? 0 : 7)) & 1) != 0);
    clockAlarm_.arm(cycle + sampleCycles());
}

// UCPHA = 0: sampled at the leading edge, changed at the trailing one; UCPHA = 1 the other way round.
void Usart::spiEdge(bool leading, std::int64_t cycle)
{
    --spiBits_;
    const bool lsbFirst = (controlC_ & kUdord) != 0;
    const bool phase = (controlC_ & kUcpha) != 0;
    if (leading != phase) {
        if (chip_.ports().level(rxd_))
            rxBits_ = static_cast<std::uint16_t>(rxBits_ | (1U << (lsbFirst ? rxBit_ : 7 - rxBit_)));
        ++rxBit_;
    } else {
        const unsigned next = phase ? shiftAt_ : shiftAt_ + 1;
        ++shiftAt_;
        if (next < 8)
            setLine(((shiftBits_ >> (lsbFirst ? next : 7 - next)) & 1) != 0);
    }
    if (spiBits_ > 0)
        return;
    shifting_ = false;
    if ((controlB_ & kRxen) != 0) {
        if (fifoCount_ < fifo_.size()) {
            deliver({rxBits_, false, false});
        } else {
            waiting_ = {rxBits_, false, false};
            waitingFull_ = true;
        }
    }
    if (bufferFull_) {
        bufferFull_ = false;
        statusA_ |= kUdre;
        spiBegin(static_cast<std::uint8_t>(buffer_), cycle);
    } else {
        statusA_ |= kTxc;
    }
    updateInterrupts();
}

}  // namespace bramix::chip::avr
