// Going through the past in a world of its own.
#include "session/replay/lookback.h"

#include <algorithm>

#include <fmt/format.h>

#include "session/debugger/debugger.h"

namespace bramix::session {

using bench::World;

Lookback::Lookback(Session& session, const bench::Catalogue& catalogue) : session_(session), catalogue_(catalogue), values_(session, catalogue), closer_(session, catalogue), volts_(session, catalogue), longVolts_(session, catalogue), metered_(session, catalogue), shares_(session, catalogue) {}

void Lookback::wantShares(Time from, Time to, Duration column)
{
    if (column <= Duration{} || column >= chip::Mcu::kUsualStretch || (running_ && to >= session_.world().now()))
        shares_.rest();
    else
        shares_.want(from, to, column);
}

void Lookback::wantVolts(const std::vector<bench::PinRef>& pins, Time from, Time to, bool atPresent)
{
    const bool records = running_ && to >= session_.world().now();
    const bool isLong = !atPresent && to - from > kShortVolts;
    std::vector<bench::PinRef> wanted = records ? std::vector<bench::PinRef>() : missing(pins, from, to);
    if (!atPresent)
        (isLong ? volts_ : longVolts_).rest();
    // Zoomed in where the long search has all that came, there is nothing to look for.
    if (!atPresent && !isLong)
        std::erase_if(wanted, [&](const bench::PinRef& pin) { return covers(longVolts_.of(pin), from, to); });
    (atPresent ? metered_ : isLong ? longVolts_ : volts_).want(wanted, from, to);
}

// Those whose own record does not reach over what is wanted.
std::vector<bench::PinRef> Lookback::missing(const std::vector<bench::PinRef>& pins, Time from, Time to) const
{
    std::vector<bench::PinRef> out;
    for (const bench::PinRef& pin : pins)
        if (session_.channelOf(pin) != UINT32_MAX && !covers(session_.waveform(pin), from, to) && std::find(out.begin(), out.end(), pin) == out.end())
            out.push_back(pin);
    return out;
}

bool Lookback::covers(const tape::Waveform* w, Time from, Time to) const
{
    const bool exact = to - from > kShortVolts || (w != nullptr && w->exactFrom() <= from);
    return w != nullptr && exact && !w->empty() && w->knownFrom() <= std::max({from, session_.earliest(), Time{}}) && w->knownTo() >= std::min(to, session_.latest());
}

const tape::Waveform* Lookback::voltage(const bench::PinRef& pin, Time from, Time to) const
{
    const tape::Waveform* own = session_.waveform(pin);
    const bool isLong = to - from > kShortVolts;
    const PastVolts* const first = isLong ? &longVolts_ : &volts_;
    for (const tape::Waveform* w : {own, first->of(pin), longVolts_.of(pin)})
        if (covers(w, from, to))
            return w;
    // Nothing has all of it yet.
    for (const PastVolts* past : {first, isLong ? &volts_ : &longVolts_, &metered_})
        if (const tape::Waveform* found = past->of(pin); found != nullptr && !found->empty() && found->knownFrom() <= to && found->knownTo() >= from && (own == nullptr || own->empty() || own->knownFrom() > found->knownFrom() || own->knownTo() < from))
            return found;
    return own;
}

Lookback::~Lookback() = default;

void Lookback::want(const std::vector<Wish>& wishes, Time from, Time to)
{
    from = std::max(from, Time{});
    to = std::min(to, session_.latest());
    const bool longer = to - from > kLongest;
    std::map<std::string, std::vector<std::string>> byChip;
    std::vector<PastValues::Wish> variables;
    for (const Wish& w : wishes) {
        const bool isVariable = !w.variable.empty();
        const FoundSpans* known = found(w);
        if (isVariable && (longer || (known != nullptr && known->tooMany)))
            variables.emplace_back(w.chip, w.variable);
        if (!isVariable || !longer)
            byChip[w.chip].push_back(w.variable);
    }
    values_.rest();
    closer_.rest();
    if (!variables.empty()) {
        PastValues& shown = values_.coarseFor(from, to) ? closer_ : values_;
        shown.want(variables, from, to);
        shown_ = &shown;
    }
    const bool anotherCourse = course_ != session_.course();
    course_ = session_.course();
    from_ = from;
    to_ = to;
    std::erase_if(steps_, [&](const auto& s) { return anotherCourse || !byChip.contains(s.first); });
    for (auto& [chip, names] : byChip)
        wantSteps(chip, std::move(names), longer);
}

// What one chip did, instruction by instruction. Of what is looked for already all that serves goes on; what is wanted besides is looked for by itself, from the same beginning.
void Lookback::wantSteps(const std::string& chip, std::vector<std::string> names, bool longer)
{
    std::vector<std::unique_ptr<PastSteps>>& steps = steps_[chip];
    std::unique_ptr<PastWay> way;  // of one that is not wanted any more
    const auto drop = [&](std::unique_ptr<PastSteps>& one) {
        if (way == nullptr)
            way = one->giveWay();
        one.reset();
    };
    for (auto& one : steps)
        if (!one->keep(names))
            drop(one);
    std::erase(steps, nullptr);
    const auto isKnown = [&](const std::string& name) { return std::any_of(steps.begin(), steps.end(), [&](const auto& s) { return s->of(name) != nullptr; }); };
    constexpr std::size_t kMost = 4;  // worlds at once
    if (steps.size() >= kMost && !std::all_of(names.begin(), names.end(), isKnown)) {
        // The one that has come farthest stays.
        std::iter_swap(steps.begin(), std::max_element(steps.begin(), steps.end(), [](const auto& a, const auto& b) { return a->at() < b->at(); }));
        std::for_each(steps.begin() + 1, steps.end(), drop);
        steps.resize(1);
    }
    if (longer || std::any_of(steps.begin(), steps.end(), [&](const auto& s) { return !s->serves(from_, to_); })) {
        std::for_each(steps.begin(), steps.end(), drop);
        steps.clear();
    }
    std::erase_if(names, isKnown);
    if (names.empty())
        return;
    // A little more than is seen, so that moving the view a little finds it there.
    const Time begin = steps.empty() ? std::max(Time{}, from_ - (to_ - from_) / 4) : steps.front()->from();
    if (way == nullptr)
        way = std::make_unique<PastWay>(session_, catalogue_);
    steps.push_back(std::make_unique<PastSteps>(session_, std::move(way), chip, names, begin, to_, to_ - from_));
    if (longer)
        steps.back()->fail(fmt::format("zoom in to {} or less", kernel::formatQuantity(kernel::seconds(kLongest), kernel::Unit::second)));
}

bool Lookback::busy() const
{
    return values_.busy() || closer_.busy() || volts_.busy() || longVolts_.busy() || metered_.busy() || shares_.busy() || stepping() > 0;
}

std::size_t Lookback::stepping() const
{
    std::size_t out = 0;
    for (const auto& [chip, steps] : steps_)
        out += static_cast<std::size_t>(std::count_if(steps.begin(), steps.end(), [this](const auto& s) { return s->busy(to_); }));
    return out;
}

const PastSteps* Lookback::stepsOf(const Wish& wish) const
{
    const auto steps = steps_.find(wish.chip);
    if (steps == steps_.end())
        return nullptr;
    const auto one = std::find_if(steps->second.begin(), steps->second.end(), [&](const auto& s) { return s->of(wish.variable) != nullptr; });
    return one == steps->second.end() ? nullptr : one->get();
}

Time Lookback::knownTo(const Wish& wish) const
{
    const PastSteps* steps = stepsOf(wish);
    return steps == nullptr ? Time{} : steps->at();
}

const FoundSpans* Lookback::found(const Wish& wish) const
{
    const PastSteps* steps = stepsOf(wish);
    return steps == nullptr ? nullptr : steps->of(wish.variable);
}

Result<Lookback::Scene> Lookback::sceneAt(const std::string& chip, std::uint32_t code, Time at)
{
    auto past = PastWorld::build(session_, catalogue_);
    if (!past)
        return tl::unexpected(past.error());
    World& world = (*past)->world();
    const auto& chips = world.chips();
    const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == chip; });
    if (unit == chips.end())
        return kernel::fail(chip, "is no chip of this bench");
    // An instruction that is seen to do something began a few cycles before; a peripheral that did it for one, somewhat more.
    constexpr std::int64_t kCyclesBefore = 64;
    const Duration lead = unit->chip->clock().span(kCyclesBefore);
    if (auto ok = (*past)->place(std::max(session_.earliest(), at - std::min(lead, at - Time{}))); !ok)
        return tl::unexpected(ok.error());
    const Program& program = session_.program(chip);
    Scene out;
    const auto index = static_cast<std::size_t>(unit - chips.begin());
    while (unit->chip->now() <= at && !world.faulted()) {
        (*past)->giveDueInputs();
        if (unit->chip->codeAddress() == code || out.frames.empty()) {
            out.frames = program.frames.unwind(program.symbols, ChipTarget(*unit), debug::registersOf(*unit->chip));
            out.pins = unit->chip->pins();
        }
        const Time before = unit->chip->now();
        world.stepInstruction(index);
        if (unit->chip->now() == before && world.now() >= at)
            break;
    }
    return out;
}

Result<std::vector<std::string>> Lookback::whyAt(const std::vector<bench::PinRef>& pins, Time at)
{
    auto past = PastWorld::build(session_, catalogue_);
    if (!past)
        return tl::unexpected(past.error());
    if (auto ok = (*past)->place(at); !ok)
        return tl::unexpected(ok.error());
    // What was given at that very instant, too.
    (*past)->giveDueInputs();
    (*past)->world().runUntil(at);
    std::vector<std::string> out;
    for (const bench::PinRef& pin : pins)
        out.push_back((*past)->world().why(pin));
    return out;
}

bool Lookback::work(std::chrono::steady_clock::duration budget)
{
    // All that have something to do share the time.
    std::size_t busy = stepping();
    for (const bool one : {values_.busy(), closer_.busy(), volts_.busy(), longVolts_.busy(), metered_.busy(), shares_.busy()})
        busy += one ? 1 : 0;
    const auto share = budget / static_cast<std::int64_t>(std::max<std::size_t>(busy, 1));
    bool changed = values_.work(share);
    changed = closer_.work(share) || changed;
    changed = volts_.work(share) || changed;
    changed = longVolts_.work(share) || changed;
    changed = metered_.work(share) || changed;
    changed = shares_.work(share) || changed;
    for (auto& [chip, steps] : steps_) {
        for (auto& one : steps) {
            if (!one->busy(to_))
                continue;
            changed = true;
            one->work(to_, share);
            // What lies far behind the window is not wanted any more.
            if (const Time keep = from_ - (to_ - from_); one->from() < keep)
                one->forgetBefore(keep);
        }
        // Those that have caught up are one from then on.
        for (std::size_t i = 1; i < steps.size();)
            if (steps[0]->isLevelWith(*steps[i])) {
                steps[0]->take(std::move(*steps[i]));
                steps.erase(steps.begin() + static_cast<std::ptrdiff_t>(i));
            } else {
                ++i;
            }
    }
    return changed;
}

}  // namespace bramix::session
