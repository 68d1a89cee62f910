// The device's side of the two serial buses, as state machines that a part feeds with its pins' edges.
// Sources: I2C-bus specification UM10204, 3.1 (start, stop, address, acknowledge); SPI as the ATmega328P datasheet ch. 19 draws it, modes 0 and 3.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

namespace bramix::parts {

class TwoWire {
public:
    struct Device {
        virtual ~Device() = default;
        // Whether this address is ours and the device answers just now.
        virtual bool addressed(std::uint8_t address, bool reads) = 0;
        // A byte has come; false: not acknowledged.
        virtual bool written(std::uint8_t byte) = 0;
        // The next byte for the master.
        virtual std::uint8_t wanted() = 0;
        // A stop, or another start, after we were addressed.
        virtual void ended() = 0;
    };

    // `hold` pulls SDA low, or lets it go.
    TwoWire(Device& device, std::function<void(bool)> hold) : device_(device), hold_(std::move(hold)) {}

    void clock(bool level);
    void data(bool level);
    void reset();
    // Why SDA is held low or let go just now.
    [[nodiscard]] std::string why() const;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(state_, scl_, sda_, bit_, shift_, reads_, more_, own_);
    }

private:
    enum class State : std::uint8_t { idle, address, write, acknowledge, read, answered };
    void rise();
    void fall();
    void finish();
    void offer();

    Device& device_;
    std::function<void(bool)> hold_;
    State state_ = State::idle;
    bool scl_ = true, sda_ = true;
    std::uint8_t bit_ = 0;
    std::uint8_t shift_ = 0;
    bool reads_ = false;
    bool more_ = false;
    bool own_ = false;  // what is or was acknowledged last is the address
};

class SpiSlave {
public:
    struct Device {
        virtual ~Device() = default;
        // Chosen: the first byte that goes out.
        virtual std::uint8_t selected() = 0;
        // A byte has come in: the next that goes out.
        virtual std::uint8_t exchanged(std::uint8_t in) = 0;
        // Let go; `whole`: at the end of a byte.
        virtual void deselected(bool whole) = 0;
    };

    // `put` sets the data output; it is released while the device is not chosen.
    SpiSlave(Device& device, std::function<void(bool)> put, std::function<void()> release) : device_(device), put_(std::move(put)), release_(std::move(release)) {}

    void select(bool chosen);
    void clock(bool level, bool data);
    void reset() { chosen_ = false; }
    // Puts the output back where it stood, after a pause in which it was let go.
    void resume();
    [[nodiscard]] bool chosen() const { return chosen_; }
    // Why the data output stands as it does just now.
    [[nodiscard]] std::string why() const;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(chosen_, bits_, in_, out_);
    }

private:
    Device& device_;
    std::function<void(bool)> put_;
    std::function<void()> release_;
    bool chosen_ = false;
    std::uint8_t bits_ = 0;
    std::uint8_t in_ = 0, out_ = 0;
};

}  // namespace bramix::parts
