#include "chip/avr/peripherals/usart.h"

#include <bit>
#include <cmath>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

// UCSRnA
constexpr std::uint8_t kRxc = 0x80, kTxc = 0x40, kUdre = 0x20, kFe = 0x10, kDor = 0x08, kUpe = 0x04, kU2x = 0x02, kMpcm = 0x01;
// UCSRnB
constexpr std::uint8_t kRxcie = 0x80, kTxcie = 0x40, kUdrie = 0x20, kRxen = 0x10, kTxen = 0x08, kUcsz2 = 0x04, kRxb8 = 0x02, kTxb8 = 0x01;
// UCSRnC
constexpr std::uint8_t kUpm = 0x30, kUsbs = 0x08, kUmsel = 0xC0;

}  // namespace

Usart::Usart(const UsartRow& row, ChipServices& chip)
    : StatefulPeripheral(chip), row_(row), txAlarm_(*this, chip, [this](std::int64_t cycle) { transmitEdge(cycle); }),
      rxAlarm_(*this, chip, [this](std::int64_t cycle) { receiveSample(cycle); }), clockAlarm_(*this, chip, [this](std::int64_t cycle) { clockTick(cycle); })
{
    const Names& names = chip.names();
    const std::string n(row.number);
    ucsra_ = names.reg("UCSR" + n + "A");
    ucsrb_ = names.reg("UCSR" + n + "B");
    ucsrc_ = names.reg("UCSR" + n + "C");
    ubrrl_ = names.reg("UBRR" + n + "L");
    ubrrh_ = names.reg({"UBRR" + n + "H", "UCSRC"});
    udr_ = names.reg("UDR" + n);
    for (const std::uint16_t address : {ucsra_, ucsrb_, ucsrc_, ubrrl_, ubrrh_, udr_})
        chip.claim(*this, address);
    rxVector_ = names.vector({"USART" + n + "_RX", "USART_RX", "USART_RXC"});
    udreVector_ = names.vector({"USART" + n + "_UDRE", "USART_UDRE"});
    txVector_ = names.vector({"USART" + n + "_TX", "USART_TX", "USART_TXC"});
    for (const std::uint8_t vector : {rxVector_, udreVector_, txVector_})
        chip.claimVector(*this, vector);
    chip.claimPower(*this, names.bit("PRUSART" + n));
    rxd_ = names.pin({"RXD" + n, "RXD"});
    txd_ = names.pin({"TXD" + n, "TXD"});
    xck_ = names.pin({"XCK" + n, "XCK"});
    chip.ports().watch(rxd_, *this);
    if (xck_.exists())
        chip.ports().watch(xck_, *this);
}

int Usart::samplesPerBit() const { return (statusA_ & kU2x) != 0 ? 8 : 16; }

UartFormat Usart::format() const
{
    UartFormat f;
    f.transmits = (controlB_ & kTxen) != 0;
    f.receives = (controlB_ & kRxen) != 0;
    f.cyclesPerBit = isClocked() ? 2 * sampleCycles() : bitCycles();
    const unsigned size = ((controlC_ >> 1) & 3U) | (controlB_ & kUcsz2);
    f.dataBits = size == 7 ? 9 : 5 + (size & 3);
    f.parity = (controlC_ & kUpm) == 0x20 ? UartFormat::Parity::even : (controlC_ & kUpm) == 0x30 ? UartFormat::Parity::odd : UartFormat::Parity::none;
    f.stopBits = (controlC_ & kUsbs) != 0 ? 2 : 1;
    return f;
}

// The first sample clock at or after a cycle.
std::int64_t Usart::nextSample(std::int64_t cycle) const
{
    const std::int64_t s = sampleCycles();
    return baudZero_ + (cycle - baudZero_ + s - 1) / s * s;
}

std::uint16_t Usart::frameBits(std::uint16_t data, unsigned& count) const
{
    const UartFormat f = format();
    data = static_cast<std::uint16_t>(data & ((1U << f.dataBits) - 1));
    unsigned bits = static_cast<unsigned>(data) << 1;  // the start bit is the low bit 0
    count = 1 + f.dataBits;
    if (f.parity != UartFormat::Parity::none) {
        const unsigned odd = static_cast<unsigned>(std::popcount(data)) & 1U;
        bits |= (f.parity == UartFormat::Parity::even ? odd : odd ^ 1U) << count;
        ++count;
    }
    for (unsigned i = 0; i < f.stopBits; ++i)
        bits |= 1U << count++;
    return static_cast<std::uint16_t>(bits);
}

void Usart::setLine(bool level)
{
    txLevel_ = level;
    chip_.ports().setOverride(txd_, Override::transmitter, (controlB_ & kTxen) != 0 || shifting_, txLevel_, Force::output);
}

void Usart::updateLines()
{
    chip_.ports().setOverride(txd_, Override::transmitter, (controlB_ & kTxen) != 0 || shifting_, txLevel_, Force::output);
    chip_.ports().setOverride(rxd_, Override::receiver, (controlB_ & kRxen) != 0, false, Force::input);
}

// Puts a frame into the shift register; its start bit begins at a sample clock.
void Usart::load(std::uint16_t data, std::int64_t startCycle)
{
    shiftBits_ = frameBits(data, shiftCount_);
    shifting_ = true;
    shiftAt_ = 0;
    shiftStart_ = startCycle;
    if (!isClocked())
        txAlarm_.arm(shiftStart_);
}

// At the beginning of a bit that differs from the one before, and at the end of the frame.
void Usart::transmitEdge(std::int64_t cycle)
{
    if (shiftAt_ >= shiftCount_) {
        shifting_ = false;
        if (bufferFull_) {
            bufferFull_ = false;
            statusA_ |= kUdre;
            shiftCode_ = bufferCode_;
            load(buffer_, cycle);
            transmitEdge(cycle);
        } else {
            statusA_ |= kTxc;
            updateLines();
        }
        updateInterrupts();
        return;
    }
    setLine(((shiftBits_ >> shiftAt_) & 1) != 0);
    do
        ++shiftAt_;
    while (shiftAt_ < shiftCount_ && (((shiftBits_ >> shiftAt_) & 1) != 0) == txLevel_);
    txAlarm_.arm(shiftStart_ + shiftAt_ * bitCycles());
}

void Usart::pinChanged(PortPin pin, bool level, kernel::Time at)
{
    if (stops_ != 0)
        return;
    if (isClocked()) {
        if (pin == xck_ && clockMode() == 1 && !givesClock())
            clockEdge(level, cycleOf(at));
        return;
    }
    if (pin == rxd_)
        heard_.edge(at);
    if (pin == rxd_ && !level && !receiving_ && (controlB_ & kRxen) != 0)
        beginReceive(at);
}

void Usart::beginReceive(kernel::Time at)
{
    if (waitingFull_) {
        // Buffer and shift register are full, and a start bit comes: the frame in the shift register is lost.
        statusA_ |= kDor;
        waitingFull_ = false;
        chip_.note("uart-overrun", std::string(row_.name) + " lost a received byte: three arrived before the first was read");
    }
    receiving_ = true;
    rxBit_ = 0;
    rxBits_ = 0;
    rxStart_ = nextSample(cycleOf(at));
    const int center = samplesPerBit() / 2 + 2;  // the last of the three samples voted on, counted from 1
    rxAlarm_.arm(rxStart_ + (center - 1) * sampleCycles());
}

bool Usart::vote(std::int64_t lastSampleCycle) const
{
    int high = 0;
    for (int back = 0; back < 3; ++back)
        high += chip_.ports().levelAt(rxd_, timeOf(lastSampleCycle - back * sampleCycles())) ? 1 : 0;
    return high >= 2;
}

void Usart::receiveSample(std::int64_t cycle)
{
    const bool bit = vote(cycle);
    const UartFormat f = format();
    const unsigned parityBits = f.parity == UartFormat::Parity::none ? 0 : 1;
    if (rxBit_ == 0 && bit) {  // not a start bit: noise
        receiving_ = false;
        return;
    }
    if (bit)
        rxBits_ = static_cast<std::uint16_t>(rxBits_ | (1U << rxBit_));
    ++rxBit_;
    if (rxBit_ == 1 + f.dataBits + parityBits + 1) {  // only the first stop bit is looked at
        receiveDone();
        return;
    }
    rxAlarm_.arm(cycle + bitCycles());
}

void Usart::receiveDone()
{
    const UartFormat f = format();
    receiving_ = false;
    Frame frame;
    frame.data = static_cast<std::uint16_t>((rxBits_ >> 1) & ((1U << f.dataBits) - 1));
    unsigned at = 1 + f.dataBits;
    if (f.parity != UartFormat::Parity::none) {
        const unsigned odd = static_cast<unsigned>(std::popcount(frame.data)) & 1U;
        const unsigned expected = f.parity == UartFormat::Parity::even ? odd : odd ^ 1U;
        frame.parityError = ((rxBits_ >> at) & 1U) != expected;
        ++at;
    }
    const bool stop = ((rxBits_ >> at) & 1U) != 0;
    frame.frameError = !stop;
    badFrames_ += frame.frameError ? 1 : 0;
    if (badFrames_ > 0)
        tellBadFrames();
    const bool addressed = (statusA_ & kMpcm) == 0 || (f.dataBits == 9 ? (frame.data & 0x100) != 0 : stop);
    if (addressed) {
        if (fifoCount_ < fifo_.size()) {
            deliver(frame);
        } else {
            waiting_ = frame;
            waitingFull_ = true;
        }
    }
    updateInterrupts();
}

// As soon as the line has shown how fast it talks.
void Usart::tellBadFrames()
{
    if (!heard_.sure() && badFrames_ < 3)
        return;
    badFrames_ = 0;
    const double mine = chip_.clock().hz() == 0 ? 0 : static_cast<double>(chip_.clock().hz()) / static_cast<double>(bitCycles());
    const double heard = heard_.rate();
    constexpr double kSame = 0.02;
    if (!heard_.sure())
        chip_.note("uart-framing", std::string(row_.name) + " received a byte with a wrong stop bit: the line stays low, as in a break");
    else if (std::abs(heard / mine - 1) < kSame)
        chip_.note("uart-framing", fmt::format("{} received a byte with a wrong stop bit, though the line talks at about its own {:.0f} baud: do data bits, parity and stop bits agree?", row_.name, mine));
    else
        chip_.note("uart-framing", fmt::format("{} received a byte with a wrong stop bit: the line talks at about {:.0f} baud, measured, and it listens at {:.0f}; set both to one rate", row_.name, heard, mine));
}

void Usart::deliver(const Frame& frame) { fifo_[fifoCount_++] = frame; }

void Usart::updateInterrupts()
{
    const unsigned now = (fifoCount_ > 0 ? 1U : 0U) | (statusA_ & (kUdre | kTxc)) | ((controlB_ & (kRxcie | kTxcie | kUdrie)) << 8U);
    if (now == told_)
        return;
    told_ = now;
    chip_.setInterrupt(rxVector_, fifoCount_ > 0, (controlB_ & kRxcie) != 0);
    chip_.setInterrupt(udreVector_, (statusA_ & kUdre) != 0, (controlB_ & kUdrie) != 0);
    chip_.setInterrupt(txVector_, (statusA_ & kTxc) != 0, (controlB_ & kTxcie) != 0);
}

std::uint8_t Usart::peek(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == ucsra_) {
        auto value = static_cast<std::uint8_t>(statusA_ & (kTxc | kUdre | kDor | kU2x | kMpcm));
        if (fifoCount_ > 0)
            value = static_cast<std::uint8_t>(value | kRxc | (fifo_[0].frameError ? kFe : 0) | (fifo_[0].parityError ? kUpe : 0));
        return value;
    }
    if (address == ucsrb_)
        return static_cast<std::uint8_t>((controlB_ & ~kRxb8) | (fifoCount_ > 0 && (fifo_[0].data & 0x100) != 0 ? kRxb8 : 0));
    if (address == ubrrl_)
        return static_cast<std::uint8_t>(ubrr_);
    if (address == ubrrh_ && ubrrh_ != ucsrc_)
        return static_cast<std::uint8_t>(ubrr_ >> 8);
    if (address == ucsrc_)
        return controlC_;
    return static_cast<std::uint8_t>(fifo_[0].data);
}

// UBRRH and UCSRC at one address.
std::uint8_t Usart::readPair(std::int64_t cycle)
{
    const bool second = cycle == lastRead_ + 1;
    lastRead_ = cycle;
    return second ? controlC_ | 0x80 : static_cast<std::uint8_t>(ubrr_ >> 8);
}

std::uint8_t Usart::read(std::uint16_t address, std::int64_t cycle)
{
    if (address == ubrrh_ && ubrrh_ == ucsrc_)
        return readPair(cycle);
    if (address != udr_)
        return peek(address, cycle);
    // UDR: the oldest frame leaves the buffer, a waiting one moves up.
    const auto data = static_cast<std::uint8_t>(fifo_[0].data);
    if (fifoCount_ > 0) {
        fifo_[0] = fifo_[1];
        --fifoCount_;
        if (waitingFull_) {
            waitingFull_ = false;
            deliver(waiting_);
        }
    }
    statusA_ &= static_cast<std::uint8_t>(~kDor);
    updateInterrupts();
    return data;
}

void Usart::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    const bool shared = ubrrh_ == ucsrc_;
    if (address == ucsra_) {
        statusA_ = static_cast<std::uint8_t>((statusA_ & ~(kU2x | kMpcm)) | (value & (kU2x | kMpcm)));
        if ((value & kTxc) != 0)
            statusA_ &= static_cast<std::uint8_t>(~kTxc);
    } else if (address == ucsrb_) {
        const bool wasReceiving = (controlB_ & kRxen) != 0;
        controlB_ = static_cast<std::uint8_t>(value & ~kRxb8);
        if (wasReceiving && (controlB_ & kRxen) == 0) {  // disabling the receiver flushes its buffer
            fifoCount_ = 0;
            waitingFull_ = receiving_ = false;
            rxAlarm_.disarm();
        }
        if ((controlB_ & kTxen) == 0 && !shifting_)
            txLevel_ = true;
        updateLines();
        updateClock(cycle);
    } else if (address == ucsrc_ && (!shared || (value & 0x80) != 0)) {
        writeControlC(shared ? value & 0x7F : value, cycle);
    } else if (address == ubrrh_) {
        ubrrHigh_ = value & 0x0F;
        ubrr_ = static_cast<std::uint16_t>((ubrrHigh_ << 8) | (ubrr_ & 0xFF));
    } else if (address == ubrrl_) {
        ubrr_ = static_cast<std::uint16_t>((ubrr_ & 0x0F00) | value);
        baudZero_ = cycle;  // writing the low byte updates the prescaler at once
    } else if ((controlB_ & kTxen) != 0) {
        accept(value, cycle);
    }
    updateInterrupts();
}

void Usart::writeControlC(std::uint8_t value, std::int64_t cycle)
{
    const bool wasClocked = isClocked();
    controlC_ = value;
    if (isClocked() != wasClocked) {
        txAlarm_.disarm();
        rxAlarm_.disarm();
        shifting_ = receiving_ = false;
    }
    updateClock(cycle);
}

// A byte for the shift register, or for the buffer before it.
void Usart::accept(std::uint8_t value, std::int64_t cycle)
{
    const auto data = static_cast<std::uint16_t>(value | ((controlB_ & kTxb8) != 0 ? 0x100 : 0));
    if (!shifting_) {
        shiftCode_ = chip_.cause().code;
        if (isSpi())
            spiBegin(value, cycle);
        else
            load(data, nextSample(cycle + 1));
    } else if (!bufferFull_) {
        buffer_ = data;
        bufferCode_ = chip_.cause().code;
        bufferFull_ = true;
        statusA_ &= static_cast<std::uint8_t>(~kUdre);
    } else {
        chip_.note("uart-overwrite", std::string(row_.name) + " was given a byte while its transmit buffer was full: the byte is lost");
    }
}

void Usart::interruptTaken(std::uint8_t vector)
{
    if (vector == txVector_) {
        statusA_ &= static_cast<std::uint8_t>(~kTxc);
        updateInterrupts();
    }
}

void Usart::reset()
{
    statusA_ = kUdre;
    controlB_ = 0;
    controlC_ = 0x06;
    ubrr_ = 0;
    ubrrHigh_ = 0;
    shifting_ = bufferFull_ = waitingFull_ = receiving_ = clockLevel_ = false;
    spiBits_ = 0;
    lastRead_ = -2;
    txLevel_ = true;
    fifoCount_ = 0;
    txAlarm_.disarm();
    rxAlarm_.disarm();
    clockAlarm_.disarm();
    updateLines();
    told_ = kNothingTold;
    updateInterrupts();
}

// While the clock stands, so does the bit on the line.
void Usart::clockStopped(std::int64_t cycle)
{
    stoppedAt_ = cycle;
    Peripheral::clockStopped(cycle);
}

void Usart::clockStarted(std::int64_t cycle)
{
    shiftStart_ += cycle - stoppedAt_;
    baudZero_ += cycle - stoppedAt_;
    Peripheral::clockStarted(cycle);
}

}  // namespace bramix::chip::avr
