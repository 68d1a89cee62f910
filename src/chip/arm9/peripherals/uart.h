// The UART PL011 (ARM DDI 0183G): 5 to 8 bits, parity, 1 or 2 stop bits, queues of 16 or single characters, levels, time-out, error flags.
//
// What is written while the transmit queue is full is sent all the same, and told: silicon loses it.
// Not modelled: modem lines, DMA, infrared; told where they are asked for.
// Tested by tests/chip/arm9/arm926_test.cpp.
#pragma once

#include <deque>

#include "chip/arm9/peripherals/host.h"
#include "chip/base/serial_line.h"
#include "chip/mcu.h"

namespace bramix::chip::arm9 {

class Uart final : public StatefulWords<Uart> {
public:
    // `line` puts a level on its transmit pin.
    Uart(Host& host, std::string name, unsigned source, std::function<void(bool)> line);

    [[nodiscard]] SerialFormat format() const;
    [[nodiscard]] std::uint32_t sentBy() const { return sentBy_; }
    // As a boot monitor leaves it: 115200 8N1, sending whatever the control register says.
    void setUpByMonitor();
    void inputChanged(bool level);

    std::uint32_t read(std::uint32_t offset) override;
    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(raw_, mask_, control_, lineControl_, levels_, errors_, integer_, fraction_, dma_, monitor_, in_, out_, sentBy_, level_, sender_, receiver_, timeOut_);
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
    [[nodiscard]] kernel::Duration bit() const;
    [[nodiscard]] unsigned dataBits() const { return 5 + ((lineControl_ >> 5) & 3U); }
    [[nodiscard]] bool parity() const { return (lineControl_ & 2U) != 0; }
    [[nodiscard]] unsigned stopBits() const { return (lineControl_ & 8U) != 0 ? 2 : 1; }
    [[nodiscard]] bool sends() const { return monitor_ || (control_ & 0x101U) == 0x101U; }
    [[nodiscard]] bool receives() const { return monitor_ || (control_ & 0x201U) == 0x201U; }
    [[nodiscard]] std::size_t depth() const { return (lineControl_ & 0x10U) != 0 ? 16 : 1; }
    void setUp();
    void startSending(kernel::Time at);
    void frameReceived(std::uint32_t frame, kernel::Time at);
    void update();

    Host& host_;
    std::string name_;
    unsigned source_;
    std::uint32_t raw_ = 0, mask_ = 0, control_ = 0x300, lineControl_ = 0, levels_ = 0x12, errors_ = 0, integer_ = 0, fraction_ = 0, dma_ = 0;
    bool monitor_ = false;
    std::deque<std::uint16_t> in_;  // with the error bits above the character
    std::deque<Held> out_;
    std::uint32_t sentBy_ = UINT32_MAX;
    bool level_ = true;
    SerialSender sender_;
    SerialReceiver receiver_;
    kernel::Alarm timeOut_;
};

}  // namespace bramix::chip::arm9
