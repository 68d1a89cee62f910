// Islands whose voltages go on by themselves.
//
// Time is cut into pieces: a new one begins when somebody changes something, and, for a SteppingTransient, at the end of each step.
// Inside a piece nothing is done until a voltage passes something that somebody waits for.
#include <algorithm>
#include <cmath>

#include "circuit/island.h"

namespace bramix::circuit {

using kernel::kNever;
using kernel::seconds;

Circuit::Voltages Circuit::voltsOf(const Island& island, Time t) const
{
    return island.running != nullptr ? Voltages(island.running->all(island.network.nodes(), t)) : island.last;
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
    for (const ElementId id : island.elements) {
        Element& e = at(id);
        if (e.kind != Kind::device || e.since >= now)
            continue;
        e.charge += meanAmps(island, e, e.since, now) * seconds(now - e.since);
        e.since = now;
    }
    for (const NetId id : island.nets)
        if (at(id).probe != nullptr)
            tellProbe(id, now);
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
}

void Circuit::beginPiece(Island& island, Time t)
{
    island.began = t;
    setClampsActive(island, false);
    if (island.network.linear() && !island.network.varies()) {
        if (island.positions.size() > kMaxRemembered)
            island.positions.clear();
        auto [entry, isNew] = island.positions.try_emplace(island.key);
        Island::Position& position = entry->second;
        if (isNew) {
            ++solves_;
            position.form = std::make_shared<LinearForm>(LinearForm::of(island.network));
            classify(island, island.last, position.held);
        } else {
            ++recalls_;
        }
        if (position.form->usable) {
            island.form = position.form;
            island.held = position.held;
            island.linear.begin(*island.form, t, island.x);
            island.running = &island.linear;
            if (island.clamps.empty() || !clampsViolated(island, voltsOf(island, t)))
                return;
        }
    } else {
        ++solves_;
        island.stepping.begin(island.network, t, island.x, island.last);
        island.running = &island.stepping;
        if (!clampsViolated(island, voltsOf(island, t)))
            return;
    }
    setClampsActive(island, !island.clamps.empty());
    island.stepping.begin(island.network, t, island.x, island.last);
    island.running = &island.stepping;
}

void Circuit::decideDynamic(Island& island)
{
    const Time now = queue_.now();
    endPiece(island);
    if (island.running != nullptr)
        island.x = island.running->states(now);
    island.cause = cause_;
    beginPiece(island, now);
    publishDynamic(island);
    reportIsland(island);
    armNext(island);
}

// A voltage has passed what somebody waits for, or a step has ended.
void Circuit::ring(std::uint32_t index, Time due)
{
    Island& island = *islands_[index];
    cause_ = island.cause;
    ++busy_;
    if (island.running->until() <= due) {
        endPiece(island);
        island.running->goOn(island.network);
    }
    if (!island.clamped && clampsViolated(island, voltsOf(island, due))) {
        endPiece(island);
        island.x = island.running->states(due);
        island.began = due;
        setClampsActive(island, true);
        island.stepping.begin(island.network, due, island.x, island.last);
        island.running = &island.stepping;
    }
    publishDynamic(island);
    reportIsland(island);
    if (!island.dirty)
        armNext(island);
    if (--busy_ == 0)
        settle();
}

void Circuit::publishDynamic(Island& island)
{
    const Time now = queue_.now();
    island.last = voltsOf(island, now);
    if (island.running == &island.stepping)
        classify(island, island.last, island.held);
    for (std::size_t i = 0; i < island.nets.size(); ++i) {
        const NetId id = island.nets[i];
        Net& net = at(id);
        const double volts = voltsIn(net, island.last);
        publish(id, volts, stateIn(net, island.held[i], volts));
    }
    if (island.watched)
        tellElements(island);
    const bool converged = island.running->converged();
    if (!converged && island.converged && observer_ != nullptr)
        observer_->trouble(Trouble::noSolution, island.nets.front(), kNoPin, kNoPin, 0, now, cause_);
    island.converged = converged;
}

// The next instant at which anything here is of interest.
void Circuit::armNext(Island& island)
{
    if (island.running == nullptr)
        return;
    const Transient& run = *island.running;
    const Time now = queue_.now();
    Time next = run.until();
    const auto wait = [&](Network::Node plus, Network::Node minus, double target) { next = std::min(next, run.passes({plus, minus, target}, now)); };
    for (const NetId id : island.nets) {
        const Net& net = at(id);
        if (net.rail)
            continue;
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
                if (other.island == net.island && !other.rail)
                    wait(net.node, other.node, 0);
                else
                    wait(net.node, Passing::kGround, voltage(at(w.watch.against).net).value);
            }
        }
    }
    for (const ElementId id : island.elements) {
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
    if (next == kNever)
        island.alarm->disarm();
    else
        island.alarm->arm(next);
}

namespace {

template <class Archive, class Island>
void plainState(Archive& ar, Island& island, bool& stepping)
{
    ar(island.x, island.began, island.clamped, island.converged, stepping, island.cause);
}

}  // namespace

void Circuit::stateOfIslands(kernel::SaveArchive& ar)
{
    for (const auto& island : islands_) {
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

void Circuit::resume(Island& island, bool stepping)
{
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
