#include "circuit/circuit.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace bramix::circuit {

using kernel::check;
using kernel::seconds;

namespace {

// Two outputs fight when more than this passes between pins that are both strong.
constexpr double kStrongOhms = 1000;
constexpr double kFightAmps = 0.005;

// An instant in which the circuit has changed this often is an oscillation without delay.
constexpr int kMaxRounds = 10'000;

}  // namespace

NetId Circuit::addNet(std::string name)
{
    nets_.push_back(Net{});
    nets_.back().name = std::move(name);
    return NetId(nets_.size() - 1);
}

PinId Circuit::addPin(NetId net, std::string name)
{
    pins_.push_back(Pin{});
    pins_.back().name = std::move(name);
    pins_.back().net = net;
    const PinId id{static_cast<std::uint32_t>(pins_.size() - 1)};
    at(net).pins.push_back(id);
    return id;
}

void Circuit::addSupply(NetId net, Volts volts, PinId pin)
{
    Net& n = at(net);
    if (!n.rail) {
        n.rail = true;
        n.railVolts = volts.value;
        n.railPin = pin;
    }
    at(pin).drive = {volts.value, 0};
}

ElementId Circuit::addElement(Kind kind, NetId a, NetId b, std::string name)
{
    Element e;
    e.kind = kind;
    e.a = a;
    e.b = b;
    e.name = std::move(name);
    elements_.push_back(std::move(e));
    return ElementId(elements_.size() - 1);
}

ElementId Circuit::addResistor(NetId a, NetId b, Ohms ohms, std::string name)
{
    const ElementId id = addElement(Kind::resistor, a, b, std::move(name));
    elements_.back().ohms = ohms.value;
    return id;
}

ElementId Circuit::addSwitch(NetId a, NetId b, Ohms closed, std::string name)
{
    const ElementId id = addElement(Kind::switchContact, a, b, std::move(name));
    elements_.back().ohms = closed.value;
    return id;
}

ElementId Circuit::addDiode(NetId anode, NetId cathode, const DiodeModel& model, std::string name)
{
    const ElementId id = addElement(Kind::diode, anode, cathode, std::move(name));
    elements_.back().diode = model;
    return id;
}

void Circuit::listen(PinId pin, PinListener& listener, Thresholds thresholds)
{
    Pin& p = at(pin);
    p.listener = {&listener, thresholds};
    Net& n = at(p.net);
    n.listeners.push_back(pin);
    if (!n.hasThresholds) {
        n.thresholds = thresholds;
        n.hasThresholds = true;
    }
}

void Circuit::setThresholds(PinId pin, Thresholds thresholds)
{
    Pin& p = at(pin);
    Net& n = at(p.net);
    p.listener.thresholds = thresholds;
    if (!n.listeners.empty() && n.listeners.front() == pin)
        n.thresholds = thresholds;
    if (sealed_ && n.state != NetState::floating)
        p.level = p.level ? n.volts > thresholds.low : n.volts >= thresholds.high;
}

void Circuit::watchVoltage(PinId pin, VoltageListener* listener)
{
    auto& watchers = at(at(pin).net).watchers;
    std::erase_if(watchers, [pin](const auto& w) { return w.first == pin; });
    if (listener != nullptr)
        watchers.emplace_back(pin, listener);
}

void Circuit::setLimit(PinId pin, Amps amps) { at(pin).limitAmps = amps.value; }

void Circuit::seal(CircuitObserver* observer)
{
    observer_ = observer;
    sealed_ = true;
    findIslands();
    for (Net& net : nets_)
        net.alone = !net.rail && islands_[net.island].elements.empty();
    refreshCodes();
    // Supplies of different voltage on one net can be told once and for all.
    for (const Net& net : nets_)
        for (const PinId id : net.pins)
            if (net.rail && at(id).drive.ohms == 0 && at(id).drive.volts != net.railVolts && observer_ != nullptr)
                observer_->trouble(Trouble::supplyShort, at(id).net, net.railPin, id, std::numeric_limits<double>::infinity(), queue_.now(), {});
    for (std::uint32_t i = 0; i < islands_.size(); ++i)
        markDirty(i);
    settle();
}

void Circuit::findIslands()
{
    std::vector<std::uint32_t> parent(nets_.size());
    std::iota(parent.begin(), parent.end(), 0U);
    const auto root = [&](std::uint32_t i) {
        while (parent[i] != i)
            i = parent[i] = parent[parent[i]];
        return i;
    };
    for (const Element& e : elements_)
        if (!at(e.a).rail && !at(e.b).rail)
            parent[root(static_cast<std::uint32_t>(e.a))] = root(static_cast<std::uint32_t>(e.b));
    std::vector<std::uint32_t> islandOf(nets_.size(), UINT32_MAX);
    islands_.clear();
    for (std::uint32_t i = 0; i < nets_.size(); ++i) {
        std::uint32_t& island = islandOf[root(i)];
        if (island == UINT32_MAX) {
            island = static_cast<std::uint32_t>(islands_.size());
            islands_.emplace_back();
        }
        nets_[i].island = island;
        nets_[i].unknown = static_cast<std::uint32_t>(islands_[island].nets.size());
        islands_[island].nets.push_back(NetId{i});
    }
    for (std::uint32_t i = 0; i < elements_.size(); ++i) {
        Element& e = elements_[i];
        e.island = at(at(e.a).rail ? e.b : e.a).island;  // between two rails: either will do
        islands_[e.island].elements.push_back(ElementId{i});
    }
}

void Circuit::countDrivers()
{
    for (Net& net : nets_) {
        net.drivers = 0;
        for (const PinId pin : net.pins)
            net.drivers = static_cast<std::uint16_t>(net.drivers + (at(pin).drive.floating() ? 0 : 1));
    }
}

// Gives each pin that can drive, and each switch, its digit in the island's key.
void Circuit::refreshCodes()
{
    countDrivers();
    for (Island& island : islands_) {
        island.key = {};
        island.remembered.clear();  // their keys were in the old digits
        island.digits = 0;
        island.rememberable = true;
        for (const NetId net : island.nets)
            for (const PinId pin : at(net).pins)
                at(pin).digit = kNoDigit;
        for (const ElementId id : island.elements) {
            Element& e = elements_[static_cast<std::size_t>(id)];
            e.digit = kNoDigit;
            if (e.kind != Kind::switchContact)
                continue;
            if (island.digits == kDigits) {
                island.rememberable = false;
                continue;
            }
            e.digit = static_cast<std::uint8_t>(island.digits++);
            setDigit(island, e.digit, e.closed ? 1 : 0);
        }
        for (const NetId net : island.nets)
            for (const PinId pin : at(net).pins)
                codeOf(at(pin), island);
    }
}

void Circuit::setDigit(Island& island, std::uint8_t digit, std::uint8_t code)
{
    std::uint64_t& word = digit < 16 ? island.key.low : island.key.high;
    const unsigned shift = (digit % 16U) * 4U;
    word = (word & ~(std::uint64_t{15} << shift)) | (std::uint64_t{code} << shift);
}

// Enters the pin's present drive into the key. A pin that has never driven takes no digit.
std::uint8_t Circuit::codeOf(Pin& pin, Island& island)
{
    if (pin.digit == kNoDigit) {
        if (pin.drive.floating() && pin.known.empty())
            return 0;
        if (island.digits == kDigits) {
            island.rememberable = false;
            return 0;
        }
        pin.digit = static_cast<std::uint8_t>(island.digits++);
        if (pin.known.empty())
            pin.known.push_back(kFloating);
    }
    auto found = std::find(pin.known.begin(), pin.known.end(), pin.drive);
    if (found == pin.known.end()) {
        if (pin.known.size() == kCodes) {
            island.rememberable = false;  // an analog source; solved each time
            return 0;
        }
        found = pin.known.insert(pin.known.end(), pin.drive);
    }
    pin.code = static_cast<std::uint8_t>(found - pin.known.begin());
    setDigit(island, pin.digit, pin.code);
    return pin.code;
}

void Circuit::markDirty(std::uint32_t island)
{
    Island& i = islands_[island];
    if (!i.dirty) {
        i.dirty = true;
        dirty_.push_back(island);
    }
}

NetState Circuit::stateFor(const Net& net, double volts) const
{
    if (volts <= net.thresholds.low)
        return NetState::low;
    return volts >= net.thresholds.high ? NetState::high : NetState::between;
}

// Records the new voltage, keeps the integrals, and tells who listens.
[[gnu::always_inline]] inline void Circuit::publishInto(Net& net, NetId id, double volts, NetState state)
{
    const Time now = queue_.now();
    const bool stateChanged = net.state != state;
    if (stateChanged) {
        if (net.state == NetState::high)
            net.high += now - net.since;
        net.since = now;
        net.state = state;
        ++net.changes;
        ++generation_;
    }
    const bool voltsChanged = net.volts != volts;
    net.volts = volts;
    if (stateChanged && observer_ != nullptr)
        observer_->netChanged(id, state, now, cause_);
    if (state == NetState::floating)
        return;  // an undriven input reads what it read last
    if (voltsChanged)
        for (std::size_t i = 0; i < net.watchers.size(); ++i)
            net.watchers[i].second->voltageChanged(net.watchers[i].first, volts, now);
    for (std::size_t i = 0; i < net.listeners.size(); ++i) {
        Pin& pin = at(net.listeners[i]);
        const bool level = pin.level ? volts > pin.listener.thresholds.low : volts >= pin.listener.thresholds.high;
        if (level != pin.level) {
            pin.level = level;
            pin.listener.who->pinChanged(net.listeners[i], level, now);
        }
    }
}

void Circuit::publish(NetId id, double volts, NetState state) { publishInto(at(id), id, volts, state); }

void Circuit::drive(PinId id, Drive drive, Cause cause)
{
    Pin& pin = at(id);
    Net& net = at(pin.net);
    // An output that goes from one level to the other, with nothing else to say about its net: what most edges are.
    if (pin.drive.ohms == drive.ohms && net.alone && net.drivers == 1 && !drive.floating() && batches_ == 0 && !settling_ && sealed_) [[likely]] {
        if (pin.drive.volts == drive.volts)
            return;
        pin.drive.volts = drive.volts;
        cause_ = cause;
        settling_ = true;
        publishInto(net, pin.net, drive.volts, stateFor(net, drive.volts));
        settling_ = false;
        if (!dirty_.empty())
            settle();
        return;
    }
    if (pin.drive == drive)
        return;
    if (net.rail && pin.drive.ohms == 0)
        return;  // a supply stays what it is
    net.drivers = static_cast<std::uint16_t>(net.drivers + (pin.drive.floating() ? 1 : 0) - (drive.floating() ? 1 : 0));
    pin.drive = drive;
    if (!sealed_)
        return;
    cause_ = cause;
    Island& island = islands_[net.island];
    if (!island.elements.empty())
        codeOf(pin, island);
    markDirty(net.island);
    if (batches_ == 0 && !settling_)
        settle();
}

void Circuit::setClosed(ElementId id, bool closed, Cause cause)
{
    Element& e = elements_[static_cast<std::size_t>(id)];
    check(e.kind == Kind::switchContact, "only a switch opens and closes");
    if (e.closed == closed)
        return;
    e.closed = closed;
    if (!sealed_)
        return;
    cause_ = cause;
    if (e.digit != kNoDigit)
        setDigit(islands_[e.island], e.digit, closed ? 1 : 0);
    markDirty(e.island);
    if (batches_ == 0 && !settling_)
        settle();
}

void Circuit::settle()
{
    if (settling_ || !sealed_)
        return;
    settling_ = true;
    for (int round = 0; !dirty_.empty(); ++round) {
        const std::uint32_t index = dirty_.back();
        dirty_.pop_back();
        Island& island = islands_[index];
        island.dirty = false;
        if (round == kMaxRounds) {
            for (const std::uint32_t left : dirty_)
                islands_[left].dirty = false;
            dirty_.clear();
            if (observer_ != nullptr)
                observer_->trouble(Trouble::oscillation, island.nets.front(), kNoPin, kNoPin, 0, queue_.now(), cause_);
            break;
        }
        if (island.elements.empty())
            decidePlain(at(island.nets.front()), island.nets.front());
        else
            decideIsland(island);
    }
    settling_ = false;
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
    PinId strong = kNoPin;
    PinId rival = kNoPin;
    double fight = 0;
    for (const PinId pinId : net.pins) {
        const Pin& pin = at(pinId);
        if (pin.drive.floating())
            continue;
        siemens += 1 / pin.drive.ohms;
        amps += pin.drive.volts / pin.drive.ohms;
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
    const double volts = amps / siemens;
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

void Circuit::decideIsland(Island& island)
{
    const Solution* solution = nullptr;
    Solution fresh;
    if (island.rememberable) {
        if (island.remembered.size() > kMaxRemembered)
            island.remembered.clear();
        auto [entry, isNew] = island.remembered.try_emplace(island.key);
        if (isNew) {
            ++solves_;
            entry->second = solve(island);
        } else {
            ++recalls_;
        }
        solution = &entry->second;
    } else {
        ++solves_;
        fresh = solve(island);
        solution = &fresh;
    }
    for (std::size_t i = 0; i < island.elements.size(); ++i)
        setElementAmps(elements_[static_cast<std::size_t>(island.elements[i])], solution->amps[i]);
    // Listeners may drive pins of this very island; they only mark it dirty, and the map keeps its nodes in place.
    for (std::size_t i = 0; i < island.nets.size(); ++i)
        publish(island.nets[i], solution->volts[i], solution->states[i]);
    if (observer_ == nullptr)
        return;
    if (!solution->converged)
        observer_->trouble(Trouble::noSolution, island.nets.front(), kNoPin, kNoPin, 0, queue_.now(), cause_);
    for (std::size_t i = 0; i < island.nets.size(); ++i) {
        const NetId id = island.nets[i];
        if (solution->states[i] == NetState::conflict) {
            PinId first = kNoPin;
            PinId second = kNoPin;
            for (const PinId pin : at(id).pins)
                if (at(pin).drive.ohms < kStrongOhms)
                    (first == kNoPin ? first : second) = pin;
            observer_->trouble(Trouble::conflict, id, first, second, std::fabs(current(first).value), queue_.now(), cause_);
        }
        reportOverloads(id);
    }
    for (std::size_t i = 0; i < island.elements.size(); ++i) {
        const Element& e = elements_[static_cast<std::size_t>(island.elements[i])];
        if (at(e.a).rail && at(e.b).rail && std::fabs(solution->amps[i]) > 1.0)
            observer_->trouble(Trouble::supplyShort, e.a, at(e.a).railPin, at(e.b).railPin, std::fabs(solution->amps[i]), queue_.now(), cause_);
    }
}

void Circuit::reportOverloads(NetId id)
{
    if (observer_ == nullptr)
        return;
    for (const PinId pinId : at(id).pins) {
        const Pin& pin = at(pinId);
        if (pin.drive.floating() || pin.drive.ohms == 0)
            continue;
        const double amps = std::fabs(current(pinId).value);
        if (amps > pin.limitAmps)
            observer_->trouble(Trouble::pinOverload, id, pinId, kNoPin, amps, queue_.now(), cause_);
    }
}


void Circuit::setElementAmps(Element& element, double amps)
{
    if (element.amps == amps)
        return;
    const Time now = queue_.now();
    element.charge += element.amps * seconds(now - element.since);
    element.since = now;
    element.amps = amps;
}

Amps Circuit::current(PinId id) const
{
    const Pin& pin = at(id);
    if (pin.drive.floating() || pin.drive.ohms == 0)
        return {0};
    return {(pin.drive.volts - at(pin.net).volts) / pin.drive.ohms};
}

double Circuit::secondsHigh(NetId id) const
{
    const Net& net = at(id);
    return seconds(net.high + (net.state == NetState::high ? queue_.now() - net.since : kernel::Duration{}));
}

double Circuit::charge(ElementId id) const
{
    const Element& e = elements_[static_cast<std::size_t>(id)];
    return e.charge + e.amps * seconds(queue_.now() - e.since);
}

}  // namespace bramix::circuit
