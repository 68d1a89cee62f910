// The recording of a voltage: points joined by straight lines, close enough together that no line is further from the voltage than a bound.
//
// Beyond a bound the oldest points are forgotten, or, where a waveform is to reach over all of a long time, thinned: of several lines within a grain of time their least and their most
// stay, and what they come to. Everything that is measured is worked out from the lines exactly: means and root mean squares are integrals, not sums of samples; what cannot be told from
// what thinning has left (periods, rises) is absent there.
// Invariant: times never decrease; two points of one time are a jump.
// Tested by tests/tape/waveform_test.cpp.
#pragma once

#include <cstdint>
#include <deque>
#include <functional>
#include <optional>
#include <vector>

#include "kernel/time.h"

namespace bramix::tape {

using kernel::Duration;
using kernel::Time;

// What one pixel column of a waveform shows: where it begins, where it ends, and how far it went in between.
struct WaveColumn {
    bool known = false;
    double first = 0, last = 0, least = 0, most = 0;
};

// Measured over a span. What cannot be measured there is absent.
struct WaveMeasures {
    double least = 0, most = 0, mean = 0, rms = 0;
    std::optional<double> period;  // seconds, mean of the whole periods in the span
    std::optional<double> duty;    // 0 to 1
    std::optional<double> rise;    // seconds from 10 to 90 per cent of the swing, of the first full rise
};

class Waveform {
public:
    static constexpr std::size_t kMostPoints = 1U << 20U;
    static constexpr double kErrorVolts = 1e-3;

    Waveform() = default;
    // Keeps all of the time in so many points, at least 64.
    static Waveform thinned(std::size_t mostPoints)
    {
        Waveform w;
        w.most_ = mostPoints;
        w.thins_ = true;
        return w;
    }
    // From there on every line is as it came.
    [[nodiscard]] Time exactFrom() const { return exactFrom_; }

    // The voltage ran as `volts` says from `from` to `to`; a constant piece has the one value.
    void add(Time from, Time to, const std::function<double(Time)>& volts, bool constant);
    void clear()
    {
        points_.clear();
        sums_.clear();
        exactFrom_ = {};
        grain_ = {};
    }
    // Forgets what came after t.
    void dropAfter(Time t)
    {
        while (!points_.empty() && points_.back().at > t)
            points_.pop_back();
        if (sums_.size() > points_.size())
            sums_.resize(points_.size());
    }

    // Both ways, for a recording in a file.
    template <class Archive>
    void state(Archive& ar)
    {
        ar(points_);
    }

    [[nodiscard]] bool empty() const { return points_.empty(); }
    [[nodiscard]] Time knownFrom() const { return points_.empty() ? Time{} : points_.front().at; }
    [[nodiscard]] Time knownTo() const { return points_.empty() ? Time{} : points_.back().at; }
    [[nodiscard]] std::size_t size() const { return points_.size(); }
    // At an instant; absent outside what is known. At a jump, after it.
    [[nodiscard]] std::optional<double> at(Time t) const;
    [[nodiscard]] std::vector<WaveColumn> columns(Time from, Time to, std::size_t count) const;
    [[nodiscard]] std::optional<WaveMeasures> measure(Time from, Time to) const;
    // The last instant in from..to at which it passes `level` upwards (or downwards).
    [[nodiscard]] std::optional<Time> lastPassing(double level, bool rising, Time from, Time to) const;
    // The first one.
    [[nodiscard]] std::optional<Time> firstPassing(double level, bool rising, Time from, Time to) const;

private:
    // Where it passes `level` between a point and the one before, if it does.
    [[nodiscard]] std::optional<Time> passingAt(std::size_t point, double level, bool rising) const;

    struct Point {
        Time at{};
        double volts = 0;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(at, volts);
        }
    };

    // Integrals of the voltage and of its square from the first point to another.
    struct Sum {
        double volts = 0, squares = 0;
    };

    void put(Time at, double volts);
    void sumUp();
    void thin();
    [[nodiscard]] Sum sumAt(Time t) const;
    void split(Time from, double a, Time to, double b, const std::function<double(Time)>& volts, int depth);
    [[nodiscard]] std::size_t after(Time t) const;  // index of the first point later than t
    // Calls with each line inside from..to, cut off at both.
    template <class Each>
    void lines(Time from, Time to, Each&& each) const;

    std::deque<Point> points_;
    std::deque<Sum> sums_;  // by point; empty where nothing has been thinned
    std::size_t most_ = kMostPoints;
    bool thins_ = false;
    Duration grain_{};  // zero: nothing has been thinned
    Time exactFrom_{};
};

}  // namespace bramix::tape
