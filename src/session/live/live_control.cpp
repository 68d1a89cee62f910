// What a person at the window, or a debugger from outside, orders: running, stepping, going back, stops, counting, writing.
#include <algorithm>

#include <fmt/format.h>

#include "session/live/live_session.h"

namespace bramix::session {

using Clock = std::chrono::steady_clock;

// The window keeps its hands off while a debugger from outside is connected.
bool LiveSession::refuseFor(const char* what)
{
    if (!notBuilt_.empty()) {
        say(true, fmt::format("the bench cannot be built as it is drawn: {}", notBuilt_));
        return true;
    }
    if (gdb_ == nullptr)
        return false;
    say(true, fmt::format("a debugger is connected and decides what runs; {} there, or disconnect it", what));
    return true;
}

void LiveSession::gdbSay(const std::string& bytes)
{
    const std::lock_guard lock(mutex_);
    gdbOut_ += bytes;
}

// Does what the debugger wants after it has spoken.
void LiveSession::gdbFollow()
{
    using Wants = GdbServer::Wants;
    switch (gdb_->wants()) {
    case Wants::stand: running_ = false; break;
    case Wants::run:
        if (!running_)
            startMoving();
        stepping_ = false;
        break;
    case Wants::detach: case Wants::kill:
        gdb_->end();
        gdb_.reset();
        debugger_->setStops(stops_);
        {
            const std::lock_guard lock(mutex_);
            gdbLeft_ = true;
        }
        running_ = false;
        break;
    }
}

void LiveSession::gdbCame()
{
    post([this] {
        if (session_ == nullptr || session_->world().chips().empty()) {
            const std::lock_guard lock(mutex_);
            gdbLeft_ = true;
            return;
        }
        slow_.reset();
        running_ = false;
        gdb_ = std::make_unique<GdbServer>(*session_, *debugger_);
        gdb_->begin();
    });
}

void LiveSession::gdbBytes(const std::string& bytes)
{
    post([this, bytes] {
        if (gdb_ == nullptr)
            return;
        const Time before = session_->world().now();
        gdbSay(gdb_->take(bytes));
        if (session_->world().now() < before)
            rewound();
        gdbFollow();
    });
}

void LiveSession::gdbGone()
{
    post([this] {
        if (gdb_ == nullptr)
            return;
        gdb_->end();
        gdbFollow();
    });
}

std::string LiveSession::takeGdb(bool& left)
{
    const std::lock_guard lock(mutex_);
    left = std::exchange(gdbLeft_, false);
    return std::exchange(gdbOut_, {});
}

void LiveSession::run()
{
    post([this] {
        if (refuseFor("continue"))
            return;
        if (session_ != nullptr && stopped_.empty()) {
            debugger_->begin();
            startMoving();
            stepping_ = false;
            slow_.reset();
        }
    });
}

void LiveSession::runFor(Duration span)
{
    post([this, span] {
        if (session_ == nullptr || !stopped_.empty() || refuseFor("continue"))
            return;
        debugger_->begin();
        startMoving();
        stepping_ = false;
        slow_.reset();
        until_ = session_->world().now() + span;
    });
}

// The views compare the next stop with this one.
void LiveSession::startMoving()
{
    until_.reset();
    publishStop();
    if (wholeSerial_)
        takeSerialBack();
    running_ = true;
    reason_.clear();
    rebase();
}

void LiveSession::pause()
{
    post([this] {
        if (gdb_ != nullptr && running_)
            gdbSay(gdb_->take("\x03"));  // as if it had asked itself
        running_ = false;
        slow_.reset();
    });
}

void LiveSession::step(Step step)
{
    post([this, step] {
        slow_.reset();
        if (session_ == nullptr || !stopped_.empty() || refuseFor("step"))
            return;
        if (auto ok = debugger_->begin(step); !ok) {
            running_ = false;
            reason_ = ok.error().text();
            return;
        }
        startMoving();
        stepping_ = true;
        slice();  // most steps are over at once
    });
}

void LiveSession::slowRun(Step step, double perSecond)
{
    post([this, step, perSecond] {
        if (session_ == nullptr || !stopped_.empty() || refuseFor("step"))
            return;
        running_ = false;
        slow_ = {step, std::clamp(perSecond, 0.1, 1000.0)};
        nextSlow_ = Clock::now();
    });
}

void LiveSession::runTo(const bench::StopItem& once)
{
    post([this, once] {
        slow_.reset();
        if (session_ == nullptr || !stopped_.empty() || refuseFor("set a breakpoint"))
            return;
        if (auto ok = debugger_->begin(once); !ok) {
            reason_ = ok.error().text();
            say(true, reason_);
            return;
        }
        startMoving();
        stepping_ = false;
    });
}

// The past is another present: what was measured over the last instants does not hold.
void LiveSession::rewound()
{
    integralsAt_ = session_->world().now();
    highBefore_.clear();
    chargeBefore_.clear();
    singleAt_.reset();
    takeSerialBack();
    rebase();
}

// What has been given out of what comes after the present.
void LiveSession::takeSerialBack()
{
    wholeSerial_ = false;
    const Time now = session_->world().now();
    if (const std::uint64_t after = session_->serialLog().after(now); after < serialShown_) {
        serialShown_ = after;
        SerialByte mark;
        mark.uart = kRewound;
        mark.at = now;
        const std::lock_guard lock(mutex_);
        std::erase_if(serial_, [&](const SerialByte& b) { return b.at > now; });
        serial_.push_back(mark);
    }
}

// Gives out what the UARTs have said up to the present, or all of a recording. For who holds the mutex.
void LiveSession::showSerial()
{
    const SerialLog& log = session_->serialLog();
    serialShown_ = std::clamp(serialShown_, log.first(), log.end());
    const Time now = wholeSerial_ ? kernel::kNever : session_->world().now();
    while (serialShown_ < log.end() && log[serialShown_].at <= now)
        serial_.push_back(log[serialShown_++]);
}

template <class Call>
void LiveSession::goBack(Call&& call)
{
    post([this, call] {
        if (session_ == nullptr || refuseFor("step back"))
            return;
        publishStop();
        running_ = false;
        slow_.reset();
        beginWork("Going back");
        const auto ok = call();
        const bool cutShort = progress_.stopped();
        endWork();
        stopped_ = session_->faultText();
        reason_ = ok ? std::string() : ok.error().text();
        if (cutShort)
            reason_ = "Stopped on the way back, at " + kernel::formatClock(session_->world().now());
        if (!ok || cutShort)
            say(!cutShort, reason_);
        if (ok || cutShort)
            rewound();
    });
}

void LiveSession::back(Step step)
{
    goBack([this, step] { return debugger_->back(step); });
}

void LiveSession::backToStop()
{
    goBack([this] { return debugger_->backToStop(); });
}

void LiveSession::backToChange(const std::string& what)
{
    goBack([this, what] { return debugger_->backToChange(what); });
}

void LiveSession::goTo(Time t)
{
    goBack([this, t] { return debugger_->goTo(t); });
}

void LiveSession::drag(Time t)
{
    {
        const std::lock_guard lock(mutex_);
        if (std::exchange(dragTo_, t))
            return;
    }
    post([this] {
        Time to{};
        {
            const std::lock_guard lock(mutex_);
            to = std::exchange(dragTo_, std::nullopt).value_or(Time{});
        }
        goBack([this, to] { return debugger_->goTo(std::clamp(to, session_->earliest(), session_->latest())); });
    });
}

void LiveSession::setStops(const std::vector<bench::StopItem>& stops)
{
    post([this, stops] {
        stops_ = stops;
        if (debugger_ != nullptr && gdb_ == nullptr)
            debugger_->setStops(stops);
    });
}

void LiveSession::enterInterrupts(bool enter)
{
    post([this, enter] {
        if (debugger_ != nullptr)
            debugger_->enterInterrupts(enter);
    });
}

void LiveSession::countCycles(bool on)
{
    post([this, on] {
        if (session_ == nullptr)
            return;
        counting_ = on;
        if (on)
            counts_.clear();
        attachCounts();
    });
}

// Every chip counts into its own, also one that an edit has just built anew.
void LiveSession::attachCounts()
{
    auto& chips = session_->world().chips();
    for (std::size_t i = 0; i < chips.size(); ++i) {
        if (counting_ && i >= counts_.size())
            counts_.push_back(std::make_unique<chip::CycleCounts>());
        chips[i].chip->countInto(counting_ ? counts_[i].get() : nullptr);
    }
}

void LiveSession::watchDebug(const DebugRequest& request)
{
    post([this, request] {
        look_ = request;
        if (session_ == nullptr)
            return;
        const auto& chips = session_->world().chips();
        for (std::size_t i = 0; i < chips.size(); ++i)
            if (chips[i].id == request.chip || (request.chip.empty() && i == 0))
                debugger_->choose(i);
    });
}

void LiveSession::assign(const std::string& expression, const std::string& value)
{
    post([this, expression, value] {
        if (session_ == nullptr)
            return;
        if (auto ok = debugger_->assign(expression, value, look_.frame); !ok)
            say(true, ok.error().text());
    });
}

void LiveSession::poke(debug::Space space, std::uint32_t address, std::uint8_t value)
{
    post([this, space, address, value] {
        if (session_ != nullptr && debugger_->chosen() < session_->world().chips().size())
            debugger_->write({{space, address, value}});
    });
}

}  // namespace bramix::session
