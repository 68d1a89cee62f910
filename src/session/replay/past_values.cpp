#include "session/replay/past_values.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "debug/local_stops.h"
#include "session/debugger/debugger.h"
#include "session/debugger/local_value.h"

namespace bramix::session {

namespace {

constexpr std::size_t kRawBytes = 8;

std::uint64_t rawOf(const std::vector<std::uint8_t>& bytes)
{
    std::uint64_t raw = 0;
    for (std::size_t i = 0; i < std::min(bytes.size(), kRawBytes); ++i)
        raw |= std::uint64_t{bytes[i]} << (8 * i);
    return raw;
}

}  // namespace

void PastValues::want(const std::vector<Wish>& wishes, Time from, Time to)
{
    const PastSearch::Window window = search_.within(from, to);
    search_.wake();
    const bool hasAll = !found_.empty() && std::all_of(wishes.begin(), wishes.end(), [&](const Wish& w) { return found_.contains(w); });
    const bool keeps = hasAll || std::any_of(wishes.begin(), wishes.end(), [&](const Wish& w) { return found_.contains(w) && found_.at(w).trouble.empty(); });
    if (keeps && search_.serves(window)) {
        search_.extend(window.to);
        return keepTo(wishes);
    }
    placed_.clear();
    locals_.clear();
    found_.clear();
    for (const Wish& wish : wishes)
        found_.try_emplace(wish);
    // More than is seen, so that a wider or an earlier view finds it there: the whole run where that is not much more.
    const Duration span = window.length();
    search_.begin(window.from - session_.earliest() <= 2 * span ? session_.earliest() : window.from - span / 4, window.to);
    // Some dozen times in each column.
    constexpr std::int64_t kLooks = 50'000;
    constexpr std::array<Duration, 7> kOften{std::chrono::microseconds(10), std::chrono::microseconds(20), std::chrono::microseconds(50), std::chrono::microseconds(100), std::chrono::microseconds(200), std::chrono::microseconds(500), std::chrono::milliseconds(1)};
    const auto rarer = std::upper_bound(kOften.begin(), kOften.end(), span / kLooks);
    looked_ = rarer == kOften.begin() ? kOften.front() : *std::prev(rarer);
    pieces_ = 0;
    way_.again();
    late_.reset();
    moved_.clear();
    hears_ = false;
}

// Of the same stretch others are wanted now.
void PastValues::keepTo(const std::vector<Wish>& wishes)
{
    const auto wanted = [&](const Wish& w) { return std::find(wishes.begin(), wishes.end(), w) != wishes.end(); };
    const auto dropped = [&](const Found* found) { return std::any_of(found_.begin(), found_.end(), [&](const auto& f) { return &f.second == found && !wanted(f.first); }); };
    const bool drops = std::any_of(found_.begin(), found_.end(), [&](const auto& f) { return !wanted(f.first); });
    if (drops) {
        std::erase_if(placed_, [&](const Placed& p) { return dropped(p.found); });
        std::erase_if(locals_, [&](const Local& l) { return dropped(l.found); });
        std::erase_if(found_, [&](const auto& f) { return !wanted(f.first); });
        for (std::size_t i = 0; search_.stands() && i < moved_.size(); ++i)
            arm(i);
    }
    std::vector<Wish> missing;
    std::copy_if(wishes.begin(), wishes.end(), std::back_inserter(missing), [&](const Wish& w) { return !found_.contains(w); });
    if (!search_.stands()) {
        for (const Wish& w : missing)
            found_.try_emplace(w);
        return;
    }
    if (missing.empty()) {
        late_.reset();
        return;
    }
    if (late_ && std::any_of(missing.begin(), missing.end(), [&](const Wish& w) { return late_->found_.contains(w); }))
        return late_->keepTo(missing);
    late_ = std::make_unique<PastValues>(session_, catalogue_);
    for (const Wish& w : missing)
        late_->found_.try_emplace(w);
    late_->search_.follow(search_);
    late_->looked_ = looked_;
}

// As much is known of what was wanted later, and both worlds stand at the same instant: from now on one of them goes on with all of it.
void PastValues::adopt()
{
    const std::unique_ptr<PastValues> late = std::move(late_);
    late_ = std::move(late->late_);
    found_.merge(late->found_);  // each stays where it is
    std::move(late->placed_.begin(), late->placed_.end(), std::back_inserter(placed_));
    std::move(late->locals_.begin(), late->locals_.end(), std::back_inserter(locals_));
    for (std::size_t i = 0; i < moved_.size(); ++i)
        arm(i);
    hearWhereNeeded();
}

bool PastValues::begin(std::chrono::steady_clock::time_point until)
{
    // What was looked for before stops nothing any more.
    const auto there = way_.go(search_.from(), until, [](bench::World& world) {
        world.setChangeListener({});
        for (bench::World::ChipUnit& unit : world.chips()) {
            unit.chip->setWatchpoints({});
            unit.chip->setBreakpoints({});
        }
        world.resume(true);
    });
    if (!there) {
        for (auto& [wish, found] : found_)
            found.trouble = there.error().text();
        search_.end();
        return false;
    }
    if (!*there)
        return false;
    watch();
    search_.stand();
    return true;
}

void PastValues::watch()
{
    bench::World& world = way_.past().world();
    auto& chips = world.chips();
    moved_.assign(chips.size(), false);
    for (auto& [wish, found] : found_) {
        const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == wish.first; });
        const auto index = static_cast<std::size_t>(unit - chips.begin());
        if (unit == chips.end())
            found.trouble = wish.first + " is no chip of this bench";
        else if (unit->firmwareFile.empty())
            found.trouble = wish.first + " has no firmware";
        else
            found.trouble = splitLocal(wish.second) ? watchLocal(index, wish.second, found) : watchPlace(index, wish.second, found);
    }
    for (std::size_t i = 0; i < chips.size(); ++i)
        arm(i);
    hearWhereNeeded();
    if (placed_.empty() && locals_.empty())
        search_.end();
}

// A chip stops where something that is followed may change.
void PastValues::arm(std::size_t chip)
{
    setWatches(chip);
    const bench::World::ChipUnit& unit = way_.past().world().chips()[chip];
    std::vector<std::uint32_t> addresses;
    for (const Local& l : locals_)
        for (std::size_t slot = 0; l.chip == chip && slot < l.stops.size(); ++slot)
            if (l.stops[slot] != 0)
                addresses.push_back(unit.device->codeAt(slot));
    unit.chip->setBreakpoints(addresses);
}

// A chip stops after each write to one of the places in its memory.
void PastValues::setWatches(std::size_t chip)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[chip];
    std::vector<chip::Watchpoint> watches;
    for (const Placed& p : placed_)
        for (const ExpressionFollower::Part& part : p.follower.parts())
            if (p.chip == chip && part.place.space == debug::Space::data && ExpressionFollower::kindsOf(part.place, *unit.device).memory)
                watches.push_back({part.place.address, part.place.length, false, true});
    unit.chip->setWatchpoints(watches);
    moved_[chip] = false;
}

// Whatever may change a register of a peripheral is heard of, where one is followed.
void PastValues::hearWhereNeeded()
{
    if (hears_ || std::none_of(placed_.begin(), placed_.end(), [](const Placed& p) { return p.kinds.peripheral; }))
        return;
    hears_ = true;
    way_.past().world().setChangeListener([this](Time at) { lookAtRegisters(at); });
}

// Empty, or why not.
std::string PastValues::watchPlace(std::size_t chip, const std::string& expression, Found& found)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[chip];
    ExpressionFollower follower(expression);
    if (const auto ok = follower.begin(session_.program(unit.id), {unit}); !ok)
        return ok.error().text();
    found.looked = looked_;
    placed_.push_back({chip, &found, std::move(follower), {}, {}});
    Placed& p = placed_.back();
    learnKinds(p);
    if (p.follower.open())
        record(chip, found, p.follower.value(), search_.from(), p.since, false);
    else
        found.values.end(search_.from());
    return {};
}

void PastValues::learnKinds(Placed& p)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[p.chip];
    p.kinds = {};
    for (const ExpressionFollower::Part& part : p.follower.parts()) {
        const ExpressionFollower::Kinds kinds = ExpressionFollower::kindsOf(part.place, *unit.device);
        p.kinds.core = p.kinds.core || kinds.core;
        p.kinds.peripheral = p.kinds.peripheral || kinds.peripheral;
        p.kinds.memory = p.kinds.memory || kinds.memory;
    }
}

std::string PastValues::watchLocal(std::size_t chip, const std::string& expression, Found& found)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[chip];
    const debug::Symbols& symbols = session_.program(unit.id).symbols;
    const LocalName name = *splitLocal(expression);
    if (auto ok = knowsLocal(symbols, name); !ok)
        return ok.error().text();
    const std::string root = rootOf(name.expression);
    debug::LocalStops stops = debug::localStops(symbols, unit.chip->code(), *unit.device, name.function, root, root != name.expression);
    std::vector<std::uint8_t> at(stops.inside.size());
    for (const std::uint32_t address : stops.arrivals)
        at[unit.device->slotOf(address)] |= kArrival;
    for (const std::uint32_t address : stops.steps)
        at[unit.device->slotOf(address)] |= kStep;
    locals_.push_back({chip, &found, LocalFollower(name, std::move(stops.inside)), std::move(at), {}});
    look(locals_.back(), true);
    return {};
}

// `completes`: several bytes are stored one after the other, and the value right before may have been half stored.
void PastValues::record(std::size_t chip, Found& found, const debug::Value& value, Time at, Time& since, bool completes)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[chip];
    const ChipTarget target(unit);
    const std::optional<double> number = numberOf(debug::Evaluator(session_.program(unit.id).symbols, target, nullptr), value);
    found.number = number.has_value();
    found.is = value;
    at = std::max(at, since);
    // A value that is half stored does not count.
    if (completes && at - since <= unit.chip->clock().span(kHalfStoredCycles) && found.values.entries().size() > 1 && found.values.takeBack())
        at = since;
    since = at;
    found.values.change(at, number.value_or(0), rawOf(value.bytes));
}

// True: it has changed. `told`: the chip stands.
bool PastValues::look(Placed& p, Time at, bool told)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[p.chip];
    const auto when = p.kinds.peripheral ? std::optional(at) : std::nullopt;
    const ExpressionFollower::News news = p.follower.look(session_.program(unit.id), {unit, when});
    if (p.follower.moved()) {
        moved_[p.chip] = true;
        learnKinds(p);
        // The chip goes on before what is watched now can be told to it.
        if (!told && p.kinds.memory && !unit.chip->hasStopped())
            p.found->movedAt(at);
    }
    switch (news) {
    case ExpressionFollower::News::none: return false;
    case ExpressionFollower::News::ended: p.found->values.end(std::max(at, p.since)); break;
    case ExpressionFollower::News::value: record(p.chip, *p.found, p.follower.value(), at, p.since, p.follower.completes()); break;
    }
    return true;
}

void PastValues::look(Local& l, bool first)
{
    const bench::World::ChipUnit& unit = way_.past().world().chips()[l.chip];
    const Time at = first ? search_.from() : unit.chip->now();
    switch (l.follower.look(session_.program(unit.id), unit)) {
    case LocalFollower::News::none:
        if (first)
            l.found->values.end(at);
        return;
    case LocalFollower::News::ended: l.found->values.end(std::max(at, l.since)); return;
    case LocalFollower::News::value:
        record(l.chip, *l.found, l.follower.value(), at, l.since, l.follower.goesOn() && l.follower.value().bytes.size() > 1);
        return;
    }
}

// Between two pieces: what no instruction has written (by hand, by a power-up), and what moves by itself.
void PastValues::lookAtAll(bool byHand)
{
    for (Placed& p : placed_) {
        const Time at = way_.past().world().chips()[p.chip].chip->now();
        const bool differs = look(p, at, byHand);
        if (!byHand && (p.kinds.core || (differs && p.kinds.peripheral)))
            p.found->movedAt(at);
    }
}

void PastValues::lookAtRegisters(Time at)
{
    for (Placed& p : placed_)
        if (p.kinds.peripheral)
            look(p, at, false);
}

// Not all alike, so that what recurs is not always met at the same place.
Duration PastValues::piece()
{
    // What only instructions write is told by them.
    constexpr Duration kUnseen = std::chrono::milliseconds(10);
    if (std::none_of(placed_.begin(), placed_.end(), [](const Placed& p) { return p.kinds.core || p.kinds.peripheral; }))
        return kUnseen;
    constexpr double kGolden = 0.6180339887498949;
    const double part = std::fmod(static_cast<double>(++pieces_) * kGolden, 1.0);
    return std::max(Duration(static_cast<std::int64_t>((0.5 + part) * static_cast<double>(looked_.count()))), Duration(1));
}

// Chips that stand for one of the variables are looked at, and go on.
void PastValues::stopped()
{
    bench::World& world = way_.past().world();
    std::vector<std::size_t> toStep;
    for (std::size_t i = 0; i < world.chips().size(); ++i) {
        const chip::StopInfo stop = world.chips()[i].chip->stopInfo();
        if (stop.kind == chip::StopInfo::Kind::access) {
            for (Placed& p : placed_)
                if (p.chip == i && p.kinds.memory)
                    look(p, world.chips()[i].chip->now(), true);
        } else if (stop.kind == chip::StopInfo::Kind::breakpoint) {
            bool step = false;
            const std::size_t slot = world.chips()[i].device->slotOf(stop.code);
            for (Local& l : locals_)
                if (l.chip == i && l.stops[slot] != 0) {
                    if ((l.stops[slot] & kArrival) != 0)
                        look(l);
                    step = step || (l.stops[slot] & kStep) != 0;
                }
            if (step)
                toStep.push_back(i);
        }
    }
    world.resume(false);
    for (const std::size_t i : toStep) {
        const bench::World::ChipUnit& unit = world.chips()[i];
        const std::uint32_t slot = unit.chip->codeSlot();
        for (Local& l : locals_)
            if (l.chip == i)
                l.follower.stand(unit);
        world.stepInstruction(i, std::min(way_.past().nextInput(), search_.to()));
        for (Local& l : locals_)
            if (l.chip == i && (l.stops[slot] & kStep) != 0)
                look(l);
    }
}

bool PastValues::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    if (late_) {
        const bool alone = !seeks();
        late_->search_.extend(search_.known());
        (void)late_->work(alone ? budget : budget / 2);
        if (late_->search_.hasEnded() || (late_->search_.stands() && late_->search_.known() >= search_.known()))
            adopt();
        if (alone)
            return true;
        budget /= 2;
    }
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!search_.stands() && !begin(until))
        return true;
    PastWorld& past = way_.past();
    bench::World& world = past.world();
    while (world.now() < search_.to() && !world.faulted() && std::chrono::steady_clock::now() < until) {
        if (past.nextInput() <= world.now()) {
            past.giveDueInputs();
            lookAtAll(true);
        }
        for (std::size_t i = 0; i < moved_.size(); ++i)
            if (moved_[i])
                setWatches(i);
        hearWhereNeeded();
        const Time before = world.now(), next = std::min({search_.to(), past.nextInput(), before + piece()});
        if (!world.debugStop())
            world.runUntil(next);
        if (world.debugStop()) {
            stopped();
        } else {
            lookAtAll(false);
            if (world.now() == before && next > before)
                break;
        }
    }
    search_.comeTo(world, false, until);
    return true;
}

bool PastValues::coarseFor(Time from, Time to) const
{
    constexpr int kGrains = 500, kNarrower = 8;
    return (late_ && late_->coarseFor(from, to)) || (search_.isOfThisCourse() && (to - from) * kNarrower < search_.to() - search_.from() && std::any_of(found_.begin(), found_.end(), [&](const auto& f) { return f.second.values.grain() * kGrains > to - from || (f.second.movesIn(from, to) && looked_ * kGrains > to - from); }));
}

const PastValues::Found* PastValues::of(const Wish& wish) const
{
    const auto found = found_.find(wish);
    return found != found_.end() ? &found->second : late_ ? late_->of(wish) : nullptr;
}

std::string PastValues::words(const Wish& wish, const tape::ValueLog::Entry& entry) const
{
    const Found* found = of(wish);
    if (found == nullptr || entry.changes != 1 || !entry.any || found->is.bytes.size() > kRawBytes)
        return {};
    debug::Value value = found->is;
    for (std::size_t i = 0; i < value.bytes.size(); ++i)
        value.bytes[i] = static_cast<std::uint8_t>(entry.raw >> (8 * i));
    const auto& chips = session_.world().chips();
    const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == wish.first; });
    if (unit == chips.end())
        return {};
    const ChipTarget target(*unit);
    return debug::Evaluator(session_.program(wish.first).symbols, target, nullptr).format(value, debug::Radix::natural);
}

}  // namespace bramix::session
