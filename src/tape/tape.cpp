#include "tape/tape.h"

#include <algorithm>
#include <utility>

namespace bramix::tape {

ChannelId Tape::channel(const std::string& name)
{
    const auto [entry, isNew] = byName_.try_emplace(name, static_cast<ChannelId>(channels_.size()));
    if (isNew) {
        channels_.emplace_back();
        open_.emplace_back();
        channels_.back().name = name;
    }
    return entry->second;
}

ChannelId Tape::find(const std::string& name) const
{
    const auto found = byName_.find(name);
    return found == byName_.end() ? UINT32_MAX : found->second;
}

// Of a chunk.
void Tape::recordFirst(ChannelId id, Edge edge)
{
    grow(id);
    *open_[id].next++ = edge;
}

void Tape::grow(ChannelId id)
{
    Channel& c = channels_[id];
    if (c.open == nullptr) {
        c.open = std::make_unique<Chunk>();
        bytes_ += sizeof(Chunk);
    } else {
        const Time beforeAt = c.packed.empty() ? c.beforeAt : c.packed.back().lastAt();
        const State before = c.packed.empty() ? c.before : c.packed.back().last();
        c.packed.emplace_back(c.open->edges, beforeAt, before);
        bytes_ += c.packed.back().bytes();
    }
    writeFrom(id, 0);
    keepBound();
}

void Tape::keepBound()
{
    while (bytes_ > bound_ && std::any_of(channels_.begin(), channels_.end(), [](const Channel& k) { return !k.packed.empty(); }))
        forgetOldest();
}

void Tape::setBound(std::size_t bytes)
{
    bound_ = bytes;
    keepBound();
}

void Tape::forgetOldest()
{
    Channel* oldest = nullptr;
    for (Channel& c : channels_)
        if (!c.packed.empty() && (oldest == nullptr || c.packed.front().lastAt() < oldest->packed.front().lastAt()))
            oldest = &c;
    oldest->before = oldest->packed.front().last();
    oldest->beforeAt = oldest->packed.front().lastAt();
    knownFrom_ = std::max(knownFrom_, oldest->beforeAt);
    bytes_ -= oldest->packed.front().bytes();
    oldest->packed.pop_front();
    ++generation_;
}

std::size_t Tape::count(ChannelId id) const
{
    const Channel& c = channels_[id];
    return c.packed.size() * kChunkEdges + openEdges(id).size();
}

const std::array<Edge, PackedEdges::kBlock>& Tape::unpacked(ChannelId id, std::size_t block) const
{
    Unpacked& kept = unpacked_[(id * 7 + block) % kUnpacked];
    if (kept.channel != id || kept.block != block || kept.generation != generation_) {
        constexpr std::size_t kBlocks = kChunkEdges / PackedEdges::kBlock;
        channels_[id].packed[block / kBlocks].block(block % kBlocks, kept.edges);
        kept.channel = id;
        kept.block = block;
        kept.generation = generation_;
    }
    return kept.edges;
}

Edge Tape::edge(ChannelId id, std::size_t index) const
{
    const Channel& c = channels_[id];
    const std::size_t packed = c.packed.size() * kChunkEdges;
    return index >= packed ? c.open->edges[index - packed] : unpacked(id, index / PackedEdges::kBlock)[index % PackedEdges::kBlock];
}

std::size_t Tape::copy(ChannelId id, std::size_t index, std::span<Edge, PackedEdges::kBlock> out) const
{
    const Channel& c = channels_[id];
    const std::size_t packed = c.packed.size() * kChunkEdges;
    if (index >= packed) {
        const std::span<const Edge> open = openEdges(id);
        const std::span<const Edge> left = open.subspan(std::min(index - packed, open.size()));
        const std::size_t count = std::min(left.size(), out.size());
        std::copy_n(left.begin(), count, out.begin());
        return count;
    }
    const std::size_t within = index % kChunkEdges, skipped = within % PackedEdges::kBlock;
    c.packed[index / kChunkEdges].block(within / PackedEdges::kBlock, out);
    std::copy(out.begin() + static_cast<std::ptrdiff_t>(skipped), out.end(), out.begin());
    return out.size() - skipped;
}

std::size_t Tape::after(ChannelId id, Time t) const
{
    const Channel& c = channels_[id];
    const auto later = [t](const Edge& e) { return e.at <= t; };
    // The first chunk whose last edge lies after t holds the answer.
    const auto chunk = std::partition_point(c.packed.begin(), c.packed.end(), [&](const PackedEdges& k) { return k.lastAt() <= t; });
    if (chunk == c.packed.end()) {
        const std::size_t packed = c.packed.size() * kChunkEdges;
        const std::span<const Edge> open = openEdges(id);
        return packed + static_cast<std::size_t>(std::partition_point(open.begin(), open.end(), later) - open.begin());
    }
    const std::size_t block = static_cast<std::size_t>(chunk - c.packed.begin()) * (kChunkEdges / PackedEdges::kBlock) + chunk->blockOf(t);
    const auto& edges = unpacked(id, block);
    return block * PackedEdges::kBlock + static_cast<std::size_t>(std::partition_point(edges.begin(), edges.end(), later) - edges.begin());
}

State Tape::stateAt(ChannelId id, Time t) const
{
    const std::size_t next = after(id, t);
    return next == 0 ? channels_[id].before : edge(id, next - 1).state;
}

std::size_t Tape::findPulse(ChannelId id, Time from, State level, Duration least, Duration most) const
{
    const Channel& c = channels_[id];
    const std::size_t total = count(id);
    std::size_t i = after(id, from);
    State before = i == 0 ? c.before : edge(id, i - 1).state;
    Time since = i == 0 ? c.beforeAt : edge(id, i - 1).at;
    bool known = i > 0 || since > Time{};  // what lay before the first edge of all has no length
    while (i < total) {
        const std::size_t chunk = i / kChunkEdges;
        if (i % kChunkEdges == 0 && chunk < c.packed.size()) {
            const Widths& widths = c.packed[chunk].widths();
            if (!(widths.shortest[level] < least || widths.longest[level] > most)) {
                since = c.packed[chunk].lastAt();
                before = c.packed[chunk].last();
                known = true;
                i += kChunkEdges;
                continue;
            }
        }
        const Edge e = edge(id, i);
        if (known && before == level && (e.at - since < least || e.at - since > most))
            return i;
        known = true;
        before = e.state;
        since = e.at;
        ++i;
    }
    return total;
}

std::size_t Tape::findPulseBefore(ChannelId id, Time before, State level, Duration least, Duration most) const
{
    const Channel& c = channels_[id];
    const std::size_t total = count(id);
    std::size_t i = std::min(after(id, before - Duration(1)), total == 0 ? 0 : total - 1);
    while (i > 0) {
        const std::size_t chunk = i / kChunkEdges;
        if (i % kChunkEdges == kChunkEdges - 1 && chunk < c.packed.size()) {
            const Widths& widths = c.packed[chunk].widths();
            if (!(widths.shortest[level] < least || widths.longest[level] > most)) {
                if (chunk == 0)
                    break;
                i -= kChunkEdges;
                continue;
            }
        }
        const Edge begin = edge(id, i - 1);
        const Duration length = edge(id, i).at - begin.at;
        if (begin.state == level && (length < least || length > most))
            return i;
        --i;
    }
    return total;
}

std::vector<Column> Tape::columns(ChannelId id, Time from, Time to, std::size_t count) const
{
    std::vector<Column> out(count);
    const double width = static_cast<double>((to - from).count()) / static_cast<double>(count);
    std::size_t index = after(id, from);
    State state = index == 0 ? channels_[id].before : edge(id, index - 1).state;
    const std::size_t total = this->count(id);
    for (std::size_t i = 0; i < count; ++i) {
        const Time end = from + Duration(static_cast<std::int64_t>(width * static_cast<double>(i + 1)));
        // Few edges are walked, many are skipped by a search.
        std::size_t next = index;
        while (next < total && next - index < 4 && edge(id, next).at <= end)
            ++next;
        if (next - index == 4)
            next = after(id, end);
        out[i].first = state;
        out[i].edges = static_cast<std::uint32_t>(next - index);
        if (next > index)
            state = edge(id, next - 1).state;
        out[i].last = state;
        index = next;
    }
    return out;
}

// The last packed chunk is written to again.
void Tape::reopen(ChannelId id)
{
    Channel& c = channels_[id];
    if (c.open == nullptr) {
        c.open = std::make_unique<Chunk>();
        bytes_ += sizeof(Chunk);
    }
    for (std::size_t b = 0; b < kChunkEdges / PackedEdges::kBlock; ++b)
        c.packed.back().block(b, std::span<Edge, PackedEdges::kBlock>(c.open->edges.data() + b * PackedEdges::kBlock, PackedEdges::kBlock));
    writeFrom(id, kChunkEdges);
    bytes_ -= c.packed.back().bytes();
    c.packed.pop_back();
}

void Tape::dropAfter(Time t)
{
    ++generation_;
    for (ChannelId id = 0; id < channels_.size(); ++id) {
        Channel& c = channels_[id];
        for (;;) {
            while (!openEdges(id).empty() && openEdges(id).back().at > t)
                --open_[id].next;
            if (c.open == nullptr || !openEdges(id).empty() || c.packed.empty() || c.packed.back().lastAt() <= t)
                break;
            reopen(id);
        }
    }
}

void Tape::clear()
{
    ++generation_;
    for (Channel& c : channels_) {
        c.packed.clear();
        c.open.reset();
        c.before = 2;
        c.beforeAt = {};
    }
    std::fill(open_.begin(), open_.end(), Cursor{});
    bytes_ = 0;
    knownFrom_ = {};
}

void Tape::takeFrom(Tape&& other)
{
    channels_ = std::move(other.channels_);
    open_ = std::move(other.open_);
    byName_ = std::move(other.byName_);
    bytes_ = std::exchange(other.bytes_, 0);
    knownFrom_ = other.knownFrom_;
    ++generation_;
}

}  // namespace bramix::tape
