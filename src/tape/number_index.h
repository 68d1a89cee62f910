// Numbers by the hash of what they stand for: what has been seen already, found again without a node for each.
// What they stand for lies with whoever asks; there are never more than was said at the beginning.
// Tested by tests/tape/read_log_test.cpp through what is built on it.
#pragma once

#include <algorithm>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace bramix::tape {

class NumberIndex {
public:
    explicit NumberIndex(std::size_t most) : slots_(std::bit_ceil(2 * most)) {}

    // The number of which `same(number)` says yes among those with this hash; else `next`, which stands there from now on.
    template <class Same>
    std::uint32_t find(std::size_t hash, std::uint32_t next, Same&& same)
    {
        for (std::size_t slot = hash * 0x9E3779B97F4A7C15ULL >> 32U;; ++slot) {
            std::uint32_t& entry = slots_[slot & (slots_.size() - 1)];
            if (entry == 0) {
                entry = next + 1;
                return next;
            }
            if (same(entry - 1))
                return entry - 1;
        }
    }
    void clear() { std::fill(slots_.begin(), slots_.end(), 0U); }

private:
    std::vector<std::uint32_t> slots_;  // a number and one; 0: free
};

}  // namespace bramix::tape
