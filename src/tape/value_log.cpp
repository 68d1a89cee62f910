#include "tape/value_log.h"

#include <algorithm>

namespace bramix::tape {

void ValueLog::change(Time at, double value, std::uint64_t raw)
{
    if (!entries_.empty() && entries_.back().from == at && entries_.back().changes == 1)
        entries_.pop_back();
    entries_.push_back({at, 1, value, value, value, value, raw});
    if (entries_.size() > most_)
        halve();
}

bool ValueLog::takeBack()
{
    if (entries_.empty() || entries_.back().changes != 1)
        return false;
    entries_.pop_back();
    return true;
}

// The older half, so that what was new last is told exactly as long as can be.
void ValueLog::halve()
{
    const std::size_t older = entries_.size() / 2 / 2 * 2;
    std::size_t kept = 0;
    for (std::size_t i = 0; i < older; i += 2, ++kept) {
        const Entry a = entries_[i], b = entries_[i + 1];
        entries_[kept] = {a.from, a.changes + b.changes, a.first, b.last, std::min(a.least, b.least), std::max(a.most, b.most), 0};
    }
    entries_.erase(entries_.begin() + static_cast<std::ptrdiff_t>(kept), entries_.begin() + static_cast<std::ptrdiff_t>(older));
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
        const Entry& e = entries_[i];
        column = {true, e.first, e.last, e.least, e.most};
        while (i + 1 < entries_.size() && entries_[i + 1].from < close) {
            const Entry& next = entries_[++i];
            column.last = next.last;
            column.least = std::min(column.least, next.least);
            column.most = std::max(column.most, next.most);
        }
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
