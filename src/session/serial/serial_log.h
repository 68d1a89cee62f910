// Every byte that the UARTs of a bench have sent and received, in order of time, as far as a bound allows. What a view shows of the past, and what it
// shows again when time has been put back, comes from here.
// Bytes have a number for good: forgetting the oldest does not change the others'.
// Tested by tests/session/debugger/debugger_test.cpp.
#pragma once

#include <algorithm>
#include <cstdint>
#include <deque>

#include "kernel/time.h"

namespace bramix::session {

struct SerialByte {
    kernel::Time at{};
    std::uint16_t uart = 0;
    std::uint8_t byte = 0;
    bool good : 1 = true;      // its frame was right: stop bit and parity
    bool fromChip : 1 = true;
    std::uint32_t code = UINT32_MAX;  // byte address of the instruction that wrote it, of a byte from the chip
};
static_assert(sizeof(SerialByte) == 16);

class SerialLog {
public:
    static constexpr std::size_t kMost = 4'000'000;

    void add(const SerialByte& byte)
    {
        bytes_.push_back(byte);
        if (bytes_.size() > kMost) {
            bytes_.pop_front();
            ++forgotten_;
        }
    }
    void clear()
    {
        forgotten_ = end();
        bytes_.clear();
    }
    // Forgets what came after t.
    void dropAfter(kernel::Time t)
    {
        while (!bytes_.empty() && bytes_.back().at > t)
            bytes_.pop_back();
    }

    // Numbers first() to end() - 1 are known.
    [[nodiscard]] std::uint64_t first() const { return forgotten_; }
    [[nodiscard]] std::uint64_t end() const { return forgotten_ + bytes_.size(); }
    [[nodiscard]] const SerialByte& operator[](std::uint64_t number) const { return bytes_[number - forgotten_]; }
    // The number of the first byte after t.
    [[nodiscard]] std::uint64_t after(kernel::Time t) const
    {
        const auto found = std::upper_bound(bytes_.begin(), bytes_.end(), t, [](kernel::Time at, const SerialByte& b) { return at < b.at; });
        return forgotten_ + static_cast<std::uint64_t>(found - bytes_.begin());
    }

private:
    std::deque<SerialByte> bytes_;
    std::uint64_t forgotten_ = 0;
};

}  // namespace bramix::session
