// A USART (ATmega328P datasheet ch. 20 "USART0", 21 "USART in SPI Mode"): 5 to 9 data bits, parity, one or two stop bits, double
// speed, two-deep receive buffer with frame, parity and overrun flags, multi-processor addressing; synchronous master and slave; SPI master.
//
// The baud rate generator gives a sample clock every UBRR+1 cycles; a bit is 16 of them, 8 at double speed. A transmission
// begins at the sample clock after the byte has reached the shift register. The receiver finds a start bit at the first sample that is low
// and votes over samples 8, 9, 10 of each bit (4, 5, 6 at double speed; figures 20-6 and 20-7).
// Clocked modes (usart_clocked.cpp): XCK has two edges a bit, UBRR+1 cycles apart where this chip gives it. Data change at one edge and are
// sampled at the other (20.3.3, table 21-2). Where this chip gives the clock, XCK runs as long as transmitter or receiver are on; in SPI mode only
// for the eight bits of a transfer.
//
// On the ATmega32, UBRRH and UCSRC share an address: bit 7 of a write tells which, and the second of two reads in a row is UCSRC.
// Tested by tests/chip/avr/peripherals/usart_test.cpp and tests/chip/avr/peripherals/usart_clocked_test.cpp.
#pragma once

#include <functional>

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"
#include "kernel/shortest_level.h"

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

    [[nodiscard]] PortPin rxd() const { return rxd_; }
    [[nodiscard]] PortPin txd() const { return txd_; }
    [[nodiscard]] UartFormat format() const;
    // Byte address of the instruction that wrote the character that is going out, or that went out last; UINT32_MAX before the first.
    [[nodiscard]] std::uint32_t sentBy() const { return shiftCode_; }

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    std::uint8_t peek(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(statusA_, controlB_, controlC_, ubrr_, baudZero_, shifting_, shiftBits_, shiftCount_, shiftAt_, shiftStart_, txLevel_, bufferFull_, buffer_, shiftCode_, bufferCode_, fifo_,
           fifoCount_, waiting_, waitingFull_, receiving_, rxStart_, rxBit_, rxBits_, heard_, badFrames_, ubrrHigh_, lastRead_, clockLevel_, spiBits_, stoppedAt_, txAlarm_, rxAlarm_, clockAlarm_);
        if constexpr (Archive::kLoading)
            told_ = kNothingTold;
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
    // Table 21-3 and 20-4: asynchronous, synchronous, reserved, SPI master.
    [[nodiscard]] unsigned clockMode() const;
    [[nodiscard]] bool isSpi() const { return clockMode() == 3; }
    [[nodiscard]] bool isClocked() const { return clockMode() != 0; }
    [[nodiscard]] bool givesClock() const;
    void updateClock(std::int64_t cycle);
    void clockTick(std::int64_t cycle);
    void clockEdge(bool level, std::int64_t cycle);
    void shiftOut(std::int64_t cycle);
    void sampleIn();
    void spiEdge(bool leading, std::int64_t cycle);
    void spiBegin(std::uint8_t data, std::int64_t cycle);
    void setClockLine(bool level);
    std::uint8_t readPair(std::int64_t cycle);
    void writeControlC(std::uint8_t value, std::int64_t cycle);
    void accept(std::uint8_t value, std::int64_t cycle);
    void clockStopped(std::int64_t cycle) override;
    void clockStarted(std::int64_t cycle) override;

    void load(std::uint16_t data, std::int64_t startCycle);
    void transmitEdge(std::int64_t cycle);
    void setLine(bool level);
    void updateLines();
    void beginReceive(kernel::Time at);
    void receiveSample(std::int64_t cycle);
    [[nodiscard]] bool vote(std::int64_t lastSampleCycle) const;
    void receiveDone();
    void tellBadFrames();
    void deliver(const Frame& frame);
    void updateInterrupts();

    using StatefulPeripheral<Usart>::load;

    const UsartRow& row_;
    std::uint16_t ucsra_ = 0, ucsrb_ = 0, ucsrc_ = 0, ubrrl_ = 0, ubrrh_ = 0, udr_ = 0;
    std::uint8_t rxVector_ = 0, udreVector_ = 0, txVector_ = 0;
    PortPin rxd_, txd_, xck_;

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
    std::uint32_t shiftCode_ = UINT32_MAX, bufferCode_ = UINT32_MAX;  // who wrote what is shifted out, and what waits

    std::array<Frame, 2> fifo_{};
    std::uint8_t fifoCount_ = 0;
    Frame waiting_;  // complete, but the buffer is full
    bool waitingFull_ = false;
    bool receiving_ = false;
    std::int64_t rxStart_ = 0;  // cycle of the first low sample
    unsigned rxBit_ = 0;
    std::uint16_t rxBits_ = 0;
    kernel::ShortestLevel heard_;    // how fast the line talks
    unsigned badFrames_ = 0;         // without their stop bit, of which nothing has been said

    std::int64_t lastRead_ = -2;  // of the shared address
    bool clockLevel_ = false;
    unsigned spiBits_ = 0;  // edges left of an SPI transfer
    std::int64_t stoppedAt_ = 0;

    static constexpr unsigned kNothingTold = ~0U;
    unsigned told_ = kNothingTold;  // flags and enable bits at the last updateInterrupts()

    CycleAlarm txAlarm_;
    CycleAlarm rxAlarm_;
    CycleAlarm clockAlarm_;
};

}  // namespace bramix::chip::avr
