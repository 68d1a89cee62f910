#include "tape/waveform.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace bramix::tape {

using kernel::seconds;

void Waveform::put(Time at, double volts)
{
    if (points_.size() >= 2) {
        // A third point on the line through the last two takes the place of the second.
        const Point& a = points_[points_.size() - 2];
        Point& b = points_.back();
        const double span = seconds(at - a.at);
        if (span > 0 && b.at > a.at && std::fabs(a.volts + (volts - a.volts) * seconds(b.at - a.at) / span - b.volts) < kErrorVolts * 1e-3) {
            b = {at, volts};
            if (!sums_.empty()) {
                sums_.pop_back();
                sumUp();
            }
            return;
        }
    }
    points_.push_back({at, volts});
    if (!sums_.empty())
        sumUp();
    if (points_.size() <= most_)
        return;
    if (thins_)
        thin();
    else
        points_.pop_front();
}

// The sums go on to the last point.
void Waveform::sumUp()
{
    if (sums_.empty())
        sums_.emplace_back();
    while (sums_.size() < points_.size()) {
        const Point &a = points_[sums_.size() - 1], &b = points_[sums_.size()];
        const double dt = seconds(b.at - a.at);
        sums_.push_back({sums_.back().volts + dt * (a.volts + b.volts) / 2, sums_.back().squares + dt * (a.volts * a.volts + a.volts * b.volts + b.volts * b.volts) / 3});
    }
}

// Of the points within a grain of time the first, the least and the most are kept, all over: as fine at the beginning as at the end.
void Waveform::thin()
{
    if (sums_.empty())
        sumUp();
    const Time first = points_.front().at;
    if (grain_ == Duration::zero())
        grain_ = std::max((points_.back().at - first) / static_cast<std::int64_t>(points_.size()), Duration(1));
    // What has come since is as fine as it came: it may be enough to make that alike.
    for (;; grain_ *= 2) {
        std::size_t kept = 0;
        for (std::size_t i = 0; i < points_.size();) {
            const std::int64_t grain = (points_[i].at - first) / grain_;
            std::size_t least = i, most = i, next = i + 1;
            for (; next < points_.size() && (points_[next].at - first) / grain_ == grain; ++next) {
                least = points_[next].volts < points_[least].volts ? next : least;
                most = points_[next].volts > points_[most].volts ? next : most;
            }
            // The last, too, where a long line begins.
            const bool last = next == points_.size() || (points_[next].at - first) / grain_ > grain + 1;
            std::size_t before = SIZE_MAX;
            for (const std::size_t k : {i, std::min(least, most), std::max(least, most), last ? next - 1 : SIZE_MAX})
                if (k != SIZE_MAX && k != std::exchange(before, k)) {
                    points_[kept] = points_[k];
                    sums_[kept++] = sums_[k];
                }
            i = next;
        }
        points_.resize(kept);
        sums_.resize(kept);
        if (kept <= most_ / 4 * 3)
            break;
    }
    exactFrom_ = points_.back().at;
}

// Exact at what is left of the points and on lines that are as they came; in between, where lines have been put together, as if all of them were alike.
Waveform::Sum Waveform::sumAt(Time t) const
{
    const std::size_t next = after(t);
    if (next == 0)
        return {};
    if (next == points_.size())
        return sums_.back();
    const Point &a = points_[next - 1], &b = points_[next];
    const Sum &from = sums_[next - 1], &to = sums_[next];
    const double whole = seconds(b.at - a.at), dt = seconds(t - a.at);
    // One line, which comes to as much as its ends say.
    constexpr double kAlike = 1e-9;
    if (std::fabs(to.volts - from.volts - whole * (a.volts + b.volts) / 2) < kAlike * whole && std::fabs(to.squares - from.squares - whole * (a.volts * a.volts + a.volts * b.volts + b.volts * b.volts) / 3) < kAlike * whole) {
        const double v = a.volts + (b.volts - a.volts) * dt / whole;
        return {from.volts + dt * (a.volts + v) / 2, from.squares + dt * (a.volts * a.volts + a.volts * v + v * v) / 3};
    }
    const double part = dt / whole;
    return {from.volts + (to.volts - from.volts) * part, from.squares + (to.squares - from.squares) * part};
}

void Waveform::add(Time from, Time to, const std::function<double(Time)>& volts, bool constant)
{
    const double a = volts(from);
    if (points_.empty() || points_.back().at != from || points_.back().volts != a)
        put(from, a);
    if (to <= from)
        return;
    if (constant)
        return put(to, a);
    split(from, a, to, volts(to), volts, 0);
}

void Waveform::split(Time from, double a, Time to, double b, const std::function<double(Time)>& volts, int depth)
{
    constexpr int kDeepest = 36;
    const Duration span = to - from;
    const Time quarter = from + span / 4, middle = from + span / 2, late = from + span * 3 / 4;
    const double m = volts(middle);
    const bool straight = std::fabs(m - (a + b) / 2) < kErrorVolts && std::fabs(volts(quarter) - (3 * a + b) / 4) < kErrorVolts && std::fabs(volts(late) - (a + 3 * b) / 4) < kErrorVolts;
    // The first cut is made in any case: a swing of a whole period looks straight from its ends.
    if (depth == kDeepest || span <= Duration(4) || (straight && depth > 0)) {
        if (!straight)
            put(middle, m);
        put(to, b);
        return;
    }
    split(from, a, middle, m, volts, depth + 1);
    split(middle, m, to, b, volts, depth + 1);
}

std::size_t Waveform::after(Time t) const
{
    return static_cast<std::size_t>(std::partition_point(points_.begin(), points_.end(), [t](const Point& p) { return p.at <= t; }) - points_.begin());
}

std::optional<double> Waveform::at(Time t) const
{
    const std::size_t next = after(t);
    if (next == 0)
        return std::nullopt;
    const Point& a = points_[next - 1];
    if (next == points_.size())
        return a.at == t ? std::optional(a.volts) : std::nullopt;
    const Point& b = points_[next];
    return a.volts + (b.volts - a.volts) * seconds(t - a.at) / seconds(b.at - a.at);
}

template <class Each>
void Waveform::lines(Time from, Time to, Each&& each) const
{
    if (points_.size() < 2)
        return;
    std::size_t i = after(from);
    i = i == 0 ? 0 : i - 1;
    for (; i + 1 < points_.size() && points_[i].at < to; ++i) {
        Point a = points_[i], b = points_[i + 1];
        const double span = seconds(b.at - a.at);
        if (a.at < from && span > 0)
            a = {from, a.volts + (b.volts - a.volts) * seconds(from - a.at) / span};
        if (b.at > to && span > 0)
            b = {to, points_[i].volts + (b.volts - points_[i].volts) * seconds(to - points_[i].at) / span};
        if (b.at >= from)
            each(a.at, a.volts, b.at, b.volts);
    }
}

std::vector<WaveColumn> Waveform::columns(Time from, Time to, std::size_t count) const
{
    std::vector<WaveColumn> out(count);
    const double width = seconds(to - from) / static_cast<double>(count);
    if (points_.empty() || !(width > 0))
        return out;
    const auto take = [](WaveColumn& c, double v0, double v1) {
        if (!c.known)
            c = {true, v0, v1, std::min(v0, v1), std::max(v0, v1)};
        c.last = v1;
        c.least = std::min({c.least, v0, v1});
        c.most = std::max({c.most, v0, v1});
    };
    lines(from, to, [&](Time t0, double v0, Time t1, double v1) {
        const double x0 = seconds(t0 - from) / width, x1 = seconds(t1 - from) / width;
        const auto first = static_cast<std::size_t>(std::clamp(x0, 0.0, static_cast<double>(count - 1)));
        const auto last = static_cast<std::size_t>(std::clamp(x1, 0.0, static_cast<double>(count - 1)));
        for (std::size_t c = first; c <= last; ++c) {
            const double a = std::max(x0, static_cast<double>(c)), b = std::min(x1, static_cast<double>(c + 1));
            const double slope = x1 > x0 ? (v1 - v0) / (x1 - x0) : 0;
            take(out[c], x1 > x0 ? v0 + slope * (a - x0) : v0, x1 > x0 ? v0 + slope * (b - x0) : v1);
        }
    });
    return out;
}

std::optional<WaveMeasures> Waveform::measure(Time from, Time to) const
{
    WaveMeasures m;
    double integral = 0, square = 0, span = 0;
    bool any = false;
    lines(from, to, [&](Time t0, double a, Time t1, double b) {
        const double dt = seconds(t1 - t0);
        m.least = any ? std::min({m.least, a, b}) : std::min(a, b);
        m.most = any ? std::max({m.most, a, b}) : std::max(a, b);
        any = true;
        integral += dt * (a + b) / 2;
        square += dt * (a * a + a * b + b * b) / 3;
        span += dt;
    });
    if (!any || span <= 0)
        return std::nullopt;
    // Nothing has been thinned where there are no sums, also before the beginning of time.
    const bool whole = sums_.empty() || from >= exactFrom_;
    if (!whole) {
        const Sum a = sumAt(from), b = sumAt(to);
        integral = b.volts - a.volts;
        square = b.squares - a.squares;
    }
    m.mean = integral / span;
    m.rms = std::sqrt(std::max(square / span, 0.0));
    if (!whole)
        return m;
    const double swing = m.most - m.least;
    if (swing < 1e-3)
        return m;
    // Passings of the middle, with a tenth of the swing as hysteresis, so that ripple on an edge counts once.
    const double middle = (m.most + m.least) / 2, margin = swing / 10;
    int side = 0;
    std::optional<double> firstRise, lastRise, rising, fall;
    double crossing = 0, highTime = 0, highOfPeriod = 0, risen = 0;
    std::size_t periods = 0;
    const double low = m.least + swing / 10, high = m.most - swing / 10;
    lines(from, to, [&](Time t0, double a, Time t1, double b) {
        const double s0 = seconds(t0 - from), s1 = seconds(t1 - from);
        const auto when = [&](double level) { return b == a ? s0 : s0 + (s1 - s0) * (level - a) / (b - a); };
        if ((a <= middle) != (b <= middle))
            crossing = when(middle);
        if (a <= low && b > low)
            rising = when(low);
        if (rising && a < high && b >= high && !m.rise)
            m.rise = when(high) - *rising;
        if (b > middle + margin && side != 1) {
            if (side == -1) {
                if (lastRise && fall)
                    highTime += highOfPeriod;
                if (lastRise)
                    ++periods;
                if (!firstRise)
                    firstRise = crossing;
                lastRise = crossing;
                risen = crossing;
            }
            side = 1;
        } else if (b < middle - margin && side != -1) {
            if (side == 1 && lastRise) {
                fall = crossing;
                highOfPeriod = crossing - risen;
            }
            side = -1;
        }
    });
    if (periods > 0) {
        m.period = (*lastRise - *firstRise) / static_cast<double>(periods);
        m.duty = highTime / (*lastRise - *firstRise);
    }
    return m;
}

std::optional<Time> Waveform::passingAt(std::size_t point, double level, bool rising) const
{
    const Point& a = points_[point - 1];
    const Point& b = points_[point];
    if (rising ? a.volts >= level || b.volts < level : a.volts <= level || b.volts > level)
        return std::nullopt;
    const double part = b.volts == a.volts ? 1 : (level - a.volts) / (b.volts - a.volts);
    return a.at + Duration(static_cast<std::int64_t>(part * static_cast<double>((b.at - a.at).count())));
}

std::optional<Time> Waveform::lastPassing(double level, bool rising, Time from, Time to) const
{
    for (std::size_t i = after(to); i-- > 1;) {
        if (i >= points_.size())
            continue;
        if (points_[i].at < from)
            break;
        if (const auto t = passingAt(i, level, rising); t && *t >= from && *t <= to)
            return t;
    }
    return std::nullopt;
}

std::optional<Time> Waveform::firstPassing(double level, bool rising, Time from, Time to) const
{
    for (std::size_t i = std::max<std::size_t>(after(from), 1); i < points_.size(); ++i) {
        if (points_[i - 1].at > to)
            break;
        if (const auto t = passingAt(i, level, rising); t && *t >= from && *t <= to)
            return t;
    }
    return std::nullopt;
}

}  // namespace bramix::tape
