// 2048 edges of one channel in little room: a full chunk of the tape, never changed again.
//
// The idea: what a line does recurs. An edge is the time since the one before, who did it, and the new state; a chunk holds few different ones of these (a pin that
// toggles: two; a serial line: some ten for each instruction that sends). They stand once in a dictionary and each edge is its number, in 1, 2, 4 or 8 bits. Where there are
// more than 256, the times lie apart, in units of their greatest common divisor (a chip's clock, as a rule) as 7 bits a byte, beside numbers into a dictionary of doers.
// A mark every 128 edges tells time and place, so that any edge costs a search and at most 128 steps.
// Measured (perf/bramix_perf): 0.3 bytes an edge of a toggling pin, 1.2 of a serial line, 3 of random times; 5 ns to pack one.
// Invariant: at(i) gives back what was packed, to the bit.
// Tested by tests/tape/packed_edges_test.cpp against the plain array.
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <memory>
#include <span>

#include "kernel/edge.h"
#include "kernel/time.h"

namespace bramix::tape {

using kernel::Duration;
using kernel::Time;

// Numbers as circuit::NetState: 0 low, 1 high, 2 floating, 3 between thresholds, 4 two outputs fighting.
using State = std::uint8_t;

using kernel::Edge;

// How long the states lasted that ended in a stretch of edges; the shortest is the longest time there is, and the longest zero, where there was none.
struct Widths {
    std::array<Duration, 2> shortest{Duration::max(), Duration::max()};  // of low, of high
    std::array<Duration, 2> longest{};

    void add(State state, Duration length)
    {
        if (state > 1)
            return;
        shortest[state] = std::min(shortest[state], length);
        longest[state] = std::max(longest[state], length);
    }
};

class PackedEdges {
public:
    static constexpr std::size_t kEdges = 2048;
    static constexpr std::size_t kBlock = 128;

    // `edges` are exactly kEdges, in order of time; `beforeAt` and `before` are the edge's before the first (its own time where there is none).
    PackedEdges(std::span<const Edge> edges, Time beforeAt, State before);
    // Nothing yet: to be loaded.
    PackedEdges() = default;
    template <class Archive>
    void state(Archive& ar)
    {
        ar(marks_, places_, lastAt_, widths_.shortest, widths_.longest, unit_, size_, kindCount_, bits_, last_);
        ar.room(size_);
        if constexpr (Archive::kLoading)
            data_ = std::make_unique<std::uint8_t[]>(size_);
        ar.bytes(data_.get(), size_);
    }

    [[nodiscard]] Time firstAt() const { return marks_[0]; }
    [[nodiscard]] Time lastAt() const { return lastAt_; }
    [[nodiscard]] State last() const { return last_; }
    [[nodiscard]] const Widths& widths() const { return widths_; }
    // The block of edges from kBlock * block on.
    void block(std::size_t block, std::span<Edge, kBlock> out) const;
    // The last block that begins at or before t; 0 where none does.
    [[nodiscard]] std::size_t blockOf(Time t) const;
    // Whether there is any edge of which `which` says yes, by who made it and what state it brought.
    template <class Which>
    [[nodiscard]] bool anyEdge(Which&& which) const
    {
        for (std::size_t i = 0; i < kindCount_; ++i) {
            Kind kind;
            std::memcpy(&kind, data_.get() + i * sizeof(Kind), sizeof(Kind));
            if (which(kind.code, kind.actor, kind.state))
                return true;
        }
        return false;
    }
    [[nodiscard]] std::size_t bytes() const { return sizeof(PackedEdges) + size_; }

private:
    struct Kind {
        std::int64_t since;  // picoseconds since the edge before; of the other form: 0
        std::uint32_t code;
        std::uint16_t actor;
        State state;
        std::uint8_t spare = 0;  // named, so that what is written into a file is the same each time
        bool operator==(const Kind&) const = default;
    };

    template <unsigned kBits>
    void unpack(std::size_t block, std::span<Edge, kBlock> out) const;
    template <unsigned kBits>
    static void together(std::span<const std::uint8_t> numbers, std::uint8_t* at);
    void packKinds(std::span<const std::uint8_t> numbers, std::span<const Kind> kinds);
    void packApart(std::span<const Edge> edges);
    [[nodiscard]] const Kind* kinds() const { return reinterpret_cast<const Kind*>(data_.get()); }

    std::array<Time, kEdges / kBlock> marks_;            // when the first edge of each block is
    std::array<std::uint32_t, kEdges / kBlock> places_{};  // where its times begin, in the form with times apart
    Time lastAt_{};
    Widths widths_;
    std::int64_t unit_ = 0;       // picoseconds; 0: each edge is a number of a kind
    std::uint32_t size_ = 0;
    std::uint16_t kindCount_ = 0;
    std::uint8_t bits_ = 0;       // of an edge's number
    State last_ = 2;
    std::unique_ptr<std::uint8_t[]> data_;  // the kinds, the numbers, the times
};

}  // namespace bramix::tape
