// What was not recorded, found out afterwards: which function ran, what variables and voltages were.
//
// The idea: a run is the same each time, so nothing that can be had by running it once more needs recording. A second world, built like the first, goes through the
// stretch of time that is looked at, from the nearest remembered moment, instruction by instruction, and notes what it sees; the bench itself stands where it
// stands. It works in small pieces, keeps what it has found, and goes on from there as the run goes on.
// Only for the thread that owns the session.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <chrono>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "session/replay/found_spans.h"
#include "session/replay/past_shares.h"
#include "session/replay/past_steps.h"
#include "session/replay/past_values.h"
#include "session/replay/past_volts.h"
#include "session/session.h"

namespace bramix::session {

class Lookback {
public:
    Lookback(Session& session, const bench::Catalogue& catalogue);
    ~Lookback();
    Lookback(const Lookback&) = delete;
    Lookback& operator=(const Lookback&) = delete;

    // Longer stretches are not gone through instruction by instruction, a second of board time takes seconds: variables are looked for by PastValues then, and which functions had the time
    // is known without (function_times.h).
    static constexpr Duration kLongest = std::chrono::seconds(2);

    struct Wish {
        std::string chip;
        std::string variable;  // an expression over globals, or "sum in mean" over a local; empty: the functions
        auto operator<=>(const Wish&) const = default;
    };
    // What is wanted from now on, and where.
    void want(const std::vector<Wish>& wishes, Time from, Time to);
    // Goes on for about so long. True where that changed anything.
    bool work(std::chrono::steady_clock::duration budget);
    // There is more to be found.
    [[nodiscard]] bool busy() const;
    // How far it is known.
    [[nodiscard]] Time knownTo(const Wish& wish) const;
    // Null where it was not wanted.
    [[nodiscard]] const FoundSpans* found(const Wish& wish) const;
    // Variables of long windows, and those of which a shorter one has too many values.
    [[nodiscard]] const PastValues& values() const { return *shown_; }

    // Functions of a window that is shown in columns are to be told apart in each of them, where that is finer than was recorded; `column` zero: none are shown.
    void wantShares(Time from, Time to, Duration column);
    [[nodiscard]] const PastShares& shares() const { return shares_; }

    // A chip right before an instruction of its.
    struct Scene {
        std::vector<debug::Frame> frames;  // who had called whom, the innermost first
        std::vector<chip::PinStatus> pins;
    };
    // When an instruction ran that did something, or that ran while a peripheral did it, at this instant.
    [[nodiscard]] Result<Scene> sceneAt(const std::string& chip, std::uint32_t code, Time at);

    // Why a part had moved these pins at an instant, each in its own words; empty where it says nothing.
    [[nodiscard]] Result<std::vector<std::string>> whyAt(const std::vector<bench::PinRef>& pins, Time at);

    // Voltages of longer stretches are kept apart from those of shorter ones, so that zooming in and out begins neither anew.
    static constexpr Duration kShortVolts = std::chrono::seconds(20);

    // A bench that runs records for itself what is asked for from now on: nothing is looked for up to its present.
    void setRunning(bool running) { running_ = running; }
    // Voltages that are wanted there and were not recorded: of the tape's window, or of what lies right before the present.
    void wantVolts(const std::vector<bench::PinRef>& pins, Time from, Time to, bool atPresent);
    // Voltages on the tape are looked for still.
    [[nodiscard]] bool seeksVolts() const { return volts_.busy() || longVolts_.busy(); }
    // What is known of a pin's voltage, from the record or found; null where nothing is.
    [[nodiscard]] const tape::Waveform* voltage(const bench::PinRef& pin, Time from, Time to) const;

private:
    [[nodiscard]] std::vector<bench::PinRef> missing(const std::vector<bench::PinRef>& pins, Time from, Time to) const;
    [[nodiscard]] bool covers(const tape::Waveform* w, Time from, Time to) const;
    void wantSteps(const std::string& chip, std::vector<std::string> names, bool longer);
    [[nodiscard]] const PastSteps* stepsOf(const Wish& wish) const;
    [[nodiscard]] std::size_t stepping() const;

    Session& session_;
    const bench::Catalogue& catalogue_;
    std::map<std::string, std::vector<std::unique_ptr<PastSteps>>> steps_;  // by chip; more than one while something came later
    PastValues values_, closer_;        // of the longest window there was, and of a small part of it that shows more
    const PastValues* shown_ = &values_;
    PastVolts volts_, longVolts_, metered_;  // on the tape, in short windows and in long ones, and right before the present
    PastShares shares_;
    bool running_ = false;
    Time from_{}, to_{};
    std::uint64_t course_ = 0;  // of the session, to which what was found belongs
};

}  // namespace bramix::session
