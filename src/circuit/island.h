// What the circuit keeps of one island. For circuit.cpp, circuit_islands.cpp and circuit_dynamic.cpp.
#pragma once

#include <unordered_map>

#include "circuit/circuit.h"
#include "circuit/transient.h"

namespace bramix::circuit {

// Voltages by node of an island's network.
struct Circuit::Voltages : Eigen::VectorXd {
    using Eigen::VectorXd::VectorXd;
    Voltages() = default;
    Voltages(const Eigen::VectorXd& v) : Eigen::VectorXd(v) {}
};

// A remembered solution, by node and by the island's order of nets and elements.
struct Circuit::Solution {
    Voltages volts;
    std::vector<NetState> states;
    std::vector<double> amps;
    bool converged = true;
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

    // What is remembered of a dynamic island in one position.
    struct Position {
        std::shared_ptr<LinearForm> form;
        std::vector<bool> held;
    };

    std::uint32_t number = 0;
    std::vector<NetId> nets;
    std::vector<ElementId> elements;
    Network network;
    std::unordered_map<Key, Solution, KeyHash> remembered;
    std::unordered_map<Key, Position, KeyHash> positions;
    Key key;
    bool dynamic = false;    // moves by itself
    bool historic = false;   // may have more than one solution: goes on from the last one and remembers nothing
    bool watched = false;    // somebody wants the current of an element
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
    std::shared_ptr<LinearForm> form;
    std::unique_ptr<kernel::Alarm> alarm;
    std::vector<bool> held;
    Cause cause;
};

}  // namespace bramix::circuit
