// A short stretch of one chip's past, gone through instruction by instruction: which functions ran, what variables were.
//
// It takes seconds for a second, and tells everything; long stretches are for PastValues and PastShares.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <chrono>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "session/tracing/call_follower.h"
#include "session/tracing/expression_follower.h"
#include "session/replay/found_spans.h"
#include "session/tracing/local_follower.h"
#include "session/replay/past_world.h"

namespace bramix::session {

class PastSteps {
public:
    static constexpr std::size_t kMostSpans = 20'000;  // of one name

    // The functions, or an expression over globals and registers, or "sum in mean" over a local.
    static constexpr const char* kFunctions = "";

    // From `from` on, to somewhere; `wide`: of the window for which it is begun. A chip that is not there, or has no firmware, is the trouble of all.
    PastSteps(Session& session, std::unique_ptr<PastWay> way, const std::string& chip, const std::vector<std::string>& names, Time from, Time to, Duration wide);

    // Goes on towards an instant for about so long.
    void work(Time to, std::chrono::steady_clock::duration budget);
    [[nodiscard]] bool busy(Time to) const { return !ended_ && at_ < to; }
    // What is known reaches from there to there.
    [[nodiscard]] Time from() const { return from_; }
    [[nodiscard]] Time at() const { return at_; }
    [[nodiscard]] Duration wide() const { return wide_; }
    // Null where it does not look for that.
    [[nodiscard]] const FoundSpans* of(const std::string& name) const;

    // A window that begins earlier, or so much later that what lies between would be in vain, is for another; so is one so much narrower that it may show what was too much.
    [[nodiscard]] bool serves(Time from, Time to) const;
    // Only these are wanted still. False: none of what it looks for.
    bool keep(const std::vector<std::string>& names);
    // What ended before an instant is not wanted any more.
    void forgetBefore(Time keep);
    // Both stand at the same instant, so that one of them can go on with all.
    [[nodiscard]] bool isLevelWith(const PastSteps& other) const { return placed_ && other.placed_ && !ended_ && !other.ended_ && at_ == other.at_; }
    void take(PastSteps&& other) { items_.merge(other.items_); }
    // Nothing can be found, and why.
    void fail(const std::string& trouble);
    [[nodiscard]] std::unique_ptr<PastWay> giveWay() { return std::move(way_); }

private:
    struct Item {
        FoundSpans found{};
        std::optional<CallFollower> calls{};
        std::optional<ExpressionFollower> expression{};
        std::optional<LocalFollower> local{};
        bool open = false;  // its last span goes on
        [[nodiscard]] bool lives() const { return !found.tooMany && found.trouble.empty(); }
    };

    [[nodiscard]] const bench::World::ChipUnit& unit() const { return way_->past().world().chips()[chip_]; }
    [[nodiscard]] bool begin(std::chrono::steady_clock::time_point until);
    void begin(const std::string& name, Item& item);
    void step(Time to);
    void lookAtAll();
    void look(Item& item);
    void look(Item& item, ExpressionFollower& follower);
    void look(Item& item, LocalFollower& follower);
    void changed(Item& item, const debug::Value* value, bool completes);
    void stands(Item& item, const debug::Value& value, bool completes);
    void close();
    void endIfNothingIsLeft();

    Session& session_;
    std::unique_ptr<PastWay> way_;
    std::size_t chip_ = 0;
    std::map<std::string, Item> items_;
    Time from_{}, at_{}, to_{};  // begins there, has come to, is on its way to
    Duration wide_{};
    bool placed_ = false;  // it stands somewhere from which it can go on
    bool ended_ = false;   // nothing more can be found
    bool idle_ = false;    // nothing anywhere: the firmware does not have what is looked for
};

}  // namespace bramix::session
