// What variables were over long stretches, found afterwards: a second world runs through them at full speed, and stops where one of them may change.
//
// The idea: each kind of variable tells where that is. A global changes where it, or a pointer that leads to it, is written; a local where its function's instructions touch its place (debug/local_stops.h); a
// register of a peripheral when something is due, at an access, an interrupt or a reset (bench::World::setChangeListener()). What also moves by itself, as a counter does, is looked at in between as
// well, often enough for every column of a window, and is said to be.
// A short stretch is gone through instruction by instruction (lookback.h), which takes seconds for a second; this takes seconds for minutes.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "session/tracing/expression_follower.h"
#include "session/tracing/local_follower.h"
#include "session/replay/past_search.h"
#include "tape/value_log.h"

namespace bramix::session {

class PastValues {
public:
    PastValues(Session& session, const bench::Catalogue& catalogue) : session_(session), catalogue_(catalogue), way_(session, catalogue), search_(session) {}

    // Of a chip; an expression over globals and registers, or "sum in mean" over a local.
    using Wish = std::pair<std::string, std::string>;

    struct Found {
        std::string trouble;    // why nothing can be found, or empty
        bool number = false;    // its values are numbers; of others only the changes are kept
        Time firstMove = kernel::kNever, lastMove{};  // when it was found to move by itself, between looks
        Duration looked{};      // every so long, where it does
        void movedAt(Time at)
        {
            firstMove = std::min(firstMove, at);
            lastMove = at;
        }
        [[nodiscard]] bool movesIn(Time from, Time to) const { return firstMove <= to && lastMove >= from; }
        tape::ValueLog values;
        debug::Value is;        // its type and place, for saying what it was
    };

    // What is wanted from now on, and where; what is known of it already stays. What comes to it later is looked for by itself, until as much is known of it.
    void want(const std::vector<Wish>& wishes, Time from, Time to);
    // Nothing is wanted just now; what has been found is kept.
    void rest() { search_.rest(); }
    // Goes on for about so long. True where that changed anything.
    bool work(std::chrono::steady_clock::duration budget);
    [[nodiscard]] bool busy() const { return !search_.rests() && (seeks() || (late_ && (late_->search_.hasEnded() || late_->search_.known() < search_.known()))); }
    // From where to where everything is known, and one of them.
    [[nodiscard]] Time knownFrom() const { return search_.from(); }
    [[nodiscard]] Time knownTo() const { return late_ ? std::min(search_.known(), late_->knownTo()) : search_.known(); }
    [[nodiscard]] Time knownTo(const Wish& wish) const { return late_ && !found_.contains(wish) ? late_->knownTo(wish) : search_.known(); }
    // What has been found there is too coarse for a window, and another search would find more.
    [[nodiscard]] bool coarseFor(Time from, Time to) const;
    // Null where it was not wanted.
    [[nodiscard]] const Found* of(const Wish& wish) const;
    // What stood there, in words; empty where that is not known.
    [[nodiscard]] std::string words(const Wish& wish, const tape::ValueLog::Entry& entry) const;

private:
    // At addresses.
    struct Placed {
        std::size_t chip = 0;  // index
        Found* found = nullptr;
        ExpressionFollower follower;
        Time since{};                     // of the last change
        ExpressionFollower::Kinds kinds;  // of all its parts
    };
    struct Local {
        std::size_t chip = 0;
        Found* found = nullptr;
        LocalFollower follower;
        std::vector<std::uint8_t> stops;  // by word: kArrival, kStep
        Time since{};
    };
    static constexpr std::uint8_t kArrival = 1, kStep = 2;

    [[nodiscard]] bool seeks() const { return !found_.empty() && search_.goesOn(); }
    void keepTo(const std::vector<Wish>& wishes);
    void adopt();
    bool begin(std::chrono::steady_clock::time_point until);
    void watch();
    void arm(std::size_t chip);
    void learnKinds(Placed& p);
    [[nodiscard]] std::string watchLocal(std::size_t chip, const std::string& expression, Found& found);
    [[nodiscard]] std::string watchPlace(std::size_t chip, const std::string& expression, Found& found);
    bool look(Placed& p, Time at, bool told);
    void look(Local& l, bool first = false);
    void lookAtAll(bool byHand);
    void lookAtRegisters(Time at);
    void setWatches(std::size_t chip);
    void hearWhereNeeded();
    void stopped();
    void record(std::size_t chip, Found& found, const debug::Value& value, Time at, Time& since, bool completes);
    [[nodiscard]] Duration piece();

    Session& session_;
    const bench::Catalogue& catalogue_;
    PastWay way_;
    PastSearch search_;
    std::map<Wish, Found> found_;
    std::unique_ptr<PastValues> late_;  // looks for what was wanted later, from the same beginning to where this one has come
    std::vector<Placed> placed_;
    std::vector<Local> locals_;
    Duration looked_{};             // how often what moves by itself is looked at
    std::uint64_t pieces_ = 0;
    std::vector<bool> moved_;       // by chip: what is watched stands elsewhere now
    bool hears_ = false;
};

}  // namespace bramix::session
