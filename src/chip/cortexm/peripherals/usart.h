// The asynchronous side of a USART (RM0008 chapter 27): 8 or 9 data bits, parity, 1 or 2 stop bits, double-buffered sending, receiving with overrun, framing and noise-free sampling in the middle of each bit.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include "chip/cortexm/peripherals/gpio.h"
#include "chip/mcu.h"

namespace bramix::chip::cortexm {

class Usart final : public StatefulPeripheral<Usart> {
public:
    Usart(Services& chip, Gpio& gpio, std::string name, BusOf bus, unsigned interrupt, Pin tx, Pin rx, unsigned sendChannel, unsigned receiveChannel);  // channels of DMA from 0

    [[nodiscard]] const std::string& name() const { return name_; }
    [[nodiscard]] Pin tx() const { return tx_; }
    [[nodiscard]] Pin rx() const { return rx_; }
    // Where AFIO has moved its pins to.
    void remap(Pin tx, Pin rx);
    [[nodiscard]] SerialFormat format() const;
    [[nodiscard]] std::uint32_t sentBy() const { return shiftCode_; }
    void pinChanged(Pin pin, bool level);

    std::uint32_t read(std::uint32_t offset) override;
    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(sr_, brr_, cr1_, cr2_, cr3_, gtpr_, received_, holding_, held_, heldCode_, shift_, shiftBits_, shiftCode_, shiftAt_, level_, in_, inBits_, inAt_, receiving_, srRead_, tx_.port, tx_.bit, rx_.port, rx_.bit, send_, sample_);
    }

private:
    enum : std::uint32_t { kPe = 1, kFe = 2, kNe = 4, kOre = 8, kIdle = 16, kRxne = 32, kTc = 64, kTxe = 128 };
    [[nodiscard]] std::int64_t bitCycles() const { return std::max<std::int64_t>(brr_, 16) * chip_.cyclesPerBusClock(bus_); }
    [[nodiscard]] bool enabled() const { return (cr1_ & 0x2000U) != 0; }
    [[nodiscard]] unsigned frameBits() const { return (cr1_ & 0x1000U) != 0 ? 9 : 8; }  // parity among them
    [[nodiscard]] unsigned stopBits() const { return ((cr2_ >> 12) & 3U) >= 2 ? 2 : 1; }
    void startSending(std::int64_t cycle);
    void sendDue(std::int64_t cycle);
    void sampleDue(std::int64_t cycle);
    void show();
    void updateInterrupt();

    Services& chip_;
    Gpio& gpio_;
    std::string name_;
    BusOf bus_;
    unsigned interrupt_, sendChannel_, receiveChannel_;
    Pin tx_, rx_;
    std::uint32_t sr_ = kTxe | kTc, brr_ = 0, cr1_ = 0, cr2_ = 0, cr3_ = 0, gtpr_ = 0, received_ = 0;
    bool holding_ = false;
    std::uint32_t held_ = 0, heldCode_ = UINT32_MAX, shift_ = 0, shiftBits_ = 0, shiftCode_ = UINT32_MAX;
    std::int64_t shiftAt_ = 0;
    bool level_ = true;
    std::uint32_t in_ = 0, inBits_ = 0;
    std::int64_t inAt_ = 0;
    bool receiving_ = false, srRead_ = false;
    CycleAlarm send_, sample_;
};

}  // namespace bramix::chip::cortexm
