// Edges that change nothing for whoever listens.
//
// A pulse width into a filter has tens of thousands of edges a second, and almost none of them matters to anybody: the filtered voltage moves by
// millivolts, far from every threshold. So for each position of an island in closed form a box of states is kept in which a piece may begin without
// bringing anything but one course for another (Island::QuietRegion). It is found by interval arithmetic, so it may be smaller than need be, never greater.
// An edge in the box works out the states, which is exact, and the states of the nets; nothing else is looked at. What the voltages are meanwhile,
// whoever asks works out (Circuit::voltage).
// Tested by tests/circuit/quiet_region_test.cpp.
#include <algorithm>
#include <cmath>

#include "circuit/island.h"

namespace bramix::circuit {

namespace {

// From ... to.
struct Interval {
    double low = 0, high = 0;

    [[nodiscard]] Interval times(double f) const { return f < 0 ? Interval{high * f, low * f} : Interval{low * f, high * f}; }
    void add(const Interval& other)
    {
        low += other.low;
        high += other.high;
    }
    [[nodiscard]] double farthest() const { return std::max(std::fabs(low), std::fabs(high)); }
};

// How a voltage may go on from any state in the box: where it begins, where it may ever come to, how fast it is at most.
struct Course {
    Interval begin, ever;
    double speed = 0;

    [[nodiscard]] Course less(const Course& other) const
    {
        return {{begin.low - other.begin.high, begin.high - other.begin.low}, {ever.low - other.ever.high, ever.high - other.ever.low}, speed + other.speed};
    }

    // For how long it certainly does not pass the target, in seconds: infinite where it never does, negative where it may begin beyond it.
    [[nodiscard]] double clearOf(double target) const
    {
        constexpr double kTooNear = 1e-6, kPart = 0.9;
        if (std::isnan(target) || target < ever.low - Span::kNear || target > ever.high + Span::kNear)
            return INFINITY;
        const double distance = std::max(begin.low - target, target - begin.high);
        return distance < kTooNear ? -1 : kPart * distance / speed;
    }
};

constexpr double kShortestSpan = 20e-6;    // seconds: a region that holds for less is worth nothing
constexpr std::array kParts{0.5, 0.2, 0.08, 0.03, 0.01, 0.003};  // of the way to where the states would settle
constexpr std::uint32_t kLongestPause = 1024;

Course courseOf(const LinearForm& form, const std::vector<Interval>& states, const std::vector<Interval>& amplitudes, std::size_t node)
{
    const auto row = static_cast<Eigen::Index>(node);
    Course c{{form.d[row], form.d[row]}, {}, 0};
    for (std::size_t i = 0; i < states.size(); ++i)
        c.begin.add(states[i].times(form.k(row, static_cast<Eigen::Index>(i))));
    c.ever = c.begin;
    for (std::size_t i = 0; i < amplitudes.size(); ++i) {
        const auto mode = static_cast<Eigen::Index>(i);
        const Interval w = amplitudes[i].times(form.realOutlines(row, mode));  // of a mode that dies away: the voltage goes by -w
        c.ever.low -= std::max(w.high, 0.0);
        c.ever.high -= std::min(w.low, 0.0);
        c.speed -= w.farthest() * form.realRates[mode];
    }
    return c;
}

}  // namespace

Circuit::Island::Position* Circuit::Island::recentPosition() const
{
    for (const Recent& r : recent)
        if (r.key == key && r.position != nullptr)
            return r.position;
    return nullptr;
}

bool Circuit::Island::takeQuietEdge(Circuit& circuit)
{
    if (running != &linear || !nothingOpen || !marksKnown)
        return false;
    Position* const to = recentPosition();
    if (to == nullptr || !to->quiet.usable || to->quiet.marks != marksNumber)
        return false;
    const Time now = circuit.queue_.now();
    linear.statesInto(ahead, now);
    QuietRegion& region = to->quiet;
    for (std::size_t i = 0; i < ahead.size(); ++i)
        if (ahead[i] < region.low[i] || ahead[i] > region.high[i])
            return false;
    ++circuit.recalls_;
    ++region.uses;
    x.swap(ahead);
    cause = circuit.cause_;
    began = now;
    position = to;
    if (keptPosition != nullptr && keptPosition.get() != to)
        keptPosition.reset();
    linear.begin(to->form, now, x);
    // A look that comes sooner than need be costs less than an alarm that moves along with every edge.
    if (region.span == kernel::Duration::max()) {
        if (!onlyLooks)
            alarm->disarm();
    } else if (!onlyLooks || alarm->due() > now + region.span) {
        alarm->arm(now + region.span);
    }
    onlyLooks = true;
    // All voltages first: who hears of one net may look at another.
    bool changed = false;
    for (std::size_t i = 0; i < moving.size(); ++i) {
        Net& net = circuit.at(moving[i].net);
        if (net.state == region.states[i])
            net.volts = linear.begins(moving[i].node);
        else
            changed = true;
    }
    for (std::size_t i = 0; changed && i < moving.size(); ++i)
        if (circuit.at(moving[i].net).state != region.states[i])
            circuit.publish(moving[i].net, linear.begins(moving[i].node), region.states[i]);
    if (circuit.observer_ != nullptr)
        for (const PinId pin : booking)
            circuit.reportPin(pin);
    return true;
}

bool Circuit::Island::isNothingOpen(const Circuit& circuit) const
{
    if (!converged || clamped)
        return false;
    for (const ElementId id : watched)
        if (!circuit.at(id).wasQuiet)
            return false;
    for (const PinId id : limited) {
        const Pin& pin = circuit.at(id);
        if (pin.over || (pin.booked != 0 && std::find(booking.begin(), booking.end(), id) == booking.end()))
            return false;
    }
    return true;
}

void Circuit::Island::lookForQuietRegion(const Circuit& circuit)
{
    nothingOpen = false;
    if (running != &linear || !position->form.real || !marksKnown || dirty || began != circuit.queue_.now())
        return;
    const auto found = positions.find(key);
    if (found == positions.end() || found->second.get() != position)
        return;
    Position& at = *found->second;
    nothingOpen = isNothingOpen(circuit);
    if (std::none_of(recent.begin(), recent.end(), [&](const Recent& r) { return r.position == &at && r.key == key; })) {
        recent[oldestRecent] = {key, &at};
        oldestRecent = 1 - oldestRecent;
    }
    QuietRegion& region = at.quiet;
    if (region.pause > 0) {
        --region.pause;
        return;
    }
    constexpr std::uint32_t kWorthwhile = 16;
    const bool well = !region.usable || region.marks != marksNumber || region.uses >= kWorthwhile;
    region.usable = false;
    region.uses = 0;
    for (const double part : kParts)
        if (findQuietRegion(circuit, at, region, part)) {
            region.usable = true;
            region.marks = marksNumber;
            break;
        }
    // The states leave it sooner than it is worth, or there is none: not at every edge.
    region.next = region.usable && well ? 1 : std::min(2 * region.next, kLongestPause);
    region.pause = region.next - 1;
    nothingOpen = isNothingOpen(circuit);
}

// A box around the present states, `part` of the way to where they would settle.
bool Circuit::Island::findQuietRegion(const Circuit& circuit, const Position& at, QuietRegion& region, double part)
{
    const LinearForm& form = at.form;
    if (!devices.empty() || !probed.empty() || !dependents.empty() || compares || clamped)
        return false;
    std::vector<Interval> states(x.size()), amplitudes(x.size());
    region.low.resize(x.size());
    region.high.resize(x.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double radius = part * std::fabs(form.goal[static_cast<Eigen::Index>(i)] - x[i]);
        states[i] = {x[i] - radius, x[i] + radius};
        region.low[i] = states[i].low;
        region.high[i] = states[i].high;
    }
    for (std::size_t i = 0; i < x.size(); ++i)
        for (std::size_t k = 0; k < x.size(); ++k) {
            const double goal = form.goal[static_cast<Eigen::Index>(k)];
            amplitudes[i].add(Interval{states[k].low - goal, states[k].high - goal}.times(form.realInverse(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(k))));
        }
    std::vector<Course> courses(network.nodes());
    for (std::size_t node = 0; node < courses.size(); ++node)
        courses[node] = courseOf(form, states, amplitudes, node);

    double span = INFINITY;
    for (const NetId id : nets) {
        const Net& net = circuit.at(id);
        if (net.probe != nullptr || (!net.rail && (net.drivers > 1 || !net.watchers.empty())))
            return false;
        // With thresholds of its own a listener may hear of what does not change the net's state.
        for (const PinId listener : net.listeners) {
            const Thresholds& t = circuit.at(listener).listener.thresholds;
            if (!net.rail && (t.low != net.thresholds.low || t.high != net.thresholds.high))
                return false;
        }
    }
    for (const Marks& m : marks) {
        if (m.always)
            return false;
        for (const double target : m.targets)
            span = std::min(span, courses[m.node].clearOf(target));
    }
    for (const Marks& m : across)
        for (const double target : m.targets)
            span = std::min(span, courses[m.node].less(courses[m.other]).clearOf(target));
    for (const Network::Slot& s : network.devices)
        if (s.device->terminals() == 1) {
            const auto& clamp = static_cast<const ClampDevice&>(*s.device);
            for (const double target : {clamp.high + ClampDevice::kMarginVolts, clamp.low - ClampDevice::kMarginVolts}) {
                const Course& c = courses[s.nodes[0]];
                span = std::min(span, c.clearOf(target));
                if (c.begin.high > clamp.high + ClampDevice::kMarginVolts || c.begin.low < clamp.low - ClampDevice::kMarginVolts)
                    return false;
            }
        }
    if (span < kShortestSpan)
        return false;
    const auto beginsAt = [&](NetId id) {
        const Net& net = circuit.at(id);
        return net.rail ? Interval{net.railVolts, net.railVolts} : courses[net.node].begin;
    };
    for (const ElementId id : watched) {
        const Element& e = circuit.at(id);
        const Interval a = beginsAt(e.nets[0]), b = beginsAt(e.nets[1]);
        if (e.quietLow > e.quietHigh || a.low - b.high < e.quietLow || a.high - b.low > e.quietHigh)
            return false;
    }
    for (const ElementId id : betweenRails)
        if (std::fabs(circuit.current(id).value) > kShortAmps)
            return false;
    for (const PinId id : limited) {
        const Pin& pin = circuit.at(id);
        const Interval v = beginsAt(pin.net);
        if (pin.clampLow <= pin.clampHigh && (v.high > pin.clampHigh + kOverVolts || v.low < pin.clampLow - kOverVolts))
            return false;
        if (std::isinf(pin.limitAmps) || pin.drive.ohms == 0 || pin.drive.floating())
            continue;
        const double most = Interval{pin.drive.volts - v.high, pin.drive.volts - v.low}.farthest() / pin.drive.ohms;
        if (most > pin.limitAmps)
            return false;
        if (pin.group != kNoGroup && most >= kWorthBooking && std::find(booking.begin(), booking.end(), id) == booking.end())
            booking.push_back(id);
    }
    region.states.clear();
    moving.clear();
    for (std::size_t i = 0; i < nets.size(); ++i)
        if (const Net& net = circuit.at(nets[i]); !net.rail) {
            moving.push_back({nets[i], net.node});
            region.states.push_back(circuit.stateIn(net, at.held[i], linear.begins(net.node)));
        }
    region.span = span * 1e12 < 4e18 ? kernel::Duration(static_cast<std::int64_t>(span * 1e12)) : kernel::Duration::max();
    return true;
}

}  // namespace bramix::circuit
