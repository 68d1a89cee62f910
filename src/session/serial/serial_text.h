// What one UART has said and been told, as lines: what a serial view shows. Millions of them, in little more room than their bytes.
//
// The idea: only the last lines can still change (a carriage return goes back, an escape sequence moves the cursor or clears), so they stand as a page of plain lines that are
// written into; what scrolls off the page is packed into blocks and never touched again. A line keeps when it began and which instruction sent its first byte, so that it leads to
// its place on the tape and in the source.
// Understood of a terminal's sequences (ECMA-48): CR, LF, BS, HT; cursor moves A B C D E F G H d, erase J K, colours and bold by m. Others are passed over.
// What is sent stands in lines of its own. Lines have numbers for good: forgetting the oldest, when there are more than `most` bytes, does not change the others'.
// Tested by tests/session/serial/serial_text_test.cpp.
#pragma once

#include <cstdint>
#include <deque>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "session/serial/serial_log.h"

namespace bramix::session {

using kernel::Time;

// How a stretch of a line is to be written: 0 as it comes, 1 to 16 the eight colours of a terminal and their bright ones, kBroken where the frame was wrong. Or'ed with kBold.
using Ink = std::uint8_t;
inline constexpr Ink kBroken = 31;
inline constexpr Ink kBold = 32;

struct InkRun {
    std::uint16_t from = 0;  // first byte; up to the next run's, or the line's end
    Ink ink = 0;
    bool operator==(const InkRun&) const = default;
};

struct SerialLine {
    Time at{};
    std::uint32_t code = UINT32_MAX;  // byte address of what sent its first byte
    bool sent = false;                // by the person, not by the chip
    bool complete = true;             // a line feed has ended it
    std::string text;
    std::vector<InkRun> inks;         // empty where all of it is 0
};

class SerialText {
public:
    explicit SerialText(std::size_t mostBytes = std::size_t{768} << 20U) : most_(mostBytes) {}

    void add(const SerialByte& byte);
    // The run has gone back to t: what came later has not happened. Exact for the last kExact bytes; beyond, lines that began later go as a whole.
    void rewind(Time t);
    void clear();

    // Lines first() to end() - 1 are known.
    [[nodiscard]] std::uint64_t first() const { return forgotten_; }
    [[nodiscard]] std::uint64_t end() const { return forgotten_ + lines_.size() + page_.size(); }
    // From here on lines may still change.
    [[nodiscard]] std::uint64_t pageBegin() const { return forgotten_ + lines_.size(); }
    [[nodiscard]] SerialLine line(std::uint64_t number) const;
    // Without its inks, and valid until something is added: for looking through many.
    [[nodiscard]] std::string_view text(std::uint64_t number) const;
    [[nodiscard]] Time at(std::uint64_t number) const;
    [[nodiscard]] bool sent(std::uint64_t number) const;
    // Counts what has been taken back or cleared: another number, and what was known of earlier lines is void.
    [[nodiscard]] std::uint64_t generation() const { return generation_; }

    // The last bytes as they came, for a view in hex: numbers firstByte() to endByte() - 1.
    [[nodiscard]] std::uint64_t firstByte() const { return bytes_ - recent_.size(); }
    [[nodiscard]] std::uint64_t endByte() const { return bytes_; }
    [[nodiscard]] const SerialByte& byte(std::uint64_t number) const { return recent_[number - firstByte()]; }

    [[nodiscard]] std::size_t memory() const;

    static constexpr std::size_t kExact = 2'000'000;
    static constexpr std::size_t kPageLines = 24;
    static constexpr std::size_t kLongest = 4000;  // a line that goes on further is broken

private:
    struct PageLine {
        Time at{};
        std::uint64_t firstByte = 0;
        std::uint32_t code = UINT32_MAX;
        bool begun = false;   // something has been written into it
        bool sent = false;
        bool complete = false;
        bool plain = true;    // it began with the cursor at its place, and nothing under way: the text can be worked out again from here
        std::uint8_t row = 0; // of the page, when it began
        std::string text;
        std::string inks;     // one a byte; empty where all are 0
    };
    // A packed line: its text, and after it its runs.
    struct Packed {
        Time at{};
        std::uint64_t firstByte = 0;
        const char* text = nullptr;
        std::uint32_t code = UINT32_MAX;
        std::uint16_t length = 0;
        std::uint16_t runs = 0;
        bool sent = false;
        bool complete = true;
        bool plain = true;
        std::uint8_t row = 0;
    };
    struct Block {
        std::unique_ptr<char[]> bytes;
        std::size_t used = 0;
        std::uint64_t lastLine = 0;  // the last line with text in it
    };
    static constexpr std::size_t kBlock = 1 << 20;

    void write(const SerialByte& byte);
    void print(const SerialByte& byte, char c);
    void escape(const SerialByte& byte);
    void sequence(char last);
    void newLine(const SerialByte& byte);
    PageLine& current(const SerialByte& byte);
    void moveTo(std::size_t row, std::size_t column);
    void scroll();
    void pack(const PageLine& line);
    void forgetOldest();
    void truncate(std::uint64_t line);
    void reopen();
    void resetCursor();

    const std::size_t most_;
    std::deque<Packed> lines_;
    std::deque<Block> blocks_;
    std::deque<PageLine> page_;
    std::uint64_t forgotten_ = 0;
    std::uint64_t generation_ = 0;
    std::deque<SerialByte> recent_;
    std::uint64_t bytes_ = 0;  // that have ever come
    // The terminal.
    std::size_t row_ = 0, column_ = 0;  // of the page
    Ink ink_ = 0;
    bool bold_ = false;
    enum class State : std::uint8_t { text, escape, sequence, string } state_ = State::text;
    std::string parameters_;
    bool lastSent_ = false;
};

}  // namespace bramix::session
