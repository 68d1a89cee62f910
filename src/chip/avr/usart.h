// A USART in asynchronous mode (ATmega328P datasheet ch. 20 "USART0"): 5 to 9 data bits, parity, one or two stop bits, double
// speed, two-deep receive buffer with frame, parity and overrun flags.
//
// The baud rate generator gives a sample clock every UBRR+1 cycles; a bit is 16 of them, 8 at double speed. A transmission
// begins at the sample clock after the byte has reached the shift register. The receiver finds a start bit at the first sample that is low
// and votes over samples 8, 9, 10 of each bit (4, 5, 6 at double speed; figures 20-6 and 20-7).
// Tested by tests/chip/avr/usart_test.cpp.
#pragma once

#include <functional>

#include "chip/avr/peripheral.h"
#include "chip/avr/ports.h"

namespace bramix::chip::avr {

// How a UART is set up just now; what a line that follows it needs to know.
struct UartFormat {
    bool transmits = false;
    bool receives = false;
    std::int64_t cyclesPerBit = 16;
    unsigned dataBits = 8;
    enum class Parity : std::uint8_t { none, even, odd } parity = Parity::none;
    unsigned stopBits = 1;

    bool operator==(const UartFormat&) const = default;
};

class Usart final : public StatefulPeripheral<Usart>, public PinWatcher {
public:
    Usart(const UsartRow& row, ChipServices& chip);

    [[nodiscard]] const UsartRow& row() const { return row_; }
    [[nodiscard]] UartFormat format() const;

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(statusA_, controlB_, controlC_, ubrr_, baudZero_, shifting_, shiftBits_, shiftCount_, shiftAt_, shiftStart_, txLevel_, bufferFull_, buffer_, fifo_,
           fifoCount_, waiting_, waitingFull_, receiving_, rxStart_, rxBit_, rxBits_, ubrrHigh_, txAlarm_, rxAlarm_);
    }

private:
    struct Frame {
        std::uint16_t data = 0;
        bool frameError = false;
        bool parityError = false;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(data, frameError, parityError);
        }
    };

    [[nodiscard]] std::int64_t sampleCycles() const { return ubrr_ + 1; }
    [[nodiscard]] int samplesPerBit() const;
    [[nodiscard]] std::int64_t bitCycles() const { return sampleCycles() * samplesPerBit(); }
    [[nodiscard]] std::int64_t nextSample(std::int64_t cycle) const;
    [[nodiscard]] std::uint16_t frameBits(std::uint16_t data, unsigned& count) const;
    [[nodiscard]] kernel::Time timeOf(std::int64_t cycle) const { return chip_.clock().timeOf({cycle}); }
    [[nodiscard]] std::int64_t cycleOf(kernel::Time at) const { return chip_.clock().firstCycleAtOrAfter(at).n; }

    void load(std::uint16_t data, std::int64_t startCycle);
    void transmitEdge(std::int64_t cycle);
    void setLine(bool level);
    void updateLines();
    void beginReceive(kernel::Time at);
    void receiveSample(std::int64_t cycle);
    [[nodiscard]] bool vote(std::int64_t lastSampleCycle) const;
    void receiveDone();
    void deliver(const Frame& frame);
    void updateInterrupts();

    using StatefulPeripheral<Usart>::load;

    const UsartRow& row_;
    ChipServices& chip_;

    std::uint8_t statusA_ = 0;  // TXC, UDRE, FE, DOR, UPE, U2X, MPCM; RXC is fifoCount_ > 0
    std::uint8_t controlB_ = 0;
    std::uint8_t controlC_ = 0;
    std::uint16_t ubrr_ = 0;
    std::uint8_t ubrrHigh_ = 0;
    std::int64_t baudZero_ = 0;  // cycle at which the baud rate generator began to count

    bool shifting_ = false;
    std::uint16_t shiftBits_ = 0;  // the frame as line levels, first bit lowest
    unsigned shiftCount_ = 0;
    unsigned shiftAt_ = 0;  // bits already begun
    std::int64_t shiftStart_ = 0;
    bool txLevel_ = true;
    bool bufferFull_ = false;
    std::uint16_t buffer_ = 0;

    std::array<Frame, 2> fifo_{};
    std::uint8_t fifoCount_ = 0;
    Frame waiting_;  // complete, but the buffer is full
    bool waitingFull_ = false;
    bool receiving_ = false;
    std::int64_t rxStart_ = 0;  // cycle of the first low sample
    unsigned rxBit_ = 0;
    std::uint16_t rxBits_ = 0;

    kernel::Alarm txAlarm_;
    kernel::Alarm rxAlarm_;
};

}  // namespace bramix::chip::avr
