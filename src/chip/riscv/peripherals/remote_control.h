// The remote control transmitter (ESP32-C3 TRM chapter 27): two channels that send levels of given lengths out of their memory, once, again and again, or while it is refilled.
// Not modelled: receiving, the carrier, several channels at once; each is told once where it is asked for.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>
#include <memory>

#include "chip/riscv/peripherals/gpio.h"

namespace bramix::chip::riscv {

class RemoteControl final : public StatefulWords<RemoteControl> {
public:
    static constexpr unsigned kSource = 28, kSenders = 2;
    static constexpr std::uint32_t kBlockWords = 48, kWords = 4 * kBlockWords, kMemory = 0x400;
    RemoteControl(Soc& soc, Gpio& gpio);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(memory_, kept_, raw_, enable_, system_);
        for (Sender& s : senders_)
            ar(s.conf, s.half, s.sent, s.sends, s.fifo, s.limit, *s.next);
    }

private:
    struct Sender {
        std::uint32_t conf = 0x710200;
        std::uint32_t half = 0;   // where it reads, in halves of words from its block's beginning
        std::uint32_t sent = 0;   // symbols since the last threshold
        std::uint32_t limit = 0x80;
        bool sends = false;
        std::uint32_t fifo = 0;   // where the window of its data register writes
        std::unique_ptr<kernel::Alarm> next;
    };
    [[nodiscard]] double tickPicos(const Sender& s) const;
    void go(unsigned sender, kernel::Time at);
    void stop(unsigned sender);
    void update();

    Soc& soc_;
    Gpio& gpio_;
    std::array<std::uint32_t, kWords> memory_{};
    std::array<std::uint32_t, 64> kept_{};
    std::uint32_t raw_ = 0, enable_ = 0, system_ = 0;
    std::array<Sender, kSenders> senders_;
};

}  // namespace bramix::chip::riscv
