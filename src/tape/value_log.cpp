#include "tape/value_log.h"

#include <algorithm>

namespace bramix::tape {

void ValueLog::add(const Entry& entry)
{
    if (!entries_.empty() && entries_.back().from == entry.from && entries_.back().changes == 1)
        entries_.pop_back();
    entries_.push_back(entry);
    if (entries_.size() > most_)
        coarsen();
}

bool ValueLog::takeBack()
{
    if (entries_.empty() || entries_.back().changes != 1)
        return false;
    entries_.pop_back();
    return true;
}

// Of both in a row; whoever had no value adds none.
ValueLog::Entry ValueLog::together(const Entry& a, const Entry& b)
{
    if (!a.any && !b.any)
        return a;
    Entry out = a.any ? a : b;
    out.from = a.from;
    out.changes = a.changes + b.changes;
    if (a.any && b.any) {
        out.last = b.last;
        out.least = std::min(a.least, b.least);
        out.most = std::max(a.most, b.most);
    }
    out.raw = 0;
    return out;
}

// What follows within a grain becomes one, all over: as fine at the beginning as at the end. The last stays, which may be taken back.
void ValueLog::coarsen()
{
    if (grain_ == Duration::zero())
        grain_ = std::max((entries_.back().from - entries_.front().from) / static_cast<std::int64_t>(entries_.size()), Duration(1));
    // What has come since is as fine as it came: it may be enough to make that alike.
    for (;; grain_ *= 2) {
        std::size_t kept = 0;
        for (std::size_t i = 1; i + 1 < entries_.size(); ++i)
            if (entries_[i + 1].from - entries_[kept].from <= grain_)
                entries_[kept] = together(entries_[kept], entries_[i]);
            else
                entries_[++kept] = entries_[i];
        entries_[++kept] = entries_.back();
        entries_.resize(kept + 1);
        if (entries_.size() <= most_ / 4 * 3)
            return;
    }
}

std::pair<std::size_t, std::size_t> ValueLog::between(Time from, Time to) const
{
    const auto after = [this](Time t) { return static_cast<std::size_t>(std::partition_point(entries_.begin(), entries_.end(), [t](const Entry& e) { return e.from <= t; }) - entries_.begin()); };
    const std::size_t first = after(from);
    return {first == 0 ? 0 : first - 1, after(to)};
}

std::vector<WaveColumn> ValueLog::columns(Time from, Time to, std::size_t count, Time end) const
{
    std::vector<WaveColumn> out(count);
    if (entries_.empty() || count == 0 || to <= from)
        return out;
    const auto edge = [&](std::size_t c) { return from + Duration(static_cast<std::int64_t>(static_cast<__int128>((to - from).count()) * static_cast<std::int64_t>(c) / static_cast<std::int64_t>(count))); };
    std::size_t i = between(from, to).first;
    for (std::size_t c = 0; c < count; ++c) {
        const Time begin = edge(c), close = edge(c + 1);
        if (begin >= end || close <= entries_[i].from)
            continue;
        WaveColumn& column = out[c];
        while (i + 1 < entries_.size() && entries_[i + 1].from <= begin)
            ++i;
        const auto take = [&column](const Entry& e) {
            if (!e.any)
                return;
            if (!column.known)
                column = {true, e.first, e.last, e.least, e.most};
            column.last = e.last;
            column.least = std::min(column.least, e.least);
            column.most = std::max(column.most, e.most);
        };
        take(entries_[i]);
        while (i + 1 < entries_.size() && entries_[i + 1].from < close)
            take(entries_[++i]);
    }
    return out;
}

std::vector<std::uint32_t> ValueLog::changes(Time from, Time to, std::size_t count) const
{
    std::vector<std::uint32_t> out(count);
    if (count == 0 || to <= from)
        return out;
    const auto columnOf = [&](Time t) { return std::min(static_cast<std::size_t>(static_cast<__int128>((std::clamp(t, from, to) - from).count()) * static_cast<std::int64_t>(count) / (to - from).count()), count - 1); };
    const auto [first, last] = between(from, to);
    for (std::size_t i = first; i < last; ++i) {
        const Entry& e = entries_[i];
        if (e.from >= from)
            out[columnOf(e.from)] += e.changes;
        const Time until = i + 1 < entries_.size() ? entries_[i + 1].from : to;
        if (e.changes > 1)
            for (std::size_t c = columnOf(e.from); c <= columnOf(until); ++c)
                out[c] = std::max(out[c], 1U);
    }
    return out;
}

}  // namespace bramix::tape
