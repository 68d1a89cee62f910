#include "tape/share_log.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>
#include <utility>

namespace bramix::tape {

namespace {

std::uint8_t* put(std::uint8_t* at, std::uint64_t value)
{
    for (; value >= 0x80; value >>= 7)
        *at++ = static_cast<std::uint8_t>(value | 0x80);
    *at++ = static_cast<std::uint8_t>(value);
    return at;
}

std::uint64_t take(const std::uint8_t*& at)
{
    std::uint64_t value = 0;
    for (unsigned shift = 0;; shift += 7) {
        const std::uint8_t byte = *at++;
        value |= std::uint64_t{byte & 0x7FU} << shift;
        if (byte < 0x80)
            return value;
    }
}

// weight of sum, of a time: to the picosecond for an hour.
Duration shareOf(Duration time, std::int64_t weight, std::int64_t sum) { return Duration(static_cast<std::int64_t>(static_cast<double>(time.count()) * static_cast<double>(weight) / static_cast<double>(std::max<std::int64_t>(sum, 1)))); }

std::int64_t sumOf(const ShareLog::Stretch& s)
{
    return std::accumulate(s.shares.begin(), s.shares.end(), std::int64_t{0}, [](std::int64_t sum, const ShareLog::Share& share) { return sum + share.weight; });
}

// How many there are, whether there is a gap before it, whether it is as long as the one before.
constexpr std::uint64_t kGap = 1, kOtherLength = 2;
constexpr unsigned kFlagBits = 2;

constexpr std::size_t kUsualBlock = 640;  // bytes, so that it grows seldom

}  // namespace

template <class Each>
void ShareLog::unpack(const Block& block, Each&& each)
{
    Stretch s;
    const std::uint8_t* at = block.packed.data();
    const std::uint8_t* const end = at + block.packed.size();
    Time to = block.from;
    Duration length{};
    while (at < end) {
        const std::uint64_t head = take(at);
        s.from = to + Duration((head & kGap) != 0 ? static_cast<std::int64_t>(take(at)) : 0);
        if ((head & kOtherLength) != 0)
            length = Duration(static_cast<std::int64_t>(take(at)));
        s.to = to = s.from + length;
        s.shares.resize(head >> kFlagBits);
        for (Share& share : s.shares) {
            share.id = static_cast<std::uint16_t>(take(at));
            share.weight = static_cast<std::int64_t>(take(at));
        }
        each(std::as_const(s));
    }
}

void ShareLog::setBound(std::size_t bytes)
{
    bound_ = bytes;
    keepBound();
}

void ShareLog::clear()
{
    blocks_.clear();
    inLast_ = summed_ = bytes_ = 0;
    count_ = 0;
}

void ShareLog::append(Block& block, Time from, Time to, std::int64_t weight, std::span<const Share> shares)
{
    const Duration length = to - from;
    const Duration gap = from - block.to;
    std::array<std::uint8_t, 64> packed;
    std::uint8_t* at = packed.data();
    at = put(at, shares.size() << kFlagBits | (gap != Duration{} ? kGap : 0) | (length != block.length ? kOtherLength : 0));
    if (gap != Duration{})
        at = put(at, static_cast<std::uint64_t>(gap.count()));
    if (length != block.length)
        at = put(at, static_cast<std::uint64_t>(length.count()));
    for (const Share& s : shares) {
        constexpr std::ptrdiff_t kLongestShare = 13;
        if (packed.data() + packed.size() - at < kLongestShare) {
            block.packed.insert(block.packed.end(), packed.data(), at);
            at = packed.data();
        }
        at = put(put(at, s.id), static_cast<std::uint64_t>(s.weight));
        std::size_t i = 0;
        while (i < block.ids.size() && block.ids[i] != s.id)
            ++i;
        if (i == block.ids.size()) {
            block.ids.push_back(s.id);
            block.weights.push_back(0);
        }
        block.weights[i] += s.weight;
    }
    block.packed.insert(block.packed.end(), packed.data(), at);
    block.to = to;
    block.length = length;
    block.covered += length;
    block.weight += weight;
}

void ShareLog::add(Time from, Time to, std::span<const Share> shares)
{
    if (to <= from || (!blocks_.empty() && from < blocks_.back().to))
        return;
    std::int64_t weight = 0;
    for (const Share& s : shares)
        weight += s.weight;
    // A block has one measure: sums of weights are as good as sums of times.
    const auto fits = [&](const Block& b) {
        const double units = static_cast<double>(weight) * static_cast<double>(b.covered.count()), theirs = static_cast<double>(b.weight) * static_cast<double>((to - from).count());
        return std::abs(units - theirs) <= 1e-6 * theirs;
    };
    if (blocks_.empty() || inLast_ == kStretches || !fits(blocks_.back())) {
        if (!blocks_.empty()) {
            blocks_.back().packed.shrink_to_fit();
            bytes_ += blocks_.back().bytes();
        }
        blocks_.emplace_back();
        blocks_.back().packed.reserve(kUsualBlock);
        blocks_.back().from = blocks_.back().to = from;
        inLast_ = 0;
        keepBound();
    }
    append(blocks_.back(), from, to, weight, shares);
    ++inLast_;
    ++count_;
}

// The last block is being written still, and not counted.
void ShareLog::keepBound()
{
    while (bytes_ > bound_ && summed_ + 1 < blocks_.size()) {
        Block& oldest = blocks_[summed_++];
        bytes_ -= oldest.packed.capacity();
        oldest.packed = {};
    }
    while (bytes_ > bound_ && blocks_.size() > 1) {
        bytes_ -= blocks_.front().bytes();
        blocks_.pop_front();
        --summed_;
    }
}

void ShareLog::reckonBytes()
{
    bytes_ = 0;
    summed_ = 0;
    for (std::size_t i = 0; i + 1 < blocks_.size(); ++i)
        bytes_ += blocks_[i].bytes();
    while (summed_ < blocks_.size() && blocks_[summed_].packed.empty())
        ++summed_;
    inLast_ = 0;
    if (!blocks_.empty())
        unpack(blocks_.back(), [this](const Stretch&) { ++inLast_; });
    keepBound();
}

void ShareLog::dropAfter(Time t)
{
    while (!blocks_.empty() && blocks_.back().to > t) {
        const Block last = std::move(blocks_.back());
        blocks_.pop_back();
        summed_ = std::min(summed_, blocks_.size());
        if (last.from < t && !last.packed.empty()) {
            Block kept;
            kept.from = kept.to = last.from;
            std::size_t stretches = 0;
            unpack(last, [&](const Stretch& s) {
                if (s.to <= t) {
                    append(kept, s.from, s.to, sumOf(s), s.shares);
                    ++stretches;
                }
            });
            if (stretches > 0) {
                blocks_.push_back(std::move(kept));
                inLast_ = stretches;
                break;
            }
        }
        inLast_ = kStretches;  // whatever comes next begins a block
    }
    bytes_ = 0;
    for (std::size_t i = 0; i + 1 < blocks_.size(); ++i)
        bytes_ += blocks_[i].bytes();
}

std::vector<ShareLog::Part> ShareLog::columns(Time from, Time to, std::size_t count, const std::vector<Stretch>& last) const
{
    std::vector<Part> out;
    if (count == 0 || to <= from)
        return out;
    const Duration span = to - from;
    std::vector<Time> edge(count + 1);
    for (std::size_t c = 0; c <= count; ++c)
        edge[c] = from + Duration(static_cast<std::int64_t>(static_cast<__int128>(span.count()) * static_cast<std::int64_t>(c) / static_cast<std::int64_t>(count)));
    std::size_t at = 0;  // the column in which the last piece began: later ones begin there or later
    const auto columnOf = [&](Time t) {
        while (at + 1 < count && edge[at + 1] <= t)
            ++at;
        return at;
    };
    std::vector<Duration> sums;          // by id, of the present column
    std::vector<std::uint16_t> touched;  // those that have something there
    std::size_t column = 0;
    const auto finish = [&] {
        std::sort(touched.begin(), touched.end());
        for (const std::uint16_t id : touched)
            out.push_back({static_cast<std::uint32_t>(column), id, std::exchange(sums[id], Duration{})});
        touched.clear();
    };
    const auto give = [&](std::size_t to_, std::uint16_t id, Duration time) {
        if (time <= Duration{})
            return;
        if (to_ != column) {
            finish();
            column = to_;
        }
        if (id >= sums.size())
            sums.resize(std::size_t{id} + 1);
        if (sums[id] == Duration{})
            touched.push_back(id);
        sums[id] += time;
    };
    // What lies in one piece over columns: to each its part. `each` calls back with an id and what it had of all that time.
    const auto spread = [&](Time a, Time b, const auto& each) {
        if (b <= from || a >= to || b <= a)
            return;
        const Time begin = std::max(a, from), end = std::min(b, to);
        for (std::size_t c = columnOf(begin); c < count && edge[c] < end; ++c) {
            const Duration part = std::min(end, edge[c + 1]) - std::max(begin, edge[c]);
            each([&](std::uint16_t id, Duration time) { give(c, id, part == b - a ? time : shareOf(part, time.count(), (b - a).count())); });
        }
    };
    const auto spreadStretch = [&](const Stretch& s) {
        const std::int64_t sum = sumOf(s);
        spread(s.from, s.to, [&](const auto& to_) {
            for (const Share& share : s.shares)
                to_(share.id, shareOf(s.to - s.from, share.weight, sum));
        });
    };
    auto block = std::partition_point(blocks_.begin(), blocks_.end(), [from](const Block& b) { return b.to <= from; });
    for (; block != blocks_.end() && block->from < to; ++block) {
        const bool within = block->from >= from && block->to <= to && edge[columnOf(block->from) + 1] >= block->to;
        if (within || block->packed.empty())
            spread(block->from, block->to, [&](const auto& to_) {
                for (std::size_t i = 0; i < block->ids.size(); ++i)
                    to_(block->ids[i], shareOf(block->covered, block->weights[i], block->weight));
            });
        else
            unpack(*block, spreadStretch);
    }
    for (const Stretch& s : last)
        spreadStretch(s);
    finish();
    return out;
}

}  // namespace bramix::tape
