#include "tape/share_log.h"

#include <algorithm>
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
    return std::accumulate(s.shares.begin(), s.shares.end(), std::int64_t{0}, [](std::int64_t sum, const ShareLog::Share& share) { return sum + share.amount; });
}

// How many there are, whether there is a gap before it, whether it is as long as the one before.
constexpr std::uint64_t kGap = 1, kOtherLength = 2;
// Its shares have an id of one byte and an amount of two, as most have; else both are as long as they are.
constexpr std::uint64_t kShort = 4;
constexpr unsigned kFlagBits = 3;

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
            if ((head & kShort) != 0) {
                share = {at[0], at[1] | (at[2] << 8)};
                at += 3;
            } else {
                share.id = static_cast<std::uint16_t>(take(at));
                share.amount = static_cast<std::int64_t>(take(at));
            }
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
    fresh_.clear();
    freshShares_.clear();
    freshCovered_ = {};
    freshWeight_ = 0;
    summed_ = bytes_ = 0;
    count_ = 0;
}

void ShareLog::add(Time from, Time to, std::span<const Share> shares)
{
    if (to <= from || from < end())
        return;
    std::int64_t weight = 0;
    std::uint64_t long_ = 0;
    for (const Share& s : shares) {
        weight += s.amount;
        long_ |= std::uint64_t{s.id} >> 8 | static_cast<std::uint64_t>(s.amount) >> 16;
    }
    // A block has one measure: sums of weights are as good as sums of times.
    const double units = static_cast<double>(weight) * static_cast<double>(freshCovered_.count()), theirs = static_cast<double>(freshWeight_) * static_cast<double>((to - from).count());
    if (fresh_.size() == kStretches || std::abs(units - theirs) > 1e-6 * theirs)
        seal();
    fresh_.push_back({from, to, static_cast<std::uint32_t>(shares.size()), long_ == 0});
    freshShares_.insert(freshShares_.end(), shares.begin(), shares.end());
    freshCovered_ += to - from;
    freshWeight_ += weight;
    ++count_;
}

// The fresh stretches become a block.
void ShareLog::seal()
{
    if (fresh_.empty())
        return;
    Block block;
    block.from = fresh_.front().from;
    block.to = fresh_.back().to;
    block.covered = freshCovered_;
    block.weight = freshWeight_;
    constexpr std::size_t kLongestHead = 3 * 10, kLongestShare = 3 + 10;
    packing_.resize(std::max(packing_.size(), fresh_.size() * kLongestHead + freshShares_.size() * kLongestShare));
    std::uint8_t* at = packing_.data();
    const Share* share = freshShares_.data();
    std::uint16_t highest = 0;
    for (const Share& s : freshShares_)
        highest = std::max(highest, s.id);
    std::vector<std::int64_t> sums(std::size_t{highest} + 1);
    Time to = block.from;
    Duration length{};
    for (const Fresh& f : fresh_) {
        const Duration gap = f.from - to;
        at = put(at, std::uint64_t{f.shares} << kFlagBits | (f.isShort ? kShort : 0) | (gap != Duration{} ? kGap : 0) | (f.to - f.from != length ? kOtherLength : 0));
        if (gap != Duration{})
            at = put(at, static_cast<std::uint64_t>(gap.count()));
        if (f.to - f.from != length)
            at = put(at, static_cast<std::uint64_t>((f.to - f.from).count()));
        to = f.to;
        length = f.to - f.from;
        for (std::uint32_t i = 0; i < f.shares; ++i, ++share) {
            sums[share->id] += share->amount;
            if (f.isShort) {
                at[0] = static_cast<std::uint8_t>(share->id);
                at[1] = static_cast<std::uint8_t>(share->amount);
                at[2] = static_cast<std::uint8_t>(share->amount >> 8);
                at += 3;
            } else {
                at = put(put(at, share->id), static_cast<std::uint64_t>(share->amount));
            }
        }
    }
    block.packed.assign(packing_.data(), at);
    for (std::size_t id = 0; id < sums.size(); ++id)
        if (sums[id] != 0) {
            block.ids.push_back(static_cast<std::uint16_t>(id));
            block.weights.push_back(sums[id]);
        }
    bytes_ += block.bytes();
    blocks_.push_back(std::move(block));
    fresh_.clear();
    freshShares_.clear();
    freshCovered_ = {};
    freshWeight_ = 0;
    keepBound();
}

// What is fresh is not counted.
void ShareLog::keepBound()
{
    while (bytes_ > bound_ && summed_ < blocks_.size()) {
        Block& oldest = blocks_[summed_++];
        bytes_ -= oldest.packed.capacity();
        oldest.packed = {};
    }
    while (bytes_ > bound_ && !blocks_.empty()) {
        bytes_ -= blocks_.front().bytes();
        blocks_.pop_front();
        --summed_;
    }
}

void ShareLog::reckonBytes()
{
    bytes_ = 0;
    for (const Block& b : blocks_)
        bytes_ += b.bytes();
    summed_ = 0;
    while (summed_ < blocks_.size() && blocks_[summed_].packed.empty())
        ++summed_;
    keepBound();
}

template <class Each>
void ShareLog::eachFresh(Each&& each) const
{
    Stretch s;
    auto share = freshShares_.begin();
    for (const Fresh& f : fresh_) {
        s.from = f.from;
        s.to = f.to;
        s.shares.assign(share, share + f.shares);
        share += f.shares;
        each(std::as_const(s));
    }
}

void ShareLog::dropAfter(Time t)
{
    // What stays of the block, or of the fresh stretches, in which t lies is fresh again.
    std::vector<Stretch> kept;
    const auto keep = [&](const Stretch& s) {
        if (s.to <= t)
            kept.push_back(s);
    };
    eachFresh(keep);
    fresh_.clear();
    freshShares_.clear();
    freshCovered_ = {};
    freshWeight_ = 0;
    while (!blocks_.empty() && blocks_.back().to > t) {
        const Block last = std::move(blocks_.back());
        blocks_.pop_back();
        bytes_ -= last.bytes();
        if (!last.packed.empty() && last.from < t)
            unpack(last, keep);
    }
    summed_ = std::min(summed_, blocks_.size());
    count_ -= kept.size();
    for (const Stretch& s : kept)
        add(s);
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
                to_(share.id, shareOf(s.to - s.from, share.amount, sum));
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
    eachFresh(spreadStretch);
    for (const Stretch& s : last)
        spreadStretch(s);
    finish();
    return out;
}

}  // namespace bramix::tape
