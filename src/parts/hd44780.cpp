#include "parts/hd44780.h"

#include <fmt/format.h>

#include "kernel/units.h"
#include "parts/dot_font.h"

namespace bramix::parts {

namespace {

using namespace std::chrono_literals;
using kernel::Duration;

constexpr Duration kInstruction = 37us;
constexpr Duration kData = 41us;
constexpr Duration kLong = 1520us;
constexpr Duration kPowerUp = 10ms;
constexpr Duration kShortestPulse = 230ns;
constexpr Duration kBlink = 409600us;  // on for as long, off for as long
constexpr std::size_t kLine = 40;

}  // namespace

void Hd44780::powerUp(Time now)
{
    ram_.fill(' ');
    address_ = 0;
    inCharacters_ = false;
    increments_ = true;
    shifts_ = on_ = cursor_ = blinks_ = twoLines_ = fourBits_ = half_ = driving_ = readHalf_ = e_ = false;
    offset_ = 0;
    busyUntil_ = now + kPowerUp;
}

std::uint8_t Hd44780::status(Time now) const { return static_cast<std::uint8_t>((now < busyUntil_ ? 0x80 : 0) | address_); }

void Hd44780::lines(bool rs, bool rw, bool e, std::uint8_t data, Time now)
{
    if (e && !e_) {
        e_ = true;
        eSince_ = now;
        if (rw) {
            if (!readHalf_)
                high_ = rs ? get() : status(now);
            driving_ = true;
            driven_ = fourBits_ && readHalf_ ? static_cast<std::uint8_t>(high_ << 4) : high_;
        }
        return;
    }
    if (e || !e_)
        return;
    e_ = false;
    if (now - eSince_ < kShortestPulse && wrong)
        wrong("display-timing", fmt::format("got a pulse of {} on E; its data sheet asks for 230 ns at least", kernel::formatQuantity(kernel::seconds(now - eSince_), kernel::Unit::second, 3)));
    if (driving_) {
        driving_ = false;
        readHalf_ = fourBits_ && !readHalf_;
        if (rs && !readHalf_)
            busyUntil_ = now + kData;
        return;
    }
    // A write while it is busy is lost; so is its half.
    const bool first = fourBits_ && !half_;
    if (now < busyUntil_ && !(fourBits_ && half_)) {
        if (wrong)
            wrong("display-busy", fmt::format("was written {} before it had finished: what was written is lost; wait for its busy flag, or longer",
                                              kernel::formatQuantity(kernel::seconds(busyUntil_ - now), kernel::Unit::second, 3)));
        return;
    }
    if (first) {
        half_ = true;
        high_ = data & 0xF0;
        return;
    }
    const std::uint8_t byte = fourBits_ ? static_cast<std::uint8_t>(high_ | data >> 4) : data;
    half_ = false;
    rs ? put(byte, now) : instruction(byte, now);
}

void Hd44780::instruction(std::uint8_t b, Time now)
{
    busyUntil_ = now + kInstruction;
    if ((b & 0x80) != 0) {
        address_ = b & 0x7F;
        inCharacters_ = false;
    } else if ((b & 0x40) != 0) {
        address_ = b & 0x3F;
        inCharacters_ = true;
    } else if ((b & 0x20) != 0) {
        fourBits_ = (b & 0x10) == 0;
        twoLines_ = (b & 0x08) != 0;
    } else if ((b & 0x10) != 0) {
        if ((b & 0x08) != 0)
            shiftDisplay((b & 0x04) != 0);
        else
            move((b & 0x04) != 0);
    } else if ((b & 0x08) != 0) {
        on_ = (b & 0x04) != 0;
        cursor_ = (b & 0x02) != 0;
        blinks_ = (b & 0x01) != 0;
    } else if ((b & 0x04) != 0) {
        increments_ = (b & 0x02) != 0;
        shifts_ = (b & 0x01) != 0;
    } else if (b != 0) {
        if (b == 1) {
            ram_.fill(' ');
            increments_ = true;
        }
        address_ = 0;
        inCharacters_ = false;
        offset_ = 0;
        busyUntil_ = now + kLong;
    }
}

// Two lines of 40 from 0x00 and 0x40, or one of 80.
std::size_t Hd44780::cell(std::uint8_t address) const
{
    if (!twoLines_)
        return address % 80;
    return (address >= 0x40 ? kLine : 0) + (address & 0x3F) % kLine;
}

void Hd44780::put(std::uint8_t byte, Time now)
{
    busyUntil_ = now + kData;
    if (inCharacters_)
        characters_[address_ & 0x3F] = byte & 0x1F;
    else
        ram_[cell(address_)] = byte;
    const bool wasCharacters = inCharacters_;
    move(increments_);
    if (shifts_ && !wasCharacters)
        shiftDisplay(!increments_);
}

std::uint8_t Hd44780::get()
{
    const std::uint8_t byte = inCharacters_ ? characters_[address_ & 0x3F] : ram_[cell(address_)];
    move(increments_);
    return byte;
}

void Hd44780::move(bool forward)
{
    if (inCharacters_) {
        address_ = static_cast<std::uint8_t>((address_ + (forward ? 1 : 63)) & 0x3F);
        return;
    }
    if (!twoLines_) {
        address_ = static_cast<std::uint8_t>((address_ + (forward ? 1 : 79)) % 80);
        return;
    }
    const std::size_t next = (cell(address_) + (forward ? 1 : 79)) % 80;
    address_ = static_cast<std::uint8_t>(next < kLine ? next : next - kLine + 0x40);
}

void Hd44780::shiftDisplay(bool right)
{
    const int length = twoLines_ ? static_cast<int>(kLine) : 80;
    offset_ = (offset_ + (right ? length - 1 : 1)) % length;
}

// Rows three and four go on where rows one and two end; -1 for a row that one line does not reach.
int Hd44780::addressAt(int column, int row) const
{
    if (!twoLines_)
        return row == 0 || (rows_ == 4 && row == 2) ? (column + (row == 2 ? columns_ : 0) + offset_) % 80 : -1;
    const int along = (column + (row >= 2 ? columns_ : 0) + offset_) % static_cast<int>(kLine);
    return along + (row % 2 == 1 ? 0x40 : 0);
}

std::string Hd44780::text() const
{
    std::string out;
    for (int row = 0; row < rows_; ++row) {
        if (row > 0)
            out += '\n';
        for (int column = 0; column < columns_; ++column) {
            const int address = addressAt(column, row);
            const std::uint8_t code = on_ && address >= 0 ? ram_[cell(static_cast<std::uint8_t>(address))] : ' ';
            out += code == 0xDF ? std::string("°") : std::string(1, code >= 0x20 && code < 0x7F ? static_cast<char>(code) : '.');
        }
    }
    return out;
}

bool Hd44780::dot(int column, int row, int x, int y, Time now) const
{
    const int address = addressAt(column, row);
    if (!on_ || address < 0)
        return false;
    const bool here = !inCharacters_ && address == static_cast<int>(address_);
    if (here && cursor_ && y == 7)
        return true;
    if (here && blinks_ && (now.time_since_epoch() / kBlink) % 2 == 1)
        return true;
    const std::uint8_t code = ram_[cell(static_cast<std::uint8_t>(address))];
    const std::uint8_t bits = code < 0x10 ? characters_[static_cast<std::size_t>((code & 7) * 8 + y)] : y < 7 ? dotRows(code)[static_cast<std::size_t>(y)] : std::uint8_t{0};
    return (bits >> (4 - x) & 1) != 0;
}

}  // namespace bramix::parts
