#include <algorithm>
#include <cmath>

#include "circuit/transient.h"

namespace bramix::circuit {

namespace {

const double kGamma = 2 - std::sqrt(2.0);
const double kError = (-3 * kGamma * kGamma + 4 * kGamma - 2) / (12 * (2 - kGamma));

constexpr double kRelative = 2e-6;
constexpr double kAbsoluteVolts = 5e-6;
constexpr double kAbsoluteAmps = 1e-8;
constexpr double kSmallest = 1e-12;    // seconds: the resolution of simulated time
constexpr double kGreatest = 1e4;
constexpr double kStill = 1e-8;
constexpr std::uint32_t kQuietSteps = 3;
// A circuit that is followed in steps of less than kTiny for so long would hold everybody up for ever. From then on it goes forward by kTiny at least, as well as it
// can, which is told as a circuit that has no solution.
constexpr double kTiny = 2e-10;
constexpr std::uint32_t kMostTiny = 200'000;

}  // namespace

void SteppingTransient::begin(const Network& network, Time t, std::vector<double> x, const Eigen::VectorXd& guess)
{
    begin_ = t;
    quiet_ = 0;
    linear_ = network.linear();
    factored_.d = -1;
    volts_[0] = guess;
    converged_ = network.solve(volts_[0], x, 0, t);
    states_[0] = std::move(x);
    slopes_[0].resize(states_[0].size());
    try_ = kGreatest;
    for (std::size_t i = 0; i < states_[0].size(); ++i) {
        slopes_[0][i] = network.slope(i, volts_[0], states_[0][i]);
        // So far that it moves by a hundredth; the error decides from there.
        const double scale = std::fabs(states_[0][i]) + (network.reactances[i].inductor ? 1e-3 : 0.5);
        try_ = std::min(try_, 0.01 * scale / std::max(std::fabs(slopes_[0][i]), 1e-12));
    }
    step(network);
}

void SteppingTransient::goOn(const Network& network)
{
    begin_ = end_;
    states_[0] = states_[2];
    slopes_[0] = slopes_[2];
    volts_[0] = volts_[2];
    try_ = tryNext_;
    quiet_ = quietNext_;
    step(network);
}

void SteppingTransient::rest()
{
    span_ = 0;
    end_ = kernel::kNever;
}

void SteppingTransient::step(const Network& network)
{
    const std::size_t n = states_[0].size();
    double most = kGreatest;
    for (const Network::Source& s : network.sources)
        if (s.wave != nullptr) {
            most = std::min(most, kernel::seconds(s.wave->step()));
            if (const Time corner = s.wave->nextCorner(begin_); corner != kernel::kNever)
                most = std::min(most, kernel::seconds(corner - begin_));
        }
    const bool varies = network.varies();
    if (!varies && quiet_ >= kQuietSteps)
        return rest();
    if (!varies && n == 0)
        return rest();
    const bool hurries = tiny_ > kMostTiny;
    double h = std::max(std::min(try_, most), hurries ? kTiny : 0);
    std::vector<double> from(n);
    for (;;) {
        h = std::max(std::round(h * 1e12), 1.0) * 1e-12;
        const Time middle = begin_ + kernel::Duration(static_cast<std::int64_t>(kGamma * h * 1e12));
        const Time end = begin_ + kernel::Duration(static_cast<std::int64_t>(std::round(h * 1e12)));
        const double d = kGamma * h / 2;
        double worst = 0;
        bool good = true;
        // Stage 1: trapezoidal to γh. Stage 2: BDF2 through both.
        for (std::size_t stage = 1; stage <= 2 && good; ++stage) {
            for (std::size_t i = 0; i < n; ++i)
                from[i] = stage == 1 ? states_[0][i] + d * slopes_[0][i]
                                     : (states_[1][i] - (1 - kGamma) * (1 - kGamma) * states_[0][i]) / (kGamma * (2 - kGamma));
            volts_[stage] = volts_[stage - 1];
            const Time at = stage == 1 ? middle : end;
            good = linear_ ? network.solveLinear(volts_[stage], from, d, at, factored_) : network.solve(volts_[stage], from, d, at);
            states_[stage].resize(n);
            slopes_[stage].resize(n);
            for (std::size_t i = 0; i < n && good; ++i) {
                states_[stage][i] = network.after(i, volts_[stage], from[i], d);
                slopes_[stage][i] = (states_[stage][i] - from[i]) / d;
            }
        }
        if (good)
            for (std::size_t i = 0; i < n; ++i) {
                const double error = 2 * kError * h * (slopes_[0][i] / kGamma - slopes_[1][i] / (kGamma * (1 - kGamma)) + slopes_[2][i] / (1 - kGamma));
                const double allowed = kRelative * std::max(std::fabs(states_[0][i]), std::fabs(states_[2][i])) + (network.reactances[i].inductor ? kAbsoluteAmps : kAbsoluteVolts);
                worst = std::max(worst, std::fabs(error) / allowed);
            }
        if ((!good || worst > 1) && h > (hurries ? 1.5 * kTiny : 1.5 * kSmallest)) {
            h *= good ? std::clamp(0.9 * std::pow(worst, -1.0 / 3), 0.1, 0.9) : 0.125;
            continue;
        }
        converged_ = good && !(hurries && worst > 1);
        tiny_ = h < 1.5 * kTiny ? tiny_ + 1 : 0;
        if (!good)
            return rest();
        span_ = kernel::seconds(end - begin_);
        end_ = end;
        double moved = (volts_[2] - volts_[0]).cwiseAbs().maxCoeff();
        for (std::size_t i = 0; i < n; ++i)
            moved = std::max(moved, std::fabs(states_[2][i] - states_[0][i]) / (1 + std::fabs(states_[0][i])));
        quietNext_ = moved < kStill ? quiet_ + 1 : 0;
        tryNext_ = std::min(h * std::clamp(0.9 * std::pow(std::max(worst, 1e-9), -1.0 / 3), 0.2, 5.0), kGreatest);
        return;
    }
}

double SteppingTransient::part(Time t) const { return span_ > 0 ? std::clamp(kernel::seconds(t - begin_) / span_, 0.0, 1.0) : 0; }

namespace {

// Lagrange's parabola through 0, γ and 1.
template <class Get>
double between(double u, Get&& get)
{
    if (u <= 0)
        return get(0);
    if (u >= 1)
        return get(2);
    return get(0) * (u - kGamma) * (u - 1) / kGamma + get(1) * u * (u - 1) / (kGamma * (kGamma - 1)) + get(2) * u * (u - kGamma) / (1 - kGamma);
}

}  // namespace

double SteppingTransient::volts(Network::Node node, Time t) const
{
    return between(part(t), [&](std::size_t i) { return volts_[i][node]; });
}

void SteppingTransient::statesInto(std::vector<double>& x, Time t) const
{
    const double u = part(t);
    x.resize(states_[0].size());
    for (std::size_t k = 0; k < x.size(); ++k)
        x[k] = between(u, [&](std::size_t i) { return states_[i][k]; });
}

// The slope of a parabola is greatest at one of its ends.
Reach SteppingTransient::reach(Network::Node node, Time t) const
{
    if (span_ == 0)
        return {};
    const double u = part(t);
    const double y0 = volts_[0][node], y1 = volts_[1][node], y2 = volts_[2][node];
    const double c2 = y0 / kGamma + y1 / (kGamma * (kGamma - 1)) + y2 / (1 - kGamma);
    const double c1 = -y0 * (1 + kGamma) / kGamma - y1 / (kGamma * (kGamma - 1)) - y2 * kGamma / (1 - kGamma);
    const double most = std::max(std::fabs(c1 + 2 * c2 * u), std::fabs(c1 + 2 * c2)) / span_;
    return {most, most * span_ * (1 - u)};
}

double SteppingTransient::slope(std::size_t reactance, Time t) const
{
    return span_ > 0 ? between(part(t), [&](std::size_t i) { return slopes_[i][reactance]; }) : 0;
}

Time SteppingTransient::passes(const Passing& p, Time from) const
{
    constexpr double kNear = 1e-9;
    if (span_ == 0 || from >= end_)
        return kernel::kNever;
    const auto at = [&](double u) {
        return between(u, [&](std::size_t i) { return volts_[i][p.plus] - (p.minus == Passing::kGround ? 0 : volts_[i][p.minus]); }) - p.target;
    };
    // Looked for between the turning points of the parabola, where it is monotonic.
    const double start = part(from);
    const double y0 = at(0), y1 = at(kGamma), y2 = at(1);
    const double c2 = y0 / kGamma + y1 / (kGamma * (kGamma - 1)) + y2 / (1 - kGamma);
    const double c1 = -y0 * (1 + kGamma) / kGamma - y1 / (kGamma * (kGamma - 1)) - y2 * kGamma / (1 - kGamma);
    const double turn = c2 != 0 ? -c1 / (2 * c2) : -1;
    double low = start;
    for (const double high : {turn > start && turn < 1 ? turn : 1.0, 1.0}) {
        const double before = at(low), after = at(high);
        if (std::fabs(before) >= kNear && (before > 0) != (after > 0) && std::fabs(after) >= kNear / 2) {
            double a = low, b = high;
            for (int i = 0; i < 60; ++i) {
                const double mid = (a + b) / 2;
                (((at(mid) > 0) == (before > 0)) ? a : b) = mid;
            }
            const Time t = begin_ + kernel::Duration(static_cast<std::int64_t>(std::ceil(b * span_ * 1e12)));
            return std::clamp(t, from + kernel::Duration(1), end_);
        }
        low = high;
        if (low >= 1)
            break;
    }
    return kernel::kNever;
}

}  // namespace bramix::circuit
