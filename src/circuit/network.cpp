#include "circuit/network.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

namespace bramix::circuit {

namespace {

constexpr int kMaxIterations = 150;
constexpr double kSettledVolts = 1e-9;  // a step below this has squared its error away: Newton's method doubles the digits
constexpr double kSettledPart = 1e-13;  // or the currents add up to this, relative
constexpr double kSmallestStep = 1e-6;  // of the line search

using Index = Eigen::Index;

}  // namespace

bool Network::linear() const
{
    return std::none_of(devices.begin(), devices.end(), [](const Slot& s) { return s.active; });
}

bool Network::varies() const
{
    return std::any_of(sources.begin(), sources.end(), [](const Source& s) { return s.wave != nullptr; });
}

Network::Companion Network::companion(const Reactance& r, double x, double d)
{
    if (!r.inductor) {
        if (std::isinf(d))
            return {r.leakSiemens, 0};
        const double g = 1 / (r.ohms + d / r.value);
        return {g + r.leakSiemens, -g * x};
    }
    if (std::isinf(d))
        return {1 / r.ohms + r.leakSiemens, 0};
    const double k = d / r.value;
    return {k / (1 + k * r.ohms) + r.leakSiemens, x / (1 + k * r.ohms)};
}

double Network::slope(std::size_t index, const Eigen::VectorXd& v, double x) const
{
    const Reactance& r = reactances[index];
    const double across = v[r.a] - v[r.b];
    return r.inductor ? (across - r.ohms * x) / r.value : (across - x) / (r.ohms * r.value);
}

double Network::after(std::size_t index, const Eigen::VectorXd& v, double from, double d) const
{
    const Reactance& r = reactances[index];
    const double across = v[r.a] - v[r.b];
    if (r.inductor)
        return std::isinf(d) ? across / r.ohms : (from + d / r.value * across) / (1 + d / r.value * r.ohms);
    return std::isinf(d) ? across : (from + d / (r.ohms * r.value) * across) / (1 + d / (r.ohms * r.value));
}

double Network::reactanceAmps(std::size_t index, const Eigen::VectorXd& v, double x) const
{
    const Reactance& r = reactances[index];
    const double across = v[r.a] - v[r.b];
    return (r.inductor ? x : (across - x) / r.ohms) + r.leakSiemens * across;
}

DevicePoint Network::point(std::size_t index, const Eigen::VectorXd& v) const
{
    const Slot& s = devices[index];
    std::array<double, kMostTerminals> at{};
    for (std::size_t i = 0; i < s.device->terminals(); ++i)
        at[i] = v[s.nodes[i]];
    DevicePoint p;
    s.device->at(at, p);
    return p;
}

Network::System Network::assemble(const std::vector<double>& x, double d, Time t, double gmin) const
{
    const auto n = static_cast<Index>(nodes());
    System s{Eigen::MatrixXd::Zero(n, n), Eigen::VectorXd::Zero(n), Eigen::VectorXd::Zero(n)};
    const auto conduct = [&](Node a, Node b, double siemens) {
        s.g(a, a) += siemens;
        s.g(b, b) += siemens;
        s.g(a, b) -= siemens;
        s.g(b, a) -= siemens;
    };
    const auto inject = [&](Node node, double amps) {
        s.in[node] += amps;
        s.scale[node] += std::fabs(amps);
    };
    for (Index i = 0; i < static_cast<Index>(unknowns); ++i)
        s.g(i, i) += leakSiemens + gmin;
    for (const Conductor& c : conductors)
        conduct(c.a, c.b, c.siemens);
    for (const Injection& j : injections) {
        s.g(j.node, j.node) += j.siemens;
        inject(j.node, j.siemens * j.volts);
    }
    for (const Source& source : sources) {
        conduct(source.a, source.b, source.siemens);
        const double amps = source.siemens * sourceVolts(source, t);
        inject(source.a, amps);
        inject(source.b, -amps);
    }
    for (std::size_t i = 0; i < reactances.size(); ++i) {
        const Reactance& r = reactances[i];
        const Companion c = companion(r, x.empty() ? 0 : x[i], d);
        conduct(r.a, r.b, c.siemens);
        inject(r.a, -c.amps);
        inject(r.b, c.amps);
    }
    return s;
}

void Network::hold(Eigen::VectorXd& v) const
{
    const auto n = static_cast<Index>(nodes());
    if (v.size() != n)
        v = Eigen::VectorXd::Zero(n);
    for (std::size_t i = 0; i < held.size(); ++i)
        v[static_cast<Index>(unknowns + i)] = held[i];
}

void Network::evaluate(const System& system, const Eigen::VectorXd& v, Eigen::VectorXd& f, Eigen::MatrixXd* jacobian) const
{
    f.noalias() = system.g * v;
    f -= system.in;
    if (jacobian != nullptr)
        *jacobian = system.g;
    for (std::size_t k = 0; k < devices.size(); ++k) {
        const Slot& s = devices[k];
        if (!s.active)
            continue;
        const DevicePoint p = point(k, v);
        const std::size_t terminals = s.device->terminals();
        for (std::size_t i = 0; i < terminals; ++i) {
            f[s.nodes[i]] += p.amps[i];
            if (jacobian != nullptr)
                for (std::size_t j = 0; j < terminals; ++j)
                    (*jacobian)(s.nodes[i], s.nodes[j]) += p.siemens[i][j];
        }
    }
}

// The currents that meet at each node, without their signs.
Eigen::VectorXd Network::meeting(const System& system, const Eigen::VectorXd& v) const
{
    Eigen::VectorXd scale = system.scale + system.g.cwiseAbs() * v.cwiseAbs();
    for (std::size_t k = 0; k < devices.size(); ++k) {
        if (!devices[k].active)
            continue;
        // What enters by one terminal is the difference of what flows inside, and as inexact as the greatest of it.
        const DevicePoint p = point(k, v);
        double greatest = 0;
        for (const double amps : p.amps)
            greatest = std::max(greatest, std::fabs(amps));
        for (std::size_t i = 0; i < devices[k].device->terminals(); ++i)
            scale[devices[k].nodes[i]] += greatest;
    }
    return scale;
}

bool Network::newton(Eigen::VectorXd& v, const System& system) const
{
    const auto n = static_cast<Index>(unknowns);
    if (n == 0)
        return true;
    const bool isLinear = linear();
    Eigen::VectorXd f, trial, fTrial;
    Eigen::MatrixXd jacobian;
    evaluate(system, v, f, &jacobian);
    const auto settled = [&](const Eigen::VectorXd& at, const Eigen::VectorXd& rest) {
        return (rest.head(n).cwiseAbs().array() <= kSettledPart * meeting(system, at).head(n).array()).all();
    };
    for (int iteration = 0; iteration < kMaxIterations; ++iteration) {
        const Eigen::PartialPivLU<Eigen::MatrixXd> lu(jacobian.topLeftCorner(n, n));
        const Eigen::VectorXd step = lu.solve(-f.head(n));
        const double largest = step.cwiseAbs().maxCoeff();
        if (!std::isfinite(largest))
            return false;
        const double norm = f.head(n).norm();
        double part = 1;
        for (;;) {
            trial = v;
            trial.head(n) += part * step;
            evaluate(system, trial, fTrial, isLinear ? nullptr : &jacobian);
            if (isLinear || largest * part < kSettledVolts || fTrial.head(n).norm() <= (1 - 1e-4 * part) * norm)
                break;
            // Or if what is left to go has become less (Deuflhard's natural monotonicity): unlike the sum of currents it weighs microvolts at a node
            // that hangs on gigaohms as much as at one of milliohms.
            if (lu.solve(fTrial.head(n)).cwiseAbs().maxCoeff() <= (1 - part / 4) * largest)
                break;
            if (settled(trial, fTrial)) {  // nothing left to win but rounding
                v = trial;
                return true;
            }
            part /= 2;
            if (part < kSmallestStep)
                return false;
        }
        v = trial;
        f = fTrial;
        if ((isLinear && (iteration > 0 || settled(v, f))) || (part == 1 && largest < kSettledVolts))
            return true;
    }
    return settled(v, f);
}

// Only what feeds back can have a solution that does not last: two transistors, or an amplifier.
bool Network::mayBeUnstable() const
{
    std::size_t weight = 0;
    for (const Slot& s : devices)
        if (s.active)
            weight += s.device->terminals() > 3 ? 2 : s.device->terminals() > 2 ? 1 : 0;
    return weight > 1;
}

// A flip-flop has three solutions, and at the middle one it cannot stay: with a little capacitance at each node, v' = -F(v) / C, a solution lasts where all
// eigenvalues of F's Jacobian have a positive real part. Their product is its determinant: where that is negative, one of them pulls away. Then v goes
// a little way along that one's vector, to the side on which its greatest entry rises, and on from there in ever longer implicit steps, as the voltages
// themselves would.
void Network::leaveUnstable(Eigen::VectorXd& v, const System& system) const
{
    const auto n = static_cast<Index>(unknowns);
    Eigen::VectorXd f;
    Eigen::MatrixXd jacobian;
    for (int tries = 0; tries < 4; ++tries) {
        evaluate(system, v, f, &jacobian);
        const Eigen::PartialPivLU<Eigen::MatrixXd> lu(jacobian.topLeftCorner(n, n));
        int sign = static_cast<int>(lu.permutationP().determinant());
        for (Index i = 0; i < n; ++i)
            sign *= lu.matrixLU()(i, i) < 0 ? -1 : 1;
        if (sign > 0)
            return;
        const Eigen::EigenSolver<Eigen::MatrixXd> modes(jacobian.topLeftCorner(n, n));
        Index worst = 0;
        if (modes.info() != Eigen::Success || modes.eigenvalues().real().minCoeff(&worst) >= 0)
            return;
        Eigen::VectorXd away = modes.eigenvectors().col(worst).real();
        Index greatest = 0;
        away.cwiseAbs().maxCoeff(&greatest);
        away *= 0.01 / away[greatest];
        Eigen::VectorXd moved = v;
        moved.head(n) += away;
        double hold = std::fabs(modes.eigenvalues()[worst].real());
        bool arrived = false;
        for (int i = 0; i < 300 && !arrived && hold < 1e9; ++i) {
            System held = system;
            for (Index k = 0; k < n; ++k)
                held.g(k, k) += hold;
            held.in.head(n) += hold * moved.head(n);
            Eigen::VectorXd next = moved;
            if (newton(next, held)) {
                moved = next;
                hold /= 2;
                arrived = hold < 1e-9 && newton(next, system);
                if (arrived)
                    moved = next;
            } else {
                hold *= 20;
            }
        }
        if (!arrived)
            return;
        v = moved;
    }
}

bool Network::solve(Eigen::VectorXd& v, const std::vector<double>& x, double d, Time t) const
{
    hold(v);
    const Eigen::VectorXd guess = v;
    if (const System system = assemble(x, d, t, 0); newton(v, system)) {
        if (mayBeUnstable())
            leaveUnstable(v, system);
        return true;
    }
    // From the guess again, with help: each conductance to ground makes a network whose solution is near that of the one before.
    for (const bool fromGuess : {true, false}) {
        v = guess;
        if (!fromGuess)
            v.head(static_cast<Index>(unknowns)).setZero();
        bool good = true;
        for (double gmin = 1; gmin > 1e-13 && good; gmin /= 10)
            good = newton(v, assemble(x, d, t, gmin));
        if (good && newton(v, assemble(x, d, t, 0)))
            return true;
    }
    // As if every node had a capacitor: it follows the network from the guess to a state in which nothing changes, in ever longer implicit steps.
    v = guess;
    const auto n = static_cast<Index>(unknowns);
    double hold = 0.1;
    for (int i = 0; i < 300 && hold < 1e6; ++i) {
        System system = assemble(x, d, t, hold);
        system.in.head(n) += hold * v.head(n);
        Eigen::VectorXd next = v;
        if (newton(next, system)) {
            v = next;
            hold /= 3;
            if (hold < 1e-12 && newton(v, assemble(x, d, t, 0)))
                return true;
        } else {
            hold *= 20;
        }
    }
    if (!v.allFinite())
        v = guess;
    return false;
}

void Network::assembleIn(Eigen::VectorXd& in, const std::vector<double>& x, double d, Time t) const
{
    in.setZero(static_cast<Index>(nodes()));
    for (const Injection& j : injections)
        in[j.node] += j.siemens * j.volts;
    for (const Source& source : sources) {
        const double amps = source.siemens * sourceVolts(source, t);
        in[source.a] += amps;
        in[source.b] -= amps;
    }
    for (std::size_t i = 0; i < reactances.size(); ++i) {
        const double amps = companion(reactances[i], x[i], d).amps;
        in[reactances[i].a] -= amps;
        in[reactances[i].b] += amps;
    }
}

bool Network::solveLinear(Eigen::VectorXd& v, const std::vector<double>& x, double d, Time t, Factored& factored) const
{
    hold(v);
    const auto n = static_cast<Index>(unknowns);
    if (n == 0)
        return true;
    if (factored.d != d) {
        factored.g = assemble(x, d, t, 0).g;
        factored.lu.compute(factored.g.topLeftCorner(n, n));
        factored.d = d;
    }
    Eigen::VectorXd rest;
    assembleIn(rest, x, d, t);
    // From where it stands, and once more for what rounding has left.
    for (int i = 0; i < 2; ++i) {
        const Eigen::VectorXd step = factored.lu.solve((rest - factored.g * v).head(n));
        if (!step.allFinite())
            return false;
        v.head(n) += step;
    }
    return true;
}

bool Network::solveAfresh(Eigen::VectorXd& v, const std::vector<double>& x, double d, Time t) const
{
    v = Eigen::VectorXd::Zero(static_cast<Index>(nodes()));
    return solve(v, x, d, t);
}

double Network::residual(const Eigen::VectorXd& v, const std::vector<double>& x, double d, Time t) const
{
    const System system = assemble(x, d, t, 0);
    Eigen::VectorXd f;
    Eigen::MatrixXd g;
    evaluate(system, v, f, &g);
    const Eigen::VectorXd scale = meeting(system, v) + g.cwiseAbs() * v.cwiseAbs();
    double worst = 0;
    for (Index i = 0; i < static_cast<Index>(unknowns); ++i)
        worst = std::max(worst, std::fabs(f[i]) / std::max(scale[i], 1e-6));
    return worst;
}

Eigen::MatrixXd Network::conductance(const Eigen::VectorXd& v, double d) const
{
    Eigen::MatrixXd g;
    Eigen::VectorXd f;
    evaluate(assemble({}, d, {}, 0), v, f, &g);
    return g;
}

}  // namespace bramix::circuit
