#include "parts/bus.h"

#include <fmt/format.h>

namespace bramix::parts {

void TwoWire::reset()
{
    state_ = State::idle;
    scl_ = sda_ = true;
    hold_(false);
}

void TwoWire::data(bool level)
{
    if (level == sda_)
        return;
    sda_ = level;
    if (!scl_)
        return;
    finish();
    // Falling while the clock is high begins, rising ends.
    state_ = level ? State::idle : State::address;
    bit_ = 0;
    shift_ = 0;
    hold_(false);
}

void TwoWire::finish()
{
    if (state_ != State::idle && state_ != State::address)
        device_.ended();
}

void TwoWire::clock(bool level)
{
    if (level == scl_)
        return;
    scl_ = level;
    level ? rise() : fall();
}

void TwoWire::rise()
{
    if (state_ == State::address || state_ == State::write) {
        shift_ = static_cast<std::uint8_t>(shift_ << 1 | (sda_ ? 1 : 0));
        ++bit_;
    } else if (state_ == State::answered) {
        more_ = !sda_;
    }
}

void TwoWire::fall()
{
    switch (state_) {
    case State::idle: break;
    case State::address:
    case State::write:
        if (bit_ < 8)
            break;
        own_ = state_ == State::address;
        if (own_)
            reads_ = (shift_ & 1) != 0;
        if (own_ ? device_.addressed(shift_ >> 1, reads_) : device_.written(shift_)) {
            state_ = State::acknowledge;
            hold_(true);
        } else {
            state_ = State::idle;
        }
        break;
    case State::acknowledge:
        hold_(false);
        bit_ = 0;
        shift_ = 0;
        if (reads_)
            offer();
        else
            state_ = State::write;
        break;
    case State::read:
        if (++bit_ < 8) {
            hold_((shift_ << bit_ & 0x80) == 0);
        } else {
            hold_(false);
            state_ = State::answered;
        }
        break;
    case State::answered:
        if (more_) {
            offer();
        } else {
            device_.ended();
            state_ = State::idle;
        }
        break;
    }
}

void TwoWire::offer()
{
    state_ = State::read;
    bit_ = 0;
    shift_ = device_.wanted();
    hold_((shift_ & 0x80) == 0);
}

std::string TwoWire::why() const
{
    switch (state_) {
    case State::acknowledge: return own_ ? fmt::format("it acknowledges its address 0x{:02X}, to be {}", shift_ >> 1, reads_ ? "read" : "written") : fmt::format("it acknowledges the byte 0x{:02X}", shift_);
    case State::read: return fmt::format("it sends 0x{:02X}: bit {}", shift_, 7 - bit_);
    case State::answered: return fmt::format("its byte 0x{:02X} is out: it lets go, for the master to acknowledge", shift_);
    case State::write: return own_ ? "it lets go, its address acknowledged" : "it lets go, the byte acknowledged";
    case State::idle:
    case State::address: break;
    }
    return "it lets go: the transfer has ended";
}

void SpiSlave::select(bool chosen)
{
    if (chosen == chosen_)
        return;
    chosen_ = chosen;
    if (!chosen) {
        release_();
        device_.deselected(bits_ == 0);
        return;
    }
    bits_ = 0;
    in_ = 0;
    out_ = device_.selected();
    put_((out_ & 0x80) != 0);
}

std::string SpiSlave::why() const { return chosen_ ? fmt::format("it sends 0x{:02X}: bit {}", out_, 7 - bits_) : "it is not chosen any more: its output lets go"; }

void SpiSlave::resume()
{
    if (chosen_)
        put_((out_ << bits_ & 0x80) != 0);
}

void SpiSlave::clock(bool level, bool data)
{
    if (!chosen_)
        return;
    if (level) {
        in_ = static_cast<std::uint8_t>(in_ << 1 | (data ? 1 : 0));
        if (++bits_ == 8) {
            bits_ = 0;
            out_ = device_.exchanged(in_);
            in_ = 0;
        }
    } else {
        // In mode 3 the first edge falls before any bit has been taken; the first bit stands there already. After the eighth, the next byte's first.
        put_((out_ << bits_ & 0x80) != 0);
    }
}

}  // namespace bramix::parts
