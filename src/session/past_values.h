// What variables were over long stretches, found afterwards: a second world runs through them at full speed, and stops where one of them is written.
//
// A short stretch is gone through instruction by instruction (lookback.h), which sees locals and registers too and takes seconds for a second; this takes seconds for minutes.
// Tested by tests/session/lookback_test.cpp.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "debug/expression.h"
#include "session/past_world.h"
#include "tape/value_log.h"

namespace bramix::session {

class PastValues {
public:
    PastValues(Session& session, const bench::Catalogue& catalogue) : session_(session), catalogue_(catalogue) {}

    // Of a chip; an expression over globals.
    using Wish = std::pair<std::string, std::string>;

    struct Found {
        std::string trouble;    // why nothing can be found, or empty
        bool number = false;    // its values are numbers; of others only the changes are kept
        tape::ValueLog values;
        debug::Value is;        // its type and place, for saying what it was
    };

    // What is wanted from now on, and where; what is known of it already stays.
    void want(const std::vector<Wish>& wishes, Time from, Time to);
    // Nothing is wanted just now; what has been found is kept.
    void rest() { resting_ = true; }
    // Goes on for about so long. True where that changed anything.
    bool work(std::chrono::steady_clock::duration budget);
    [[nodiscard]] bool busy() const { return !resting_ && !ended_ && !found_.empty() && known_ < to_; }
    // From where to where everything is known.
    [[nodiscard]] Time knownFrom() const { return from_; }
    [[nodiscard]] Time knownTo() const { return known_; }
    // Null where it was not wanted.
    [[nodiscard]] const Found* of(const Wish& wish) const;
    // What stood there, in words; empty where that is not known.
    [[nodiscard]] std::string words(const Wish& wish, const tape::ValueLog::Entry& entry) const;

private:
    struct Watched {
        std::size_t chip = 0;
        Found* found = nullptr;
        debug::Value value;   // with the bytes that stand there
        Time since{};         // of the last change
    };
    bool begin(std::chrono::steady_clock::time_point until);
    void watch();
    void look(Watched& w, bool first);
    void lookAtAll();

    Session& session_;
    const bench::Catalogue& catalogue_;
    std::unique_ptr<PastWorld> past_;
    std::map<Wish, Found> found_;
    std::vector<Watched> watched_;
    Time from_{}, to_{}, known_{};  // begins there, shall reach, has come to
    std::uint64_t course_ = 0;
    bool recalled_ = false, placed_ = false, ended_ = false, resting_ = true;
};

}  // namespace bramix::session
