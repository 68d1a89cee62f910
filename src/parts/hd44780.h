// The controller of a character display, without pins.
// Source: HD44780U data sheet (ADE-207-272), table 6 "Instructions", figure 9 (bus timing), "Reset Function".
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <string>
#include <string_view>

#include "kernel/time.h"

namespace bramix::parts {

class Hd44780 {
public:
    using Time = kernel::Time;

    Hd44780(int columns, int rows) : columns_(columns), rows_(rows) { ram_.fill(' '); }

    void powerUp(Time now);
    // The level of its lines; data in all eight bits, in the upper four where four are wired.
    void lines(bool rs, bool rw, bool e, std::uint8_t data, Time now);
    // What it puts on the data lines just now, if it does.
    [[nodiscard]] bool drives() const { return driving_; }
    [[nodiscard]] std::uint8_t driven() const { return driven_; }
    // Told of what goes wrong: a rule and a text without the part's name.
    std::function<void(std::string_view, const std::string&)> wrong;

    [[nodiscard]] int columns() const { return columns_; }
    [[nodiscard]] int rows() const { return rows_; }
    // The text as it shows, rows with a line break between; blank where the display is off.
    [[nodiscard]] std::string text() const;
    // A dot of a character's cell: x 0 to 4, y 0 to 7.
    [[nodiscard]] bool dot(int column, int row, int x, int y, Time now) const;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(ram_, characters_, address_, inCharacters_, increments_, shifts_, on_, cursor_, blinks_, twoLines_, fourBits_, half_, high_, offset_, busyUntil_, e_, eSince_, driving_, driven_, readHalf_);
    }

private:
    void instruction(std::uint8_t byte, Time now);
    void put(std::uint8_t byte, Time now);
    [[nodiscard]] std::uint8_t status(Time now) const;
    [[nodiscard]] std::uint8_t get();
    void move(bool forward);
    void shiftDisplay(bool right);
    [[nodiscard]] std::size_t cell(std::uint8_t address) const;
    [[nodiscard]] int addressAt(int column, int row) const;

    int columns_, rows_;
    std::array<std::uint8_t, 80> ram_{};
    std::array<std::uint8_t, 64> characters_{};
    std::uint8_t address_ = 0;
    bool inCharacters_ = false;
    bool increments_ = true, shifts_ = false;
    bool on_ = false, cursor_ = false, blinks_ = false;
    bool twoLines_ = false, fourBits_ = false;
    bool half_ = false;         // the upper four bits of a byte have come
    std::uint8_t high_ = 0;
    int offset_ = 0;            // how far the display is shifted to the left
    Time busyUntil_{};
    bool e_ = false;
    Time eSince_{};
    bool driving_ = false;
    std::uint8_t driven_ = 0;
    bool readHalf_ = false;
};

}  // namespace bramix::parts
