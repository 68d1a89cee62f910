// Who had how much of the time, all the run long: stretches one after the other, each with the shares of some numbered things in it.
//
// A stretch takes some ten bytes and a few nanoseconds. They lie in blocks, packed when they are full, each with its sums, so that a window of any length is summed up by columns without looking into every stretch; a
// column's edge that falls into a stretch has its part of it. Beyond a bound the oldest blocks keep their sums alone, and beyond another the oldest are forgotten.
// Invariant: stretches are in order of time and do not overlap.
// Tested by tests/tape/share_log_test.cpp.
#pragma once

#include <cstdint>
#include <deque>
#include <span>
#include <vector>

#include "kernel/share.h"
#include "kernel/time.h"

namespace bramix::tape {

using kernel::Duration;
using kernel::Time;

class ShareLog {
public:
    using Share = kernel::Share;  // of the sum of all in the stretch
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

    [[nodiscard]] bool empty() const { return blocks_.empty() && fresh_.empty(); }
    [[nodiscard]] Time begin() const { return !blocks_.empty() ? blocks_.front().from : fresh_.empty() ? Time{} : fresh_.front().from; }
    [[nodiscard]] Time end() const { return !fresh_.empty() ? fresh_.back().to : blocks_.empty() ? Time{} : blocks_.back().to; }
    [[nodiscard]] std::size_t bytes() const { return bytes_; }
    [[nodiscard]] std::uint64_t count() const { return count_; }

    // The shares in each of so many equal columns of a window, in order of columns and then of ids. `last`: stretches behind the others that are not complete.
    [[nodiscard]] std::vector<Part> columns(Time from, Time to, std::size_t count, const std::vector<Stretch>& last) const;

    // Both ways, for a recording in a file.
    template <class Archive>
    void state(Archive& ar)
    {
        seal();
        std::uint64_t blocks = blocks_.size();
        ar(blocks, count_);
        if constexpr (Archive::kLoading)
            blocks_.resize(static_cast<std::size_t>(blocks));
        for (Block& b : blocks_)
            ar(b.from, b.to, b.covered, b.weight, b.packed, b.ids, b.weights);
        if constexpr (Archive::kLoading)
            reckonBytes();
    }

private:
    static constexpr std::size_t kStretches = 64;  // in a block

    struct Block {
        Time from{}, to{};
        Duration covered{};                 // by its stretches, gaps left out
        std::int64_t weight = 0;            // of all of them; a unit of it is as long in each
        std::vector<std::uint8_t> packed;   // empty: only the sums are known
        std::vector<std::uint16_t> ids;     // those that had something
        std::vector<std::int64_t> weights;  // and what
        [[nodiscard]] std::size_t bytes() const { return sizeof(Block) + packed.capacity() + ids.capacity() * sizeof(std::uint16_t) + weights.capacity() * sizeof(std::int64_t); }
    };

    void seal();
    template <class Each>
    static void unpack(const Block& block, Each&& each);
    template <class Each>
    void eachFresh(Each&& each) const;
    void reckonBytes();
    void keepBound();

    // Of the block that is being filled: stretches as they come, and their shares in a row.
    struct Fresh {
        Time from{}, to{};
        std::uint32_t shares = 0;
        bool isShort = false;  // its ids have one byte and its amounts two
    };
    std::deque<Block> blocks_;
    std::vector<Fresh> fresh_;
    std::vector<Share> freshShares_;
    std::vector<std::uint8_t> packing_;  // room
    Duration freshCovered_{};
    std::int64_t freshWeight_ = 0;
    std::size_t summed_ = 0;    // so many of the oldest blocks have their sums alone
    std::size_t bytes_ = 0, bound_ = SIZE_MAX;
    std::uint64_t count_ = 0;   // that have ever been added
};

}  // namespace bramix::tape
