#include "tape/tape.h"

#include <algorithm>

namespace bramix::tape {

ChannelId Tape::channel(const std::string& name)
{
    const auto [entry, isNew] = byName_.try_emplace(name, static_cast<ChannelId>(channels_.size()));
    if (isNew) {
        channels_.emplace_back();
        last_.push_back(nullptr);
        channels_.back().name = name;
    }
    return entry->second;
}

ChannelId Tape::find(const std::string& name) const
{
    const auto found = byName_.find(name);
    return found == byName_.end() ? UINT32_MAX : found->second;
}

Tape::Chunk* Tape::grow(ChannelId id)
{
    Channel& channel = channels_[id];
    if (chunkCount_ >= boundChunks_)
        forgetOldest();
    if (spare_ != nullptr)
        spare_->size = 0;
    channel.chunks.push_back(spare_ != nullptr ? std::move(spare_) : std::make_unique<Chunk>());
    ++chunkCount_;
    return last_[id] = channel.chunks.back().get();
}

void Tape::forgetOldest()
{
    Channel* oldest = nullptr;
    for (Channel& c : channels_)
        if (!c.chunks.empty() && c.chunks.front()->size == kChunkEdges && (oldest == nullptr || c.chunks.front()->last().at < oldest->chunks.front()->last().at))
            oldest = &c;
    if (oldest == nullptr)
        return;  // every chunk is a channel's only one; more channels than the bound foresees
    oldest->before = oldest->chunks.front()->last().state;
    knownFrom_ = std::max(knownFrom_, oldest->chunks.front()->last().at);
    Chunk*& last = last_[static_cast<std::size_t>(byName_.at(oldest->name))];
    if (last == oldest->chunks.front().get())
        last = nullptr;
    spare_ = std::move(oldest->chunks.front());
    oldest->chunks.pop_front();
    --chunkCount_;
}

std::size_t Tape::count(ChannelId id) const
{
    const Channel& c = channels_[id];
    return c.chunks.empty() ? 0 : (c.chunks.size() - 1) * kChunkEdges + c.chunks.back()->size;
}

std::size_t Tape::after(ChannelId id, Time t) const
{
    const Channel& c = channels_[id];
    // The first chunk whose last edge lies after t holds the answer.
    const auto chunk = std::partition_point(c.chunks.begin(), c.chunks.end(), [&](const auto& k) { return k->last().at <= t; });
    if (chunk == c.chunks.end())
        return count(id);
    const auto edge = std::partition_point((*chunk)->begin(), (*chunk)->end(), [&](const Edge& e) { return e.at <= t; });
    return static_cast<std::size_t>(chunk - c.chunks.begin()) * kChunkEdges + static_cast<std::size_t>(edge - (*chunk)->begin());
}

State Tape::stateAt(ChannelId id, Time t) const
{
    const std::size_t next = after(id, t);
    return next == 0 ? channels_[id].before : edge(id, next - 1).state;
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

void Tape::dropAfter(Time t)
{
    for (ChannelId id = 0; id < channels_.size(); ++id) {
        Channel& c = channels_[id];
        while (!c.chunks.empty()) {
            Chunk& chunk = *c.chunks.back();
            while (chunk.size > 0 && chunk.last().at > t)
                --chunk.size;
            if (chunk.size > 0)
                break;
            c.chunks.pop_back();
            --chunkCount_;
        }
        last_[id] = c.chunks.empty() ? nullptr : c.chunks.back().get();
    }
}

void Tape::clear()
{
    for (Channel& c : channels_) {
        c.chunks.clear();
        c.before = 2;
    }
    std::fill(last_.begin(), last_.end(), nullptr);
    chunkCount_ = 0;
    knownFrom_ = {};
}

}  // namespace bramix::tape
