// The recording of edges: one channel a net, each edge with its time, the new state, and the code address that was executing.
//
// A channel writes into a plain chunk; a full one is packed (packed_edges.h), and when all together pass the bound, the packed chunk that ends earliest is forgotten,
// whatever its channel. Looking things up is by binary search, over chunks and then inside one, so that drawing costs a search a pixel column and not a visit an edge,
// at any zoom.
// Invariant: within a channel times never decrease; all of its chunks but the open one hold kChunkEdges.
// Tested by tests/tape/tape_test.cpp. Timed by perf/bramix_perf.cpp.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <stdexcept>
#include <string>
#include <vector>

#include "tape/packed_edges.h"

namespace bramix::tape {

using ChannelId = std::uint32_t;

// What one pixel column of a lane shows.
struct Column {
    State first = 2;        // state at the column's left edge
    State last = 2;         // and at its right
    std::uint32_t edges = 0;  // in between
};

class Tape {
public:
    static constexpr std::size_t kChunkEdges = PackedEdges::kEdges;

    // Forgets the oldest when more than `boundBytes` are in use; a chunk for each channel that has ever had an edge is always kept.
    explicit Tape(std::size_t boundBytes = 64U << 20U) : bound_(boundBytes) {}

    // The channel of a name, made where there is none.
    ChannelId channel(const std::string& name);
    [[nodiscard]] const std::string& name(ChannelId id) const { return channels_[id].name; }
    [[nodiscard]] std::size_t channelCount() const { return channels_.size(); }
    // UINT32_MAX where there is none.
    [[nodiscard]] ChannelId find(const std::string& name) const;

    void record(ChannelId id, const Edge& edge)
    {
        Cursor& at = open_[id];
        if (at.next == at.end) [[unlikely]]
            return recordFirst(id, edge);
        *at.next++ = edge;
    }

    // Where edges are written, by channel, for who does that without a call: until a channel is added or the tape cleared or replaced.
    [[nodiscard]] kernel::EdgeCursor* cursors() { return open_.data(); }

    // Edges that are still remembered; the oldest has index 0.
    [[nodiscard]] std::size_t count(ChannelId id) const;
    // One that is near the last that was asked for of this channel costs next to nothing.
    [[nodiscard]] Edge edge(ChannelId id, std::size_t index) const;
    // The edges from an index on as far as they lie in one piece; how many, none where there are no more. For who goes through very many.
    std::size_t copy(ChannelId id, std::size_t index, std::span<Edge, PackedEdges::kBlock> out) const;
    // Index of the first edge after t; count() where there is none.
    [[nodiscard]] std::size_t after(ChannelId id, Time t) const;
    // Another number: indices of edges may have become others. What is only added leaves them as they are.
    [[nodiscard]] std::uint64_t generation() const { return generation_; }
    // What the channel showed at t; floating before anything is known.
    [[nodiscard]] State stateAt(ChannelId id, Time t) const;
    // The span from..to in `columns` equal parts.
    [[nodiscard]] std::vector<Column> columns(ChannelId id, Time from, Time to, std::size_t columns) const;

    // The end of the first low (`level` 0) or high (1) that is shorter than `least` or longer than `most` and ends after `from`: the index of the edge that ends
    // it, or count(). Chunks in which there is none are passed over.
    [[nodiscard]] std::size_t findPulse(ChannelId id, Time from, State level, Duration least, Duration most) const;
    // The same, the last one that begins before an instant.
    [[nodiscard]] std::size_t findPulseBefore(ChannelId id, Time before, State level, Duration least, Duration most) const;

    // The first edge from an index on of which `which(code, actor, state)` says yes; count() where there is none. Chunks without one are passed over.
    template <class Which>
    [[nodiscard]] std::size_t nextWhere(ChannelId id, std::size_t index, Which&& which) const
    {
        const Channel& c = channels_[id];
        const std::size_t total = count(id);
        while (index < total) {
            if (index % kChunkEdges == 0 && index / kChunkEdges < c.packed.size() && !c.packed[index / kChunkEdges].anyEdge(which)) {
                index += kChunkEdges;
                continue;
            }
            if (const Edge e = edge(id, index); which(e.code, e.actor, e.state))
                return index;
            ++index;
        }
        return total;
    }
    // The same, the last before an index.
    template <class Which>
    [[nodiscard]] std::size_t lastWhere(ChannelId id, std::size_t index, Which&& which) const
    {
        const Channel& c = channels_[id];
        while (index > 0) {
            if (index % kChunkEdges == 0 && index / kChunkEdges <= c.packed.size() && !c.packed[index / kChunkEdges - 1].anyEdge(which)) {
                index -= kChunkEdges;
                continue;
            }
            if (const Edge e = edge(id, index - 1); which(e.code, e.actor, e.state))
                return index - 1;
            --index;
        }
        return count(id);
    }

    // Another bound; what is too much is forgotten at once.
    void setBound(std::size_t bytes);
    // Before this, edges may have been forgotten.
    [[nodiscard]] Time knownFrom() const { return knownFrom_; }
    [[nodiscard]] std::size_t bytes() const { return bytes_; }

    void clear();
    // Everything that another one holds; the bound stays.
    void takeFrom(Tape&& other);
    // Both ways, for a recording in a file.
    template <class Archive>
    void state(Archive& ar)
    {
        std::uint64_t count = channels_.size();
        ar(count, knownFrom_);
        for (std::uint64_t i = 0; i < count; ++i) {
            std::string name = Archive::kLoading ? std::string() : channels_[i].name;
            ar(name);
            Channel& c = channels_[channel(name)];
            std::uint64_t open = openEdges(channel(name)).size();
            ar(c.packed, c.before, c.beforeAt, open);
            if (open > kChunkEdges)
                throw std::out_of_range("more edges than a chunk holds");
            if constexpr (Archive::kLoading) {
                for (const PackedEdges& k : c.packed)
                    bytes_ += k.bytes();
                if (open > 0) {
                    c.open = std::make_unique<Chunk>();
                    bytes_ += sizeof(Chunk);
                }
                writeFrom(channel(name), open);
            }
            for (std::uint64_t e = 0; e < open; ++e) {
                Edge& edge = c.open->edges[e];
                ar(edge.at, edge.code, edge.actor, edge.state);
            }
        }
    }
    // Forgets what came after t: time goes on from there anew.
    void dropAfter(Time t);

private:
    union Chunk {
        std::array<Edge, kChunkEdges> edges;  // those up to its channel's cursor; the rest is not worth clearing

        Chunk() {}
    };
    using Cursor = kernel::EdgeCursor;
    struct Channel {
        std::string name;
        std::deque<PackedEdges> packed;
        std::unique_ptr<Chunk> open;  // what comes after them
        State before = 2;             // state before the oldest edge, and when that was
        Time beforeAt{};
    };
    // A block of a packed chunk, unpacked. Which one: by the number of its chunk since the channel began.
    struct Unpacked {
        ChannelId channel = UINT32_MAX;
        std::size_t block = 0;
        std::uint64_t generation = 0;
        std::array<Edge, PackedEdges::kBlock> edges;
    };

    void recordFirst(ChannelId id, Edge edge);
    void grow(ChannelId id);
    // The channel's open chunk has so many edges.
    void writeFrom(ChannelId id, std::size_t size)
    {
        Chunk* const chunk = channels_[id].open.get();
        open_[id] = chunk == nullptr ? Cursor{} : Cursor{chunk->edges.data() + size, chunk->edges.data() + kChunkEdges};
    }
    [[nodiscard]] std::span<const Edge> openEdges(ChannelId id) const
    {
        const Chunk* const chunk = channels_[id].open.get();
        return chunk == nullptr ? std::span<const Edge>() : std::span<const Edge>(chunk->edges.data(), open_[id].next);
    }
    void forgetOldest();
    void keepBound();
    void reopen(ChannelId id);
    [[nodiscard]] const std::array<Edge, PackedEdges::kBlock>& unpacked(ChannelId id, std::size_t block) const;

    std::deque<Channel> channels_;
    std::vector<Cursor> open_;  // by channel; all of them lie together: they are what each edge looks at
    std::map<std::string, ChannelId> byName_;
    std::size_t bound_;
    std::size_t bytes_ = 0;
    Time knownFrom_{};
    std::uint64_t generation_ = 1;  // another number: blocks have other indices or contents
    static constexpr std::size_t kUnpacked = 16;
    mutable std::vector<Unpacked> unpacked_ = std::vector<Unpacked>(kUnpacked);
};

}  // namespace bramix::tape
