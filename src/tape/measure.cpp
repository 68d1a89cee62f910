#include "tape/measure.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace bramix::tape {

namespace {

constexpr std::size_t kBins = 24;

Spread spreadOf(const std::vector<double>& lengths)
{
    Spread s;
    s.count = lengths.size();
    if (lengths.empty())
        return s;
    s.least = *std::min_element(lengths.begin(), lengths.end());
    s.most = *std::max_element(lengths.begin(), lengths.end());
    for (const double l : lengths)
        s.mean += l / static_cast<double>(lengths.size());
    double squares = 0;
    for (const double l : lengths)
        squares += (l - s.mean) * (l - s.mean);
    s.deviation = std::sqrt(squares / static_cast<double>(lengths.size()));
    return s;
}

// Whole multiples of the shortest pulse, each within a quarter of a bit; the bit's length is then taken over all of them.
std::optional<double> baudOf(const std::vector<double>& high, const std::vector<double>& low)
{
    constexpr std::size_t kEnough = 6;
    constexpr double kWithin = 0.25;
    constexpr double kLongestRun = 11;  // bits: more is a pause
    std::vector<double> all = high;
    all.insert(all.end(), low.begin(), low.end());
    if (all.size() < kEnough)
        return std::nullopt;
    const double shortest = *std::min_element(all.begin(), all.end());
    if (shortest <= 0)
        return std::nullopt;
    double bits = 0, seconds = 0;
    bool varied = false;
    for (const double l : all) {
        const double n = std::round(l / shortest);
        if (n > kLongestRun)
            continue;
        if (std::fabs(l / shortest - n) > kWithin)
            return std::nullopt;
        varied = varied || n > 1;
        bits += n;
        seconds += l;
    }
    // A clock or a pulse width has whole multiples too; a serial line goes at a rate that is in use.
    static constexpr std::array kUsual{300.0, 600.0, 1200.0, 2400.0, 4800.0, 9600.0, 14400.0, 19200.0, 28800.0, 31250.0, 38400.0, 57600.0, 76800.0, 115200.0, 230400.0, 250000.0, 460800.0, 500000.0, 921600.0, 1e6, 2e6};
    constexpr double kNear = 0.03;
    if (!varied || seconds <= 0 || std::none_of(kUsual.begin(), kUsual.end(), [&](double b) { return std::fabs(bits / seconds / b - 1) < kNear; }))
        return std::nullopt;
    return bits / seconds;
}

}  // namespace

PulseMeasures measurePulses(const Tape& tape, ChannelId id, Time from, Time to, std::size_t most)
{
    PulseMeasures out;
    const std::size_t first = tape.after(id, from - Duration(1));
    std::size_t end = tape.after(id, to);
    if (end - first > most) {
        end = first + most;
        out.cut = true;
    }
    std::vector<double> high, low, periods;
    std::optional<Edge> before;
    std::optional<Time> rose;
    double highOfPeriod = 0, highSum = 0;
    for (std::size_t i = first; i < end; ++i) {
        const Edge e = tape.edge(id, i);
        const double length = before ? kernel::seconds(e.at - before->at) : 0;
        if (before && before->state == 1) {
            high.push_back(length);
            highOfPeriod += length;
        } else if (before && before->state == 0) {
            low.push_back(length);
        }
        out.rises += e.state == 1 ? 1U : 0U;
        out.falls += e.state == 0 ? 1U : 0U;
        if (e.state == 1) {
            if (rose) {
                periods.push_back(kernel::seconds(e.at - *rose));
                highSum += highOfPeriod;
            }
            rose = e.at;
            highOfPeriod = 0;
        }
        before = e;
    }
    out.high = spreadOf(high);
    out.low = spreadOf(low);
    out.period = spreadOf(periods);
    if (out.period.mean <= 0) {
        // Edges at one instant are no period.
        periods.clear();
        out.period = {};
    }
    if (!periods.empty())
        out.duty = highSum / (out.period.mean * static_cast<double>(periods.size()));
    out.baud = baudOf(high, low);
    if (periods.size() > 1) {
        out.histogram.assign(kBins, 0);
        const double width = out.period.most - out.period.least;
        for (const double p : periods)
            ++out.histogram[width <= 0 ? 0 : std::min(kBins - 1, static_cast<std::size_t>((p - out.period.least) / width * kBins))];
    }
    return out;
}

}  // namespace bramix::tape
