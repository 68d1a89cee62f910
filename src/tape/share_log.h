// Who had how much of the time, all the run long: stretches one after the other, each with the shares of some numbered things in it.
//
// A stretch takes some ten bytes. They lie in blocks, each with its sums, so that a window of any length is summed up by columns without looking into every stretch; a
// column's edge that falls into a stretch has its part of it. Beyond a bound the oldest blocks keep their sums alone, and beyond another the oldest are forgotten.
// Invariant: stretches are in order of time and do not overlap.
// Tested by tests/tape/share_log_test.cpp.
#pragma once

#include <cstdint>
#include <deque>
#include <span>
#include <vector>

#include "kernel/time.h"

namespace bramix::tape {

using kernel::Duration;
using kernel::Time;

class ShareLog {
public:
    struct Share {
        std::uint16_t id = 0;
        std::int64_t weight = 0;  // of the sum of all in the stretch

        template <class Archive>
        void state(Archive& ar)
        {
            ar(id, weight);
        }
    };
    struct Stretch {
        Time from{}, to{};
        std::vector<Share> shares;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(from, to, shares);
        }
    };
    // What one had in a column.
    struct Part {
        std::uint32_t column = 0;
        std::uint16_t id = 0;
        Duration time{};
    };

    // Bytes that all may take together.
    void setBound(std::size_t bytes);
    // The next stretch; one that begins before end() is known already and passed over.
    void add(Time from, Time to, std::span<const Share> shares);
    void add(const Stretch& stretch) { add(stretch.from, stretch.to, stretch.shares); }
    // Forgets stretches that end after t.
    void dropAfter(Time t);
    void clear();

    [[nodiscard]] bool empty() const { return blocks_.empty(); }
    [[nodiscard]] Time begin() const { return blocks_.empty() ? Time{} : blocks_.front().from; }
    [[nodiscard]] Time end() const { return blocks_.empty() ? Time{} : blocks_.back().to; }
    [[nodiscard]] std::size_t bytes() const { return bytes_; }
    [[nodiscard]] std::uint64_t count() const { return count_; }

    // The shares in each of so many equal columns of a window, in order of columns and then of ids. `last`: stretches behind the others that are not complete.
    [[nodiscard]] std::vector<Part> columns(Time from, Time to, std::size_t count, const std::vector<Stretch>& last) const;

    // Both ways, for a recording in a file.
    template <class Archive>
    void state(Archive& ar)
    {
        std::uint64_t blocks = blocks_.size();
        ar(blocks, count_);
        if constexpr (Archive::kLoading)
            blocks_.resize(static_cast<std::size_t>(blocks));
        for (Block& b : blocks_)
            ar(b.from, b.to, b.length, b.covered, b.weight, b.packed, b.ids, b.weights);
        if constexpr (Archive::kLoading)
            reckonBytes();
    }

private:
    static constexpr std::size_t kStretches = 64;  // in a block

    struct Block {
        Time from{}, to{};
        Duration length{};                  // of its last stretch
        Duration covered{};                 // by its stretches, gaps left out
        std::int64_t weight = 0;            // of all of them; a unit of it is as long in each
        std::vector<std::uint8_t> packed;   // empty: only the sums are known
        std::vector<std::uint16_t> ids;     // those that had something
        std::vector<std::int64_t> weights;  // and what
        [[nodiscard]] std::size_t bytes() const { return sizeof(Block) + packed.capacity() + ids.capacity() * sizeof(std::uint16_t) + weights.capacity() * sizeof(std::int64_t); }
    };

    static void append(Block& block, Time from, Time to, std::int64_t weight, std::span<const Share> shares);
    template <class Each>
    static void unpack(const Block& block, Each&& each);
    void reckonBytes();
    void keepBound();

    std::deque<Block> blocks_;
    std::size_t inLast_ = 0;    // stretches in the last block
    std::size_t summed_ = 0;    // so many of the oldest blocks have their sums alone
    std::size_t bytes_ = 0, bound_ = SIZE_MAX;
    std::uint64_t count_ = 0;   // that have ever been added
};

}  // namespace bramix::tape
