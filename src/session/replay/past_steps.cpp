#include "session/replay/past_steps.h"

#include <algorithm>
#include <utility>

#include "debug/local_stops.h"
#include "session/debugger/debugger.h"
#include "session/debugger/local_value.h"

namespace bramix::session {

using bench::World;

namespace {

constexpr int kStepsBetweenLooksAtTheClock = 256;

}  // namespace

PastSteps::PastSteps(Session& session, std::unique_ptr<PastWay> way, const std::string& chip, const std::vector<std::string>& names, Time from, Time to, Duration wide) : session_(session), way_(std::move(way)), from_(from), at_(from), to_(to), wide_(wide)
{
    way_->again();
    for (const std::string& name : names)
        items_.try_emplace(name);
    const auto& chips = session_.world().chips();
    const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == chip; });
    chip_ = static_cast<std::size_t>(unit - chips.begin());
    if (unit == chips.end())
        fail(chip + " is no chip of this bench");
    else if (unit->firmwareFile.empty())
        fail(chip + " has no firmware");
    idle_ = ended_;
}

void PastSteps::fail(const std::string& trouble)
{
    ended_ = true;
    for (auto& [name, item] : items_)
        if (item.found.trouble.empty())
            item.found.trouble = trouble;
}

const FoundSpans* PastSteps::of(const std::string& name) const
{
    const auto item = items_.find(name);
    return item == items_.end() ? nullptr : &item->second.found;
}

bool PastSteps::serves(Time from, Time to) const
{
    constexpr int kNarrower = 4;
    const bool gaveUp = std::any_of(items_.begin(), items_.end(), [](const auto& i) { return i.second.found.tooMany; });
    if (gaveUp && (to - from) * kNarrower <= wide_)
        return false;
    return idle_ || (from >= from_ && ((!ended_ && from <= std::max(at_, to_)) || to <= at_));
}

bool PastSteps::keep(const std::vector<std::string>& names)
{
    std::erase_if(items_, [&](const auto& i) { return std::find(names.begin(), names.end(), i.first) == names.end(); });
    endIfNothingIsLeft();
    return !items_.empty();
}

void PastSteps::endIfNothingIsLeft()
{
    ended_ = ended_ || std::none_of(items_.begin(), items_.end(), [](const auto& i) { return i.second.lives(); });
}

void PastSteps::forgetBefore(Time keep)
{
    for (auto& [name, item] : items_) {
        std::vector<Span>& spans = item.found.spans;
        if (spans.size() <= kMostSpans / 2)
            continue;
        std::vector<std::size_t> now(spans.size(), 0);
        std::vector<Span> kept;
        for (std::size_t i = 0; i < spans.size(); ++i)
            if (spans[i].to >= keep) {
                now[i] = kept.size();
                kept.push_back(std::move(spans[i]));
            }
        if (item.calls)
            item.calls->renumber(now);
        spans = std::move(kept);
        from_ = std::max(from_, keep);
    }
}

// Puts the world to where it begins, or nearer to it; false while it is not there, or where that cannot be reached.
bool PastSteps::begin(std::chrono::steady_clock::time_point until)
{
    if (from_ < session_.earliest())
        from_ = at_ = session_.earliest();
    // The way may be long, where few moments are remembered.
    const auto there = way_->go(from_, until);
    if (!there) {
        fail(there.error().text());
        return false;
    }
    if (!*there)
        return false;
    placed_ = true;
    for (auto& [name, item] : items_)
        begin(name, item);
    endIfNothingIsLeft();
    idle_ = ended_;
    lookAtAll();
    return true;
}

void PastSteps::begin(const std::string& name, Item& item)
{
    Program& program = session_.program(unit().id);
    std::optional<LocalName> local;
    Result<void> ok;
    if (name == kFunctions) {
        ok = item.calls.emplace().begin(program, unit(), from_, item.found.spans);
    } else if ((local = splitLocal(name))) {
        ok = knowsLocal(program.symbols, *local);
        if (ok)
            item.local.emplace(*local, debug::codeOf(program.symbols, unit().chip->code(), *unit().device, local->function));
    } else {
        ok = item.expression.emplace(name).begin(program, {unit()});
        if (ok && item.expression->open())
            stands(item, item.expression->value(), false);
    }
    if (!ok)
        item.found.trouble = ok.error().text();
}

void PastSteps::lookAtAll()
{
    for (auto& [name, item] : items_)
        if (item.lives())
            look(item);
}

void PastSteps::look(Item& item)
{
    if (item.calls)
        item.found.tooMany = !item.calls->look(unit(), item.found.spans, kMostSpans);
    else if (item.expression)
        look(item, *item.expression);
    else if (item.local)
        look(item, *item.local);
    if (item.found.tooMany)
        endIfNothingIsLeft();
}

void PastSteps::look(Item& item, ExpressionFollower& follower)
{
    const ExpressionFollower::News news = follower.look(session_.program(unit().id), {unit()});
    if (news != ExpressionFollower::News::none)
        changed(item, news == ExpressionFollower::News::value ? &follower.value() : nullptr, follower.completes());
}

void PastSteps::look(Item& item, LocalFollower& follower)
{
    const LocalFollower::News news = follower.look(session_.program(unit().id), unit());
    follower.stand(unit());
    if (news != LocalFollower::News::none)
        changed(item, news == LocalFollower::News::value ? &follower.value() : nullptr, follower.goesOn() && follower.value().bytes.size() > 1);
}

// From one value to another, or to none.
void PastSteps::changed(Item& item, const debug::Value* value, bool completes)
{
    const bool wasOpen = std::exchange(item.open, false);
    if (wasOpen)
        item.found.spans.back().to = unit().chip->now();
    if (value != nullptr)
        stands(item, *value, wasOpen && completes);
}

// It has this value now. `completes`: the one before may have been half stored, and then it is not shown.
void PastSteps::stands(Item& item, const debug::Value& value, bool completes)
{
    std::vector<Span>& spans = item.found.spans;
    const Time now = unit().chip->now();
    Time from = now;
    if (completes && spans.size() > 1 && now - spans.back().from <= unit().chip->clock().span(kHalfStoredCycles)) {
        from = spans.back().from;
        spans.pop_back();
    }
    if (spans.size() >= kMostSpans) {
        item.found.tooMany = true;
        return;
    }
    const ChipTarget target(unit());
    spans.push_back({from, now, 0, debug::Evaluator(session_.program(unit().id).symbols, target, nullptr).format(value, debug::Radix::natural)});
    item.open = true;
}

void PastSteps::step(Time to)
{
    PastWorld& past = way_->past();
    World& world = past.world();
    if (past.nextInput() <= world.now()) {
        past.giveDueInputs();
        lookAtAll();  // what was written by hand
    }
    const Time stood = unit().chip->now();
    // Time stands where the next input comes, or where the run itself stands and one may come still.
    world.stepInstruction(chip_, std::min(past.nextInput(), to));
    lookAtAll();
    at_ = std::max(at_, unit().chip->now());
    ended_ = ended_ || world.faulted();
    // A chip in reset stands, while time goes on.
    if (unit().chip->now() == stood)
        at_ = std::max(at_, std::min(world.now(), to));
}

// Spans that go on reach as far as has been looked.
void PastSteps::close()
{
    for (auto& [name, item] : items_) {
        if (!item.lives())
            continue;
        if (item.calls)
            item.calls->close(item.found.spans, at_);
        else if (item.open)
            item.found.spans.back().to = at_;
    }
}

void PastSteps::work(Time to, std::chrono::steady_clock::duration budget)
{
    const auto until = std::chrono::steady_clock::now() + budget;
    to_ = std::max(to_, to);
    if (!placed_ && !begin(until))
        return;
    do
        for (int i = 0; i < kStepsBetweenLooksAtTheClock && busy(to); ++i)
            step(to);
    while (busy(to) && std::chrono::steady_clock::now() < until);
    close();
}

}  // namespace bramix::session
