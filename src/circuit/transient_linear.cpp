#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <tuple>

#include "circuit/transient.h"

namespace bramix::circuit {

namespace {

using Index = Eigen::Index;

constexpr double kWorstCondition = 1e10;  // of the modes: beyond it the exponentials cancel each other out

std::complex<double> expm1(std::complex<double> z)
{
    if (z.imag() == 0)
        return std::expm1(z.real());
    // e^z - 1 = expm1(a) cos b - 2 sin²(b/2) + i e^a sin b
    const double s = std::sin(z.imag() / 2);
    return {std::expm1(z.real()) * std::cos(z.imag()) - 2 * s * s, std::exp(z.real()) * std::sin(z.imag())};
}

Time later(Time t, double seconds)
{
    const double picos = std::ceil(seconds * 1e12);
    if (!(picos < 9e18 - static_cast<double>(t.time_since_epoch().count())))
        return kernel::kNever;
    return t + kernel::Duration(static_cast<std::int64_t>(picos));
}

}  // namespace

LinearForm LinearForm::of(const Network& network)
{
    LinearForm form;
    const auto nodes = static_cast<Index>(network.nodes());
    const auto unknown = static_cast<Index>(network.unknowns);
    const auto n = static_cast<Index>(network.reactances.size());
    if (!network.linear() || network.varies())
        return form;
    std::vector<double> x(static_cast<std::size_t>(n), 0.0);
    if (!network.solveAfresh(form.d, x, 0, {}))
        return form;
    // The unknowns are the voltages of the nodes and, so that a capacitor's small series resistance costs no digits, the currents of the
    // capacitors: va - vb - r i = x. An inductor is a current x.
    const Index m = std::count_if(network.reactances.begin(), network.reactances.end(), [](const Network::Reactance& r) { return !r.inductor; });
    Network bare = network;
    bare.reactances.clear();
    Eigen::MatrixXd g = Eigen::MatrixXd::Zero(unknown + m, unknown + m);
    Eigen::MatrixXd in = Eigen::MatrixXd::Zero(unknown + m, n + 1);  // the last column: what does not depend on the states
    const Eigen::MatrixXd bareG = bare.conductance(form.d, 0);
    g.topLeftCorner(unknown, unknown) = bareG.topLeftCorner(unknown, unknown);
    in.col(n).head(unknown) = bare.injected() - bareG.topRightCorner(unknown, nodes - unknown) * form.d.tail(nodes - unknown);
    std::vector<Index> branch(static_cast<std::size_t>(n), -1);
    Index row = unknown;
    for (Index i = 0; i < n; ++i) {
        const Network::Reactance& r = network.reactances[static_cast<std::size_t>(i)];
        for (const auto& [node, other, sign] : {std::tuple(r.a, r.b, 1.0), std::tuple(r.b, r.a, -1.0)}) {
            if (static_cast<Index>(node) >= unknown) {
                if (!r.inductor)
                    in(row, n) -= sign * form.d[node];
                continue;
            }
            g(node, node) += r.leakSiemens;
            if (static_cast<Index>(other) < unknown)
                g(node, other) -= r.leakSiemens;
            else
                in(node, n) += r.leakSiemens * form.d[other];
            if (r.inductor) {
                in(node, i) -= sign;
            } else {
                g(node, row) += sign;
                g(row, node) += sign;
            }
        }
        if (!r.inductor) {
            g(row, row) -= r.ohms;
            in(row, i) += 1;
            branch[static_cast<std::size_t>(i)] = row++;
        }
    }
    const Eigen::MatrixXd solved = unknown + m > 0 ? Eigen::MatrixXd(g.partialPivLu().solve(in)) : in;
    form.k = Eigen::MatrixXd::Zero(nodes, n);
    form.k.topRows(unknown) = solved.topLeftCorner(unknown, n);
    form.d.head(unknown) = solved.col(n).head(unknown);
    Eigen::MatrixXd a(n, n);
    for (Index i = 0; i < n; ++i) {
        const Network::Reactance& r = network.reactances[static_cast<std::size_t>(i)];
        if (r.inductor) {
            a.row(i) = (form.k.row(r.a) - form.k.row(r.b)) / r.value;
            a(i, i) -= r.ohms / r.value;
        } else {
            a.row(i) = solved.row(branch[static_cast<std::size_t>(i)]).head(n) / r.value;
        }
    }
    if (n == 0) {  // nothing that would move
        form.goal.resize(0);
        form.usable = true;
        return form;
    }
    const Eigen::EigenSolver<Eigen::MatrixXd> modes(a);
    if (modes.info() != Eigen::Success)
        return form;
    form.rates = modes.eigenvalues();
    form.shapes = modes.eigenvectors();
    const Eigen::PartialPivLU<Eigen::MatrixXcd> lu(form.shapes);
    form.inverse = lu.inverse();
    if (!form.inverse.allFinite() || form.inverse.norm() * form.shapes.norm() > kWorstCondition)
        return form;
    for (Index i = 0; i < n; ++i)
        if (form.rates[i].real() > 0)  // rounding; a passive network has no growing mode
            form.rates[i].real(0);
    form.outlines = form.k.cast<std::complex<double>>() * form.shapes;
    Eigen::VectorXd settled;
    if (!network.solveAfresh(settled, x, INFINITY, {}))
        return form;
    form.goal.resize(n);
    for (Index i = 0; i < n; ++i)
        form.goal[i] = network.after(static_cast<std::size_t>(i), settled, 0, INFINITY);
    form.usable = true;
    return form;
}

void LinearTransient::begin(const LinearForm& form, Time t, std::vector<double> x)
{
    form_ = &form;
    begin_ = t;
    x_ = std::move(x);
    const Eigen::Map<const Eigen::VectorXd> now(x_.data(), static_cast<Index>(x_.size()));
    volts_ = form.d;
    amplitudes_.resize(0);
    if (x_.empty())
        return;
    volts_.noalias() += form.k * now;
    amplitudes_.noalias() = form.inverse * (now - form.goal).cast<std::complex<double>>();
}

double LinearTransient::volts(Network::Node node, Time t) const
{
    const double s = kernel::seconds(t - begin_);
    double v = volts_[node];
    if (s > 0)
        for (Index i = 0; i < amplitudes_.size(); ++i)
            v += (form_->outlines(node, i) * amplitudes_[i] * expm1(form_->rates[i] * s)).real();
    return v;
}

std::vector<double> LinearTransient::states(Time t) const
{
    std::vector<double> x = x_;
    const double s = kernel::seconds(t - begin_);
    if (s <= 0)
        return x;
    for (Index i = 0; i < amplitudes_.size(); ++i) {
        const std::complex<double> grown = amplitudes_[i] * expm1(form_->rates[i] * s);
        for (std::size_t k = 0; k < x.size(); ++k)
            x[k] += (form_->shapes(static_cast<Index>(k), i) * grown).real();
    }
    return x;
}

double LinearTransient::slope(std::size_t reactance, Time t) const
{
    const double s = kernel::seconds(t - begin_);
    double f = 0;
    for (Index i = 0; i < amplitudes_.size(); ++i)
        f += (form_->shapes(static_cast<Index>(reactance), i) * amplitudes_[i] * form_->rates[i] * std::exp(form_->rates[i] * s)).real();
    return f;
}

// g(t) is the distance from the target. |g'| is nowhere beyond t greater than the sum of the modes' slopes at t, so within |g| / that sum there
// is no passing: step by step this comes up to the first one without missing any. Once all that may still happen is smaller than the distance,
// there is none.
Time LinearTransient::passes(const Passing& p, Time from) const
{
    constexpr double kNear = 1e-9;  // volts beyond the target, so that who looks at the instant sees it passed
    const double first = std::max(kernel::seconds(from - begin_), 0.0);
    std::array<std::complex<double>, 64> weight;
    const Index n = std::min<Index>(amplitudes_.size(), static_cast<Index>(weight.size()));
    double g0 = volts_[p.plus] - (p.minus == Passing::kGround ? 0 : volts_[p.minus]) - p.target;
    for (Index i = 0; i < n; ++i)
        weight[static_cast<std::size_t>(i)] = (form_->outlines(p.plus, i) - (p.minus == Passing::kGround ? std::complex<double>() : form_->outlines(p.minus, i))) * amplitudes_[i];
    double now = 0;
    double swing = 0;  // how far it may still move
    double speed = 0;
    const auto look = [&](double s) {
        now = g0;
        swing = speed = 0;
        for (Index i = 0; i < n; ++i) {
            const std::complex<double> rate = form_->rates[i];
            const std::complex<double> w = weight[static_cast<std::size_t>(i)];
            now += (w * expm1(rate * s)).real();
            const double left = std::abs(w) * std::exp(rate.real() * s);
            speed += left * std::abs(rate);
            swing += 2 * left;
        }
    };
    look(first);
    double side = now;
    if (std::fabs(side) < kNear)  // on the target just now: it has been passed; look for the way back only once it has gone some way
        side = 0;
    double s = first;
    for (int i = 0; i < 400; ++i) {
        if (side == 0 && std::fabs(now) > 4 * kNear)
            side = now;
        if (swing <= std::fabs(now) || swing < kNear || speed == 0)
            return kernel::kNever;
        if (side != 0 && (now > 0) != (side > 0) && std::fabs(now) >= kNear / 2)
            return std::max(later(begin_, s), from + kernel::Duration(1));
        s += (std::fabs(now) + kNear) / speed;
        if (s > 9e6)
            return kernel::kNever;
        look(s);
    }
    return std::max(later(begin_, s), from + kernel::Duration(1));  // very slow: whoever asked looks again from there
}

}  // namespace bramix::circuit
