// What a decoder has read since the tape began: every item with its times, in the order in which it was known, in little room, and found again by what it says
// without looking at the edges.
//
// The idea is that of packed_edges.h: what a line says recurs. In a chunk of 4096 items each different word (what it is, its value, its text) stands once; an item is the number of its
// word, and the number of a pair of times: since the item before began, and how long. Where there are more pairs than 256, the times stand as 7 bits a byte, in units of their
// greatest common divisor. Who looks for something looks through a chunk's words first.
// Items begin and end in any order (a command is known when it is whole, after its bytes), so that each chunk knows the bounds of what it and the others before and
// after it hold.
// Invariant: item(n) gives back what was added, to the bit; numbers stay when the oldest are forgotten.
// Tested by tests/tape/read_log_test.cpp against the plain row of items.
#pragma once

#include <array>
#include <deque>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "tape/decode.h"
#include "tape/number_index.h"

namespace bramix::tape {

class ReadLog {
public:
    static constexpr std::size_t kChunkItems = 4096;

    // An item without its times.
    struct Word {
        std::string_view what;
        std::uint64_t value = 0;
        std::string_view text;
        bool good = true, meaning = false;
    };
    // What a word stands for in a row that is looked for; negative: it is passed over, as if it were not there.
    using Classify = std::function<int(const Word&)>;
    struct Hit {
        std::uint64_t number = 0;  // of the first item of the row
        Time at{};                 // when that begins
    };

    void add(const Decoded& item);
    // Items first() to end() - 1 are known.
    [[nodiscard]] std::uint64_t first() const { return forgotten_; }
    [[nodiscard]] std::uint64_t end() const { return forgotten_ + packed_.size() * kChunkItems + open_.items.size(); }
    // One near the last that was asked for costs next to nothing.
    [[nodiscard]] Decoded item(std::uint64_t number) const;
    // All that overlaps from..to lies among these numbers, from the first up to before the second; others do, too.
    [[nodiscard]] std::pair<std::uint64_t, std::uint64_t> around(Time from, Time to) const;
    // Each item that overlaps from..to, in the order in which they were known, until `take` says no; false where it did.
    bool visit(Time from, Time to, const std::function<bool(const Decoded&)>& take) const;
    // The row of items that stand for these, one after the other, whose first begins nearest after `from` (before it, where not forward); nothing where there is none.
    // `row` has at least one.
    [[nodiscard]] std::optional<Hit> find(Time from, bool forward, const std::vector<int>& row, const Classify& classify) const;
    // Where in from..to something stands out: it does not fit the protocol, or was not acknowledged. At most `most` of them; where there are more, one of each chunk at least.
    [[nodiscard]] std::vector<Time> outstanding(Time from, Time to, std::size_t most) const;

    // Forgets this one and all after it.
    void dropFrom(std::uint64_t number);
    // Forgets the oldest chunk, where there is one besides what is being added to.
    void forgetOldest();
    void clear();
    // When all items that are forgotten had begun; time zero where none is.
    [[nodiscard]] Time forgottenTo() const { return forgottenTo_; }
    [[nodiscard]] std::size_t chunks() const { return packed_.size(); }
    [[nodiscard]] Time oldestEnds() const { return packed_.front().latestTo; }
    [[nodiscard]] std::size_t bytes() const { return bytes_ + sizeof(Decoded) * open_.words.size() + sizeof(Item) * open_.items.size(); }

private:
    struct Item {
        Time from{};
        Duration length{};
        std::uint32_t word = 0;
    };
    struct Bounds {
        Time earliestFrom = kernel::kNever, latestFrom{}, latestTo{};
        bool outstanding = false;  // something in it is
        void add(const Decoded& item);
    };
    // A chunk that is full. Its bounds: of its own items; those over all up to it, and from it on, are in ranges_.
    struct Packed : Bounds {
        std::vector<std::uint8_t> data;
        std::uint32_t numbers = 0, times = 0;  // where they begin
        std::int64_t unit = 0;                 // of times that stand apart; 0: each is the number of a pair
        Time begin{};                          // the first item's
        std::uint16_t words = 0, pairs = 0;
        bool wide = false;                     // words' numbers take two bytes
    };
    struct Range {
        Time latestFrom{}, latestTo{};  // of this chunk and all before it
        Time earliestFrom{};            // of this chunk and all packed ones after it
    };
    struct Open : Bounds {
        std::vector<Item> items;
        std::deque<Decoded> words;  // times of no meaning; they stay where they are
        NumberIndex byHash{kChunkItems};
        std::vector<std::uint32_t> followers;  // by word: what came after it last time
        void clear();
    };
    // A chunk as it can be read.
    struct Unpacked {
        std::uint64_t chunk = UINT64_MAX;  // counted from the very first
        std::uint64_t generation = 0;
        std::vector<Word> words;
        std::vector<std::uint32_t> numbers;
        std::vector<Item> items;           // empty until they are asked for
    };

    void pack();
    [[nodiscard]] const Unpacked& unpacked(std::size_t chunk, bool times) const;
    [[nodiscard]] std::size_t chunkCount() const { return packed_.size() + (open_.items.empty() ? 0 : 1); }
    [[nodiscard]] const Bounds& bounds(std::size_t chunk) const { return chunk < packed_.size() ? static_cast<const Bounds&>(packed_[chunk]) : open_; }
    [[nodiscard]] Time earliestFromOn(std::size_t chunk) const;
    [[nodiscard]] Time latestFromUpTo(std::size_t chunk) const;
    [[nodiscard]] Time latestToUpTo(std::size_t chunk) const;
    class Rows;

    std::deque<Packed> packed_;
    std::deque<Range> ranges_;  // one for each of them
    Open open_;
    std::uint64_t forgotten_ = 0;
    Time forgottenTo_{};
    std::size_t bytes_ = 0;
    std::uint64_t generation_ = 1;  // another number: what was unpacked is no more
    static constexpr std::size_t kUnpacked = 4;
    mutable std::vector<Unpacked> unpacked_ = std::vector<Unpacked>(kUnpacked);
};

}  // namespace bramix::tape
