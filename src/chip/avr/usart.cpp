#include "chip/avr/usart.h"

#include <bit>

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
    : row_(row), chip_(chip), txAlarm_(chip.queue(), [this](kernel::Time due) { transmitEdge(cycleOf(due)); }),
      rxAlarm_(chip.queue(), [this](kernel::Time due) { receiveSample(cycleOf(due)); })
{
    chip.ports().watch(row.rxd, *this);
}

int Usart::samplesPerBit() const { return (statusA_ & kU2x) != 0 ? 8 : 16; }

UartFormat Usart::format() const
{
    UartFormat f;
    f.transmits = (controlB_ & kTxen) != 0;
    f.receives = (controlB_ & kRxen) != 0;
    f.cyclesPerBit = bitCycles();
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
    updateLines();
}

void Usart::updateLines()
{
    chip_.ports().setOverride(row_.txd, Override::transmitter, (controlB_ & kTxen) != 0 || shifting_, txLevel_, true);
    chip_.ports().setOverride(row_.rxd, Override::receiver, (controlB_ & kRxen) != 0, false);
}

// Puts a frame into the shift register; its start bit begins at a sample clock.
void Usart::load(std::uint16_t data, std::int64_t startCycle)
{
    shiftBits_ = frameBits(data, shiftCount_);
    shifting_ = true;
    shiftAt_ = 0;
    shiftStart_ = startCycle;
    txAlarm_.arm(timeOf(shiftStart_));
}

// At the beginning of a bit that differs from the one before, and at the end of the frame.
void Usart::transmitEdge(std::int64_t cycle)
{
    if (shiftAt_ >= shiftCount_) {
        shifting_ = false;
        if (bufferFull_) {
            bufferFull_ = false;
            statusA_ |= kUdre;
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
    txAlarm_.arm(timeOf(shiftStart_ + shiftAt_ * bitCycles()));
}

void Usart::pinChanged(PortPin /*pin*/, bool level, kernel::Time at)
{
    if (!level && !receiving_ && (controlB_ & kRxen) != 0)
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
    rxAlarm_.arm(timeOf(rxStart_ + (center - 1) * sampleCycles()));
}

bool Usart::vote(std::int64_t lastSampleCycle) const
{
    int high = 0;
    for (int back = 0; back < 3; ++back)
        high += chip_.ports().levelAt(row_.rxd, timeOf(lastSampleCycle - back * sampleCycles())) ? 1 : 0;
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
    rxAlarm_.arm(timeOf(cycle + bitCycles()));
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
    if (frame.frameError)
        chip_.note("uart-framing", std::string(row_.name) + " received a byte with a wrong stop bit: is the sender at the same baud rate?");
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

void Usart::deliver(const Frame& frame) { fifo_[fifoCount_++] = frame; }

void Usart::updateInterrupts()
{
    chip_.setInterrupt(row_.rxVector, fifoCount_ > 0, (controlB_ & kRxcie) != 0);
    chip_.setInterrupt(row_.udreVector, (statusA_ & kUdre) != 0, (controlB_ & kUdrie) != 0);
    chip_.setInterrupt(row_.txVector, (statusA_ & kTxc) != 0, (controlB_ & kTxcie) != 0);
}

std::uint8_t Usart::read(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == row_.ucsra) {
        auto value = static_cast<std::uint8_t>(statusA_ & (kTxc | kUdre | kDor | kU2x | kMpcm));
        if (fifoCount_ > 0)
            value = static_cast<std::uint8_t>(value | kRxc | (fifo_[0].frameError ? kFe : 0) | (fifo_[0].parityError ? kUpe : 0));
        return value;
    }
    if (address == row_.ucsrb)
        return static_cast<std::uint8_t>((controlB_ & ~kRxb8) | (fifoCount_ > 0 && (fifo_[0].data & 0x100) != 0 ? kRxb8 : 0));
    if (address == row_.ucsrc)
        return controlC_;
    if (address == row_.ubrr)
        return static_cast<std::uint8_t>(ubrr_);
    if (address == row_.ubrr + 1)
        return static_cast<std::uint8_t>(ubrr_ >> 8);
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
    if (address == row_.ucsra) {
        statusA_ = static_cast<std::uint8_t>((statusA_ & ~(kU2x | kMpcm)) | (value & (kU2x | kMpcm)));
        if ((value & kTxc) != 0)
            statusA_ &= static_cast<std::uint8_t>(~kTxc);
    } else if (address == row_.ucsrb) {
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
    } else if (address == row_.ucsrc) {
        controlC_ = value;
        if ((value & kUmsel) != 0)
            chip_.note("not-modelled", std::string(row_.name) + " is set to a synchronous mode, which is not modelled yet: it stays asynchronous");
    } else if (address == row_.ubrr + 1) {
        ubrrHigh_ = value & 0x0F;
        ubrr_ = static_cast<std::uint16_t>((ubrrHigh_ << 8) | (ubrr_ & 0xFF));
    } else if (address == row_.ubrr) {
        ubrr_ = static_cast<std::uint16_t>((ubrr_ & 0x0F00) | value);
        baudZero_ = cycle;  // writing the low byte updates the prescaler at once
    } else if ((controlB_ & kTxen) != 0) {
        const auto data = static_cast<std::uint16_t>(value | ((controlB_ & kTxb8) != 0 ? 0x100 : 0));
        if (!shifting_) {
            load(data, nextSample(cycle + 1));
        } else if (!bufferFull_) {
            buffer_ = data;
            bufferFull_ = true;
            statusA_ &= static_cast<std::uint8_t>(~kUdre);
        } else {
            chip_.note("uart-overwrite", std::string(row_.name) + " was given a byte while its transmit buffer was full: the byte is lost");
        }
    }
    updateInterrupts();
}

void Usart::interruptTaken(std::uint8_t vector)
{
    if (vector == row_.txVector) {
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
    shifting_ = bufferFull_ = waitingFull_ = receiving_ = false;
    txLevel_ = true;
    fifoCount_ = 0;
    txAlarm_.disarm();
    rxAlarm_.disarm();
    updateLines();
    updateInterrupts();
}

}  // namespace bramix::chip::avr
