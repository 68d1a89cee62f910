#include "session/lanes/function_lane.h"

#include <algorithm>
#include <map>

#include "debug/function_map.h"
#include "session/profile/function_times.h"

namespace bramix::session {

namespace {

// A handler is called by the name of its interrupt, as the chip's documents have it.
struct Naming {
    const chip::Device* device = nullptr;

    Naming(const Session& session, const std::string& chip)
    {
        for (const bench::World::ChipUnit& unit : session.world().chips())
            if (unit.id == chip)
                device = unit.device;
    }
    [[nodiscard]] FunctionShare share(const std::string& function, bool asleep, bool inReset) const
    {
        const std::string_view handler = asleep || inReset ? std::string_view() : interrupt(function);
        FunctionShare out;
        out.kind = asleep ? FunctionShare::Kind::asleep : inReset ? FunctionShare::Kind::inReset : !handler.empty() ? FunctionShare::Kind::interrupt : FunctionShare::Kind::function;
        out.name = !handler.empty() ? handler : function.empty() ? "no function" : std::string_view(function);
        return out;
    }
    // Empty where it is no handler.
    [[nodiscard]] std::string_view interrupt(const std::string& function) const
    {
        return device == nullptr ? std::string_view() : debug::handledBy(*device, function);
    }
};

// Shares by columns, those of finer stretches where they have been found.
struct Columns {
    std::vector<std::string> names;  // by id
    std::vector<tape::ShareLog::Part> parts;
};

Columns columnsOf(const Session& session, const Lookback& lookback, const std::string& chip, Time from, Time to, std::size_t count)
{
    const FunctionTimes::Shares recorded = session.functionTimes().columns(chip, from, to, count, session.behind());
    if (recorded.names == nullptr)
        return {};
    Columns out{*recorded.names, {}};
    const PastShares& past = lookback.shares();
    const auto edge = [&](std::size_t c) { return from + Duration(static_cast<std::int64_t>(static_cast<__int128>((to - from).count()) * static_cast<std::int64_t>(c) / static_cast<std::int64_t>(count))); };
    // Up to the end of the run where the window goes on beyond it.
    const Time knownTo = past.knownTo() >= session.latest() ? kernel::kNever : past.knownTo();
    std::size_t first = 0, last = count;
    while (first < count && edge(first) < past.knownFrom())
        ++first;
    while (last > first && edge(last) > knownTo)
        --last;
    if (past.knownTo() <= past.knownFrom() || first >= last) {
        out.parts = recorded.parts;
        return out;
    }
    const FunctionTimes::Shares fine = past.times().columns(chip, from, to, count, false);
    std::vector<std::uint16_t> idOf;
    for (std::size_t i = 0; fine.names != nullptr && i < fine.names->size(); ++i) {
        const auto there = std::find(out.names.begin(), out.names.end(), (*fine.names)[i]);
        idOf.push_back(static_cast<std::uint16_t>(there - out.names.begin()));
        if (there == out.names.end())
            out.names.push_back((*fine.names)[i]);
    }
    const auto take = [&](const std::vector<tape::ShareLog::Part>& parts, std::size_t a, std::size_t b, bool isFine) {
        for (tape::ShareLog::Part p : parts)
            if (p.column >= a && p.column < b) {
                p.id = isFine ? idOf[p.id] : p.id;
                out.parts.push_back(p);
            }
    };
    take(recorded.parts, 0, first, false);
    take(fine.parts, first, last, true);
    take(recorded.parts, last, count, false);
    return out;
}

}  // namespace

bool showsShares(const Window& window) { return window.to - window.from > Lookback::kLongest; }

static FunctionShare named(const Naming& naming, const std::vector<std::string>& names, std::uint16_t id)
{
    return naming.share(names[id], id == chip::CodeTime::kAsleep, id == chip::CodeTime::kInReset);
}

// Those that had the most come first, so that they lie at the bottom, and stay there from column to column; when it did not run comes last.
static void readShares(const Session& session, const Lookback& lookback, const std::string& chip, const Window& window, ReadLane& lane)
{
    if (window.columns == 0)
        return;
    const auto [names, parts] = columnsOf(session, lookback, chip, window.from, window.to, window.columns);
    if (names.empty())
        return;
    std::vector<Duration> sums(names.size());
    for (const auto& p : parts)
        sums[p.id] += p.time;
    std::vector<std::uint16_t> order;
    for (std::size_t id = 0; id < sums.size(); ++id)
        if (sums[id] > Duration{})
            order.push_back(static_cast<std::uint16_t>(id));
    const auto rank = [&](std::uint16_t id) { return std::pair(id < chip::CodeTime::kElsewhere, Duration{} - sums[id]); };
    std::stable_sort(order.begin(), order.end(), [&](std::uint16_t a, std::uint16_t b) { return rank(a) < rank(b); });
    std::vector<std::uint16_t> place(names.size());
    const Naming naming(session, chip);
    for (std::size_t i = 0; i < order.size(); ++i) {
        place[order[i]] = static_cast<std::uint16_t>(i);
        lane.functions.push_back(named(naming, names, order[i]));
        lane.functions.back().seconds = kernel::seconds(sums[order[i]]);
    }
    const double width = kernel::seconds(window.to - window.from) / static_cast<double>(window.columns);
    for (const auto& p : parts)
        lane.shares.push_back({p.column, place[p.id], static_cast<float>(kernel::seconds(p.time) / width)});
    std::sort(lane.shares.begin(), lane.shares.end(), [](const auto& a, const auto& b) { return std::pair(a.column, a.function) < std::pair(b.column, b.function); });
    constexpr std::size_t kRows = 4;
    lane.rows = kRows;
}

void readFunctions(const Session& session, const Lookback& lookback, const std::string& chip, const Window& window, ReadLane& lane)
{
    lane.name = "functions";
    lane.lines = chip;
    const Naming naming(session, chip);
    if (naming.device == nullptr) {
        lane.trouble = chip + " is no chip of this bench";
        return;
    }
    const FoundSpans* found = lookback.found({chip, {}});
    if (showsShares(window) || (found != nullptr && found->tooMany)) {
        readShares(session, lookback, chip, window, lane);
        if (lane.functions.empty())
            lane.trouble = session.functionTimes().listensTo(chip) ? std::string() : chip + " has no firmware";
        return;
    }
    if (found == nullptr)
        return;
    lane.trouble = found->trouble;
    lane.knownTo = lookback.knownTo({chip, {}});
    for (const Span& s : found->spans) {
        if (s.to < window.from || s.from > window.to)
            continue;
        const std::string_view interrupt = naming.interrupt(s.text);
        lane.items.push_back({s.from, s.to, s.asleep ? "asleep" : interrupt.empty() ? "function" : "interrupt", s.depth, interrupt.empty() ? s.text : std::string(interrupt), true});
        lane.depths.push_back(static_cast<std::uint8_t>(std::min<std::uint32_t>(s.depth, UINT8_MAX)));
    }
    for (const std::uint8_t d : lane.depths)
        lane.rows = std::max<std::size_t>(lane.rows, d + std::size_t{1});
}

std::vector<FunctionShare> functionsBetween(const Session& session, const Lookback& lookback, const std::string& chip, Time from, Time to)
{
    from = std::max(from, Time{});
    to = std::min(to, session.latest());
    std::vector<FunctionShare> out;
    if (to <= from)
        return out;
    const Naming naming(session, chip);
    const FoundSpans* found = lookback.found({chip, {}});
    const bool known = found != nullptr && found->trouble.empty() && !found->tooMany && !found->spans.empty() && found->spans.front().from <= from && lookback.knownTo({chip, {}}) >= to;
    if (known) {
        // Of each its own time: what stands above it is taken off.
        std::map<std::pair<std::string, bool>, Duration> sums;
        std::vector<const Span*> below;
        for (const Span& s : found->spans) {
            const Duration time = std::min(s.to, to) - std::max(s.from, from);
            below.resize(std::min<std::size_t>(below.size(), s.depth));
            if (time > Duration{}) {
                sums[{s.text, s.asleep}] += time;
                if (!below.empty())
                    sums[{below.back()->text, false}] -= time;
            }
            below.resize(s.depth, &s);
            below.push_back(&s);
        }
        for (const auto& [who, time] : sums)
            if (time > Duration{}) {
                out.push_back(naming.share(who.first, who.second, false));
                out.back().seconds = kernel::seconds(time);
            }
    } else {
        const auto [names, parts] = columnsOf(session, lookback, chip, from, to, 1);
        for (const auto& p : parts) {
            out.push_back(named(naming, names, p.id));
            out.back().seconds = kernel::seconds(p.time);
        }
    }
    std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.seconds > b.seconds; });
    return out;
}

}  // namespace bramix::session
