// What the edges of one lane between two instants come to: frequency, duty, pulse widths, jitter, and the baud rate that they look like.
// Tested by tests/tape/packed_edges_test.cpp against arithmetic.
#pragma once

#include <optional>
#include <vector>

#include "tape/tape.h"

namespace bramix::tape {

// Lengths in seconds.
struct Spread {
    std::size_t count = 0;
    double least = 0, most = 0, mean = 0, deviation = 0;  // standard deviation of all of them
};

struct PulseMeasures {
    std::size_t rises = 0, falls = 0;
    Spread high, low;      // whole pulses inside the span
    Spread period;         // from rise to rise
    std::optional<double> duty;  // of whole periods
    // The bit rate of which all pulses are whole bits, where there is one near a usual rate.
    std::optional<double> baud;
    // How the periods are spread: counts in equal steps from the shortest to the longest. Empty with fewer than two periods.
    std::vector<std::uint32_t> histogram;
    bool cut = false;      // there were more edges than are looked at
};

// At most `most` edges are looked at, from `from` on.
[[nodiscard]] PulseMeasures measurePulses(const Tape& tape, ChannelId id, Time from, Time to, std::size_t most = 1'000'000);

}  // namespace bramix::tape
