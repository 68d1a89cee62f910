// How fast a serial line talks, from its edges: the shortest time between two of them is one bit, as soon as a bit has stood alone. It has to come twice:
// a line that is switched on jumps once, whenever that is.
//
// Looks at the last 24 levels, so that a line that talks at another rate is measured anew.
// Tested by tests/bench/misuse_test.cpp and tests/kernel/kernel_test.cpp.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>

#include "kernel/time.h"

namespace bramix::kernel {

class ShortestLevel {
public:
    static constexpr std::size_t kLevels = 24;

    void edge(Time at)
    {
        if (count_ > 0)
            lengths_[(count_ - 1) % kLevels] = at - last_;
        last_ = at;
        ++count_;
    }
    // Edges seen so far.
    [[nodiscard]] std::uint32_t count() const { return count_; }
    // Of the last levels the shortest that came twice, within a sixteenth; Duration::max() where none did.
    [[nodiscard]] Duration shortest() const
    {
        Duration best = Duration::max();
        const std::size_t known = count_ == 0 ? 0 : std::min<std::size_t>(count_ - 1, kLevels);
        for (std::size_t i = 0; i < known; ++i)
            for (std::size_t j = 0; j < i; ++j)
                if (const auto [less, more] = std::minmax(lengths_[i], lengths_[j]); less > Duration::zero() && more - less <= less / 16)
                    best = std::min(best, less);
        return best;
    }
    // Bits a second, if that was a bit; of a line that has shown none: nothing to be used.
    [[nodiscard]] double rate() const { return 1 / seconds(shortest()); }
    [[nodiscard]] bool sure() const { return shortest() != Duration::max(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(last_, lengths_, count_);
    }

private:
    Time last_{};
    std::array<Duration, kLevels> lengths_{};
    std::uint32_t count_ = 0;
};

}  // namespace bramix::kernel
