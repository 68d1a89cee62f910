// Both directions of an asynchronous serial line, bit by bit: what any family's UART is built on.
//
// A frame is its bits in the order of the line, start and stop bits included: bit 0 goes first.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <bit>
#include <cstdint>
#include <functional>

#include "chip/mcu.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"

namespace bramix::chip {

struct SerialFrame {
    std::uint32_t bits = 0;
    unsigned count = 0;
};

// What a frame says.
struct ReceivedFrame {
    std::uint32_t value = 0;
    bool wrongParity = false, wrongStop = false;
    bool breaks = false;  // low all through
};

[[nodiscard]] inline bool parityBit(const SerialFormat& format, std::uint32_t value) { return ((std::popcount(value) & 1) != 0) == (format.parity == SerialFormat::Parity::even); }

// Of the first stop bit.
[[nodiscard]] inline unsigned stopBitOf(const SerialFormat& format) { return 1 + format.dataBits + (format.parity == SerialFormat::Parity::none ? 0 : 1); }

[[nodiscard]] inline SerialFrame frameOf(const SerialFormat& format, std::uint32_t value)
{
    value &= (1U << format.dataBits) - 1U;
    const unsigned stop = stopBitOf(format);
    const bool parity = format.parity != SerialFormat::Parity::none && parityBit(format, value);
    return {value << 1 | (parity ? 1U << (stop - 1) : 0U) | ((1U << format.stopBits) - 1U) << stop, stop + format.stopBits};
}

[[nodiscard]] inline ReceivedFrame readFrame(const SerialFormat& format, std::uint32_t frame)
{
    ReceivedFrame out;
    const unsigned stop = stopBitOf(format);
    out.value = (frame >> 1) & ((1U << format.dataBits) - 1U);
    out.wrongParity = format.parity != SerialFormat::Parity::none && ((frame >> (stop - 1)) & 1U) != (parityBit(format, out.value) ? 1U : 0U);
    out.wrongStop = ((frame >> stop) & 1U) == 0;
    out.breaks = frame == 0;
    return out;
}

class SerialSender {
public:
    // `line` puts a level on the line; `done` hears that the frame is out.
    SerialSender(kernel::EventQueue& queue, std::function<void(bool)> line, std::function<void(kernel::Time)> done) : line_(std::move(line)), done_(std::move(done)), alarm_(queue, [this](kernel::Time t) { due(t); }) {}

    [[nodiscard]] bool busy() const { return bits_ != 0; }
    [[nodiscard]] bool level() const { return level_; }
    void send(std::uint32_t frame, unsigned bits, kernel::Duration bit, kernel::Time begin)
    {
        frame_ = frame;
        bits_ = bits;
        at_ = 0;
        bit_ = bit;
        begin_ = begin;
        go();
    }
    void reset()
    {
        bits_ = 0;
        alarm_.disarm();
        put(true);
    }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(frame_, bits_, at_, bit_, begin_, level_, alarm_);
    }

private:
    void put(bool level)
    {
        level_ = level;
        line_(level);
    }
    // Puts out the present bit, and waits for the next that differs.
    void go()
    {
        const bool level = ((frame_ >> at_) & 1U) != 0;
        put(level);
        do
            ++at_;
        while (at_ < bits_ && (((frame_ >> at_) & 1U) != 0) == level);
        alarm_.arm(begin_ + at_ * bit_);
    }
    void due(kernel::Time t)
    {
        if (at_ < bits_)
            return go();
        bits_ = 0;
        done_(t);
    }

    std::function<void(bool)> line_;
    std::function<void(kernel::Time)> done_;
    std::uint32_t frame_ = 0;
    unsigned bits_ = 0, at_ = 0;
    kernel::Duration bit_{};
    kernel::Time begin_{};
    bool level_ = true;
    kernel::Alarm alarm_;
};

class SerialReceiver {
public:
    // `received` hears each frame, start bit in bit 0, when its first stop bit has been sampled in the middle.
    SerialReceiver(kernel::EventQueue& queue, std::function<void(std::uint32_t frame, kernel::Time)> received) : received_(std::move(received)), alarm_(queue, [this](kernel::Time t) { due(t); }) {}

    // Frames have so many bits up to the first stop bit; 0: nothing is received.
    void setUp(unsigned bits, kernel::Duration bit)
    {
        wanted_ = bits;
        bit_ = bit;
    }
    [[nodiscard]] bool busy() const { return receiving_; }
    void lineChanged(bool level, kernel::Time now)
    {
        level_ = level;
        if (level || receiving_ || wanted_ == 0)
            return;
        receiving_ = true;
        frame_ = bits_ = 0;
        begin_ = now;
        alarm_.arm(begin_ + bit_ / 2);
    }
    void reset()
    {
        receiving_ = false;
        alarm_.disarm();
    }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(wanted_, bits_, frame_, bit_, begin_, level_, receiving_, alarm_);
    }

private:
    void due(kernel::Time t)
    {
        if (bits_ == 0 && level_) {
            receiving_ = false;  // too short for a start bit
            return;
        }
        frame_ |= (level_ ? 1U : 0U) << bits_;
        if (++bits_ < wanted_) {
            alarm_.arm(begin_ + bit_ / 2 + bits_ * bit_);
            return;
        }
        receiving_ = false;
        received_(frame_, t);
    }

    std::function<void(std::uint32_t, kernel::Time)> received_;
    unsigned wanted_ = 0, bits_ = 0;
    std::uint32_t frame_ = 0;
    kernel::Duration bit_{};
    kernel::Time begin_{};
    bool level_ = true, receiving_ = false;
    kernel::Alarm alarm_;
};

}  // namespace bramix::chip
