// A UART with queues of 128 bytes each way (ESP32-C3 TRM chapter 26): 5 to 8 bits, parity, 1 to 2 stop bits, thresholds, time-out of receiving, break and error flags.
// Not modelled: flow control, RS485, infrared, automatic baud detection; each is told once where it is asked for.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <deque>

#include "chip/base/serial_line.h"
#include "chip/riscv/peripherals/gpio.h"

namespace bramix::chip::riscv {

class Uart final : public StatefulWords<Uart> {
public:
    Uart(Soc& soc, Gpio& gpio, std::string name, unsigned source, unsigned signal);

    [[nodiscard]] SerialFormat format() const;
    [[nodiscard]] std::uint32_t sentBy() const { return sentBy_; }
    [[nodiscard]] unsigned signal() const { return signal_; }
    // As the boot ROM leaves it: 115200 8N1.
    void setUpByRom();
    void inputChanged(bool level);

    std::uint32_t read(std::uint32_t offset) override;
    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;
    void clockChanged() override { setUp(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(raw_, enable_, divider_, conf0_, conf1_, clock_, keptRegisters_, in_, out_, sentBy_, sender_, receiver_, timeOut_, level_);
    }

private:
    struct Held {
        std::uint8_t byte = 0;
        std::uint32_t code = UINT32_MAX;
        template <class Archive>
        void state(Archive& ar)
        {
            ar(byte, code);
        }
    };
    [[nodiscard]] std::uint64_t sourceHz() const;
    [[nodiscard]] kernel::Duration bit() const;
    [[nodiscard]] unsigned dataBits() const { return 5 + ((conf0_ >> 2) & 3U); }
    [[nodiscard]] bool parity() const { return (conf0_ & 2U) != 0; }
    [[nodiscard]] unsigned stopBits() const { return ((conf0_ >> 4) & 3U) >= 2 ? 2 : 1; }
    void setUp();
    void startSending(kernel::Time at);
    void frameReceived(std::uint32_t frame, kernel::Time at);
    void update();

    static constexpr std::size_t kDepth = 128;
    Soc& soc_;
    Gpio& gpio_;
    std::string name_;
    unsigned source_, signal_;
    std::uint32_t raw_ = 0, enable_ = 0, divider_ = 0, conf0_ = 0, conf1_ = 0, clock_ = 0;
    std::array<std::uint32_t, 64> keptRegisters_{};
    std::deque<std::uint8_t> in_;
    std::deque<Held> out_;
    std::uint32_t sentBy_ = UINT32_MAX;
    bool level_ = true;
    SerialSender sender_;
    SerialReceiver receiver_;
    kernel::Alarm timeOut_;
};

}  // namespace bramix::chip::riscv
