// A live control that turns by itself: along a curve or the numbers of a file, with noise and drift on top, so that firmware meets a day of weather
// and a sensor that is never still.
//
// Between the points of a curve lies a straight line; before the first and after the last it stands still, or with `repeat` it begins again. Without
// a curve the noise lies on whatever a hand has set. Noise is independent at each step, normally distributed (Box and Muller); drift is a random walk
// that has the given spread after a minute. What comes of it stays within the control's bounds.
// It belongs to the world's state: going back in time brings back the same noise.
// Tested by tests/bench/follow_test.cpp.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "kernel/event_queue.h"
#include "kernel/random.h"
#include "kernel/result.h"

namespace bramix::bench {

// As the bench file has it.
struct FollowItem {
    std::vector<std::pair<double, double>> curve;  // seconds, in order, and the value in the control's unit
    std::string csv;        // a file of such pairs, relative to the bench; in place of the curve
    bool repeat = false;
    double noise = 0;       // spread (rms), in the control's unit
    double drift = 0;       // spread after a minute, in the control's unit
    double every = 0.02;    // seconds between steps
    bool operator==(const FollowItem&) const = default;
    [[nodiscard]] bool empty() const { return curve.empty() && csv.empty() && noise == 0 && drift == 0; }
};

// Two columns: seconds and values, parted by comma, semicolon or tab; a first line of words is passed over. `name` stands in errors.
[[nodiscard]] kernel::Result<std::vector<std::pair<double, double>>> parseCurve(const std::string& name, std::string_view text);

// What a curve says at an instant, in seconds from power-up. The curve must not be empty.
[[nodiscard]] double curveAt(const std::vector<std::pair<double, double>>& curve, bool repeat, double t);

class Follower {
public:
    // `put` is called at each step with the value; the first time at power-up. `item.curve` must hold the file's points already.
    Follower(kernel::EventQueue& queue, FollowItem item, double least, double most, double base, kernel::Random random, std::function<void(double)> put);

    // A hand has set the control: noise lies on this from now on.
    void setBase(double value) { base_ = value; }
    // Goes on at the present, in a world that began earlier.
    void startAt(kernel::Time now) { alarm_.arm(now); }
    [[nodiscard]] const FollowItem& item() const { return item_; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(alarm_, random_, base_, walk_);
    }

private:
    void step(kernel::Time at);
    [[nodiscard]] double normal();

    FollowItem item_;
    double least_, most_;
    double base_;
    double walk_ = 0;
    kernel::Random random_;
    std::function<void(double)> put_;
    kernel::Alarm alarm_;
};

}  // namespace bramix::bench
