// How far a search through the past has come, and whether it can go on with what is wanted next: what PastValues, PastVolts and PastShares have in common.
//
// The idea: a search goes from a window's beginning, or a little before it, to its end, and on as the window or the run does; what has been found stays. It begins anew for a window that begins
// earlier, or so much later that what lies between would be in vain, and on another course of the run.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <algorithm>
#include <chrono>

#include "session/replay/past_world.h"

namespace bramix::session {

class PastSearch {
public:
    using Clock = PastWorld::Clock;

    explicit PastSearch(const Session& session) : session_(session) {}

    struct Window {
        Time from{}, to{};
        [[nodiscard]] Duration length() const { return to - from; }
    };
    // As far as the run has it, and remembers it.
    [[nodiscard]] Window within(Time from, Time to) const { return {std::max({from, session_.earliest(), Time{}}), std::min(to, session_.latest())}; }

    [[nodiscard]] bool serves(const Window& w) const { return isOfThisCourse() && w.from >= from_ && w.from <= std::max(known_, to_); }
    [[nodiscard]] bool isOfThisCourse() const { return course_ == session_.course(); }
    void extend(Time to) { to_ = std::max(to_, to); }
    // Anew, to be placed at `from` first.
    void begin(Time from, Time to)
    {
        from_ = known_ = from;
        to_ = to;
        course_ = session_.course();
        stands_ = ended_ = resting_ = false;
    }
    // The same: a little more than is seen, so that moving the view a little finds it there.
    void beginBefore(const Window& w) { begin(std::max(session_.earliest(), w.from - std::min(w.length() / 4, w.from - Time{})), w.to); }
    // One of what another one has looked through, as far as that has come.
    void follow(const PastSearch& other)
    {
        from_ = known_ = other.from_;
        to_ = other.known_;
        course_ = other.course_;
        stands_ = ended_ = resting_ = false;
    }

    // Nothing is wanted just now; what has been found is kept.
    void rest() { resting_ = true; }
    void wake() { resting_ = false; }
    [[nodiscard]] bool rests() const { return resting_; }
    // Its world is at `from`.
    void stand() { stands_ = true; }
    [[nodiscard]] bool stands() const { return stands_; }
    // Nothing more can be found.
    void end() { ended_ = true; }
    [[nodiscard]] bool hasEnded() const { return ended_; }
    [[nodiscard]] bool goesOn() const { return !ended_ && known_ < to_; }

    // Its world has come to `now`, as much of the time it had as it wanted.
    void comeTo(const bench::World& world, bool moved, Clock::time_point until)
    {
        known_ = std::max(known_, std::min(world.now(), to_));
        // It stands for good where it had time left, and did not go on.
        ended_ = ended_ || world.faulted() || (known_ < to_ && !moved && Clock::now() < until);
    }

    [[nodiscard]] Time from() const { return from_; }
    [[nodiscard]] Time to() const { return to_; }
    [[nodiscard]] Time known() const { return known_; }

private:
    const Session& session_;
    Time from_{}, to_{}, known_{};  // begins there, shall reach, has come to
    std::uint64_t course_ = 0;      // of the session, to which what was found belongs
    bool stands_ = false, ended_ = true, resting_ = true;
};

}  // namespace bramix::session
