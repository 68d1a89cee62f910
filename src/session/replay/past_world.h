// A second world, built like a session's, that goes through its run once more: from a remembered moment on, with the inputs that were given, each at its instant.
// The session itself stands where it stands.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <chrono>
#include <functional>
#include <memory>

#include "session/session.h"

namespace bramix::session {

class PastWorld {
public:
    using Clock = std::chrono::steady_clock;

    [[nodiscard]] static Result<std::unique_ptr<PastWorld>> build(Session& session, const bench::Catalogue& catalogue);

    [[nodiscard]] bench::World& world() { return *world_; }
    [[nodiscard]] const bench::World& world() const { return *world_; }
    // The session still has the world after which this one was built.
    [[nodiscard]] bool fits() const { return built_ == session_.worldNumber(); }

    // Puts it to the last remembered moment at or before t. An error: t lies before what is remembered.
    [[nodiscard]] Result<void> recall(Time t);
    // Runs nearer to t, until the clock says so. True: it stands there, or cannot go on.
    bool goOn(Time t, Clock::time_point until = Clock::time_point::max());
    // Both, however long it takes.
    [[nodiscard]] Result<void> place(Time t);

    // Gives the inputs that are due; the instant of the next.
    void giveDueInputs() { session_.giveDueInputs(*world_, applied_); }
    [[nodiscard]] Time nextInput() const { return applied_ < session_.inputs().size() ? session_.inputs()[applied_].at : kernel::kNever; }

private:
    PastWorld(Session& session, std::unique_ptr<bench::World> world) : session_(session), world_(std::move(world)), built_(session.worldNumber()) {}

    Session& session_;
    std::unique_ptr<bench::World> world_;
    std::uint64_t built_;
    std::size_t applied_ = 0;  // inputs given
};

// The way of such a world to where a search begins, in small pieces. It is kept from one search to the next.
class PastWay {
public:
    PastWay(Session& session, const bench::Catalogue& catalogue) : session_(session), catalogue_(catalogue) {}

    // To be gone anew: to another place, or after another course.
    void again() { recalled_ = false; }
    // Goes nearer to `to`. True: the world stands there. An error: it cannot be reached. `before` is done to the world before it is put to a moment.
    [[nodiscard]] Result<bool> go(Time to, PastWorld::Clock::time_point until, const std::function<void(bench::World&)>& before = {});
    [[nodiscard]] PastWorld& past() const { return *past_; }

private:
    Session& session_;
    const bench::Catalogue& catalogue_;
    std::unique_ptr<PastWorld> past_;
    bool recalled_ = false;
};

}  // namespace bramix::session
