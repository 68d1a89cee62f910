// Edges of several channels of a tape, one after the other, and a decoder that hears them.
#pragma once

#include <memory>
#include <span>
#include <vector>

#include "tape/decode.h"
#include "tape/tape.h"

namespace bramix::session {

using kernel::Time;

// Several channels in order of time. Of two edges in one instant a fall of the clock came first: data change while it is low; all others come before its rise.
// The tape must stay as it is meanwhile.
class Merged {
public:
    // What lies from an index of each line on.
    Merged(const tape::Tape& tape, const std::vector<tape::ChannelId>& channels, std::span<const std::size_t> from, Time to, std::size_t clock) : tape_(tape), clock_(clock), lines_(channels.size())
    {
        for (std::size_t i = 0; i < channels.size(); ++i)
            if (channels[i] != UINT32_MAX)
                open(lines_[i], channels[i], from[i], to);
    }
    // What lies after `from`, up to and at `to`. `clock` is the line that tells when the others count; SIZE_MAX: none.
    Merged(const tape::Tape& tape, const std::vector<tape::ChannelId>& channels, Time from, Time to, std::size_t clock = SIZE_MAX) : tape_(tape), clock_(clock), lines_(channels.size())
    {
        for (std::size_t i = 0; i < channels.size(); ++i)
            if (channels[i] != UINT32_MAX)
                open(lines_[i], channels[i], tape.after(channels[i], from), to);
    }
    // The next edge and its line; false where there is none.
    [[gnu::always_inline]] bool take(std::size_t& line, tape::Edge& edge)
    {
        const std::size_t best = lines_.size() == 2 ? firstOfTwo() : first();
        Line& l = lines_[best];
        if (l.at == kernel::kNever)
            return false;
        line = best;
        edge = *l.read;
        if (++l.read != l.have)
            l.at = l.read->at;
        else
            fill(l);
        return true;
    }
    [[nodiscard]] std::size_t left() const
    {
        std::size_t sum = 0;
        for (const Line& l : lines_)
            sum += l.end - l.next + static_cast<std::size_t>(l.have - l.read);
        return sum;
    }

private:
    struct Line {
        tape::ChannelId channel = UINT32_MAX;
        std::size_t next = 0, end = 0;  // to be fetched
        const tape::Edge* read = nullptr;  // the next of a block, up to `have`
        const tape::Edge* have = nullptr;
        Time at = kernel::kNever;          // of the edge that is next
        std::unique_ptr<tape::Edge[]> edges;  // room for a block
    };
    // As most decoders have.
    [[nodiscard]] std::size_t firstOfTwo() const
    {
        const Time a = lines_[0].at, b = lines_[1].at;
        return a != b ? (b < a ? 1 : 0) : a != kernel::kNever && comesFirst(1, 0) ? 1 : 0;
    }
    [[nodiscard]] std::size_t first() const
    {
        std::size_t best = 0;
        Time at = kernel::kNever;
        for (std::size_t i = 0; i < lines_.size(); ++i)
            if (const Time t = lines_[i].at; t < at || (t == at && at != kernel::kNever && comesFirst(i, best))) {
                best = i;
                at = t;
            }
        return best;
    }
    void open(Line& l, tape::ChannelId channel, std::size_t from, Time to)
    {
        l.channel = channel;
        l.next = from;
        // As a rule all that there is.
        const std::size_t count = tape_.count(channel);
        l.end = from == count || tape_.edge(channel, count - 1).at <= to ? count : tape_.after(channel, to);
        fill(l);
    }
    void fill(Line& l)
    {
        if (l.next < l.end && l.edges == nullptr)
            l.edges = std::make_unique_for_overwrite<tape::Edge[]>(tape::PackedEdges::kBlock);
        const std::size_t have = l.next < l.end ? std::min(tape_.copy(l.channel, l.next, std::span<tape::Edge, tape::PackedEdges::kBlock>(l.edges.get(), tape::PackedEdges::kBlock)), l.end - l.next) : 0;
        l.next += have;
        l.read = l.edges.get();
        l.have = l.read + have;
        l.at = have > 0 ? l.read->at : kernel::kNever;
    }
    // Of two at one instant.
    [[nodiscard]] bool comesFirst(std::size_t a, std::size_t b) const
    {
        const auto falls = [this](std::size_t line) { return lines_[line].read->state == 0; };
        return (a == clock_ && falls(a)) || (b == clock_ && !falls(b));
    }

    const tape::Tape& tape_;
    std::size_t clock_;
    std::vector<Line> lines_;
};

// The decoder's lines stand as the channels do at an instant; UINT32_MAX: a role without a line.
inline void standAt(tape::Decoder& decoder, const tape::Tape& tape, const std::vector<tape::ChannelId>& channels, Time at)
{
    for (std::size_t role = 0; role < channels.size(); ++role)
        if (channels[role] != UINT32_MAX)
            if (const tape::State state = tape.stateAt(channels[role], at); state <= 1)
                decoder.edge(role, state == 1, at);
}

// One more edge; a line that nobody drives reads as it read last.
inline void hear(tape::Decoder& decoder, std::size_t role, const tape::Edge& edge)
{
    if (edge.state <= 1)
        decoder.edge(role, edge.state == 1, edge.at);
}

}  // namespace bramix::session
