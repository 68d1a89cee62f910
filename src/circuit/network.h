// One island as numbers: conductances, sources, reactances and devices between numbered nodes, and the solution of Kirchhoff's current law.
//
// Nodes 0 .. unknowns-1 are solved for; nodes from there on are held (rails). G v = i is nodal analysis; what is not linear is solved by
// Newton's method with a line search, and where that fails, by lowering a conductance from every node to ground step by step.
// A reactance is a state (a capacitor's voltage, an inductor's current) and takes part by a companion: with d = 0 the state itself, with d > 0 one
// implicit step x = X + d·dx/dt, with d = infinity the state in which nothing changes any more.
//
// Every node leaks kLeakSiemens to ground: it keeps the matrix regular where a node hangs on nothing, and is far below what any part passes.
// Tested by tests/circuit/device_test.cpp.
#pragma once

#include <Eigen/Dense>
#include <cstdint>
#include <memory>
#include <vector>

#include "circuit/device.h"
#include "circuit/waveform.h"

namespace bramix::circuit {

inline constexpr double kLeakSiemens = 1e-12;

class Network {
public:
    using Node = std::uint32_t;

    struct Conductor {
        Node a, b;
        double siemens;
    };
    // A pin: a voltage behind a conductance, against ground.
    struct Injection {
        Node node;
        double siemens;
        double volts;
    };
    // A floating source: `volts` from b up to a, behind a conductance.
    struct Source {
        Node a, b;
        double siemens;
        double volts;
        const Waveform* wave;  // or null
    };
    struct Reactance {
        Node a, b;
        bool inductor;
        double value;       // farads or henries
        double ohms;        // in series; more than 0
        double leakSiemens; // in parallel
    };
    struct Slot {
        const Device* device;
        std::array<Node, kMostTerminals> nodes;
        bool active;
    };

    std::size_t unknowns = 0;
    double leakSiemens = kLeakSiemens;  // of every unknown node
    std::vector<double> held;  // voltages of the nodes from `unknowns` on
    std::vector<Conductor> conductors;
    std::vector<Injection> injections;
    std::vector<Source> sources;
    std::vector<Reactance> reactances;
    std::vector<Slot> devices;

    [[nodiscard]] std::size_t nodes() const { return unknowns + held.size(); }
    [[nodiscard]] bool linear() const;
    [[nodiscard]] bool varies() const;  // has a source that changes by itself

    // Solves for all nodes' voltages with the reactances at x, or one implicit step of size d beyond them. `volts` is the guess and
    // becomes the answer. Of several solutions one that is stable. False where no solution was found; volts is then the best that was.
    [[nodiscard]] bool solve(Eigen::VectorXd& volts, const std::vector<double>& x, double d, Time t) const;
    // The same of a linear network, step after step of one length: the matrix is factored once. `factored` belongs to the network as it stands.
    struct Factored {
        double d = -1;
        Eigen::MatrixXd g;
        Eigen::PartialPivLU<Eigen::MatrixXd> lu;
    };
    [[nodiscard]] bool solveLinear(Eigen::VectorXd& volts, const std::vector<double>& x, double d, Time t, Factored& factored) const;
    // The same from no particular guess: the answer depends on the network alone.
    [[nodiscard]] bool solveAfresh(Eigen::VectorXd& volts, const std::vector<double>& x, double d, Time t) const;

    // dx/dt of a reactance at these voltages.
    [[nodiscard]] double slope(std::size_t reactance, const Eigen::VectorXd& volts, double x) const;
    // Its state after an implicit step from X, at these voltages.
    [[nodiscard]] double after(std::size_t reactance, const Eigen::VectorXd& volts, double from, double d) const;
    // The current through it from a to b.
    [[nodiscard]] double reactanceAmps(std::size_t reactance, const Eigen::VectorXd& volts, double x) const;
    [[nodiscard]] DevicePoint point(std::size_t slot, const Eigen::VectorXd& volts) const;
    [[nodiscard]] double sourceVolts(const Source& s, Time t) const { return s.wave != nullptr ? s.wave->at(t) : s.volts; }
    [[nodiscard]] double sourceAmps(const Source& s, const Eigen::VectorXd& volts, Time t) const { return (sourceVolts(s, t) - volts[s.a] + volts[s.b]) * s.siemens; }

    // How well Kirchhoff's current law is met: the greatest sum of currents into a node, relative to the
    // currents that meet there, each slope's taken from its end to ground: what a voltage rounded to sixteen digits leaves; or
    // to a microampere.
    [[nodiscard]] double residual(const Eigen::VectorXd& volts, const std::vector<double>& x, double d, Time t) const;

    // The conductance matrix of everything linear, and of the devices at `volts`.
    [[nodiscard]] Eigen::MatrixXd conductance(const Eigen::VectorXd& volts, double d) const;

    // The currents that pins and sources put into the unknown nodes.
    [[nodiscard]] Eigen::VectorXd injected() const { return assemble({}, 0, {}, 0).in.head(static_cast<Eigen::Index>(unknowns)); }

    // A reactance as a conductance g and a current j from a to b: i = g (va - vb) + j.
    struct Companion {
        double siemens, amps;
    };
    [[nodiscard]] static Companion companion(const Reactance& r, double x, double d);

private:
    struct System {
        Eigen::MatrixXd g;   // of what is linear
        Eigen::VectorXd in;  // currents into the nodes
        Eigen::VectorXd scale;
    };

    // Currents into the nodes: of pins, sources and reactances.
    void assembleIn(Eigen::VectorXd& in, const std::vector<double>& x, double d, Time t) const;
    [[nodiscard]] System assemble(const std::vector<double>& x, double d, Time t, double gmin) const;
    [[nodiscard]] bool newton(Eigen::VectorXd& volts, const System& system) const;
    // Leaves a solution at which the network could not stay: see network.cpp.
    void leaveUnstable(Eigen::VectorXd& volts, const System& system) const;
    [[nodiscard]] bool mayBeUnstable() const;
    // F = G v - in + devices, and its Jacobian.
    void evaluate(const System& system, const Eigen::VectorXd& volts, Eigen::VectorXd& f, Eigen::MatrixXd* jacobian) const;
    [[nodiscard]] Eigen::VectorXd meeting(const System& system, const Eigen::VectorXd& volts) const;
    void hold(Eigen::VectorXd& volts) const;
};

}  // namespace bramix::circuit
