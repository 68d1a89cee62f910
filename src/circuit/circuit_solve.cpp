// The nodal analysis of one island: G v = i, where every source is a Thévenin source and so stamps one conductance.
// Diodes are linearised at the present voltage and the system solved again until the voltages stand still
// (Newton-Raphson). Each solve begins from the same point, never from the last solution, so that a result depends only
// on the drives and may be remembered.
//
// Every net leaks kLeakSiemens to ground: it keeps the matrix regular where a net hangs on nothing, and is far below what any part passes.
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "circuit/circuit.h"

namespace bramix::circuit {

namespace {

constexpr double kLeakSiemens = 1e-12;
constexpr int kMaxIterations = 200;
constexpr double kSettledVolts = 1e-10;  // two iterations that agree to this are the solution
constexpr double kMaxStepVolts = 2.0;    // beyond the first iterations, damp: diode bridges otherwise swing between corners
constexpr int kFreeIterations = 20;

// A net held only through diodes passing less than this is left to itself.
constexpr double kHoldingAmps = 1e-7;

constexpr double kStrongOhms = 1000;
constexpr double kFightAmps = 0.005;

}  // namespace

Circuit::Solution Circuit::solve(const Island& island) const
{
    const auto size = static_cast<Eigen::Index>(island.nets.size());
    Eigen::MatrixXd fixedG = Eigen::MatrixXd::Zero(size, size);
    Eigen::VectorXd fixedI = Eigen::VectorXd::Zero(size);

    // A net that is a rail is a known voltage; its row says so.
    const auto row = [&](NetId id) { return at(id).rail ? Eigen::Index{-1} : static_cast<Eigen::Index>(at(id).unknown); };
    const auto known = [&](NetId id) { return at(id).railVolts; };
    const auto stamp = [&](Eigen::MatrixXd& g, Eigen::VectorXd& i, NetId a, NetId b, double siemens, double amps) {
        const Eigen::Index ra = row(a);
        const Eigen::Index rb = row(b);
        if (ra >= 0) {
            g(ra, ra) += siemens;
            i(ra) -= amps;
            if (rb < 0)
                i(ra) += siemens * known(b);
        }
        if (rb >= 0) {
            g(rb, rb) += siemens;
            i(rb) += amps;
            if (ra < 0)
                i(rb) += siemens * known(a);
        }
        if (ra >= 0 && rb >= 0) {
            g(ra, rb) -= siemens;
            g(rb, ra) -= siemens;
        }
    };

    for (const NetId id : island.nets) {
        const Eigen::Index r = static_cast<Eigen::Index>(at(id).unknown);
        if (at(id).rail) {
            fixedG(r, r) = 1;
            fixedI(r) = at(id).railVolts;
            continue;
        }
        fixedG(r, r) += kLeakSiemens;
        for (const PinId pin : at(id).pins) {
            const Drive& d = at(pin).drive;
            if (!d.floating()) {
                fixedG(r, r) += 1 / d.ohms;
                fixedI(r) += d.volts / d.ohms;
            }
        }
    }
    bool linear = true;
    for (const ElementId id : island.elements) {
        const Element& e = elements_[static_cast<std::size_t>(id)];
        if (e.kind == Kind::diode)
            linear = false;
        else if (e.kind == Kind::resistor || e.closed)
            stamp(fixedG, fixedI, e.a, e.b, 1 / e.ohms, 0);
    }

    Eigen::VectorXd v = Eigen::VectorXd::Zero(size);
    for (const NetId id : island.nets)
        if (at(id).rail)
            v(static_cast<Eigen::Index>(at(id).unknown)) = at(id).railVolts;
    const auto voltsAt = [&](NetId id) { return at(id).rail ? known(id) : v(row(id)); };

    Solution out;
    out.converged = false;
    for (int iteration = 0; iteration < kMaxIterations && !out.converged; ++iteration) {
        Eigen::MatrixXd g = fixedG;
        Eigen::VectorXd i = fixedI;
        for (const ElementId id : island.elements) {
            const Element& e = elements_[static_cast<std::size_t>(id)];
            if (e.kind != Kind::diode)
                continue;
            const double across = voltsAt(e.a) - voltsAt(e.b);
            const DiodeModel::Point p = e.diode.at(across);
            stamp(g, i, e.a, e.b, p.siemens, p.amps - p.siemens * across);
        }
        const Eigen::VectorXd next = g.partialPivLu().solve(i);
        Eigen::VectorXd step = next - v;
        const double largest = step.size() > 0 ? step.cwiseAbs().maxCoeff() : 0;
        if (!std::isfinite(largest))
            break;
        if (iteration > kFreeIterations && largest > kMaxStepVolts)
            step *= kMaxStepVolts / largest;
        v += step;
        out.converged = linear || largest < kSettledVolts;
    }

    out.volts.assign(v.data(), v.data() + v.size());
    for (double& volts : out.volts)
        if (!std::isfinite(volts))
            volts = 0;
    for (const ElementId id : island.elements) {
        const Element& e = elements_[static_cast<std::size_t>(id)];
        const double across = voltsAt(e.a) - voltsAt(e.b);
        if (e.kind == Kind::diode)
            out.amps.push_back(e.diode.at(across).amps);
        else
            out.amps.push_back(e.kind == Kind::resistor || e.closed ? across / e.ohms : 0);
    }
    classify(island, out);
    return out;
}

// One column of the inverse of the conductance matrix: what a current of one ampere into the net lifts it by.
Ohms Circuit::sourceResistance(NetId id) const
{
    const Net& net = at(id);
    if (net.rail)
        return {0};
    const Island& island = islands_[net.island];
    const auto size = static_cast<Eigen::Index>(island.nets.size());
    Eigen::MatrixXd g = Eigen::MatrixXd::Zero(size, size);
    for (const NetId n : island.nets) {
        const auto r = static_cast<Eigen::Index>(at(n).unknown);
        g(r, r) += at(n).rail ? 1 : kLeakSiemens;
        for (const PinId pin : at(n).pins)
            if (!at(n).rail && !at(pin).drive.floating())
                g(r, r) += 1 / at(pin).drive.ohms;
    }
    for (const ElementId e : island.elements) {
        const Element& element = elements_[static_cast<std::size_t>(e)];
        if (element.kind == Kind::switchContact && !element.closed)
            continue;
        const double siemens = element.kind == Kind::diode ? element.diode.at(at(element.a).volts - at(element.b).volts).siemens : 1 / element.ohms;
        for (const auto& [from, to] : {std::pair(element.a, element.b), std::pair(element.b, element.a)}) {
            if (at(from).rail)
                continue;
            const auto r = static_cast<Eigen::Index>(at(from).unknown);
            g(r, r) += siemens;
            if (!at(to).rail)
                g(r, static_cast<Eigen::Index>(at(to).unknown)) -= siemens;
        }
    }
    Eigen::VectorXd one = Eigen::VectorXd::Zero(size);
    const auto at0 = static_cast<Eigen::Index>(net.unknown);
    one(at0) = 1;
    const double ohms = g.partialPivLu().solve(one)(at0);
    return {ohms > 0.1 / kLeakSiemens ? std::numeric_limits<double>::infinity() : ohms};
}

// Which nets are held by something, and which hold two fighting outputs.
void Circuit::classify(const Island& island, Solution& out) const
{
    std::vector<bool> held(island.nets.size());
    for (std::size_t n = 0; n < island.nets.size(); ++n) {
        const Net& net = at(island.nets[n]);
        held[n] = net.rail || std::any_of(net.pins.begin(), net.pins.end(), [&](PinId p) { return !at(p).drive.floating(); });
    }
    const auto isHeld = [&](NetId id) { return at(id).rail || held[at(id).unknown]; };
    for (bool grew = true; grew;) {
        grew = false;
        for (std::size_t i = 0; i < island.elements.size(); ++i) {
            const Element& e = elements_[static_cast<std::size_t>(island.elements[i])];
            const bool conducts = e.kind == Kind::diode ? std::fabs(out.amps[i]) > kHoldingAmps : e.kind == Kind::resistor || e.closed;
            if (!conducts || isHeld(e.a) == isHeld(e.b))
                continue;
            held[at(isHeld(e.a) ? e.b : e.a).unknown] = true;
            grew = true;
        }
    }
    for (std::size_t n = 0; n < island.nets.size(); ++n) {
        const Net& net = at(island.nets[n]);
        NetState state = held[n] ? stateFor(net, out.volts[n]) : NetState::floating;
        double lowest = INFINITY;
        double highest = -INFINITY;
        for (const PinId p : net.pins) {
            const Drive& d = at(p).drive;
            if (net.rail || d.ohms >= kStrongOhms)
                continue;
            const double amps = (d.volts - out.volts[n]) / d.ohms;
            lowest = std::min(lowest, amps);
            highest = std::max(highest, amps);
        }
        if (lowest < -kFightAmps && highest > kFightAmps)
            state = NetState::conflict;
        out.states.push_back(state);
    }
}

}  // namespace bramix::circuit
