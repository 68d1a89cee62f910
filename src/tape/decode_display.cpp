// The bus of a character display (HD44780U data sheet, tables 6 and 7, figures 25 and 26): what a falling E takes over, with RS and RW as they stand.
//
// Without D0 to D3 the display is on four lines: it begins with eight all the same, so that the first instructions are one pulse each, until a function set says four; from then on two
// pulses are a byte, the upper half first. A listener who comes later takes halves that lie more than a millisecond apart for halves of two bytes.
#include <array>

#include <fmt/format.h>

#include "tape/decode_kinds.h"

namespace bramix::tape {

namespace {

enum Role : std::size_t { kRs, kE, kD4, kD5, kD6, kD7, kRw, kD0, kD1, kD2, kD3, kRoles };

constexpr Duration kHalvesApart = std::chrono::milliseconds(1);

std::string instruction(unsigned b)
{
    const auto on = [b](unsigned bit) { return (b & bit) != 0 ? "on" : "off"; };
    if ((b & 0x80) != 0)
        return fmt::format("address 0x{:02X}", b & 0x7F);
    if ((b & 0x40) != 0)
        return fmt::format("character memory 0x{:02X}", b & 0x3F);
    if ((b & 0x20) != 0)
        return fmt::format("{} lines of bus, {} of text", (b & 0x10) != 0 ? 8 : 4, (b & 0x08) != 0 ? 2 : 1);
    if ((b & 0x10) != 0)
        return fmt::format("{} moves {}", (b & 0x08) != 0 ? "picture" : "cursor", (b & 0x04) != 0 ? "right" : "left");
    if ((b & 0x08) != 0)
        return fmt::format("display {}, cursor {}, blink {}", on(4), on(2), on(1));
    if ((b & 0x04) != 0)
        return fmt::format("writes {}{}", (b & 0x02) != 0 ? "right" : "left", (b & 0x01) != 0 ? ", picture moves" : "");
    return (b & 0x02) != 0 ? "home" : (b & 0x01) != 0 ? "clear" : "nothing";
}

class DisplayDecoder final : public CopiedDecoder<DisplayDecoder> {
public:
    void edge(std::size_t role, bool level, Time at) override
    {
        if (role >= kRoles)
            return;
        if (role >= kD0)
            wide_ = true;
        const bool was = std::exchange(lines_[role], level);
        if (role != kE)
            return;
        // What E shows before it has ever been low is no pulse. From undriven it comes to low without having been high.
        const bool wasLow = std::exchange(low_, low_ || !level);
        if (was == level)
            return;
        if (level && wasLow)
            rose_ = at;
        else if (!level && rose_)
            pulse(*rose_, at);
    }

private:
    void pulse(Time from, Time to)
    {
        const auto half = [this](std::size_t first) {
            unsigned value = 0;
            for (std::size_t i = 0; i < 4; ++i)
                value |= lines_[first + i] ? 1U << i : 0U;
            return value;
        };
        const unsigned upper = half(kD4);
        if (wide_)
            return tell(upper << 4 | half(kD0), from, to);
        if (!four_ && !lines_[kRs] && !lines_[kRw] && (upper == 3 || upper == 2)) {
            four_ = upper == 2;
            waits_ = false;
            return tell(upper << 4, from, to);
        }
        if (!waits_ || from - halfAt_ > kHalvesApart || halfRs_ != lines_[kRs]) {
            waits_ = true;
            four_ = true;
            upper_ = upper;
            halfAt_ = from;
            halfRs_ = lines_[kRs];
            return;
        }
        waits_ = false;
        tell(upper_ << 4 | upper, halfAt_, to);
    }
    void tell(unsigned byte, Time from, Time to)
    {
        const bool data = lines_[kRs];
        if (lines_[kRw])
            put(from, to, data ? "read" : "status", byte, data ? fmt::format("reads 0x{:02X}", byte) : fmt::format("{}, address 0x{:02X}", (byte & 0x80) != 0 ? "busy" : "ready", byte & 0x7F));
        else if (data)
            put(from, to, "data", byte, byte >= 32 && byte < 127 ? fmt::format("'{}'", static_cast<char>(byte)) : fmt::format("character 0x{:02X}", byte));
        else
            put(from, to, "instruction", byte, instruction(byte), byte != 0);
    }

    std::array<bool, kRoles> lines_{};
    std::optional<Time> rose_;
    bool low_ = false;     // E has been low
    bool wide_ = false;    // all eight lines are wired
    bool four_ = false;    // a function set has said so
    bool waits_ = false;   // for the lower half
    bool halfRs_ = false;
    unsigned upper_ = 0;
    Time halfAt_{};
};

}  // namespace

MadeDecoder makeDisplayDecoder(const Options& /*options*/) { return std::make_unique<DisplayDecoder>(); }

}  // namespace bramix::tape
