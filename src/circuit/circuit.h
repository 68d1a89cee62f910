// Nets, the pins on them, and what lies between them.
//
// A pin is a Thévenin source: it drives its net with a voltage behind a resistance (infinite when it floats). A rail is
// a net held at a voltage by a supply. Nets joined by elements (resistors, switches, capacitors, devices) form an island; rails end
// an island, because nothing passes through a fixed voltage. A net without elements is decided directly; any other island is a Network.
//   An island without capacitors, inductors and waveforms is static: the solution of each combination of drives and switch positions is remembered.
//   A net of it that only open switches join is cut off: it is decided directly until one of them closes.
//   Any other is dynamic: its voltages go on by themselves (see transient.h). It is looked at again, by an alarm, at the instant at which
//   a voltage passes a threshold that somebody reads, never at the end of a frame.
//
// Invariant: outside drive(), the other changes and a Batch, every island is solved for the present drives, and every listener has been told.
// Everything happens at the instant queue.now(), which never runs backwards.
// Tested by tests/circuit/circuit_test.cpp, dynamic_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <limits>
#include <string>
#include <memory>
#include <span>
#include <unordered_map>
#include <vector>

#include "circuit/device.h"
#include "kernel/archive.h"
#include "kernel/edge.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"
#include "kernel/units.h"

namespace bramix::circuit {

using kernel::Farads;
using kernel::Henries;
using kernel::Time;

enum class NetId : std::uint32_t {};
enum class PinId : std::uint32_t {};
enum class ElementId : std::uint32_t {};

inline constexpr NetId kNoNet{UINT32_MAX};
inline constexpr PinId kNoPin{UINT32_MAX};

// What a pin does to its net.
struct Drive {
    double volts = 0;
    double ohms = std::numeric_limits<double>::infinity();

    constexpr bool operator==(const Drive&) const = default;
    [[nodiscard]] constexpr bool floating() const { return ohms == std::numeric_limits<double>::infinity(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(volts, ohms);
    }
};

inline constexpr Drive kFloating{};

// What a net looks like to a digital eye. The numbers stand in recordings.
enum class NetState : std::uint8_t { low = 0, high = 1, floating = 2, between = 3, conflict = 4 };

// Input thresholds: at or below `low` a pin reads 0, at or above `high` 1, between them what it read last.
struct Thresholds {
    double low = 1.5;
    double high = 3.0;
};

// Who made something happen: a part of the bench by index, and the byte address of the code where it was firmware.
struct Cause {
    static constexpr std::uint32_t kNobody = UINT32_MAX;
    static constexpr std::uint32_t kNoCode = UINT32_MAX;
    std::uint32_t actor = kNobody;
    std::uint32_t code = kNoCode;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(actor, code);
    }
};

class Waveform;

class PinListener {
public:
    virtual ~PinListener() = default;
    // The level that this pin reads has changed. May drive pins.
    virtual void pinChanged(PinId pin, bool level, Time at) = 0;
};

class VoltageListener {
public:
    virtual ~VoltageListener() = default;
    // The voltage of the net of this pin has changed as far as was asked for. May drive pins.
    virtual void voltageChanged(PinId pin, double volts, Time at) = 0;
};

// How closely a voltage is watched where it changes by itself; every jump is told.
struct VoltageWatch {
    double step = 0;          // told again when it has moved this far since it was told last; 0: not for that
    PinId against = kNoPin;   // told when it passes the voltage of this pin's net plus `offset`,
    double offset = 0;
    double level = std::numeric_limits<double>::quiet_NaN();  // or this voltage
};

class ElementListener {
public:
    virtual ~ElementListener() = default;
    // The current through the element may have changed: told after every change of its island, and while that goes step by step, after each step; not
    // while a current runs along an exponential. May drive pins.
    virtual void elementChanged(ElementId element, Time at) = 0;
};

// Sees a net's voltage as it was, piece by piece and without a gap.
class ProbeListener {
public:
    virtual ~ProbeListener() = default;
    // From `from` to `to` the voltage ran as `volts` says; times rise. A net that stands still has a constant piece.
    virtual void piece(NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant) = 0;
};

// The same of the current through an element.
class CurrentProbe {
public:
    virtual ~CurrentProbe() = default;
    virtual void piece(ElementId element, Time from, Time to, const std::function<double(Time)>& amps, bool constant) = 0;
};

// What the solver sees go wrong. Told at each occurrence; whoever reports it does so once.
enum class Trouble : std::uint8_t { conflict, supplyShort, pinOverload, groupOverload, overVoltage, noSolution, oscillation };

class CircuitObserver {
public:
    virtual ~CircuitObserver() = default;
    virtual void netChanged(NetId net, NetState state, Time at, Cause cause) = 0;
    // `other` is the second pin of a conflict where there is one; `amps` the current that flows, or the voltage of overVoltage.
    virtual void trouble(Trouble what, NetId net, PinId pin, PinId other, double amps, Time at, Cause cause) = 0;
    // A pin that was overloaded carries no more than it may again.
    virtual void overloadEnded(PinId /*pin*/, Time /*at*/) {}
};

class Circuit {
public:
    explicit Circuit(kernel::EventQueue& queue);
    ~Circuit();

    // For operating points: what is added from now on stands as it would after an endless time. Capacitors carry their leak alone, inductors are their
    // winding, waveforms stay where they begin.
    void beSteady() { steady_ = true; }
    // Every element listener is told of the present once more: for who has been put back to another time than the circuit.
    void tellElementsAgain();

    // Building. Everything is added before seal(); the structure is then fixed.
    NetId addNet(std::string name);
    PinId addPin(NetId net, std::string name);
    void addSupply(NetId net, Volts volts, PinId pin);  // makes the net a rail
    ElementId addResistor(NetId a, NetId b, Ohms ohms, std::string name);
    ElementId addSwitch(NetId a, NetId b, Ohms closed, std::string name);
    ElementId addDiode(NetId anode, NetId cathode, const DiodeModel& model, std::string name);
    // `series`: its equivalent series resistance, at least a microohm; `leak`: in parallel.
    ElementId addCapacitor(NetId a, NetId b, Farads farads, Ohms series, Ohms leak, std::string name);
    // `winding`: its resistance; `loss`: in parallel, what becomes of the current when nothing else takes it.
    ElementId addInductor(NetId a, NetId b, Henries henries, Ohms winding, Ohms loss, std::string name);
    // A floating source: `volts` from b up to a, behind a resistance. Only one that may move can be given a waveform.
    ElementId addSource(NetId a, NetId b, Volts volts, Ohms inner, std::string name, bool mayMove = false);
    // A device and the nets of its terminals. A terminal may be a node of its own: kNoNet.
    ElementId addDevice(std::unique_ptr<Device> device, std::span<const NetId> nets, std::string name);
    // A capacitor from a device's own node (a terminal that was kNoNet) to ground.
    void addInnerCapacitor(ElementId device, std::size_t terminal, Farads farads);
    void listen(PinId pin, PinListener& listener, Thresholds thresholds);
    // New thresholds for a listening pin; its level is looked at anew, silently.
    void setThresholds(PinId pin, Thresholds thresholds);
    // From now on, or with null no longer, this pin is told of every change of its net's voltage.
    void watchVoltage(PinId pin, VoltageListener* listener, VoltageWatch watch = {});
    // Of a pin that is watched against another: another offset from now on.
    void setWatchOffset(PinId pin, double offset);
    // `volts`: also when the voltage across its first two terminals passes one of these by itself.
    void watchElement(ElementId element, ElementListener& listener, std::vector<double> volts = {});
    // Its listener need not be told while the voltage across its first two terminals lies within these and did so when it was told last. None: low above high.
    void setQuietRange(ElementId element, double low, double high);
    void probe(NetId net, ProbeListener* listener);
    void probe(ElementId element, CurrentProbe* listener);
    // Tells every probe what has happened up to now.
    void flushProbes();
    // The pin's protection diodes: to this voltage below and above. With low above high there are none.
    void setClamp(PinId pin, double low, double high);
    // Beyond `amps` in either direction the pin is overloaded, which is trouble; and so it is when the pins of a group together carry more than `together`, in
    // or out.
    void setLimit(PinId pin, Amps amps, std::uint32_t group = kNoGroup, Amps together = {0});
    static constexpr std::uint32_t kNoGroup = UINT32_MAX;
    struct Limit {
        double amps = std::numeric_limits<double>::infinity();
        double together = 0;
        std::uint32_t group = kNoGroup;
    };
    [[nodiscard]] Limit limitOf(PinId pin) const { return {at(pin).limitAmps, at(pin).groupAmps, at(pin).group}; }
    void seal(CircuitObserver* observer);

    // Running. Before seal() these only set the state at power-up.
    void drive(PinId pin, Drive drive, Cause cause) { driveTo(pin, drive.volts, drive.ohms, cause); }
    void setClosed(ElementId element, bool closed, Cause cause);
    void setResistance(ElementId resistor, Ohms ohms, Cause cause);
    void setSource(ElementId source, Volts volts, Cause cause);
    void setWave(ElementId source, const Waveform* wave, Cause cause);  // null: its voltage again
    // Another voltage of a rail from now on: of a supply that sinks under its load, slowly. What was learned of all that hangs on it is forgotten.
    void setRail(NetId rail, Volts volts, Cause cause);
    void setFarads(ElementId capacitor, Farads farads, Cause cause);    // keeps its voltage
    // The figures of a device have changed.
    void deviceChanged(ElementId device, Cause cause);
    // An element that conducts no more, or again: a part that has burnt through.
    void setBroken(ElementId element, bool broken, Cause cause);

    // Changes of state go into these places in place of the observer, by net and channel, as long as there is room; null: to the observer again. The observer hears
    // of the first one all the same, and again of the first one after hearNext().
    void recordInto(kernel::EdgeCursor* cursors, const std::uint32_t* channelOfNet)
    {
        cursors_ = cursors;
        channelOfNet_ = channelOfNet;
        heard_ = false;
    }
    void hearNext() { heard_ = false; }

    // What became of an output's other level.
    enum class Switched : std::uint8_t { no, quietly, levelChanged };
    // The same as drive(), of an output that goes from one level to the other where nobody but its own pin and a recording wants to know; `no`: nothing has been
    // done, drive() it. Its listener is not told: whoever drives it is that, and sees by the answer whether the level that it reads has changed.
    [[gnu::always_inline]] Switched switchQuickly(PinId id, double volts, double ohms, Cause cause)
    {
        Pin& pin = at(id);
        Net& net = at(pin.net);
        if (!net.lone || net.drivers != 1 || volts > net.most || volts < net.least || pin.drive.ohms != ohms || pin.listener.who == nullptr || busy_ != 0 || !heard_)
            return Switched::no;
        if (pin.drive.volts == volts)
            return Switched::quietly;
        const NetState state = stateFor(net, volts);
        if (state != net.state && !recordEdge(pin.net, state, queue_.now(), cause))
            return Switched::no;
        pin.drive.volts = volts;
        pin.driver = cause.code;
        cause_ = cause;
        net.volts = volts;
        if (state != net.state)
            enterState(net, state);
        const bool level = pin.level ? volts > pin.listener.thresholds.low : volts >= pin.listener.thresholds.high;
        if (level == pin.level)
            return Switched::quietly;
        pin.level = level;
        return Switched::levelChanged;
    }

    // While a Batch lives, drives are collected and the circuit is solved once at its end: the pins of a port
    // change together.
    class Batch {
    public:
        explicit Batch(Circuit& circuit) : circuit_(circuit) { ++circuit_.busy_; }
        ~Batch()
        {
            if (--circuit_.busy_ == 0)
                circuit_.settle();
        }
        Batch(const Batch&) = delete;
        Batch& operator=(const Batch&) = delete;

    private:
        Circuit& circuit_;
    };

    // Looking.
    [[nodiscard]] std::size_t netCount() const { return nets_.size(); }
    [[nodiscard]] std::size_t pinCount() const { return pins_.size(); }
    [[nodiscard]] std::size_t elementCount() const { return elements_.size(); }
    [[nodiscard]] const std::string& name(NetId net) const { return at(net).name; }
    [[nodiscard]] const std::string& name(PinId pin) const { return at(pin).name; }
    [[nodiscard]] const std::string& name(ElementId e) const { return at(e).name; }
    [[nodiscard]] NetId netOf(PinId pin) const { return at(pin).net; }
    [[nodiscard]] const std::vector<PinId>& pinsOf(NetId net) const { return at(net).pins; }
    [[nodiscard]] bool isRail(NetId net) const { return at(net).rail; }
    [[nodiscard]] Volts voltage(NetId net) const
    {
        const Net& n = at(net);
        return {n.moves ? voltsNow(n) : n.volts};
    }
    [[nodiscard]] NetState stateOf(NetId net) const { return at(net).state; }
    [[nodiscard]] bool level(PinId pin) const { return at(pin).level; }
    [[nodiscard]] Drive driveOf(PinId pin) const { return at(pin).drive; }
    // The code that made the pin drive what it drives; Cause::kNoCode where it was no code.
    [[nodiscard]] std::uint32_t driver(PinId pin) const { return at(pin).driver; }
    // The resistance that a small load on this net sees: of all that drives it, diodes at their present point. Infinite where nothing does.
    [[nodiscard]] Ohms sourceResistance(NetId net) const;
    // What a small current driven from one net to the other meets, at the present point. More than a teraohm counts as infinite.
    [[nodiscard]] Ohms resistanceBetween(NetId a, NetId b) const;
    // Out of the pin into its net.
    [[nodiscard]] Amps current(PinId pin) const;
    // From a to b, anode to cathode.
    [[nodiscard]] Amps current(ElementId element) const;
    // Into a device by each terminal.
    [[nodiscard]] Amps current(ElementId device, std::size_t terminal) const;
    // Out of a net into an element, by all of its terminals there.
    [[nodiscard]] Amps taken(ElementId element, NetId net) const;
    // What the element takes up: turned into heat, or stored.
    [[nodiscard]] double watts(ElementId element) const;
    // The nets of an element, in the order in which they were given.
    [[nodiscard]] std::vector<NetId> netsOf(ElementId element) const;
    // The elements of the island that a net belongs to.
    [[nodiscard]] const std::vector<ElementId>& neighbours(NetId net) const;
    // How well Kirchhoff's current law is met in the island of this net just now, relative.
    [[nodiscard]] double residual(NetId net) const;
    [[nodiscard]] bool closed(ElementId element) const { return at(element).closed; }

    [[nodiscard]] Time now() const { return queue_.now(); }
    // Who made the change that is being worked out, or the last one.
    [[nodiscard]] Cause cause() const { return cause_; }

    // Grows with every change of any net's state: what was found out about states still holds while it stands.
    [[nodiscard]] std::uint64_t generation() const { return generation_; }

    // Integrals since power-up, for means over any span: seconds high, ampere-seconds through.
    [[nodiscard]] double secondsHigh(NetId net) const;
    [[nodiscard]] double charge(ElementId element) const;
    [[nodiscard]] std::uint64_t changes(NetId net) const { return at(net).changes; }

    // How often an island was solved afresh, and how often a remembered solution served.
    [[nodiscard]] std::uint64_t solves() const { return solves_; }
    [[nodiscard]] std::uint64_t recalls() const { return recalls_; }

    // Takes over the charge of capacitors and the current of inductors from elements of the same name.
    void adopt(const Circuit& old);

    // Saves and restores everything that runs; the structure must be the same. Tells nobody.
    template <class Archive>
    void state(Archive& ar)
    {
        for (Pin& p : pins_)
            ar(p.drive, p.level, p.driver, p.over);
        for (Net& n : nets_) {
            ar(n.volts, n.state, n.high, n.changes, n.since, n.railVolts);
            stateOfWatchers(ar, n);
        }
        for (Element& e : elements_)
            ar(e.closed, e.broken, e.value, e.amps, e.charge, e.since, e.wasQuiet);
        if constexpr (Archive::kLoading) {
            heard_ = false;
            refreshRails();
            refreshCodes();
        }
        stateOfIslands(ar);
        if constexpr (Archive::kLoading)
            bookAnew();
    }

private:
    // circuit/island.h
    struct Island;
    struct Solution;
    struct Voltages;

    struct Listener {
        PinListener* who = nullptr;
        Thresholds thresholds;
    };

    struct Pin {
        NetId net{};
        bool level = false;
        bool over = false;                    // beyond its limit
        std::uint32_t driver = Cause::kNoCode;
        Drive drive;
        Listener listener;
        double limitAmps = std::numeric_limits<double>::infinity();
        double groupAmps = 0;
        std::uint32_t group = kNoGroup;
        std::uint32_t groupIndex = 0;         // in groups_
        double booked = 0;                    // the current out of it, as its group has it
        bool limited = false;                 // among its island's `limited`
        double clampLow = 1, clampHigh = -1;  // none
        std::uint32_t injection = UINT32_MAX; // in its island's network
        ClampDevice* clamp = nullptr;
        std::uint32_t code = 0;               // of the present drive, in the island's key
        struct Known {
            Drive drive;
            std::uint64_t low = 0, high = 0;  // of the island's key, while it is the present one
        };
        std::vector<Known> known;             // the drives seen so far; the index is the code
        std::string name;
    };

    struct Watcher {
        PinId pin{};
        VoltageListener* who = nullptr;
        VoltageWatch watch;
        double told = 0;
        bool above = false;  // of watch.against plus its offset, when it was told last
    };

    // Pins that one supply feeds, and what they carry together: the booked currents of those that carry anything worth counting.
    struct Group {
        std::uint32_t number = kNoGroup;
        std::vector<PinId> pins;
        double out = 0, in = 0;
    };

    struct Net {
        double volts = 0;
        NetState state = NetState::floating;
        bool simple = false;        // alone, and nobody measures it: see driveTo()
        bool lone = false;          // simple, no switch hangs on it, and one pin alone listens
        bool moves = false;         // belongs to a dynamic island
        bool alone = false;         // no rail, and nothing joins it to another net just now: decided by its pins
        bool cut = false;           // the same, but open switches hang on it: its island hears of its drives when one closes
        bool rail = false;
        bool hasThresholds = false;
        std::uint16_t drivers = 0;  // pins that do not float
        std::uint16_t joins = 0;    // elements that may carry a current: all but switches that are open
        std::uint32_t island = 0;
        Thresholds thresholds;
        double least = -std::numeric_limits<double>::infinity();  // what no pin's protection diodes conduct at
        double most = std::numeric_limits<double>::infinity();
        kernel::Duration high{};    // time spent high
        Time since{};
        std::uint64_t changes = 0;
        std::vector<PinId> listeners;
        std::vector<Watcher> watchers;
        std::uint32_t node = 0;     // in the island's network
        double railVolts = 0;
        PinId railPin = kNoPin;
        ProbeListener* probe = nullptr;
        Time probedTo{};
        std::vector<PinId> pins;
        std::string name;
    };

    enum class Kind : std::uint8_t { resistor, switchContact, capacitor, inductor, source, device };

    struct Element {
        Kind kind{};
        bool closed = false;
        bool broken = false;
        double value = 0;  // ohms, farads, henries or volts
        double ohms = 0;   // of a switch when closed, a capacitor or inductor in series, a source inside
        double leakSiemens = 0;
        std::vector<NetId> nets;
        std::unique_ptr<Device> device;
        std::vector<std::pair<std::size_t, double>> innerFarads;  // terminal, capacitance to ground
        const Waveform* wave = nullptr;
        bool mayMove = false;
        ElementListener* listener = nullptr;
        std::vector<double> watchedVolts;
        double quietLow = 1, quietHigh = -1;
        bool wasQuiet = false;
        CurrentProbe* probe = nullptr;
        Time probedTo{};
        std::uint32_t island = 0;
        std::uint32_t slot = 0;    // in its island's network, in the list of its kind
        std::uint32_t code = 0;
        std::vector<double> known; // values seen so far
        double amps = 0;           // of a static island
        double charge = 0;
        Time since{};
        std::string name;
    };

    static constexpr std::size_t kCodes = 16;            // drives of one pin that are told apart before all is learned anew
    static constexpr std::size_t kMaxRemembered = 4096;  // solutions an island; beyond that all are forgotten and learned anew

    Net& at(NetId id) { return nets_[static_cast<std::size_t>(id)]; }
    [[nodiscard]] const Net& at(NetId id) const { return nets_[static_cast<std::size_t>(id)]; }
    Pin& at(PinId id) { return pins_[static_cast<std::size_t>(id)]; }
    [[nodiscard]] const Pin& at(PinId id) const { return pins_[static_cast<std::size_t>(id)]; }
    Element& at(ElementId id) { return elements_[static_cast<std::size_t>(id)]; }
    [[nodiscard]] const Element& at(ElementId id) const { return elements_[static_cast<std::size_t>(id)]; }

    ElementId addElement(Kind kind, std::initializer_list<NetId> nets, std::string name);
    void findIslands();
    void settle();
    void markDirty(std::uint32_t island);
    void elementChanged(Element& element, Cause cause);
    void setValue(Element& element, double value, Cause cause);
    void refreshCodes();
    void refreshRails();
    void refreshSimple(Net& net);
    void refreshClamps(Net& net);
    void refreshJoins();
    void joinedOrCut(const Element& contact, int by);
    [[nodiscard]] static bool mayCarry(const Element& element)
    {
        return element.kind != Kind::switchContact || (element.closed && !element.broken) || element.listener != nullptr;
    }
    void decideOne(Net& net, NetId id, const Drive& drive);
    void decideAlone(Net& net, NetId id);
    // Two numbers, not a Drive: as a pair they would travel through memory at every edge.
    void driveTo(PinId pin, double volts, double ohms, Cause cause);
    void driveSlowly(PinId id, Drive drive, Cause cause);
    void enterPin(Island& island, PinId pin);
    void enterElement(Island& island, ElementId element);
    void forget(Island& island);

    // circuit_islands.cpp
    void buildNetwork(Island& island);
    void forgetPositions(Island& island);
    void forgetSolutions(Island& island);
    static void place(Island& island, Pin& pin, const Net& net);
    void place(Island& island, const Element& element);
    void decidePlain(Net& net, NetId id);
    void decideStatic(Island& island);
    [[nodiscard]] Solution solve(Island& island);
    [[nodiscard]] bool clampsViolated(const Island& island, Time t) const;
    void setClampsActive(Island& island, bool active);
    void classify(const Island& island, const Voltages& volts, std::vector<bool>& held) const;
    [[nodiscard]] NetState stateIn(const Net& net, bool held, double volts) const;
    [[nodiscard]] double voltsIn(const Net& net, const Voltages& volts) const;
    void tellElements(const Island& island);
    void findMarks(Island& island) const;
    [[nodiscard]] double ampsAt(const Island& island, const Element& element, const Voltages& volts, Time t) const;
    [[nodiscard]] double ampsNow(const Island& island, const Element& element) const;
    [[nodiscard]] double nodeVolts(const Island& island, std::uint32_t node, Time t) const;
    [[nodiscard]] DevicePoint pointNow(const Island& island, const Element& element) const;
    void reportIsland(Island& island);
    void findWorthReporting(const Island& island, Solution& solution) const;

    // circuit_dynamic.cpp
    void beginPiece(Island& island, Time t);
    void decideDynamic(Island& island);
    void ring(std::uint32_t island, Time due);
    void endPiece(Island& island);
    void publishDynamic(Island& island);
    void armNext(Island& island);
    void armExactly(Island& island);
    template <class Ask>
    [[nodiscard]] Time nextOf(const Island& island, Ask&& ask) const;
    template <class Ask>
    void nextOfNet(const Island& island, const Net& net, Time& next, Ask&& wait) const;
    void armDependents(const Island& island);
    void findDependents();
    [[nodiscard]] double voltsNow(const Net& net) const;
    [[nodiscard]] Voltages voltsOf(const Island& island, Time t) const;
    [[nodiscard]] double meanAmps(const Island& island, const Element& element, Time from, Time to) const;
    void stateOfIslands(kernel::SaveArchive& ar);
    void stateOfIslands(kernel::LoadArchive& ar);
    static void stateOfWatchers(kernel::SaveArchive& ar, Net& net);
    static void stateOfWatchers(kernel::LoadArchive& ar, Net& net);
    void resume(Island& island, bool stepping);

    [[nodiscard]] NetState stateFor(const Net& net, double volts) const
    {
        if (volts <= net.thresholds.low)
            return NetState::low;
        return volts >= net.thresholds.high ? NetState::high : NetState::between;
    }
    // Books the time that the net was high.
    void enterState(Net& net, NetState state)
    {
        const Time now = queue_.now();
        if (net.state == NetState::high)
            net.high += now - net.since;
        net.since = now;
        net.state = state;
        ++net.changes;
        ++generation_;
    }
    // False where the observer is to be told.
    [[nodiscard]] bool recordEdge(NetId net, NetState state, Time now, Cause cause)
    {
        if (!heard_)
            return false;
        kernel::EdgeCursor& place = cursors_[channelOfNet_[static_cast<std::size_t>(net)]];
        if (place.next == place.end)
            return false;
        *place.next++ = {now, cause.code, static_cast<std::uint16_t>(cause.actor), static_cast<std::uint8_t>(state)};
        return true;
    }
    void tellState(NetId net, NetState state, Time now);
    void publish(NetId id, double volts, NetState state);
    void publishInto(Net& net, NetId id, double volts, NetState state);
    void tellWatchers(Net& net, double volts, Time now);
    void tellListeners(const Net& net, double volts, Time now);
    void tellProbe(NetId id, Time until);
    void tellProbe(ElementId id, Time until);
    void setElementAmps(Element& element, double amps);
    void placeAll(Island& island) const;
    const std::vector<std::uint32_t>* changedNets(Island& island, Solution& to, const std::vector<std::uint32_t>** elements);
    void reportOverloads(NetId id);
    void reportPin(PinId id);
    void limitPin(PinId id);
    void book(Pin& pin, PinId id, double amps);
    void bookAnew();
    void reportGroups();

    kernel::EventQueue& queue_;
    CircuitObserver* observer_ = nullptr;
    std::vector<Net> nets_;
    std::vector<Pin> pins_;
    std::vector<Element> elements_;
    std::vector<std::unique_ptr<Island>> islands_;
    std::vector<std::uint32_t> dirty_;
    std::vector<PinId> flipped_;  // pins of nets that stand alone, changed while changes are collected
    std::vector<Group> groups_;
    std::vector<PinId> toSum_;  // one pin of each group whose currents are to be added up
    Cause cause_;
    kernel::EdgeCursor* cursors_ = nullptr;
    const std::uint32_t* channelOfNet_ = nullptr;
    bool heard_ = false;  // there are cursors, and the observer has heard of a change
    bool steady_ = false;
    int busy_ = 1;  // not sealed, a Batch alive, or settling: changes are only collected
    std::uint64_t generation_ = 0;
    std::uint64_t solves_ = 0;
    std::uint64_t recalls_ = 0;
};

}  // namespace bramix::circuit
