// Nets, the pins on them, and what lies between them.
//
// A pin is a Thévenin source: it drives its net with a voltage behind a resistance (infinite when it floats). A rail is
// a net held at a voltage by a supply. Nets joined by elements (resistors, switches, diodes) form an island; rails end
// an island, because nothing passes through a fixed voltage. A net without elements is decided directly; any other island is solved by
// nodal analysis, and the solution of each combination of drives and switch positions is remembered.
//
// Invariant: outside drive(), setClosed() and a Batch, every island is solved for the present drives, and every listener has been told.
// Everything happens at the instant queue.now(), which never runs backwards.
// Tested by tests/circuit/circuit_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <limits>
#include <string>
#include <unordered_map>
#include <vector>

#include "circuit/diode.h"
#include "kernel/archive.h"
#include "kernel/event_queue.h"
#include "kernel/time.h"
#include "kernel/units.h"

namespace bramix::circuit {

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

class PinListener {
public:
    virtual ~PinListener() = default;
    // The level that this pin reads has changed. May drive pins.
    virtual void pinChanged(PinId pin, bool level, Time at) = 0;
};

class VoltageListener {
public:
    virtual ~VoltageListener() = default;
    // The voltage of the net of this pin has changed. May drive pins.
    virtual void voltageChanged(PinId pin, double volts, Time at) = 0;
};

// What the solver sees go wrong. Told at each occurrence; whoever reports it does so once.
enum class Trouble : std::uint8_t { conflict, supplyShort, pinOverload, noSolution, oscillation };

class CircuitObserver {
public:
    virtual ~CircuitObserver() = default;
    virtual void netChanged(NetId net, NetState state, Time at, Cause cause) = 0;
    // `other` is the second pin of a conflict where there is one; `amps` the current that flows.
    virtual void trouble(Trouble what, NetId net, PinId pin, PinId other, double amps, Time at, Cause cause) = 0;
};

class Circuit {
public:
    explicit Circuit(const kernel::EventQueue& queue) : queue_(queue) {}

    // Building. Everything is added before seal(); the structure is then fixed.
    NetId addNet(std::string name);
    PinId addPin(NetId net, std::string name);
    void addSupply(NetId net, Volts volts, PinId pin);  // makes the net a rail
    ElementId addResistor(NetId a, NetId b, Ohms ohms, std::string name);
    ElementId addSwitch(NetId a, NetId b, Ohms closed, std::string name);
    ElementId addDiode(NetId anode, NetId cathode, const DiodeModel& model, std::string name);
    void listen(PinId pin, PinListener& listener, Thresholds thresholds);
    // New thresholds for a listening pin; its level is looked at anew, silently.
    void setThresholds(PinId pin, Thresholds thresholds);
    // From now on, or with null no longer, this pin is told of every change of its net's voltage.
    void watchVoltage(PinId pin, VoltageListener* listener);
    // Beyond `amps` in either direction the pin is overloaded, which is trouble.
    void setLimit(PinId pin, Amps amps);
    void seal(CircuitObserver* observer);

    // Running. Before seal() these only set the state at power-up.
    void drive(PinId pin, Drive drive, Cause cause);
    void setClosed(ElementId element, bool closed, Cause cause);

    // While a Batch lives, drives are collected and the circuit is solved once at its end: the pins of a port
    // change together.
    class Batch {
    public:
        explicit Batch(Circuit& circuit) : circuit_(circuit) { ++circuit_.batches_; }
        ~Batch()
        {
            if (--circuit_.batches_ == 0)
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
    [[nodiscard]] const std::string& name(ElementId e) const { return elements_[static_cast<std::size_t>(e)].name; }
    [[nodiscard]] NetId netOf(PinId pin) const { return at(pin).net; }
    [[nodiscard]] const std::vector<PinId>& pinsOf(NetId net) const { return at(net).pins; }
    [[nodiscard]] bool isRail(NetId net) const { return at(net).rail; }
    [[nodiscard]] Volts voltage(NetId net) const { return {at(net).volts}; }
    [[nodiscard]] NetState stateOf(NetId net) const { return at(net).state; }
    [[nodiscard]] bool level(PinId pin) const { return at(pin).level; }
    [[nodiscard]] Drive driveOf(PinId pin) const { return at(pin).drive; }
    // The resistance that a small load on this net sees: of all that drives it, diodes at their present point. Infinite where nothing does.
    [[nodiscard]] Ohms sourceResistance(NetId net) const;
    // Out of the pin into its net.
    [[nodiscard]] Amps current(PinId pin) const;
    // From a to b, anode to cathode.
    [[nodiscard]] Amps current(ElementId element) const { return {elements_[static_cast<std::size_t>(element)].amps}; }
    [[nodiscard]] bool closed(ElementId element) const { return elements_[static_cast<std::size_t>(element)].closed; }

    // Grows with every change of any net's state: what was found out about states still holds while it stands.
    [[nodiscard]] std::uint64_t generation() const { return generation_; }

    // Integrals since power-up, for means over any span: seconds high, ampere-seconds through.
    [[nodiscard]] double secondsHigh(NetId net) const;
    [[nodiscard]] double charge(ElementId element) const;
    [[nodiscard]] std::uint64_t changes(NetId net) const { return at(net).changes; }

    // How often an island was solved afresh, and how often a remembered solution served.
    [[nodiscard]] std::uint64_t solves() const { return solves_; }
    [[nodiscard]] std::uint64_t recalls() const { return recalls_; }

    // Saves and restores everything that runs; the structure must be the same. Tells nobody.
    template <class Archive>
    void state(Archive& ar)
    {
        for (Pin& p : pins_)
            ar(p.drive, p.level);
        for (Net& n : nets_)
            ar(n.volts, n.state, n.high, n.changes, n.since);
        for (Element& e : elements_)
            ar(e.closed, e.amps, e.charge, e.since);
        if constexpr (Archive::kLoading)
            refreshCodes();
    }

private:
    struct Listener {
        PinListener* who = nullptr;
        Thresholds thresholds;
    };

    struct Pin {
        std::string name;
        NetId net{};
        Drive drive;
        Listener listener;
        double limitAmps = std::numeric_limits<double>::infinity();
        std::vector<Drive> known;  // the drives seen so far; the index is the pin's digit in an island's key
        std::uint8_t digit = 0;    // place in the island's key, or kNoDigit
        std::uint8_t code = 0;
        bool level = false;
    };

    struct Net {
        std::string name;
        std::vector<PinId> pins;
        std::vector<PinId> listeners;
        std::vector<std::pair<PinId, VoltageListener*>> watchers;
        Thresholds thresholds;
        double volts = 0;
        kernel::Duration high{};  // time spent high
        std::uint64_t changes = 0;
        Time since{};
        std::uint32_t island = 0;
        std::uint32_t unknown = 0;  // index among the island's unknown voltages
        NetState state = NetState::floating;
        std::uint16_t drivers = 0;  // pins that do not float
        bool alone = false;         // no rail, no element: decided by its pins
        bool rail = false;
        bool hasThresholds = false;
        double railVolts = 0;
        PinId railPin = kNoPin;
    };

    enum class Kind : std::uint8_t { resistor, switchContact, diode };

    struct Element {
        Kind kind{};
        NetId a{};
        NetId b{};
        double ohms = 0;
        DiodeModel diode;
        std::string name;
        std::uint32_t island = 0;
        std::uint8_t digit = 0;
        bool closed = false;
        double amps = 0;
        double charge = 0;
        Time since{};
    };

    // A remembered solution, in the island's order of nets and elements.
    struct Solution {
        std::vector<double> volts;
        std::vector<NetState> states;
        std::vector<double> amps;
        bool converged = true;
    };

    struct Key {
        std::uint64_t low = 0;
        std::uint64_t high = 0;
        bool operator==(const Key&) const = default;
    };

    struct KeyHash {
        std::size_t operator()(const Key& k) const { return (k.low ^ (k.high * 0x9E3779B97F4A7C15ULL)) * 0xD6E8FEB86659FD93ULL; }
    };

    struct Island {
        std::vector<NetId> nets;
        std::vector<ElementId> elements;
        std::unordered_map<Key, Solution, KeyHash> remembered;
        Key key;
        unsigned digits = 0;
        bool rememberable = true;
        bool dirty = false;
    };

    static constexpr std::uint8_t kNoDigit = UINT8_MAX;
    static constexpr unsigned kDigits = 32;          // of four bits, in a 128-bit key
    static constexpr std::size_t kCodes = 16;        // drives that one pin may show and still be remembered
    static constexpr std::size_t kMaxRemembered = 4096;  // solutions an island; beyond that all are forgotten and learned anew

    Net& at(NetId id) { return nets_[static_cast<std::size_t>(id)]; }
    [[nodiscard]] const Net& at(NetId id) const { return nets_[static_cast<std::size_t>(id)]; }
    Pin& at(PinId id) { return pins_[static_cast<std::size_t>(id)]; }
    [[nodiscard]] const Pin& at(PinId id) const { return pins_[static_cast<std::size_t>(id)]; }

    ElementId addElement(Kind kind, NetId a, NetId b, std::string name);
    void findIslands();
    void settle();
    void markDirty(std::uint32_t island);
    void refreshCodes();
    void countDrivers();
    std::uint8_t codeOf(Pin& pin, Island& island);
    void setDigit(Island& island, std::uint8_t digit, std::uint8_t code);
    void decidePlain(Net& net, NetId id);
    void decideIsland(Island& island);
    [[nodiscard]] Solution solve(const Island& island) const;
    void classify(const Island& island, Solution& solution) const;
    [[nodiscard]] NetState stateFor(const Net& net, double volts) const;
    void publish(NetId id, double volts, NetState state);
    void publishInto(Net& net, NetId id, double volts, NetState state);
    void setElementAmps(Element& element, double amps);
    void reportOverloads(NetId id);

    const kernel::EventQueue& queue_;
    CircuitObserver* observer_ = nullptr;
    std::vector<Net> nets_;
    std::vector<Pin> pins_;
    std::vector<Element> elements_;
    std::vector<Island> islands_;
    std::vector<std::uint32_t> dirty_;
    Cause cause_;
    int batches_ = 0;
    bool settling_ = false;
    bool sealed_ = false;
    std::uint64_t generation_ = 0;
    std::uint64_t solves_ = 0;
    std::uint64_t recalls_ = 0;
};

}  // namespace bramix::circuit
