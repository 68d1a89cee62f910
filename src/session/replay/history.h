// The past of a running bench: moments remembered every so often, from which any other is reached by running forward again.
//
// The idea: what costs is the way from a remembered moment to the one that is wanted, so moments are remembered by the work that has been done since
// the last one, not by simulated time; a bench that sleeps needs few. When all together pass the bound, every second one of the older half is
// forgotten: the past becomes slower to reach, never wrong.
// A moment belongs to the wiring and the firmware with which it was remembered: whoever changes them clears the history.
// Invariant: moments_ are in order of time.
// Tested by tests/session/debugger/debugger_test.cpp.
#pragma once

#include <algorithm>
#include <memory>
#include <vector>

#include "bench/world.h"

namespace bramix::session {

struct Remembered {
    std::shared_ptr<const bench::World::Moment> moment;
    std::size_t inputs = 0;  // how many had been applied
    std::vector<chip::CodeTime::State> codeTimes{};  // under way (function_times.h)
};

class History {
public:
    explicit History(std::size_t boundBytes) : bound_(boundBytes) {}

    void clear()
    {
        moments_.clear();
        bytes_ = 0;
    }
    void add(Remembered r)
    {
        const auto after = std::upper_bound(moments_.begin(), moments_.end(), r.moment->at, [](kernel::Time t, const Remembered& m) { return t < m.moment->at; });
        bytes_ += r.moment->bytes();
        moments_.insert(after, std::move(r));
        if (bytes_ > bound_)
            thin();
    }
    // The last moment at or before t; null where there is none. A chip may already stand at its first boundary after t: that is where it belongs.
    [[nodiscard]] const Remembered* before(kernel::Time t) const
    {
        const auto after = std::upper_bound(moments_.begin(), moments_.end(), t, [](kernel::Time at, const Remembered& r) { return at < r.moment->at; });
        return after == moments_.begin() ? nullptr : &*std::prev(after);
    }
    // Forgets what comes after t.
    void dropAfter(kernel::Time t)
    {
        while (!moments_.empty() && moments_.back().moment->at > t) {
            bytes_ -= moments_.back().moment->bytes();
            moments_.pop_back();
        }
    }
    [[nodiscard]] const std::vector<Remembered>& moments() const { return moments_; }
    [[nodiscard]] std::size_t bytes() const { return bytes_; }
    [[nodiscard]] bool empty() const { return moments_.empty(); }

private:
    void thin()
    {
        std::vector<Remembered> kept;
        const std::size_t half = moments_.size() / 2;
        for (std::size_t i = 0; i < moments_.size(); ++i) {
            if (i >= half || i % 2 == 0)
                kept.push_back(std::move(moments_[i]));
            else
                bytes_ -= moments_[i].moment->bytes();
        }
        moments_ = std::move(kept);
    }

    std::size_t bound_;
    std::size_t bytes_ = 0;
    std::vector<Remembered> moments_;
};

}  // namespace bramix::session
