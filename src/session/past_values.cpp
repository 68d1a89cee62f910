#include "session/past_values.h"

#include <algorithm>

#include "session/debugger.h"
#include "session/local_value.h"

namespace bramix::session {

namespace {

constexpr Duration kPiece = std::chrono::milliseconds(1);
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
    from = std::max({from, session_.earliest(), Time{}});
    to = std::min(to, session_.latest());
    resting_ = false;
    const bool same = course_ == session_.course() && found_.size() == wishes.size() && std::all_of(wishes.begin(), wishes.end(), [&](const Wish& w) { return found_.contains(w); });
    if (same && from >= from_ && from <= std::max(known_, to_)) {
        to_ = std::max(to_, to);
        return;
    }
    course_ = session_.course();
    found_.clear();
    watched_.clear();
    for (const Wish& wish : wishes)
        found_.try_emplace(wish);
    // More than is seen, so that a wider or an earlier view finds it there: the whole run where that is not much more.
    const Duration span = to - from;
    from_ = known_ = from - session_.earliest() <= 2 * span ? session_.earliest() : from - span / 4;
    to_ = to;
    recalled_ = placed_ = false;
    ended_ = session_.history().empty();
    for (auto& [wish, found] : found_)
        if (ended_)
            found.trouble = "the past is not remembered";
}

bool PastValues::begin(std::chrono::steady_clock::time_point until)
{
    const auto give = [&](const std::string& trouble) {
        for (auto& [wish, found] : found_)
            if (found.trouble.empty())
                found.trouble = trouble;
        ended_ = true;
        return false;
    };
    if (past_ == nullptr || !past_->fits()) {
        auto made = PastWorld::build(session_, catalogue_);
        if (!made)
            return give(made.error().text());
        past_ = std::move(*made);
        recalled_ = false;
    }
    if (!recalled_) {
        for (bench::World::ChipUnit& unit : past_->world().chips())
            unit.chip->cpu().setWatches({});
        past_->world().resume(true);
        if (!past_->recall(from_))
            return give("the past is not remembered");
        recalled_ = true;
    }
    if (!past_->goOn(from_, until))
        return false;
    watch();
    placed_ = true;
    return true;
}

void PastValues::watch()
{
    auto& chips = past_->world().chips();
    std::vector<std::vector<chip::avr::Watch>> watches(chips.size());
    for (auto& [wish, found] : found_) {
        const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == wish.first; });
        if (unit == chips.end() || unit->firmwareFile.empty()) {
            found.trouble = unit == chips.end() ? wish.first + " is no chip of this bench" : wish.first + " has no firmware";
            continue;
        }
        const ChipTarget target(*unit);
        auto value = debug::Evaluator(session_.program(wish.first).symbols, target, nullptr).evaluate(wish.second);
        if (!value) {
            found.trouble = value.error().text();
        } else if (!value->inMemory || value->space != debug::Space::data || value->bytes.empty()) {
            found.trouble = wish.second + " has no place in data memory";
        } else if (value->address < unit->table->core.ramStart) {
            found.trouble = wish.second + " is a register, which changes by itself: zoom in to 2 s or less";
        } else {
            const auto index = static_cast<std::size_t>(unit - chips.begin());
            found.is = *value;
            watches[index].push_back({static_cast<std::uint16_t>(value->address), static_cast<std::uint16_t>(value->bytes.size()), false, true});
            watched_.push_back({index, &found, *value, {}});
            look(watched_.back(), true);
        }
    }
    for (std::size_t i = 0; i < chips.size(); ++i)
        chips[i].chip->cpu().setWatches(watches[i]);
    ended_ = watched_.empty();
}

void PastValues::look(Watched& w, bool first)
{
    const bench::World::ChipUnit& unit = past_->world().chips()[w.chip];
    bool differs = first;
    for (std::size_t i = 0; i < w.value.bytes.size(); ++i) {
        const std::uint8_t byte = unit.chip->peek(static_cast<std::uint16_t>(w.value.address + i));
        differs = differs || byte != w.value.bytes[i];
        w.value.bytes[i] = byte;
    }
    if (!differs)
        return;
    const ChipTarget target(unit);
    debug::Evaluator evaluator(session_.program(unit.id).symbols, target, nullptr);
    const std::optional<double> number = numberOf(evaluator, w.value);
    w.found->number = number.has_value();
    // A value of several bytes that is half stored stands no longer than it takes to store the rest; it does not count.
    constexpr std::int64_t kHalfStoredCycles = 2 * 3;
    Time at = first ? from_ : unit.chip->now();
    if (!first && w.value.bytes.size() > 1 && at - w.since <= unit.chip->clock().span(kHalfStoredCycles) && w.found->values.entries().size() > 1 && w.found->values.takeBack())
        at = w.since;
    w.since = at;
    w.found->values.change(at, number.value_or(0), rawOf(w.value.bytes));
}

bool PastValues::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!placed_ && !begin(until))
        return true;
    bench::World& world = past_->world();
    while (world.now() < to_ && !world.faulted() && std::chrono::steady_clock::now() < until) {
        if (past_->nextInput() <= world.now()) {
            past_->giveDueInputs();
            lookAtAll();  // written by hand
        }
        const Time before = world.now(), next = std::min({to_, past_->nextInput(), before + kPiece});
        world.runUntil(next);
        const bool written = world.debugStop().has_value();
        // What no instruction has written (by a power-up) is seen at the end of its piece.
        lookAtAll();
        if (written)
            world.resume(false);
        else if (world.now() == before && next > before)
            break;
    }
    known_ = std::max(known_, std::min(world.now(), to_));
    ended_ = ended_ || world.faulted() || (known_ < to_ && std::chrono::steady_clock::now() < until);
    return true;
}

void PastValues::lookAtAll()
{
    for (Watched& w : watched_)
        look(w, false);
}

const PastValues::Found* PastValues::of(const Wish& wish) const
{
    const auto found = found_.find(wish);
    return found == found_.end() ? nullptr : &found->second;
}

std::string PastValues::words(const Wish& wish, const tape::ValueLog::Entry& entry) const
{
    const Found* found = of(wish);
    if (found == nullptr || entry.changes != 1 || found->is.bytes.size() > kRawBytes)
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
