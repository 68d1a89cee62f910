// What the circuit keeps of one island. For circuit.cpp, circuit_islands.cpp and circuit_dynamic.cpp.
#pragma once

#include <unordered_map>

#include "circuit/circuit.h"
#include "circuit/transient.h"

namespace bramix::circuit {

inline constexpr double kShortAmps = 1.0;       // between two supplies
inline constexpr double kOverVolts = 0.5;       // what a pin's absolute maximum goes beyond the supply
inline constexpr double kWorthBooking = 1e-3;   // a pin that carries less is not among its group's sum until that comes near its limit

// Voltages by node of an island's network.
struct Circuit::Voltages : Eigen::VectorXd {
    using Eigen::VectorXd::VectorXd;
    Voltages() = default;
    Voltages(const Eigen::VectorXd& v) : Eigen::VectorXd(v) {}
};

// A remembered solution, by node and by the island's order of nets and elements.
struct Circuit::Solution {
    // What becomes another when this solution follows a certain other one: most edges change a net or two of an island.
    struct Change {
        const Solution* from = nullptr;
        std::vector<std::uint32_t> nets, elements;  // by the island's order
    };
    static constexpr std::size_t kMostChanges = 16;

    Voltages volts;
    std::vector<Change> changes;
    std::size_t oldestChange = 0;
    std::vector<NetState> states;
    std::vector<double> amps;
    bool converged = true;
    // Worth reporting: see reportIsland().
    bool fights = false;        // outputs against each other, or elements between two supplies
    std::vector<PinId> loaded;  // pins beyond their voltage, or whose current counts
};

struct Circuit::Island {
    struct Key {
        std::uint64_t low = 0;
        std::uint64_t high = 0;
        bool operator==(const Key&) const = default;
    };

    struct KeyHash {
        std::size_t operator()(const Key& k) const { return k.low; }
    };

    // States of the reactances at which a piece may begin so that, for `span`, nothing comes of it but the nets' states below: no threshold is passed, no
    // limit exceeded, no element to be told of. Most edges of a pulse width into a filter begin within the one of the edge before.
    struct QuietRegion {
        bool usable = false;
        std::uint32_t marks = 0;           // the island's when this was worked out
        std::uint32_t pause = 0, next = 1; // edges for which another is not looked for, and how many after the next failure
        std::uint32_t uses = 0;
        std::vector<double> low, high;     // by reactance
        std::vector<NetState> states;      // by the order of `moving`
        kernel::Duration span{};
    };

    // What is remembered of a dynamic island in one position.
    struct Position {
        LinearForm form;
        std::vector<bool> held;
        QuietRegion quiet;
    };

    std::uint32_t number = 0;
    std::vector<NetId> nets;
    std::vector<ElementId> elements;
    Network network;
    std::unordered_map<Key, std::unique_ptr<Solution>, KeyHash> remembered;
    std::unordered_map<Key, std::unique_ptr<Position>, KeyHash> positions;
    // In use just now: of the maps above, or kept here once those have been emptied.
    const Solution* solution = nullptr;
    const Position* position = nullptr;
    std::unique_ptr<Solution> keptSolution;
    std::unique_ptr<Position> keptPosition;
    Key key;
    bool dynamic = false;    // moves by itself
    bool historic = false;   // may have more than one solution: goes on from the last one and remembers nothing
    std::vector<ElementId> watched;       // whose current somebody wants
    std::vector<std::pair<NetId, std::uint32_t>> rails;  // and the node of the network that each is
    std::vector<ElementId> devices;
    std::vector<ElementId> probed;        // whose current is probed
    std::vector<ElementId> betweenRails;  // those that a short circuit goes through
    std::vector<PinId> limited;           // pins that can be overloaded
    std::vector<double> amps;             // static: what each element carries, as its Element has it
    bool loud = true;                     // all was worth reporting when it was last looked at, or
    std::vector<PinId> loaded;            // these pins
    // Solutions found without the map, by the last bits of their key.
    struct Found {
        Key key;
        Solution* solution = nullptr;
    };
    std::array<Found, 32> found;
    std::vector<std::uint32_t> dependents;  // islands in which somebody waits to pass a voltage of this one
    bool clamped = false;    // protection diodes conduct
    bool dirty = false;
    bool converged = true;
    Voltages last;           // the last solution, by node
    std::vector<std::unique_ptr<ClampDevice>> clamps;
    // Dynamic islands:
    std::vector<double> x;   // the reactances, at `began`
    Time began{};
    LinearTransient linear;
    SteppingTransient stepping;
    Transient* running = nullptr;
    std::unique_ptr<kernel::Alarm> alarm;
    // Nothing happens before the alarm, and perhaps nothing at it: it only looks how things stand. Working out exactly when a threshold will be passed is wasted
    // on a course that ends a few microseconds later.
    bool onlyLooks = false;
    bool unplaced = false;   // drives have changed that the network does not have yet,
    bool unentered = false;  // and the key neither: of nets that are cut off
    // All that a net of this island may be waited for to pass, in whatever state it is, so that most nets of most pieces need no closer look.
    struct Marks {
        NetId net{};
        std::uint32_t node = 0;
        bool always = false;          // a watcher follows it in steps
        std::vector<double> targets;
        std::uint32_t other = 0;      // of `across`: the difference to this node counts
    };
    std::vector<Marks> marks, across;
    std::vector<Span> spans;  // by node, of the present piece
    bool marksKnown = false;
    std::uint32_t marksNumber = 0;  // grows whenever they are found anew
    // Nothing is under way that the next piece would have to end: an overload, an element that is told of each change.
    bool nothingOpen = false;
    std::vector<PinId> booking;  // pins whose current is booked at quiet edges too
    std::vector<double> ahead;  // the reactances now, before it is decided how the next piece begins
    // The positions of the last edges, found without the map.
    struct Recent {
        Key key;
        Position* position = nullptr;
    };
    std::array<Recent, 2> recent;
    std::size_t oldestRecent = 0;
    // The nets that are no rails, and their nodes; known once a region has been looked for.
    struct Moving {
        NetId net{};
        Network::Node node = 0;
    };
    std::vector<Moving> moving;
    bool compares = false;  // somebody waits for one moving voltage to pass another
    std::vector<bool> heldNow;  // step by step: which nets something holds
    Cause cause;

    // quiet_region.cpp. Begins the piece that the present drives ask for where a quiet region holds; false where all must be looked at.
    [[nodiscard]] bool takeQuietEdge(Circuit& circuit);
    [[nodiscard]] Position* recentPosition() const;
    // After a piece has begun, and all that it brought has been told.
    void lookForQuietRegion(const Circuit& circuit);
    [[nodiscard]] bool isNothingOpen(const Circuit& circuit) const;
    [[nodiscard]] bool findQuietRegion(const Circuit& circuit, const Position& at, QuietRegion& region, double part);

    [[nodiscard]] const std::vector<bool>& held() const { return running == &linear && position != nullptr ? position->held : heldNow; }
};

}  // namespace bramix::circuit
