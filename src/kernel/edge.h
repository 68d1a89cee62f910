// A change of a line's state as recordings hold it, and the place where the next one goes.
//
// The idea: most edges are of no interest to anybody but the recording. Whoever makes them writes them straight into its memory, as long as its owner has lent it
// out, in place of a chain of calls.
#pragma once

#include <cstdint>

#include "kernel/time.h"

namespace bramix::kernel {

struct Edge {
    Time at{};
    std::uint32_t code = UINT32_MAX;   // byte address, or UINT32_MAX where no code was at work
    std::uint16_t actor = UINT16_MAX;  // part of the bench by index
    std::uint8_t state = 2;            // numbers as circuit::NetState: 0 low, 1 high, 2 floating, 3 between thresholds, 4 two outputs fighting
    std::uint8_t spare = 0;            // named, so that an edge is copied as two words

    bool operator==(const Edge& o) const { return at == o.at && code == o.code && actor == o.actor && state == o.state; }
};
static_assert(sizeof(Edge) == 16);

// Where a channel's next edge goes; both null, or both the end: it needs room first, which only its owner can make.
struct EdgeCursor {
    Edge* next = nullptr;
    Edge* end = nullptr;
};

}  // namespace bramix::kernel
