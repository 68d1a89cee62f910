#include "circuit/island.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace bramix::circuit {

using kernel::check;
using kernel::seconds;

namespace {

// An instant in which the circuit has changed this often is an oscillation without delay.
constexpr int kMaxRounds = 10'000;

}  // namespace

Circuit::Circuit(kernel::EventQueue& queue) : queue_(queue) {}

Circuit::~Circuit() = default;

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

ElementId Circuit::addElement(Kind kind, std::initializer_list<NetId> nets, std::string name)
{
    Element e;
    e.kind = kind;
    e.nets = nets;
    e.name = std::move(name);
    elements_.push_back(std::move(e));
    return ElementId(elements_.size() - 1);
}

ElementId Circuit::addResistor(NetId a, NetId b, Ohms ohms, std::string name)
{
    const ElementId id = addElement(Kind::resistor, {a, b}, std::move(name));
    at(id).value = ohms.value;
    return id;
}

ElementId Circuit::addSwitch(NetId a, NetId b, Ohms closed, std::string name)
{
    const ElementId id = addElement(Kind::switchContact, {a, b}, std::move(name));
    at(id).ohms = closed.value;
    return id;
}

ElementId Circuit::addDiode(NetId anode, NetId cathode, const DiodeModel& model, std::string name)
{
    const std::array nets{anode, cathode};
    return addDevice(std::make_unique<DiodeDevice>(model), nets, std::move(name));
}

ElementId Circuit::addCapacitor(NetId a, NetId b, Farads farads, Ohms series, Ohms leak, std::string name)
{
    if (steady_)
        return addResistor(a, b, leak, std::move(name));
    const ElementId id = addElement(Kind::capacitor, {a, b}, std::move(name));
    at(id).value = farads.value;
    at(id).ohms = std::max(series.value, 1e-6);
    at(id).leakSiemens = 1 / leak.value;
    return id;
}

ElementId Circuit::addInductor(NetId a, NetId b, Henries henries, Ohms winding, Ohms loss, std::string name)
{
    if (steady_)
        return addResistor(a, b, {std::max(winding.value, 1e-6)}, std::move(name));
    const ElementId id = addElement(Kind::inductor, {a, b}, std::move(name));
    at(id).value = henries.value;
    at(id).ohms = std::max(winding.value, 1e-6);
    at(id).leakSiemens = 1 / loss.value;
    return id;
}

ElementId Circuit::addSource(NetId a, NetId b, Volts volts, Ohms inner, std::string name, bool mayMove)
{
    const ElementId id = addElement(Kind::source, {a, b}, std::move(name));
    at(id).value = volts.value;
    at(id).ohms = std::max(inner.value, 1e-3);
    at(id).mayMove = mayMove && !steady_;
    return id;
}

ElementId Circuit::addDevice(std::unique_ptr<Device> device, std::span<const NetId> nets, std::string name)
{
    const ElementId id = addElement(Kind::device, {}, std::move(name));
    at(id).nets.assign(nets.begin(), nets.end());
    at(id).device = std::move(device);
    return id;
}

void Circuit::addInnerCapacitor(ElementId device, std::size_t terminal, Farads farads)
{
    if (!steady_)
        at(device).innerFarads.emplace_back(terminal, farads.value);
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
    refreshSimple(n);
}

void Circuit::setThresholds(PinId pin, Thresholds thresholds)
{
    Pin& p = at(pin);
    Net& n = at(p.net);
    p.listener.thresholds = thresholds;
    if (!islands_.empty())
        islands_[n.island]->marksKnown = false;
    if (!n.listeners.empty() && n.listeners.front() == pin)
        n.thresholds = thresholds;
    if (!islands_.empty() && n.state != NetState::floating)
        p.level = p.level ? n.volts > thresholds.low : n.volts >= thresholds.high;
}

void Circuit::watchVoltage(PinId pin, VoltageListener* listener, VoltageWatch watch)
{
    Net& net = at(at(pin).net);
    std::erase_if(net.watchers, [pin](const Watcher& w) { return w.pin == pin; });
    if (listener != nullptr) {
        const double now = voltage(at(pin).net).value;
        net.watchers.push_back({pin, listener, watch, now, watch.against != kNoPin && now - voltage(at(watch.against).net).value > watch.offset});
    }
    if (islands_.empty())
        return;
    findDependents();
    refreshSimple(net);
    if (watch.against != kNoPin)
        refreshSimple(at(at(watch.against).net));
    if (busy_ == 0 && net.moves)
        armNext(*islands_[net.island]);
}

void Circuit::setWatchOffset(PinId pin, double offset)
{
    Net& net = at(at(pin).net);
    for (Watcher& w : net.watchers)
        if (w.pin == pin && w.watch.against != kNoPin) {
            w.watch.offset = offset;
            w.above = voltage(at(pin).net).value - voltage(at(w.watch.against).net).value > offset;
        }
    if (islands_.empty() || !net.moves)
        return;
    if (busy_ == 0)
        armNext(*islands_[net.island]);
    else
        markDirty(net.island);
}

// Somebody who waits to pass another net's voltage waits anew whenever that one takes another course.
void Circuit::findDependents()
{
    for (const auto& island : islands_) {
        island->marksKnown = false;
        island->dependents.clear();
        island->compares = false;
    }
    for (const Net& net : nets_)
        for (const Watcher& w : net.watchers)
            if (w.watch.against != kNoPin && net.moves) {
                islands_[net.island]->compares = true;
                if (const std::uint32_t other = at(at(w.watch.against).net).island; other != net.island)
                    if (auto& dependents = islands_[other]->dependents; std::find(dependents.begin(), dependents.end(), net.island) == dependents.end())
                        dependents.push_back(net.island);
            }
}

void Circuit::watchElement(ElementId element, ElementListener& listener, std::vector<double> volts)
{
    at(element).listener = &listener;
    at(element).watchedVolts = std::move(volts);
    if (!islands_.empty())
        refreshJoins();
}

void Circuit::setQuietRange(ElementId element, double low, double high)
{
    at(element).quietLow = low;
    at(element).quietHigh = high;
    at(element).wasQuiet = false;
    if (!islands_.empty())
        islands_[at(element).island]->marksKnown = false;
}

void Circuit::probe(NetId id, ProbeListener* listener)
{
    Net& net = at(id);
    if (net.probe != nullptr)
        tellProbe(id, queue_.now());
    net.probe = listener;
    net.probedTo = queue_.now();
    refreshSimple(net);
    if (!islands_.empty())
        islands_[net.island]->marksKnown = false;
}

void Circuit::probe(ElementId id, CurrentProbe* listener)
{
    Element& e = at(id);
    if (e.probe != nullptr)
        tellProbe(id, queue_.now());
    e.probe = listener;
    e.probedTo = queue_.now();
    islands_[e.island]->marksKnown = false;
    std::vector<ElementId>& probed = islands_[e.island]->probed;
    std::erase(probed, id);
    if (listener != nullptr)
        probed.push_back(id);
}

void Circuit::setClamp(PinId id, double low, double high)
{
    Pin& pin = at(id);
    if (pin.clampLow == low && pin.clampHigh == high)
        return;
    pin.clampLow = low;
    pin.clampHigh = high;
    Net& net = at(pin.net);
    refreshClamps(net);
    if (islands_.empty())
        return;
    Island& island = *islands_[net.island];
    island.marksKnown = false;
    forget(island);
    if (!island.elements.empty())
        place(island, pin, net);
    limitPin(id);
    markDirty(net.island);
    settle();
}

void Circuit::setLimit(PinId pin, Amps amps, std::uint32_t group, Amps together)
{
    at(pin).limitAmps = amps.value;
    at(pin).group = group;
    at(pin).groupAmps = together.value;
    if (group == kNoGroup)
        return;
    auto known = std::find_if(groups_.begin(), groups_.end(), [&](const Group& g) { return g.number == group; });
    if (known == groups_.end())
        known = groups_.insert(groups_.end(), Group{group, {}, 0, 0});
    at(pin).groupIndex = static_cast<std::uint32_t>(known - groups_.begin());
    known->pins.push_back(pin);
}

void Circuit::seal(CircuitObserver* observer)
{
    observer_ = observer;
    findIslands();
    for (std::uint32_t i = 0; i < pins_.size(); ++i)
        limitPin(PinId{i});
    findDependents();
    refreshCodes();
    // Supplies of different voltage on one net can be told once and for all.
    for (const Net& net : nets_)
        for (const PinId id : net.pins)
            if (net.rail && at(id).drive.ohms == 0 && at(id).drive.volts != net.railVolts && observer_ != nullptr)
                observer_->trouble(Trouble::supplyShort, at(id).net, net.railPin, id, std::numeric_limits<double>::infinity(), queue_.now(), {});
    for (std::uint32_t i = 0; i < islands_.size(); ++i)
        markDirty(i);
    busy_ -= 1;
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
    const auto joins = [&](NetId id) { return id != kNoNet && !at(id).rail; };
    for (const Element& e : elements_) {
        const auto first = std::find_if(e.nets.begin(), e.nets.end(), joins);
        for (auto net = first; net != e.nets.end(); ++net)
            if (joins(*net))
                parent[root(static_cast<std::uint32_t>(*net))] = root(static_cast<std::uint32_t>(*first));
    }
    std::vector<std::uint32_t> islandOf(nets_.size(), UINT32_MAX);
    islands_.clear();
    for (std::uint32_t i = 0; i < nets_.size(); ++i) {
        std::uint32_t& island = islandOf[root(i)];
        if (island == UINT32_MAX) {
            island = static_cast<std::uint32_t>(islands_.size());
            islands_.push_back(std::make_unique<Island>());
            islands_.back()->number = island;
        }
        nets_[i].island = island;
        islands_[island]->nets.push_back(NetId{i});
    }
    for (std::uint32_t i = 0; i < elements_.size(); ++i) {
        Element& e = elements_[i];
        const auto first = std::find_if(e.nets.begin(), e.nets.end(), joins);
        e.island = at(first != e.nets.end() ? *first : e.nets.front()).island;  // between two rails: either will do
        islands_[e.island]->elements.push_back(ElementId{i});
    }
    for (const auto& island : islands_)
        if (!island->elements.empty())
            buildNetwork(*island);
}

void Circuit::refreshSimple(Net& net)
{
    if (islands_.empty())
        return;
    const Island& island = *islands_[net.island];
    net.alone = net.joins == 0 && !net.rail && !island.dynamic && !island.historic && island.dependents.empty();
    net.cut = net.alone && !island.elements.empty();
    net.simple = net.alone && net.probe == nullptr && net.watchers.empty();
    net.lone = net.simple && !net.cut && net.listeners.size() == 1;
}

// What drives it from the next edge on may be too much for a pin of another supply.
void Circuit::refreshClamps(Net& net)
{
    net.least = -std::numeric_limits<double>::infinity();
    net.most = std::numeric_limits<double>::infinity();
    for (const PinId id : net.pins)
        if (const Pin& pin = at(id); pin.clampLow <= pin.clampHigh) {
            net.least = std::max(net.least, pin.clampLow - ClampDevice::kMarginVolts);
            net.most = std::min(net.most, pin.clampHigh + ClampDevice::kMarginVolts);
        }
    refreshSimple(net);
}

void Circuit::refreshJoins()
{
    for (Net& net : nets_)
        net.joins = 0;
    for (const Element& e : elements_)
        if (mayCarry(e))
            for (const NetId net : e.nets)
                if (net != kNoNet)
                    ++at(net).joins;
    for (Net& net : nets_)
        refreshClamps(net);
}

// A switch has closed (+1) or opened.
void Circuit::joinedOrCut(const Element& contact, int by)
{
    for (const NetId net : contact.nets) {
        at(net).joins = static_cast<std::uint16_t>(at(net).joins + by);
        refreshSimple(at(net));
    }
}

// Everything that follows from drives and values.
void Circuit::refreshCodes()
{
    refreshJoins();
    for (Net& net : nets_) {
        net.drivers = 0;
        for (const PinId pin : net.pins)
            net.drivers = static_cast<std::uint16_t>(net.drivers + (at(pin).drive.floating() ? 0 : 1));
    }
    for (const auto& each : islands_) {
        Island& island = *each;
        if (island.elements.empty())
            continue;
        forget(island);
        for (const NetId net : island.nets)
            for (const PinId pin : at(net).pins)
                place(island, at(pin), at(net));
        for (const ElementId id : island.elements)
            place(island, at(id));
    }
}

namespace {

// A number for "slot i shows code c", spread over 64 bits (splitmix64's finaliser), so that a position's key is their sum without carry.
std::uint64_t spread(std::uint64_t x)
{
    x += 0x9E3779B97F4A7C15ULL;
    x = (x ^ (x >> 30U)) * 0xBF58476D1CE4E5B9ULL;
    x = (x ^ (x >> 27U)) * 0x94D049BB133111EBULL;
    return x ^ (x >> 31U);
}

}  // namespace

// Forgets all solutions, and which drives have been seen.
void Circuit::forget(Island& island)
{
    forgetSolutions(island);
    forgetPositions(island);
    island.key = {};
    for (const NetId net : island.nets)
        for (const PinId pin : at(net).pins) {
            at(pin).code = 0;
            at(pin).known.clear();
            enterPin(island, pin);
        }
    for (const ElementId id : island.elements) {
        at(id).known.clear();
        at(id).code = 0;
        enterElement(island, id);
    }
}

// Enters the pin's present drive into the key. Code 0 floats and adds nothing.
void Circuit::enterPin(Island& island, PinId id)
{
    Pin& pin = at(id);
    const auto turn = [&] {
        if (pin.code == 0)
            return;
        const Pin::Known& known = pin.known[pin.code - 1];
        island.key.low ^= known.low;
        island.key.high ^= known.high;
    };
    turn();
    pin.code = 0;
    if (pin.drive.floating())
        return;
    auto found = std::find_if(pin.known.begin(), pin.known.end(), [&](const Pin::Known& k) { return k.drive == pin.drive; });
    if (found == pin.known.end()) {
        if (pin.known.size() == kCodes)
            return forget(island);  // an analog source: what was learned is of no use any more
        const std::uint64_t place = ((std::uint64_t{static_cast<std::uint32_t>(id)} + 1) << 8U) + pin.known.size() + 1;
        found = pin.known.insert(pin.known.end(), {pin.drive, spread(place), spread(~place)});
    }
    pin.code = static_cast<std::uint32_t>(found - pin.known.begin()) + 1;
    turn();
}

void Circuit::enterElement(Island& island, ElementId id)
{
    Element& e = at(id);
    const auto swap = [&](std::uint32_t code) {
        const std::uint64_t place = (std::uint64_t{static_cast<std::uint32_t>(id)} + 1) << 40U;
        for (const std::uint32_t c : {e.code, code})
            if (c != 0) {
                island.key.low ^= spread(place + c);
                island.key.high ^= spread(~(place + c));
            }
        e.code = code;
    };
    const double value = e.broken ? std::numeric_limits<double>::infinity() : e.kind == Kind::switchContact ? (e.closed ? 1 : 0) : e.value;
    auto found = std::find(e.known.begin(), e.known.end(), value);
    if (found == e.known.end()) {
        if (e.known.size() == kCodes)
            return forget(island);
        found = e.known.insert(e.known.end(), value);
    }
    swap(static_cast<std::uint32_t>(found - e.known.begin()) + 1);
}

void Circuit::markDirty(std::uint32_t island)
{
    Island& i = *islands_[island];
    if (!i.dirty) {
        i.dirty = true;
        dirty_.push_back(island);
    }
}

void Circuit::tellWatchers(Net& net, double volts, Time now)
{
    for (std::size_t i = 0; i < net.watchers.size(); ++i) {
        Watcher& w = net.watchers[i];
        const auto passed = [&](double target) { return (w.told > target) != (volts > target); };
        const bool coarse = w.watch.step > 0 || w.watch.against != kNoPin || !std::isnan(w.watch.level);
        const bool above = w.watch.against != kNoPin && volts - voltage(at(w.watch.against).net).value > w.watch.offset;
        if (net.moves && coarse && (w.watch.step <= 0 || std::fabs(volts - w.told) < 0.99 * w.watch.step) && !passed(w.watch.level) && above == w.above)
            continue;
        w.told = volts;
        w.above = above;
        w.who->voltageChanged(w.pin, volts, now);
    }
}

[[gnu::always_inline]] inline void Circuit::tellListeners(const Net& net, double volts, Time now)
{
    for (const PinId listener : net.listeners) {
        Pin& pin = at(listener);
        const bool level = pin.level ? volts > pin.listener.thresholds.low : volts >= pin.listener.thresholds.high;
        if (level != pin.level) {
            pin.level = level;
            pin.listener.who->pinChanged(listener, level, now);
        }
    }
}

[[gnu::always_inline]] inline void Circuit::tellState(NetId net, NetState state, Time now)
{
    if (observer_ == nullptr || recordEdge(net, state, now, cause_))
        return;
    observer_->netChanged(net, state, now, cause_);
    heard_ = cursors_ != nullptr;
}

// Records the new voltage, keeps the integrals, and tells who listens.
[[gnu::always_inline]] inline void Circuit::publishInto(Net& net, NetId id, double volts, NetState state)
{
    const Time now = queue_.now();
    const bool stateChanged = net.state != state;
    if (!stateChanged && net.volts == volts)
        return;
    if (stateChanged)
        enterState(net, state);
    const bool voltsChanged = net.volts != volts;
    if (voltsChanged && net.probe != nullptr && !net.moves) [[unlikely]]
        tellProbe(id, now);
    net.volts = volts;
    if (stateChanged)
        tellState(id, state, now);
    if (voltsChanged && !net.watchers.empty()) [[unlikely]]
        tellWatchers(net, volts, now);
    if (state != NetState::floating)  // an undriven input reads what it read last
        tellListeners(net, volts, now);
}

void Circuit::publish(NetId id, double volts, NetState state) { publishInto(at(id), id, volts, state); }

// A net that nothing joins to others is decided by its pins; the network of its island hears of them when it is solved again.
void Circuit::decideAlone(Net& net, NetId id)
{
    if (net.cut) {
        Island& island = *islands_[net.island];
        island.unplaced = island.unentered = true;
    }
    decidePlain(net, id);
}

// Of a simple net: the one pin that drives it, or has let it go, has changed.
[[gnu::always_inline]] inline void Circuit::decideOne(Net& net, NetId id, const Drive& drive)
{
    if (net.cut) {
        Island& island = *islands_[net.island];
        island.unplaced = island.unentered = true;
    }
    const Time now = queue_.now();
    // What nobody drives stands where it stood, and reads what it read last.
    const NetState state = drive.floating() ? NetState::floating : stateFor(net, drive.volts);
    if (state != NetState::floating)
        net.volts = drive.volts;
    if (net.state != state) {
        enterState(net, state);
        tellState(id, state, now);
    }
    if (state != NetState::floating)
        tellListeners(net, drive.volts, now);
}

void Circuit::driveTo(PinId id, double volts, double ohms, Cause cause)
{
    Pin& pin = at(id);
    Net& net = at(pin.net);
    // A pin that drives its net alone, before and after, with nothing else to say about it: what most edges are.
    const bool drove = !pin.drive.floating();
    if (!net.simple || net.drivers != static_cast<unsigned>(drove) || volts > net.most || volts < net.least) [[unlikely]]
        return driveSlowly(id, {volts, ohms}, cause);
    if (pin.drive.volts == volts && pin.drive.ohms == ohms)
        return;
    pin.drive = {volts, ohms};
    net.drivers = pin.drive.floating() ? 0 : 1;
    pin.driver = cause.code;
    cause_ = cause;
    if (busy_ != 0)
        return flipped_.push_back(id);
    busy_ = 1;
    decideOne(net, pin.net, pin.drive);
    busy_ = 0;
    if (!dirty_.empty() || !flipped_.empty()) [[unlikely]]
        settle();
}

void Circuit::driveSlowly(PinId id, Drive drive, Cause cause)
{
    Pin& pin = at(id);
    Net& net = at(pin.net);
    if (pin.drive == drive)
        return;
    if (net.rail && pin.drive.ohms == 0)
        return;  // a supply stays what it is
    net.drivers = static_cast<std::uint16_t>(net.drivers + (pin.drive.floating() ? 1 : 0) - (drive.floating() ? 1 : 0));
    pin.drive = drive;
    pin.driver = cause.code;
    if (islands_.empty())
        return;
    cause_ = cause;
    if (net.alone) {
        if (busy_ != 0)
            return flipped_.push_back(id);
        busy_ = 1;
        decideAlone(net, pin.net);
        busy_ = 0;
        if (!dirty_.empty() || !flipped_.empty() || !toSum_.empty())
            settle();
        return;
    }
    Island& island = *islands_[net.island];
    if (!island.elements.empty()) {
        enterPin(island, id);
        island.unplaced = true;
        // What most edges are where something moves: see quiet_region.cpp.
        if (island.nothingOpen && busy_ == 0) {
            busy_ = 1;
            const bool taken = island.takeQuietEdge(*this);
            busy_ = 0;
            if (taken) {
                if (!dirty_.empty() || !flipped_.empty() || !toSum_.empty())
                    settle();
                return;
            }
        }
    }
    markDirty(net.island);
    settle();
}

// An element's value has changed.
void Circuit::elementChanged(Element& e, Cause cause)
{
    if (islands_.empty())
        return;
    cause_ = cause;
    Island& island = *islands_[e.island];
    enterElement(island, ElementId(static_cast<std::uint32_t>(&e - elements_.data())));
    place(island, e);
    markDirty(e.island);
    settle();
}

void Circuit::setClosed(ElementId id, bool closed, Cause cause)
{
    Element& e = at(id);
    check(e.kind == Kind::switchContact, "only a switch opens and closes");
    if (e.closed != closed) {
        const bool carried = mayCarry(e);
        e.closed = closed;
        if (const bool carries = mayCarry(e); carries != carried)
            joinedOrCut(e, carries ? 1 : -1);
        elementChanged(e, cause);
    }
}

void Circuit::setValue(Element& element, double value, Cause cause)
{
    if (element.value == value)
        return;
    element.value = value;
    elementChanged(element, cause);
}

void Circuit::setResistance(ElementId id, Ohms ohms, Cause cause)
{
    check(at(id).kind == Kind::resistor, "only a resistor has a resistance to set");
    setValue(at(id), ohms.value, cause);
}

void Circuit::setSource(ElementId id, Volts volts, Cause cause)
{
    check(at(id).kind == Kind::source, "only a source has a voltage to set");
    setValue(at(id), volts.value, cause);
}

void Circuit::setRail(NetId id, Volts volts, Cause cause)
{
    Net& net = at(id);
    check(net.rail, "only a rail has a voltage to set");
    if (net.railVolts == volts.value)
        return;
    for (const PinId pin : net.pins)
        if (at(pin).drive.ohms == 0 && at(pin).drive.volts == net.railVolts)
            at(pin).drive.volts = volts.value;
    net.railVolts = volts.value;
    if (islands_.empty())
        return;
    cause_ = cause;
    refreshRails();
    for (const auto& island : islands_)
        if (std::any_of(island->rails.begin(), island->rails.end(), [id](const auto& rail) { return rail.first == id; })) {
            forget(*island);
            markDirty(island->number);
        }
    markDirty(net.island);
    settle();
}

void Circuit::refreshRails()
{
    for (const auto& island : islands_)
        for (const auto& [net, node] : island->rails)
            if (net != kNoNet)
                island->network.held[node - island->network.unknowns] = at(net).railVolts;
}

void Circuit::setFarads(ElementId id, Farads farads, Cause cause)
{
    if (steady_)
        return;
    check(at(id).kind == Kind::capacitor, "only a capacitor has a capacitance to set");
    setValue(at(id), farads.value, cause);
}

void Circuit::setWave(ElementId id, const Waveform* wave, Cause cause)
{
    Element& e = at(id);
    if (steady_) {
        if (wave != nullptr)
            setValue(e, wave->at(queue_.now()), cause);
        return;
    }
    check(e.kind == Kind::source && e.mayMove, "only a source that may move has a waveform");
    if (e.wave == wave)
        return;
    e.wave = wave;
    if (!islands_.empty())
        forget(*islands_[e.island]);
    elementChanged(e, cause);
}

void Circuit::deviceChanged(ElementId id, Cause cause)
{
    if (!islands_.empty())
        forget(*islands_[at(id).island]);
    elementChanged(at(id), cause);
}

void Circuit::setBroken(ElementId id, bool broken, Cause cause)
{
    Element& e = at(id);
    if (e.broken != broken) {
        const bool carried = mayCarry(e);
        e.broken = broken;
        if (const bool carries = mayCarry(e); carries != carried)
            joinedOrCut(e, carries ? 1 : -1);
        elementChanged(e, cause);
    }
}

void Circuit::settle()
{
    if (busy_ > 0)
        return;
    busy_ = 1;
    for (int round = 0; !dirty_.empty() || !flipped_.empty(); ++round) {
        if (round == kMaxRounds) {
            const NetId where = flipped_.empty() ? islands_[dirty_.back()]->nets.front() : at(flipped_.back()).net;
            for (const std::uint32_t left : dirty_)
                islands_[left]->dirty = false;
            dirty_.clear();
            flipped_.clear();
            if (observer_ != nullptr)
                observer_->trouble(Trouble::oscillation, where, kNoPin, kNoPin, 0, queue_.now(), cause_);
            break;
        }
        if (!flipped_.empty()) {
            const Pin& pin = at(flipped_.back());
            flipped_.pop_back();
            Net& net = at(pin.net);
            // A switch may have closed since, another pin have joined.
            if (net.simple && net.drivers == static_cast<unsigned>(!pin.drive.floating()) && !pin.over && pin.booked == 0 && pin.drive.volts <= net.most && pin.drive.volts >= net.least) {
                decideOne(net, pin.net, pin.drive);
            } else if (net.alone) {
                decideAlone(net, pin.net);
            } else {
                islands_[net.island]->unplaced = islands_[net.island]->unentered = true;
                markDirty(net.island);
            }
            continue;
        }
        const std::uint32_t index = dirty_.back();
        dirty_.pop_back();
        Island& island = *islands_[index];
        island.dirty = false;
        if (island.elements.empty())
            decidePlain(at(island.nets.front()), island.nets.front());
        else if (island.dynamic)
            decideDynamic(island);
        else
            decideStatic(island);
        if (!island.dependents.empty() && !island.dynamic)
            armDependents(island);
    }
    if (!toSum_.empty())
        reportGroups();
    busy_ = 0;
}

void Circuit::setElementAmps(Element& element, double amps)
{
    if (element.amps == amps)
        return;
    const Time now = queue_.now();
    if (element.probe != nullptr)
        tellProbe(ElementId(static_cast<std::uint32_t>(&element - elements_.data())), now);
    element.charge += element.amps * seconds(now - element.since);
    element.since = now;
    element.amps = amps;
}

Amps Circuit::current(PinId id) const
{
    const Pin& pin = at(id);
    if (pin.drive.floating() || pin.drive.ohms == 0)
        return {0};
    return {(pin.drive.volts - voltage(pin.net).value) / pin.drive.ohms};
}

double Circuit::secondsHigh(NetId id) const
{
    const Net& net = at(id);
    return seconds(net.high + (net.state == NetState::high ? queue_.now() - net.since : kernel::Duration{}));
}

double Circuit::charge(ElementId id) const
{
    const Element& e = at(id);
    const Island& island = *islands_[e.island];
    const Time now = queue_.now();
    if (!island.dynamic)
        return e.charge + e.amps * seconds(now - e.since);
    return e.charge + meanAmps(island, e, e.since, now) * seconds(now - e.since);
}

std::vector<NetId> Circuit::netsOf(ElementId id) const
{
    std::vector<NetId> out;
    for (const NetId net : at(id).nets)
        if (net != kNoNet)
            out.push_back(net);
    return out;
}

}  // namespace bramix::circuit
