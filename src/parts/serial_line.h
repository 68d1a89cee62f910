// The far end of a serial line: turns bytes into start, data and stop bits on a pin, and what it sees on another pin back into
// bytes. Pins: R (listens; wire it to a transmitter), T (drives, behind the resistance of a real bridge's series resistor).
//
// Setting "baud": a rate, or "follow", which speaks and listens at whatever the UART at the other end is set to just now (the
// world supplies that as `follow`). With a fixed rate that differs, bytes come out garbled, as on a wire.
// T idles high only once the line is in use: an unused line leaves its pin alone.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include <deque>
#include <optional>

#include "kernel/shortest_level.h"
#include "parts/part.h"

namespace bramix::parts {

// How characters look on the wire.
struct LineFormat {
    kernel::Duration bit{};
    unsigned dataBits = 8;
    enum class Parity : std::uint8_t { none, even, odd } parity = Parity::none;
    unsigned stopBits = 1;
    bool active = true;  // the UART at the other end is switched on
};

class SerialLine final : public StatefulPart<SerialLine>, public circuit::PinListener {
public:
    SerialLine(PartContext& context, std::optional<kernel::Duration> fixedBit);

    // Queues bytes for sending; they go out one after the other, from now on.
    void send(std::string_view bytes);
    // Takes hold of the wire now, so that the first byte finds it idle.
    void connect();
    // What it drives a 1 with, from now on: the supply of the bridge.
    void setHigh(double volts)
    {
        if (highVolts_ == volts)
            return;
        highVolts_ = volts;
        if (connected_)
            drive(txLevel_);
    }
    // The pin that it drives.
    [[nodiscard]] circuit::PinId output() const { return tx_; }
    [[nodiscard]] std::size_t unsent() const { return toSend_.size(); }
    [[nodiscard]] bool followsBaud() const { return !fixedBit_; }

    // The format at the other end towards us, and the one it expects from us.
    std::function<LineFormat()> follow;
    // A character has come in; `at` is the middle of its stop bit, `good` whether that was high and the parity right.
    std::function<void(std::uint8_t byte, bool good, kernel::Time at)> received;
    // What comes is at another rate than the fixed one, in bits a second; told once.
    std::function<void(double heard, double expected, kernel::Time at)> otherRate;
    // A character has begun to go out.
    std::function<void(std::uint8_t byte, kernel::Time at)> sending;

    void pinChanged(circuit::PinId pin, bool level, kernel::Time at) override;
    [[nodiscard]] std::string why(std::string_view pin) const override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(toSend_, connected_, sendBits_, sendCount_, sendAt_, sendStart_, sendBit_, listening_, listenStart_, listenBit_, listenAt_, listenCount_, listenBits_, listenLevel_, heard_, bad_, otherRateTold_, txLevel_, sendAlarm_,
           listenAlarm_, highVolts_);
        if constexpr (Archive::kLoading)
            if (connected_)
                drive(txLevel_);
    }

private:
    [[nodiscard]] LineFormat format() const;
    void startNext(kernel::Time at);
    void sendEdge(kernel::Time at);
    void sample(kernel::Time at);
    [[nodiscard]] kernel::Time sampleTime(unsigned bit) const;
    void takeSamples(kernel::Time until, bool level);
    void drive(bool level);
    void judgeRate(kernel::Time at);

    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    circuit::Cause cause_;
    circuit::PinId rx_;
    circuit::PinId tx_;
    std::optional<kernel::Duration> fixedBit_;

    std::deque<std::uint8_t> toSend_;
    bool connected_ = false;
    double highVolts_ = 5;
    bool txLevel_ = true;
    std::uint16_t sendBits_ = 0;
    unsigned sendCount_ = 0;
    unsigned sendAt_ = 0;
    kernel::Time sendStart_{};
    kernel::Duration sendBit_{};

    bool listening_ = false;
    kernel::Time listenStart_{};
    kernel::Duration listenBit_{};
    unsigned listenAt_ = 0;
    unsigned listenCount_ = 0;
    std::uint16_t listenBits_ = 0;
    bool listenLevel_ = false;
    kernel::ShortestLevel heard_;  // of a fixed rate only
    unsigned bad_ = 0;             // characters that came in broken
    bool otherRateTold_ = false;

    kernel::Alarm sendAlarm_;
    kernel::Alarm listenAlarm_;
};

kernel::Result<std::unique_ptr<Part>> makeSerialLine(PartContext& context);

}  // namespace bramix::parts
