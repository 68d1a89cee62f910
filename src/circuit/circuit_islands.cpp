// What one island is as a network, and the solution of those that do not move by themselves.
#include <algorithm>
#include <cmath>
#include <utility>

#include "circuit/island.h"

namespace bramix::circuit {

namespace {

// A net held only through devices that pass less than this, and would hardly pass more, is left to itself.
constexpr double kHoldingAmps = 1e-7;
constexpr double kHoldingSiemens = 1e-7;

// Two outputs fight when more than this passes between pins that are both strong.
constexpr double kStrongOhms = 1000;
constexpr double kFightAmps = 0.005;

// Of an operating point, in which the leaks of capacitors decide where a node between them comes to lie: far below those.
constexpr double kSteadyLeakSiemens = 1e-18;

}  // namespace

void Circuit::buildNetwork(Island& island)
{
    Network& network = island.network;
    if (steady_)
        network.leakSiemens = kSteadyLeakSiemens;
    for (const NetId id : island.nets)
        if (!at(id).rail)
            at(id).node = static_cast<Network::Node>(network.unknowns++);
    for (const ElementId id : island.elements)
        for (const NetId net : at(id).nets)
            network.unknowns += net == kNoNet ? 1 : 0;
    auto inner = static_cast<Network::Node>(std::count_if(island.nets.begin(), island.nets.end(), [&](NetId n) { return !at(n).rail; }));
    std::vector<std::pair<NetId, Network::Node>>& rails = island.rails;
    const auto heldNode = [&](NetId id) {
        for (const auto& [net, node] : rails)
            if (net == id)
                return node;
        network.held.push_back(id == kNoNet ? 0 : at(id).railVolts);
        rails.emplace_back(id, static_cast<Network::Node>(network.nodes() - 1));
        return rails.back().second;
    };
    unsigned transistors = 0;
    for (const ElementId id : island.elements) {
        Element& e = at(id);
        std::array<Network::Node, kMostTerminals> nodes{};
        for (std::size_t i = 0; i < e.nets.size(); ++i)
            nodes[i] = e.nets[i] == kNoNet ? inner++ : at(e.nets[i]).rail ? heldNode(e.nets[i]) : at(e.nets[i]).node;
        switch (e.kind) {
        case Kind::resistor:
        case Kind::switchContact:
            e.slot = static_cast<std::uint32_t>(network.conductors.size());
            network.conductors.push_back({nodes[0], nodes[1], 0});
            break;
        case Kind::capacitor:
        case Kind::inductor:
            e.slot = static_cast<std::uint32_t>(network.reactances.size());
            network.reactances.push_back({nodes[0], nodes[1], e.kind == Kind::inductor, e.value, e.ohms, e.leakSiemens});
            break;
        case Kind::source:
            e.slot = static_cast<std::uint32_t>(network.sources.size());
            network.sources.push_back({nodes[0], nodes[1], 1 / e.ohms, e.value, e.wave});
            break;
        case Kind::device:
            e.slot = static_cast<std::uint32_t>(network.devices.size());
            network.devices.push_back({e.device.get(), nodes, true});
            transistors += e.device->terminals() > 2 ? 1 : 0;
            break;
        }
        if (e.listener != nullptr)
            island.watched.push_back(id);
        if (e.kind == Kind::device)
            island.devices.push_back(id);
        else if (e.kind != Kind::capacitor && at(e.nets[0]).rail && at(e.nets[1]).rail)
            island.betweenRails.push_back(id);
    }
    for (const ElementId id : island.elements)
        for (const auto& [terminal, farads] : at(id).innerFarads)
            network.reactances.push_back({network.devices[at(id).slot].nodes[terminal], heldNode(kNoNet), false, farads, 1e-3, 0});
    // One transistor among passive parts has one operating point (Nielsen and Willson, 1980); two may feed each other back.
    island.historic = transistors > 1;
    island.dynamic = !network.reactances.empty() || std::any_of(island.elements.begin(), island.elements.end(), [&](ElementId e) { return at(e).mayMove; });
    island.x.assign(network.reactances.size(), 0.0);
    island.amps.assign(island.elements.size(), 0.0);
    island.last = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(network.nodes()));
    for (const NetId net : island.nets) {
        at(net).moves = island.dynamic && !at(net).rail;
        for (const PinId id : at(net).pins) {
            Pin& pin = at(id);
            if (at(net).rail)
                continue;
            pin.injection = static_cast<std::uint32_t>(network.injections.size());
            network.injections.push_back({at(net).node, 0, 0});
        }
    }
    if (island.dynamic) {
        island.alarm = std::make_unique<kernel::Alarm>(queue_, [this, index = island.number](Time due) { ring(index, due); }, island.number);
    }
}

// What driveSlowly() has left undone: drives matter to the network only when it is solved.
void Circuit::placeAll(Island& island) const
{
    if (!std::exchange(island.unplaced, false))
        return;
    for (const NetId net : island.nets)
        for (const PinId id : at(net).pins)
            if (const Pin& pin = at(id); pin.injection != UINT32_MAX) {
                Network::Injection& in = island.network.injections[pin.injection];
                in.siemens = pin.drive.floating() ? 0 : 1 / pin.drive.ohms;
                in.volts = pin.drive.volts;
            }
}

void Circuit::place(Island& island, Pin& pin, const Net& net)
{
    if (pin.injection == UINT32_MAX)
        return;
    Network& network = island.network;
    Network::Injection& in = network.injections[pin.injection];
    in.siemens = pin.drive.floating() ? 0 : 1 / pin.drive.ohms;
    in.volts = pin.drive.volts;
    if (pin.clampLow > pin.clampHigh && pin.clamp == nullptr)
        return;
    if (pin.clamp == nullptr) {
        island.clamps.push_back(std::make_unique<ClampDevice>());
        pin.clamp = island.clamps.back().get();
        network.devices.push_back({pin.clamp, {net.node}, false});
    }
    const bool none = pin.clampLow > pin.clampHigh;
    pin.clamp->low = none ? -1e9 : pin.clampLow;
    pin.clamp->high = none ? 1e9 : pin.clampHigh;
}

void Circuit::place(Island& island, const Element& e)
{
    Network& network = island.network;
    switch (e.kind) {
    case Kind::resistor: network.conductors[e.slot].siemens = e.broken ? 0 : 1 / e.value; break;
    case Kind::switchContact: network.conductors[e.slot].siemens = e.closed && !e.broken ? 1 / e.ohms : 0; break;
    case Kind::capacitor:
        network.reactances[e.slot].value = e.value;
        network.reactances[e.slot].ohms = e.broken ? 1e12 : e.ohms;
        break;
    case Kind::inductor:
        network.reactances[e.slot].value = e.value;
        network.reactances[e.slot].ohms = e.broken ? 1e12 : e.ohms;
        break;
    case Kind::source:
        network.sources[e.slot].volts = e.value;
        network.sources[e.slot].wave = e.wave;
        network.sources[e.slot].siemens = e.broken ? 0 : 1 / e.ohms;
        break;
    case Kind::device: network.devices[e.slot].active = !e.broken; break;
    }
}

bool Circuit::clampsViolated(const Island& island, Time t) const
{
    if (island.clamps.empty())
        return false;
    for (const Network::Slot& s : island.network.devices)
        if (s.device->terminals() == 1) {
            const auto& clamp = static_cast<const ClampDevice&>(*s.device);
            const double volts = nodeVolts(island, s.nodes[0], t);
            if (volts > clamp.high + ClampDevice::kMarginVolts || volts < clamp.low - ClampDevice::kMarginVolts)
                return true;
        }
    return false;
}

void Circuit::setClampsActive(Island& island, bool active)
{
    island.clamped = active;
    for (Network::Slot& s : island.network.devices)
        if (s.device->terminals() == 1)
            s.active = active;
}

// A net on its own: the weighted mean of what drives it.
void Circuit::decidePlain(Net& net, NetId id)
{
    if (net.rail) {
        publish(id, net.railVolts, stateFor(net, net.railVolts));
        reportOverloads(id);
        return;
    }
    double siemens = 0;
    double amps = 0;
    double only = 0;  // what the one drives, where it is one
    PinId strong = kNoPin;
    PinId rival = kNoPin;
    double fight = 0;
    for (const PinId pinId : net.pins) {
        const Pin& pin = at(pinId);
        if (pin.drive.floating())
            continue;
        siemens += 1 / pin.drive.ohms;
        amps += pin.drive.volts / pin.drive.ohms;
        only = pin.drive.volts;
        if (pin.drive.ohms < kStrongOhms) {
            if (strong == kNoPin)
                strong = pinId;
            else if (const double i = std::fabs(pin.drive.volts - at(strong).drive.volts) / (pin.drive.ohms + at(strong).drive.ohms); i > fight) {
                fight = i;
                rival = pinId;
            }
        }
    }
    if (siemens == 0) {
        publish(id, net.volts, NetState::floating);
        return;
    }
    double volts = net.drivers == 1 ? only : amps / siemens;  // without the division's rounding
    // Where protection diodes conduct: the sum of currents falls steadily with the voltage, so halving finds where it is 0.
    const auto conducts = [&](PinId p) {
        const Pin& pin = at(p);
        return pin.clampLow <= pin.clampHigh && (volts < pin.clampLow - ClampDevice::kMarginVolts || volts > pin.clampHigh + ClampDevice::kMarginVolts);
    };
    if (std::any_of(net.pins.begin(), net.pins.end(), conducts)) {
        double low = std::min(volts, 0.0) - 1, high = std::max(volts, 0.0) + 1;
        for (int i = 0; i < 80; ++i) {
            const double mid = (low + high) / 2;
            double sum = amps - mid * siemens;
            for (const PinId p : net.pins)
                if (at(p).clampLow <= at(p).clampHigh)
                    sum -= ClampDevice::through(mid, at(p).clampLow, at(p).clampHigh).amps;
            (sum > 0 ? low : high) = mid;
        }
        volts = (low + high) / 2;
    }
    if (fight > kFightAmps) {
        publish(id, volts, NetState::conflict);
        if (observer_ != nullptr)
            observer_->trouble(Trouble::conflict, id, strong, rival, fight, queue_.now(), cause_);
    } else {
        publish(id, volts, stateFor(net, volts));
    }
    if (net.pins.size() > 1)
        reportOverloads(id);
}

Circuit::Solution Circuit::solve(Island& island)
{
    ++solves_;
    placeAll(island);
    Solution out;
    const auto run = [&] {
        if (island.historic) {
            out.volts = island.last;
            return island.network.solve(out.volts, {}, 0, queue_.now());
        }
        return island.network.solveAfresh(out.volts, {}, 0, queue_.now());
    };
    setClampsActive(island, false);
    out.converged = run();
    const auto beyond = [&](const Network::Slot& s) {
        if (s.device->terminals() != 1)
            return false;
        const auto& clamp = static_cast<const ClampDevice&>(*s.device);
        const double volts = out.volts[s.nodes[0]];
        return volts > clamp.high + ClampDevice::kMarginVolts || volts < clamp.low - ClampDevice::kMarginVolts;
    };
    if (!island.clamps.empty() && std::any_of(island.network.devices.begin(), island.network.devices.end(), beyond)) {
        setClampsActive(island, true);
        out.converged = run();
    }
    std::vector<bool> held;
    classify(island, out.volts, held);
    for (std::size_t i = 0; i < island.nets.size(); ++i)
        out.states.push_back(stateIn(at(island.nets[i]), held[i], voltsIn(at(island.nets[i]), out.volts)));
    for (const ElementId id : island.elements)
        out.amps.push_back(ampsAt(island, at(id), out.volts, queue_.now()));
    return out;
}

void Circuit::decideStatic(Island& island)
{
    if (std::exchange(island.unentered, false)) {
        for (const NetId net : island.nets)
            for (const PinId pin : at(net).pins)
                enterPin(island, pin);
        island.solution = nullptr;  // it is not what the nets show
    }
    Solution* solution = nullptr;
    Solution fresh;
    const std::vector<std::uint32_t>* nets = nullptr;
    const std::vector<std::uint32_t>* elements = nullptr;
    if (island.historic) {
        fresh = solve(island);
        findWorthReporting(island, fresh);
        solution = &fresh;
        island.last = fresh.volts;
    } else {
        if (island.remembered.size() > kMaxRemembered)
            forgetSolutions(island);
        Island::Found& found = island.found[island.key.low % island.found.size()];
        bool isNew = false;
        if (found.solution == nullptr || !(found.key == island.key)) {
            auto& entry = island.remembered[island.key];
            isNew = entry == nullptr;
            if (isNew) {
                entry = std::make_unique<Solution>(solve(island));
                findWorthReporting(island, *entry);
            }
            found = {island.key, entry.get()};
        }
        if (!isNew)
            ++recalls_;
        solution = found.solution;
        nets = changedNets(island, *solution, &elements);
        island.solution = solution;
        if (island.keptSolution.get() != solution)
            island.keptSolution.reset();
    }
    const bool converged = solution->converged;
    const bool fights = solution->fights;
    const auto carries = [&](std::size_t i) {
        if (island.amps[i] != solution->amps[i]) {
            island.amps[i] = solution->amps[i];
            setElementAmps(at(island.elements[i]), solution->amps[i]);
        }
    };
    const auto stands = [&](std::size_t i) {
        const Net& net = at(island.nets[i]);
        if (const double volts = voltsIn(net, solution->volts); net.volts != volts || net.state != solution->states[i])
            publish(island.nets[i], volts, solution->states[i]);
    };
    // Listeners may drive pins of this very island; they only mark it dirty, and what is in use is kept when all is forgotten.
    if (nets != nullptr) {
        for (const std::uint32_t i : *elements)
            carries(i);
        for (const std::uint32_t i : *nets)
            stands(i);
    } else {
        for (std::size_t i = 0; i < island.elements.size(); ++i)
            carries(i);
        for (std::size_t i = 0; i < island.nets.size(); ++i)
            stands(i);
    }
    if (elements == nullptr || !elements->empty())
        tellElements(island);
    if (converged != island.converged || !converged) {
        island.converged = converged;
        if (!converged && observer_ != nullptr)
            observer_->trouble(Trouble::noSolution, island.nets.front(), kNoPin, kNoPin, 0, queue_.now(), cause_);
    }
    if (fights || island.loud) {
        reportIsland(island);
    } else if (observer_ != nullptr) {
        for (const PinId pin : island.loaded)
            reportPin(pin);
        for (const PinId pin : solution->loaded)
            if (std::find(island.loaded.begin(), island.loaded.end(), pin) == island.loaded.end())
                reportPin(pin);
    }
    island.loud = fights;
    island.loaded = solution->loaded;
}

// What differs from the solution before, in the island's order; null where that is not known.
const std::vector<std::uint32_t>* Circuit::changedNets(Island& island, Solution& to, const std::vector<std::uint32_t>** elements)
{
    const Solution* const from = island.solution;
    if (from == nullptr || island.keptSolution.get() == from)
        return nullptr;  // forgotten: its place may be another's one day
    for (const Solution::Change& change : to.changes)
        if (change.from == from) {
            *elements = &change.elements;
            return &change.nets;
        }
    Solution::Change change;
    change.from = from;
    for (std::uint32_t i = 0; i < island.nets.size(); ++i)
        if (const Net& net = at(island.nets[i]); voltsIn(net, from->volts) != voltsIn(net, to.volts) || from->states[i] != to.states[i])
            change.nets.push_back(i);
    for (std::uint32_t i = 0; i < island.elements.size(); ++i)
        if (from->amps[i] != to.amps[i])
            change.elements.push_back(i);
    if (to.changes.size() < Solution::kMostChanges) {
        to.changes.push_back(std::move(change));
        *elements = &to.changes.back().elements;
        return &to.changes.back().nets;
    }
    Solution::Change& oldest = to.changes[to.oldestChange++ % Solution::kMostChanges];
    oldest = std::move(change);
    *elements = &oldest.elements;
    return &oldest.nets;
}

void Circuit::findWorthReporting(const Island& island, Solution& solution) const
{
    solution.fights = !island.betweenRails.empty() || std::find(solution.states.begin(), solution.states.end(), NetState::conflict) != solution.states.end();
    for (const PinId id : island.limited) {
        const Pin& pin = at(id);
        const double volts = voltsIn(at(pin.net), solution.volts);
        const bool within = pin.clampLow > pin.clampHigh || (volts <= pin.clampHigh + kOverVolts && volts >= pin.clampLow - kOverVolts);
        if (!within || !(pin.drive.floating() || pin.drive.ohms == 0 || std::fabs(pin.drive.volts - volts) < kWorthBooking * pin.drive.ohms))
            solution.loaded.push_back(id);
    }
}

void Circuit::forgetSolutions(Island& island)
{
    for (auto& [key, solution] : island.remembered)
        if (solution != nullptr && solution.get() == island.solution)
            island.keptSolution = std::move(solution);
    island.remembered.clear();
    island.found = {};
}

void Circuit::forgetPositions(Island& island)
{
    for (auto& [key, position] : island.positions)
        if (position != nullptr && position.get() == island.position)
            island.keptPosition = std::move(position);
    island.positions.clear();
    island.recent = {};
}

void Circuit::tellElements(const Island& island)
{
    for (const ElementId id : island.watched) {
        Element& e = at(id);
        if (e.quietLow <= e.quietHigh) {
            const double volts = at(e.nets[0]).volts - at(e.nets[1]).volts;
            const bool quiet = volts >= e.quietLow && volts <= e.quietHigh;
            if (std::exchange(e.wasQuiet, quiet) && quiet)
                continue;
        }
        e.listener->elementChanged(id, queue_.now());
    }
}

void Circuit::tellElementsAgain()
{
    const Batch together(*this);
    for (const auto& island : islands_)
        tellElements(*island);
}

void Circuit::reportIsland(Island& island)
{
    if (observer_ == nullptr)
        return;
    for (const NetId id : island.nets) {
        if (at(id).state == NetState::conflict) {
            PinId first = kNoPin;
            PinId second = kNoPin;
            for (const PinId pin : at(id).pins)
                if (at(pin).drive.ohms < kStrongOhms)
                    (first == kNoPin ? first : second) = pin;
            observer_->trouble(Trouble::conflict, id, first, second, std::fabs(current(first).value), queue_.now(), cause_);
        }
    }
    for (const PinId id : island.limited)
        reportPin(id);
    for (const ElementId id : island.betweenRails) {
        const Element& e = at(id);
        if (const double amps = std::fabs(current(id).value); amps > kShortAmps)
            observer_->trouble(Trouble::supplyShort, e.nets[0], at(e.nets[0]).railPin, at(e.nets[1]).railPin, amps, queue_.now(), cause_);
    }
}

void Circuit::reportOverloads(NetId id)
{
    if (observer_ == nullptr)
        return;
    for (const PinId pinId : at(id).pins)
        if (at(pinId).limited)
            reportPin(pinId);
}

// A pin that can be overloaded, by current or by voltage.
void Circuit::limitPin(PinId id)
{
    Pin& pin = at(id);
    if (pin.limited || (pin.clampLow > pin.clampHigh && std::isinf(pin.limitAmps)))
        return;
    pin.limited = true;
    islands_[at(pin.net).island]->limited.push_back(id);
}

// Right after its net has been published.
void Circuit::reportPin(PinId id)
{
    Pin& pin = at(id);
    const Net& net = at(pin.net);
    const double volts = net.volts;
    if (pin.clampLow <= pin.clampHigh && (volts > pin.clampHigh + kOverVolts || volts < pin.clampLow - kOverVolts))
        observer_->trouble(Trouble::overVoltage, pin.net, id, kNoPin, volts, queue_.now(), cause_);
    if (std::isinf(pin.limitAmps) || pin.drive.ohms == 0)
        return;
    const double out = pin.drive.floating() ? 0 : (pin.drive.volts - volts) / pin.drive.ohms;
    const double amps = std::fabs(out);
    if (pin.over && amps <= pin.limitAmps) {
        pin.over = false;
        observer_->overloadEnded(id, queue_.now());
    }
    if (amps > pin.limitAmps) {
        pin.over = true;
        observer_->trouble(Trouble::pinOverload, pin.net, id, kNoPin, amps, queue_.now(), cause_);
    }
    if (pin.group != kNoGroup)
        book(pin, id, amps >= kWorthBooking ? out : 0);
}

void Circuit::book(Pin& pin, PinId id, double amps)
{
    if (pin.booked == amps)
        return;
    Group& group = groups_[pin.groupIndex];
    group.out += std::max(amps, 0.0) - std::max(pin.booked, 0.0);
    group.in += std::max(-amps, 0.0) - std::max(-pin.booked, 0.0);
    pin.booked = amps;
    // Added up exactly once every net stands where the drives of this instant put it.
    const double missing = static_cast<double>(group.pins.size()) * kWorthBooking;
    if (std::max(group.out, group.in) + missing > pin.groupAmps && std::none_of(toSum_.begin(), toSum_.end(), [&](PinId other) { return at(other).group == pin.group; }))
        toSum_.push_back(id);
}

void Circuit::bookAnew()
{
    for (const auto& island : islands_) {
        island->loud = true;
        for (std::size_t i = 0; i < island->amps.size(); ++i)
            island->amps[i] = at(island->elements[i]).amps;
        if (island->dynamic || island->historic || island->elements.empty())
            continue;
        // As it stood, of which only the nets are kept.
        island->solution = nullptr;
        island->keptSolution.reset();
        std::size_t known = 0;
        for (const NetId id : island->nets)
            known += at(id).rail ? 0 : 1;
        if (island->network.unknowns > known)
            island->last = solve(*island).volts;  // nodes inside devices, which carry currents too
        for (const auto& [rail, node] : island->rails)
            island->last[node] = island->network.held[node - island->network.unknowns];
        for (const NetId id : island->nets)
            if (!at(id).rail)
                island->last[at(id).node] = at(id).volts;
    }
    for (Group& group : groups_) {
        group.out = group.in = 0;
        for (const PinId id : group.pins) {
            Pin& pin = at(id);
            pin.booked = 0;
            const double amps = pin.drive.floating() || pin.drive.ohms == 0 || !pin.limited ? 0 : (pin.drive.volts - at(pin.net).volts) / pin.drive.ohms;
            if (std::fabs(amps) >= kWorthBooking) {
                (amps > 0 ? group.out : group.in) += std::fabs(amps);
                pin.booked = amps;
            }
        }
    }
    toSum_.clear();
}

void Circuit::reportGroups()
{
    for (const PinId pinId : toSum_) {
        const Pin& pin = at(pinId);
        double out = 0, in = 0;
        for (const PinId other : groups_[pin.groupIndex].pins)
            if (!at(other).drive.floating()) {
                const double a = current(other).value;
                (a > 0 ? out : in) += std::fabs(a);
            }
        if (std::max(in, out) > pin.groupAmps && observer_ != nullptr)
            observer_->trouble(Trouble::groupOverload, pin.net, pinId, kNoPin, std::max(in, out), queue_.now(), cause_);
    }
    toSum_.clear();
}

// Which nets something holds. A capacitor holds a net too: its charge decides.
void Circuit::classify(const Island& island, const Voltages& v, std::vector<bool>& held) const
{
    // By node, and in the end by net.
    std::vector<bool> nodes(island.network.nodes());
    for (std::size_t i = island.network.unknowns; i < nodes.size(); ++i)
        nodes[i] = true;
    for (const NetId id : island.nets)
        if (!at(id).rail && std::any_of(at(id).pins.begin(), at(id).pins.end(), [&](PinId p) { return !at(p).drive.floating(); }))
            nodes[at(id).node] = true;
    const auto spreadTo = [&](Network::Node a, Network::Node b) {
        if (nodes[a] == nodes[b])
            return false;
        nodes[a] = nodes[b] = true;
        return true;
    };
    for (bool grew = true; grew;) {
        grew = false;
        for (const Network::Conductor& c : island.network.conductors)
            grew = (c.siemens > 0 && spreadTo(c.a, c.b)) || grew;
        for (const Network::Source& s : island.network.sources)
            grew = (s.siemens > 0 && spreadTo(s.a, s.b)) || grew;
        for (const Network::Reactance& r : island.network.reactances)
            grew = spreadTo(r.a, r.b) || grew;
        for (std::size_t k = 0; k < island.network.devices.size(); ++k) {
            const Network::Slot& s = island.network.devices[k];
            if (!s.active || s.device->terminals() < 2)
                continue;
            const DevicePoint p = island.network.point(k, v);
            for (std::size_t a = 0; a < s.device->terminals(); ++a)
                for (std::size_t b = a + 1; b < s.device->terminals(); ++b)
                    if (s.device->joins(a, b)
                        && (std::fabs(p.siemens[a][b]) > kHoldingSiemens || (std::fabs(p.amps[a]) > kHoldingAmps && std::fabs(p.amps[b]) > kHoldingAmps)))
                        grew = spreadTo(s.nodes[a], s.nodes[b]) || grew;
        }
    }
    held.resize(island.nets.size());
    for (std::size_t i = 0; i < island.nets.size(); ++i)
        held[i] = at(island.nets[i]).rail || nodes[at(island.nets[i]).node];
}

double Circuit::voltsIn(const Net& net, const Voltages& volts) const { return net.rail ? net.railVolts : volts[net.node]; }

const std::vector<ElementId>& Circuit::neighbours(NetId net) const { return islands_[at(net).island]->elements; }

NetState Circuit::stateIn(const Net& net, bool held, double volts) const
{
    if (!held)
        return NetState::floating;
    if (!net.rail && net.drivers > 1) {
        double lowest = INFINITY;
        double highest = -INFINITY;
        for (const PinId p : net.pins) {
            const Drive& d = at(p).drive;
            if (d.ohms >= kStrongOhms)
                continue;
            const double amps = (d.volts - volts) / d.ohms;
            lowest = std::min(lowest, amps);
            highest = std::max(highest, amps);
        }
        if (lowest < -kFightAmps && highest > kFightAmps)
            return NetState::conflict;
    }
    return stateFor(net, volts);
}

double Circuit::ampsAt(const Island& island, const Element& e, const Voltages& v, Time t) const
{
    const Network& network = island.network;
    switch (e.kind) {
    case Kind::resistor:
    case Kind::switchContact: {
        const Network::Conductor& c = network.conductors[e.slot];
        return (v[c.a] - v[c.b]) * c.siemens;
    }
    case Kind::capacitor: {
        const Network::Reactance& r = network.reactances[e.slot];
        return (island.running != nullptr ? island.running->slope(e.slot, t) * r.value : 0) + r.leakSiemens * (v[r.a] - v[r.b]);
    }
    case Kind::inductor: {
        const Network::Reactance& r = network.reactances[e.slot];
        return (island.running != nullptr ? island.running->states(t)[e.slot] : 0) + r.leakSiemens * (v[r.a] - v[r.b]);
    }
    case Kind::source: return network.sourceAmps(network.sources[e.slot], v, t);
    case Kind::device: return e.broken ? 0 : e.device->mainAmps(network.point(e.slot, v));
    }
    return 0;
}

double Circuit::nodeVolts(const Island& island, std::uint32_t node, Time t) const
{
    if (island.running != nullptr)
        return island.running->volts(node, t);
    return island.solution != nullptr ? island.solution->volts[node] : island.last[node];
}

DevicePoint Circuit::pointNow(const Island& island, const Element& e) const
{
    const Network::Slot& s = island.network.devices[e.slot];
    std::array<double, kMostTerminals> at{};
    for (std::size_t i = 0; i < s.device->terminals(); ++i)
        at[i] = nodeVolts(island, s.nodes[i], queue_.now());
    DevicePoint p;
    s.device->at(at, p);
    return p;
}

// As ampsAt, of the present, without looking at nodes that are not the element's.
double Circuit::ampsNow(const Island& island, const Element& e) const
{
    const Network& network = island.network;
    const Time now = queue_.now();
    const auto across = [&](std::uint32_t a, std::uint32_t b) { return nodeVolts(island, a, now) - nodeVolts(island, b, now); };
    switch (e.kind) {
    case Kind::resistor:
    case Kind::switchContact: return across(network.conductors[e.slot].a, network.conductors[e.slot].b) * network.conductors[e.slot].siemens;
    case Kind::capacitor:
    case Kind::inductor: {
        const Network::Reactance& r = network.reactances[e.slot];
        const double leak = r.leakSiemens * across(r.a, r.b);
        if (island.running == nullptr)
            return leak;
        return leak + (e.kind == Kind::capacitor ? island.running->slope(e.slot, now) * r.value : island.running->states(now)[e.slot]);
    }
    case Kind::source: {
        const Network::Source& s = network.sources[e.slot];
        return (network.sourceVolts(s, now) - across(s.a, s.b)) * s.siemens;
    }
    case Kind::device: return e.broken ? 0 : e.device->mainAmps(pointNow(island, e));
    }
    return 0;
}

Amps Circuit::current(ElementId id) const
{
    const Element& e = at(id);
    const Island& island = *islands_[e.island];
    return {island.dynamic ? ampsNow(island, e) : e.amps};
}

Amps Circuit::current(ElementId id, std::size_t terminal) const
{
    const Element& e = at(id);
    const Island& island = *islands_[e.island];
    if (e.kind != Kind::device)
        return {terminal == 0 ? current(id).value : -current(id).value};
    return {e.broken ? 0 : pointNow(island, e).amps[terminal]};
}

Amps Circuit::taken(ElementId id, NetId net) const
{
    const Element& e = at(id);
    double amps = 0;
    for (std::size_t i = 0; i < e.nets.size(); ++i)
        if (e.nets[i] == net)
            amps += e.kind == Kind::device ? current(id, i).value : (i == 0) != (e.kind == Kind::source) ? current(id).value : -current(id).value;
    return {amps};
}

double Circuit::watts(ElementId id) const
{
    const Element& e = at(id);
    const Island& island = *islands_[e.island];
    if (e.kind != Kind::device) {
        const double across = voltage(e.nets[0]).value - voltage(e.nets[1]).value;
        const double amps = current(id).value;
        return e.kind == Kind::source ? -across * amps : across * amps;
    }
    if (e.broken)
        return 0;
    const DevicePoint p = pointNow(island, e);
    double sum = 0;
    for (std::size_t i = 0; i < e.device->terminals(); ++i)
        sum += p.amps[i] * nodeVolts(island, island.network.devices[e.slot].nodes[i], queue_.now());
    return sum;
}

double Circuit::residual(NetId id) const
{
    Island& island = *islands_[at(id).island];
    if (island.elements.empty())
        return 0;
    placeAll(island);
    const Time now = queue_.now();
    return island.network.residual(voltsOf(island, now), island.running != nullptr ? island.running->states(now) : std::vector<double>{}, 0, now);
}

// One column of the inverse of the conductance matrix: what a current of one ampere into the net lifts it by. Capacitors hold their
// voltage for as long as a small load takes.
Ohms Circuit::sourceResistance(NetId id) const
{
    const Net& net = at(id);
    if (net.rail)
        return {0};
    Island& island = *islands_[net.island];
    placeAll(island);
    double ohms = 0;
    if (island.elements.empty()) {
        double siemens = kLeakSiemens;
        for (const PinId pin : net.pins)
            siemens += at(pin).drive.floating() ? 0 : 1 / at(pin).drive.ohms;
        ohms = 1 / siemens;
    } else {
        const auto n = static_cast<Eigen::Index>(island.network.unknowns);
        Eigen::VectorXd one = Eigen::VectorXd::Zero(n);
        one(net.node) = 1;
        ohms = island.network.conductance(voltsOf(island, queue_.now()), 0).topLeftCorner(n, n).partialPivLu().solve(one)(net.node);
    }
    return {ohms > 0.1 / kLeakSiemens ? std::numeric_limits<double>::infinity() : ohms};
}

Ohms Circuit::resistanceBetween(NetId a, NetId b) const
{
    if (a == b)
        return {0};
    const Net& first = at(a);
    const Net& second = at(b);
    if (first.rail || second.rail || first.island != second.island) {
        // Both are against fixed voltages, which are alike to a small current.
        const double sum = sourceResistance(a).value + sourceResistance(b).value;
        return {sum > 0.1 / kLeakSiemens ? std::numeric_limits<double>::infinity() : sum};
    }
    Island& island = *islands_[first.island];
    placeAll(island);
    const auto n = static_cast<Eigen::Index>(island.network.unknowns);
    Eigen::VectorXd one = Eigen::VectorXd::Zero(n);
    one(first.node) = 1;
    one(second.node) = -1;
    const Eigen::VectorXd lift = island.network.conductance(voltsOf(island, queue_.now()), INFINITY).topLeftCorner(n, n).partialPivLu().solve(one);
    const double ohms = lift(first.node) - lift(second.node);
    return {ohms > 0.1 / kLeakSiemens ? std::numeric_limits<double>::infinity() : ohms};
}

}  // namespace bramix::circuit
