// Which functions had the time, in finer stretches than were recorded (function_times.h): a second world runs through a window once more, at full speed, and tells.
// Tested by tests/session/profile/function_times_test.cpp.
#pragma once

#include "session/profile/function_times.h"
#include "session/replay/past_search.h"

namespace bramix::session {

class PastShares {
public:
    PastShares(Session& session, const bench::Catalogue& catalogue) : session_(session), way_(session, catalogue), search_(session) {}
    ~PastShares() { times_.stop(); }
    PastShares(const PastShares&) = delete;
    PastShares& operator=(const PastShares&) = delete;

    // What is to be told apart from now on, between two instants; what is known of that already stays.
    void want(Time from, Time to, Duration column);
    // Nothing is wanted just now; what has been found is kept.
    void rest() { search_.rest(); }
    // Goes on for about so long. True where that changed anything.
    bool work(std::chrono::steady_clock::duration budget);
    [[nodiscard]] bool busy() const { return !search_.rests() && search_.goesOn(); }
    // From where to where everything is known, on the session's present course; both alike where nothing is.
    [[nodiscard]] Time knownFrom() const { return search_.from(); }
    [[nodiscard]] Time knownTo() const { return search_.isOfThisCourse() ? search_.known() : search_.from(); }
    [[nodiscard]] const FunctionTimes& times() const { return times_; }
    // Another number where it may know more.
    [[nodiscard]] std::uint64_t searches() const { return searches_; }

private:
    bool begin(std::chrono::steady_clock::time_point until);

    Session& session_;
    PastWay way_;
    FunctionTimes times_;           // of its chips; before the world goes, it has stopped
    PastSearch search_;
    Duration stretch_{};
    std::uint64_t searches_ = 0;
};

}  // namespace bramix::session
