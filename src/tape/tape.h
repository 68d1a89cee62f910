// The recording of edges: one channel a net, each edge with its time, the new state, and the code address that was executing.
//
// Edges lie in chunks of a fixed size; when all chunks together pass the bound, the chunk that ends earliest is forgotten, whatever
// its channel. Looking things up is by binary search, over chunks and then inside one, so that drawing costs a search a
// pixel column and not a visit an edge.
// Invariant: within a channel times never decrease, and chunks are full but for the last.
// Tested by tests/tape/tape_test.cpp. Timed by perf/tape_perf.cpp.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "kernel/time.h"

namespace bramix::tape {

using kernel::Duration;
using kernel::Time;

// Numbers as circuit::NetState: 0 low, 1 high, 2 floating, 3 between thresholds, 4 two outputs fighting.
using State = std::uint8_t;

struct Edge {
    Time at{};
    std::uint32_t code = UINT32_MAX;   // byte address, or UINT32_MAX where no code was at work
    std::uint16_t actor = UINT16_MAX;  // part of the bench by index
    State state = 2;
    std::uint8_t spare = 0;  // named, so that an edge is copied as two words
};
static_assert(sizeof(Edge) == 16);

using ChannelId = std::uint32_t;

// What one pixel column of a lane shows.
struct Column {
    State first = 2;        // state at the column's left edge
    State last = 2;         // and at its right
    std::uint32_t edges = 0;  // in between
};

class Tape {
public:
    static constexpr std::size_t kChunkEdges = 2048;

    explicit Tape(std::size_t boundBytes = 64U << 20U) : boundChunks_(std::max<std::size_t>(boundBytes / (kChunkEdges * sizeof(Edge)), 4)) {}

    // The channel of a name, made where there is none.
    ChannelId channel(const std::string& name);
    [[nodiscard]] const std::string& name(ChannelId id) const { return channels_[id].name; }
    [[nodiscard]] std::size_t channelCount() const { return channels_.size(); }
    // UINT32_MAX where there is none.
    [[nodiscard]] ChannelId find(const std::string& name) const;

    void record(ChannelId id, const Edge& edge)
    {
        Chunk* chunk = last_[id];
        if (chunk == nullptr || chunk->size == kChunkEdges) [[unlikely]]
            chunk = grow(id);
        chunk->edges[chunk->size++] = edge;
    }

    // Edges that are still remembered; the oldest has index 0.
    [[nodiscard]] std::size_t count(ChannelId id) const;
    [[nodiscard]] const Edge& edge(ChannelId id, std::size_t index) const { return channels_[id].chunks[index / kChunkEdges]->edges[index % kChunkEdges]; }
    // Index of the first edge after t; count() where there is none.
    [[nodiscard]] std::size_t after(ChannelId id, Time t) const;
    // What the channel showed at t; floating before anything is known.
    [[nodiscard]] State stateAt(ChannelId id, Time t) const;
    // The span from..to in `columns` equal parts.
    [[nodiscard]] std::vector<Column> columns(ChannelId id, Time from, Time to, std::size_t columns) const;

    // Before this, edges may have been forgotten.
    [[nodiscard]] Time knownFrom() const { return knownFrom_; }
    [[nodiscard]] std::size_t bytes() const { return chunkCount_ * kChunkEdges * sizeof(Edge); }

    void clear();
    // Forgets what came after t: time goes on from there anew.
    void dropAfter(Time t);

private:
    struct Chunk {
        std::size_t size = 0;
        union {
            std::array<Edge, kChunkEdges> edges;  // the first `size` of them; the rest is not worth clearing
        };

        Chunk() {}

        [[nodiscard]] const Edge& last() const { return edges[size - 1]; }
        [[nodiscard]] const Edge* begin() const { return edges.data(); }
        [[nodiscard]] const Edge* end() const { return edges.data() + size; }
    };
    struct Channel {
        std::string name;
        std::deque<std::unique_ptr<Chunk>> chunks;
        State before = 2;  // state at the beginning of the oldest chunk
    };

    Chunk* grow(ChannelId id);
    void forgetOldest();

    std::deque<Channel> channels_;
    std::unique_ptr<Chunk> spare_;  // one that was forgotten, to be filled anew
    std::vector<Chunk*> last_;  // the chunk that each channel writes to, or null
    std::map<std::string, ChannelId> byName_;
    std::size_t boundChunks_;
    std::size_t chunkCount_ = 0;
    Time knownFrom_{};
};

}  // namespace bramix::tape
