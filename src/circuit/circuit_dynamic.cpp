// Islands whose voltages go on by themselves.
//
// Time is cut into pieces: a new one begins when somebody changes something, and, for a SteppingTransient, at the end of each step.
// Inside a piece nothing is done until a voltage passes something that somebody waits for.
#include <algorithm>
#include <cmath>

#include "circuit/island.h"

namespace bramix::circuit {

using kernel::check;
using kernel::kNever;
using kernel::seconds;

Circuit::Voltages Circuit::voltsOf(const Island& island, Time t) const
{
    if (island.running != nullptr)
        return Voltages(island.running->all(island.network.nodes(), t));
    Voltages volts = island.solution != nullptr ? island.solution->volts : island.last;
    if (island.unentered)
        for (const NetId id : island.nets)
            if (const Net& net = at(id); net.cut)
                volts[net.node] = net.state == NetState::floating ? 0 : net.volts;  // to the network it leaks
    return volts;
}

double Circuit::voltsNow(const Net& net) const
{
    const Island& island = *islands_[net.island];
    return island.running != nullptr ? island.running->volts(net.node, queue_.now()) : net.volts;
}

// By Simpson's rule, which is exact for the parabolas of a step.
double Circuit::meanAmps(const Island& island, const Element& e, Time from, Time to) const
{
    const Time middle = from + (to - from) / 2;
    const auto amps = [&](Time t) { return ampsAt(island, e, voltsOf(island, t), t); };
    return to <= from ? 0 : (amps(from) + 4 * amps(middle) + amps(to)) / 6;
}

// Books what has passed since the piece began.
void Circuit::endPiece(Island& island)
{
    const Time now = queue_.now();
    if (island.running == nullptr)
        return;
    for (const ElementId id : island.devices) {
        Element& e = at(id);
        if (e.since >= now)
            continue;
        e.charge += meanAmps(island, e, e.since, now) * seconds(now - e.since);
        e.since = now;
    }
    for (const NetId id : island.nets)
        if (at(id).probe != nullptr)
            tellProbe(id, now);
    for (const ElementId id : island.probed)
        tellProbe(id, now);
}

void Circuit::tellProbe(ElementId id, Time until)
{
    Element& e = at(id);
    const Island& island = *islands_[e.island];
    const Time from = e.probedTo;
    if (until <= from)
        return;
    e.probedTo = until;
    if (island.dynamic && island.running != nullptr)
        e.probe->piece(id, from, until, [&](Time t) { return ampsAt(island, e, voltsOf(island, t), t); }, false);
    else
        e.probe->piece(id, from, until, [&](Time) { return e.amps; }, true);
}

void Circuit::tellProbe(NetId id, Time until)
{
    Net& net = at(id);
    const Island& island = *islands_[net.island];
    const Time from = net.probedTo;
    if (until <= from)
        return;
    net.probedTo = until;
    if (net.moves && island.running != nullptr)
        net.probe->piece(id, from, until, [&](Time t) { return island.running->volts(net.node, t); }, false);
    else
        net.probe->piece(id, from, until, [&](Time) { return net.volts; }, true);
}

void Circuit::flushProbes()
{
    for (std::uint32_t i = 0; i < nets_.size(); ++i)
        if (nets_[i].probe != nullptr)
            tellProbe(NetId{i}, queue_.now());
    for (std::uint32_t i = 0; i < elements_.size(); ++i)
        if (elements_[i].probe != nullptr)
            tellProbe(ElementId{i}, queue_.now());
}

void Circuit::beginPiece(Island& island, Time t)
{
    island.began = t;
    placeAll(island);
    setClampsActive(island, false);
    // A guess for the first of the steps, and what a new position is looked at with.
    const auto lookAround = [&] {
        if (island.running != nullptr)
            island.last = voltsOf(island, t);
    };
    if (island.network.linear() && !island.network.varies()) {
        if (island.positions.size() > kMaxRemembered)
            forgetPositions(island);
        auto [entry, isNew] = island.positions.try_emplace(island.key);
        if (isNew) {
            ++solves_;
            lookAround();
            entry->second = std::make_unique<Island::Position>();
            entry->second->form = LinearForm::of(island.network);
            classify(island, island.last, entry->second->held);
        } else {
            ++recalls_;
        }
        Island::Position& position = *entry->second;
        if (position.form.usable) {
            island.position = &position;
            if (island.keptPosition.get() != &position)
                island.keptPosition.reset();
            island.linear.begin(position.form, t, island.x);
            island.running = &island.linear;
            if (!clampsViolated(island, t))
                return;
        }
        lookAround();
    } else {
        ++solves_;
        lookAround();
        island.stepping.begin(island.network, t, island.x, island.last);
        island.running = &island.stepping;
        if (!clampsViolated(island, t))
            return;
    }
    setClampsActive(island, !island.clamps.empty());
    island.stepping.begin(island.network, t, island.x, island.last);
    island.running = &island.stepping;
}

void Circuit::decideDynamic(Island& island)
{
    if (island.takeQuietEdge(*this))
        return;
    const Time now = queue_.now();
    endPiece(island);
    if (island.running != nullptr)
        island.running->statesInto(island.x, now);
    island.cause = cause_;
    beginPiece(island, now);
    publishDynamic(island);
    reportIsland(island);
    armNext(island);
    armDependents(island);
    island.lookForQuietRegion(*this);
}

// A watcher of the other island that has been passed by a jump here hears of it by its partner, who watches this island.
void Circuit::armDependents(const Island& island)
{
    for (const std::uint32_t other : island.dependents) {
        if (islands_[other]->dirty)
            continue;
        for (const NetId id : islands_[other]->nets)
            for (Watcher& w : at(id).watchers)
                if (w.watch.against != kNoPin)
                    w.above = voltage(id).value - voltage(at(w.watch.against).net).value > w.watch.offset;
        armNext(*islands_[other]);
    }
}

// A voltage has passed what somebody waits for, or a step has ended.
void Circuit::ring(std::uint32_t index, Time due)
{
    Island& island = *islands_[index];
    cause_ = island.cause;
    ++busy_;
    if (island.onlyLooks) {
        armExactly(island);
        if (--busy_ == 0)
            settle();
        return;
    }
    if (island.running->until() <= due) {
        endPiece(island);
        island.running->goOn(island.network);
    }
    if (!island.clamped && clampsViolated(island, due)) {
        endPiece(island);
        island.running->statesInto(island.x, due);
        island.last = voltsOf(island, due);
        island.began = due;
        placeAll(island);
        setClampsActive(island, true);
        island.stepping.begin(island.network, due, island.x, island.last);
        island.running = &island.stepping;
    }
    publishDynamic(island);
    reportIsland(island);
    if (!island.dirty) {
        armExactly(island);
        armDependents(island);
        island.nothingOpen = island.isNothingOpen(*this);
    }
    if (--busy_ == 0)
        settle();
}

void Circuit::publishDynamic(Island& island)
{
    const Time now = queue_.now();
    if (island.running == &island.stepping) {
        island.last = voltsOf(island, now);
        classify(island, island.last, island.heldNow);
    }
    const std::vector<bool>& held = island.held();
    for (std::size_t i = 0; i < island.nets.size(); ++i) {
        const NetId id = island.nets[i];
        Net& net = at(id);
        const double volts = net.rail ? net.railVolts : island.running->volts(net.node, now);
        const NetState state = stateIn(net, held[i], volts);
        if (net.volts != volts || net.state != state)
            publish(id, volts, state);
    }
    tellElements(island);
    const bool converged = island.running->converged();
    if (!converged && island.converged && observer_ != nullptr)
        observer_->trouble(Trouble::noSolution, island.nets.front(), kNoPin, kNoPin, 0, now, cause_);
    island.converged = converged;
}

// What somebody waits for at one net, in the state in which it is.
template <class Ask>
void Circuit::nextOfNet(const Island& island, const Net& net, Time& next, Ask&& wait) const
{
    const bool reads = net.state != NetState::floating;
    if (reads && net.state != NetState::conflict) {
        if (net.state != NetState::high)
            wait(net.node, Passing::kGround, net.state == NetState::low ? net.thresholds.low : net.thresholds.high);
        if (net.state != NetState::low)
            wait(net.node, Passing::kGround, net.state == NetState::high ? net.thresholds.high : net.thresholds.low);
    }
    for (const PinId listener : net.listeners) {
        const Pin& pin = at(listener);
        const double target = pin.level ? pin.listener.thresholds.low : pin.listener.thresholds.high;
        const bool asNet = target == net.thresholds.low ? net.state != NetState::high : target == net.thresholds.high && net.state != NetState::low;
        if (reads && !asNet)
            wait(net.node, Passing::kGround, target);
    }
    for (const Watcher& w : net.watchers) {
        if (w.watch.step > 0) {
            wait(net.node, Passing::kGround, w.told + w.watch.step);
            wait(net.node, Passing::kGround, w.told - w.watch.step);
        }
        if (!std::isnan(w.watch.level))
            wait(net.node, Passing::kGround, w.watch.level);
        if (w.watch.against != kNoPin) {
            const Net& other = at(at(w.watch.against).net);
            const Transient* course = other.moves ? islands_[other.island]->running : nullptr;
            next = std::min(next, crossing({island.running, net.node, 0}, {course, other.node, other.rail ? other.railVolts : other.volts}, w.watch.offset, queue_.now()));
        }
    }
}

void Circuit::findMarks(Island& island) const
{
    island.marksKnown = true;
    ++island.marksNumber;
    island.marks.clear();
    for (const NetId id : island.nets) {
        const Net& net = at(id);
        if (net.rail)
            continue;
        Island::Marks m{id, net.node, false, {net.thresholds.low, net.thresholds.high}};
        const auto add = [&](double target) {
            if (!std::isnan(target) && std::find(m.targets.begin(), m.targets.end(), target) == m.targets.end())
                m.targets.push_back(target);
        };
        for (const PinId listener : net.listeners) {
            add(at(listener).listener.thresholds.low);
            add(at(listener).listener.thresholds.high);
        }
        for (const Watcher& w : net.watchers) {
            m.always = m.always || w.watch.step > 0;
            add(w.watch.level);
        }
        island.marks.push_back(std::move(m));
    }
    island.across.clear();
    for (const ElementId id : island.watched) {
        const Element& e = at(id);
        if (e.watchedVolts.empty())
            continue;
        // The nodes as the element's own slot has them: a rail has one there.
        const Network::Reactance* r = e.kind == Kind::capacitor || e.kind == Kind::inductor ? &island.network.reactances[e.slot] : nullptr;
        check(r != nullptr, "only capacitors and inductors are watched for their voltage");
        island.across.push_back({e.nets[0], r->a, false, e.watchedVolts, r->b});
    }
}

// The earliest of what `ask` says of all that somebody waits for.
template <class Ask>
Time Circuit::nextOf(const Island& island, Ask&& ask) const
{
    Time next = kNever;
    const auto wait = [&](Network::Node plus, Network::Node minus, double target) { next = std::min(next, ask(Passing{plus, minus, target})); };
    for (const NetId id : island.nets)
        if (!at(id).rail)
            nextOfNet(island, at(id), next, wait);
    for (const ElementId id : island.watched) {
        const Element& e = at(id);
        for (const double volts : e.watchedVolts) {
            const Net& plus = at(e.nets[0]);
            const Net& minus = at(e.nets[1]);
            if (!plus.rail && !minus.rail)
                wait(plus.node, minus.node, volts);
            else if (!plus.rail)
                wait(plus.node, Passing::kGround, minus.railVolts + volts);
            else if (!minus.rail)
                wait(minus.node, Passing::kGround, plus.railVolts - volts);
        }
    }
    if (!island.clamped)
        for (const Network::Slot& s : island.network.devices)
            if (s.device->terminals() == 1) {
                const auto& clamp = static_cast<const ClampDevice&>(*s.device);
                wait(s.nodes[0], Passing::kGround, clamp.high + ClampDevice::kMarginVolts);
                wait(s.nodes[0], Passing::kGround, clamp.low - ClampDevice::kMarginVolts);
            }
    return next;
}

// A new course: the next instant at which anything here may be of interest.
void Circuit::armNext(Island& island)
{
    if (island.running == nullptr)
        return;
    if (island.running == &island.stepping || island.compares || !island.position->form.real || queue_.now() != island.began)
        return armExactly(island);
    const Time now = queue_.now();
    if (!island.marksKnown)
        findMarks(island);
    Time next = kNever;
    std::vector<Span>& spans = island.spans;
    spans.resize(island.network.nodes());
    for (std::size_t node = 0; node < spans.size(); ++node)
        spans[node] = island.linear.span(static_cast<Network::Node>(node));
    for (const Island::Marks& m : island.marks) {
        const Span& span = spans[m.node];
        const auto within = [&](double target) { return span.reaches(target); };
        if (m.always || std::any_of(m.targets.begin(), m.targets.end(), within))
            nextOfNet(island, at(m.net), next, [&](Network::Node, Network::Node, double target) { next = std::min(next, span.notBefore(target, now)); });
    }
    for (const Island::Marks& m : island.across) {
        const Span span = spans[m.node].less(spans[m.other]);
        for (const double target : m.targets)
            if (span.reaches(target))
                next = std::min(next, span.notBefore(target, now));
    }
    if (!island.clamped)
        for (const Network::Slot& s : island.network.devices)
            if (s.device->terminals() == 1) {
                const auto& clamp = static_cast<const ClampDevice&>(*s.device);
                const Span& span = spans[s.nodes[0]];
                for (const double target : {clamp.high + ClampDevice::kMarginVolts, clamp.low - ClampDevice::kMarginVolts})
                    if (span.reaches(target))
                        next = std::min(next, span.notBefore(target, now));
            }
    // A look that comes sooner finds out, and costs less than an alarm that moves along with every edge.
    if (island.onlyLooks && island.alarm->armed() && island.alarm->due() <= next && next != kNever)
        return;
    island.onlyLooks = true;
    if (next == kNever)
        island.alarm->disarm();
    else
        island.alarm->arm(next);
}

// To the picosecond.
void Circuit::armExactly(Island& island)
{
    if (island.running == nullptr)
        return;
    const Transient& run = *island.running;
    const Time now = queue_.now();
    const Time next = std::min(run.until(), nextOf(island, [&](const Passing& p) { return run.passes(p, now); }));
    island.onlyLooks = false;
    if (next == kNever)
        island.alarm->disarm();
    else
        island.alarm->arm(next);
}

namespace {

template <class Archive, class Island>
void plainState(Archive& ar, Island& island, bool& stepping)
{
    ar(island.x, island.began, island.clamped, island.converged, stepping, island.cause, island.onlyLooks);
}

}  // namespace

void Circuit::stateOfIslands(kernel::SaveArchive& ar)
{
    for (const auto& island : islands_) {
        if (island->historic && !island->dynamic)
            for (double& volts : island->last)
                ar(volts);  // its memory
        if (!island->dynamic)
            continue;
        bool stepping = island->running == &island->stepping;
        plainState(ar, *island, stepping);
        if (stepping)
            island->stepping.state(ar, island->network);
        ar(*island->alarm);
    }
}

void Circuit::stateOfIslands(kernel::LoadArchive& ar)
{
    for (const auto& island : islands_) {
        if (island->historic && !island->dynamic)
            for (double& volts : island->last)
                ar(volts);
        if (!island->dynamic)
            continue;
        bool stepping = false;
        plainState(ar, *island, stepping);
        resume(*island, stepping);
        if (stepping)
            island->stepping.state(ar, island->network);
        ar(*island->alarm);
    }
}

// By pin: who watches may have changed since, as the setting of an analog comparator does.
void Circuit::stateOfWatchers(kernel::SaveArchive& ar, Net& net)
{
    auto count = static_cast<std::uint32_t>(net.watchers.size());
    ar(count);
    for (Watcher& w : net.watchers) {
        auto pin = static_cast<std::uint32_t>(w.pin);
        ar(pin, w.told, w.above);
    }
}

void Circuit::stateOfWatchers(kernel::LoadArchive& ar, Net& net)
{
    std::uint32_t count = 0;
    ar(count);
    for (std::uint32_t i = 0; i < count; ++i) {
        std::uint32_t pin = 0;
        double told = 0;
        bool above = false;
        ar(pin, told, above);
        for (Watcher& w : net.watchers)
            if (static_cast<std::uint32_t>(w.pin) == pin) {
                w.told = told;
                w.above = above;
            }
    }
}

void Circuit::resume(Island& island, bool stepping)
{
    island.nothingOpen = false;
    setClampsActive(island, island.clamped);
    if (stepping) {
        island.running = &island.stepping;
        return;
    }
    const std::vector<double> x = island.x;
    const bool clamped = island.clamped;
    beginPiece(island, island.began);
    island.x = x;
    island.clamped = clamped;
}

void Circuit::adopt(const Circuit& old)
{
    for (const Element& from : old.elements_) {
        if (from.kind != Kind::capacitor && from.kind != Kind::inductor)
            continue;
        for (Element& to : elements_)
            if (to.kind == from.kind && to.name == from.name) {
                const Island& was = *old.islands_[from.island];
                Island& is = *islands_[to.island];
                if (was.running == nullptr || is.running == nullptr)
                    continue;
                if (is.x.size() != is.network.reactances.size())
                    is.x.resize(is.network.reactances.size());
                is.x[to.slot] = was.running->states(old.queue_.now())[from.slot];
            }
    }
    for (std::uint32_t i = 0; i < islands_.size(); ++i) {
        Island& island = *islands_[i];
        if (!island.dynamic)
            continue;
        // The charges are as they were at this instant, whatever this circuit has done so far.
        island.running = nullptr;
        for (const NetId net : island.nets)
            at(net).probedTo = queue_.now();
        for (const ElementId e : island.elements)
            at(e).since = queue_.now();
        markDirty(i);
    }
    settle();
}

}  // namespace bramix::circuit
