// Edges of several channels of a tape, one after the other.
#pragma once

#include <algorithm>
#include <vector>

#include "tape/tape.h"

namespace bramix::session {

using kernel::Time;

// Several channels in order of time. Of two edges in one instant a fall of the clock came first: data change while it is low; all others come before its rise.
class Merged {
public:
    // `clock` is the line that tells when the others count; SIZE_MAX: none.
    Merged(const tape::Tape& tape, const std::vector<tape::ChannelId>& channels, Time from, Time to, std::size_t clock = SIZE_MAX) : tape_(tape), clock_(clock)
    {
        for (const tape::ChannelId c : channels) {
            Line line{c};
            if (c != UINT32_MAX) {
                line.next = tape.after(c, from);
                line.end = tape.after(c, to);
            }
            lines_.push_back(line);
        }
    }
    // The next edge and its line; false where there is none.
    bool take(std::size_t& line, tape::Edge& edge)
    {
        std::size_t best = lines_.size();
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            Line& l = lines_[i];
            if (l.next >= l.end)
                continue;
            if (!l.known) {
                l.edge = tape_.edge(l.channel, l.next);
                l.known = true;
            }
            if (best == lines_.size() || l.edge.at < lines_[best].edge.at || (l.edge.at == lines_[best].edge.at && comesFirst(i, best)))
                best = i;
        }
        if (best == lines_.size())
            return false;
        line = best;
        edge = lines_[best].edge;
        ++lines_[best].next;
        lines_[best].known = false;
        return true;
    }
    [[nodiscard]] std::size_t left() const
    {
        std::size_t sum = 0;
        for (const Line& l : lines_)
            sum += l.end - l.next;
        return sum;
    }

private:
    struct Line {
        tape::ChannelId channel = UINT32_MAX;
        std::size_t next = 0, end = 0;
        bool known = false;
        tape::Edge edge{};
    };
    // Of two at one instant.
    [[nodiscard]] bool comesFirst(std::size_t a, std::size_t b) const
    {
        const auto falls = [this](std::size_t line) { return lines_[line].edge.state == 0; };
        return (a == clock_ && falls(a)) || (b == clock_ && !falls(b));
    }

    const tape::Tape& tape_;
    std::size_t clock_;
    std::vector<Line> lines_;
};

}  // namespace bramix::session
