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

Time later(Time t, std::int64_t picos)
{
    if (picos > INT64_MAX - t.time_since_epoch().count())
        return kernel::kNever;
    return t + kernel::Duration(picos);
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
        form.real = true;
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
    form.real = form.rates.imag().cwiseAbs().maxCoeff() == 0 && form.shapes.imag().cwiseAbs().maxCoeff() == 0;
    if (form.real) {
        form.realRates = form.rates.real();
        form.realShapes = form.shapes.real();
        form.realInverse = form.inverse.real();
        form.realOutlines = form.outlines.real();
    }
    Eigen::VectorXd settled;
    if (!network.solveAfresh(settled, x, INFINITY, {}))
        return form;
    form.goal.resize(n);
    for (Index i = 0; i < n; ++i)
        form.goal[i] = network.after(static_cast<std::size_t>(i), settled, 0, INFINITY);
    form.usable = true;
    return form;
}

void LinearTransient::begin(const LinearForm& form, Time t, const std::vector<double>& x)
{
    form_ = &form;
    begin_ = t;
    if (x_.size() == x.size())
        std::copy_n(x.data(), x.size(), x_.data());
    else
        x_ = x;
    const auto states = static_cast<Index>(x_.size());
    const Eigen::Map<const Eigen::VectorXd> now(x_.data(), states);
    // By hand: these are a few numbers, and a library's product has to look how many.
    const Index nodes = form.d.size();
    if (volts_.size() != nodes)
        volts_.resize(nodes);
    std::copy_n(form.d.data(), nodes, volts_.data());
    if (realAmplitudes_.size() != (form.real ? states : 0))
        realAmplitudes_.resize(form.real ? states : 0);
    if (x_.empty()) {
        amplitudes_.resize(0);
        return;
    }
    for (Index i = 0; i < states; ++i) {
        const double* const column = form.k.data() + i * nodes;
        for (Index node = 0; node < nodes; ++node)
            volts_[node] += column[node] * now[i];
    }
    if (!form.real) {
        amplitudes_.noalias() = form.inverse * (now - form.goal).cast<std::complex<double>>();
        return;
    }
    for (Index i = 0; i < realAmplitudes_.size(); ++i) {
        double sum = 0;
        for (Index k = 0; k < now.size(); ++k)
            sum += form.realInverse(i, k) * (now[k] - form.goal[k]);
        realAmplitudes_[i] = sum;
    }
}

const Eigen::VectorXd& LinearTransient::growth(double s) const
{
    if (form_->grownTo != s) {
        form_->grown.resize(realAmplitudes_.size());
        for (Index i = 0; i < form_->grown.size(); ++i)
            form_->grown[i] = std::expm1(form_->realRates[i] * s);
        form_->grownTo = s;
    }
    return form_->grown;
}

double LinearTransient::volts(Network::Node node, Time t) const
{
    const double s = kernel::seconds(t - begin_);
    double v = volts_[node];
    if (s <= 0)
        return v;
    if (form_->real) {
        const Eigen::VectorXd& grown = growth(s);
        for (Index i = 0; i < grown.size(); ++i)
            v += form_->realOutlines(node, i) * realAmplitudes_[i] * grown[i];
        return v;
    }
    for (Index i = 0; i < amplitudes_.size(); ++i)
        v += (form_->outlines(node, i) * amplitudes_[i] * expm1(form_->rates[i] * s)).real();
    return v;
}

void LinearTransient::statesInto(std::vector<double>& x, Time t) const
{
    if (x.size() == x_.size())
        std::copy_n(x_.data(), x_.size(), x.data());
    else
        x = x_;
    const double s = kernel::seconds(t - begin_);
    if (s <= 0)
        return;
    if (form_->real) {
        const Eigen::VectorXd& grown = growth(s);
        for (Index i = 0; i < grown.size(); ++i) {
            const double part = realAmplitudes_[i] * grown[i];
            for (std::size_t k = 0; k < x.size(); ++k)
                x[k] += form_->realShapes(static_cast<Index>(k), i) * part;
        }
        return;
    }
    for (Index i = 0; i < amplitudes_.size(); ++i) {
        const std::complex<double> grown = amplitudes_[i] * expm1(form_->rates[i] * s);
        for (std::size_t k = 0; k < x.size(); ++k)
            x[k] += (form_->shapes(static_cast<Index>(k), i) * grown).real();
    }
}

double LinearTransient::slope(std::size_t reactance, Time t) const
{
    const double s = kernel::seconds(t - begin_);
    double f = 0;
    if (form_->real) {
        for (Index i = 0; i < realAmplitudes_.size(); ++i)
            f += form_->realShapes(static_cast<Index>(reactance), i) * realAmplitudes_[i] * form_->realRates[i] * std::exp(form_->realRates[i] * s);
        return f;
    }
    for (Index i = 0; i < amplitudes_.size(); ++i)
        f += (form_->shapes(static_cast<Index>(reactance), i) * amplitudes_[i] * form_->rates[i] * std::exp(form_->rates[i] * s)).real();
    return f;
}

Reach LinearTransient::reach(Network::Node node, Time t) const
{
    const double s = std::max(kernel::seconds(t - begin_), 0.0);
    Reach r;
    const auto add = [&](double weight, double decay, double rate) {
        const double left = weight * std::exp(decay * s);
        r.speed += left * rate;
        r.swing += form_->real ? left : 2 * left;
    };
    if (form_->real)
        for (Index i = 0; i < realAmplitudes_.size(); ++i)
            add(std::fabs(form_->realOutlines(node, i) * realAmplitudes_[i]), form_->realRates[i], -form_->realRates[i]);
    else
        for (Index i = 0; i < amplitudes_.size(); ++i)
            add(std::abs(form_->outlines(node, i) * amplitudes_[i]), form_->rates[i].real(), std::abs(form_->rates[i]));
    return r;
}

namespace {

constexpr double kNear = Span::kNear;

// Steps up to the first passing of 0 by g(s), s in seconds from `first`, without missing any. look(s) gives g, how fast it may change from there on at most, and
// how far it may still go. The answer is the first picosecond of the passing, the same from wherever the search began; negative where there is none. Where it takes
// too many steps it is as far as it has come.
struct Look {
    double g = 0, speed = 0, swing = 0;
};

template <class Function>
std::int64_t march(double first, double last, Function&& look)
{
    Look now = look(first);
    double side = std::fabs(now.g) < kNear ? 0 : now.g;  // on the target just now: it has been passed; look for the way back only once it has gone some way
    double s = first, before = first;
    const auto passed = [&](double g) { return (g > 0) != (side > 0) && std::fabs(g) >= kNear / 2; };
    for (int i = 0; i < 400; ++i) {
        if (side == 0 && std::fabs(now.g) > 4 * kNear)
            side = now.g;
        if (now.swing <= std::fabs(now.g) || now.swing < kNear || now.speed == 0)
            return -1;
        if (side != 0 && passed(now.g)) {
            auto low = static_cast<std::int64_t>(std::floor(before * 1e12)), high = static_cast<std::int64_t>(std::ceil(s * 1e12));
            while (high - low > 1) {
                const std::int64_t middle = low + (high - low) / 2;
                (passed(look(static_cast<double>(middle) * 1e-12).g) ? high : low) = middle;
            }
            return high;
        }
        before = s;
        s += std::max((std::fabs(now.g) + kNear) / now.speed, 1e-12);  // time has no finer steps
        if (s > last)
            return -1;
        now = look(s);
    }
    return static_cast<std::int64_t>(std::ceil(s * 1e12));
}

constexpr double kLongest = 9e6;  // seconds: beyond simulated time

}  // namespace

// g(t) is the distance from the target. |g'| is nowhere beyond t greater than the sum of the modes' slopes at t, so within |g| / that sum there
// is no passing: step by step this comes up to the first one without missing any. Once all that may still happen is smaller than the distance,
// there is none.
Time LinearTransient::passes(const Passing& p, Time from) const
{
    if (form_->real)
        return passesReal(p, from);
    const double first = std::max(kernel::seconds(from - begin_), 0.0);
    std::array<std::complex<double>, 64> weight;
    const Index n = std::min<Index>(amplitudes_.size(), static_cast<Index>(weight.size()));
    const double g0 = volts_[p.plus] - (p.minus == Passing::kGround ? 0 : volts_[p.minus]) - p.target;
    for (Index i = 0; i < n; ++i)
        weight[static_cast<std::size_t>(i)] = (form_->outlines(p.plus, i) - (p.minus == Passing::kGround ? std::complex<double>() : form_->outlines(p.minus, i))) * amplitudes_[i];
    const auto look = [&](double s) {
        Look l{g0, 0, 0};
        for (Index i = 0; i < n; ++i) {
            const std::complex<double> rate = form_->rates[i];
            const std::complex<double> w = weight[static_cast<std::size_t>(i)];
            l.g += (w * expm1(rate * s)).real();
            const double left = std::abs(w) * std::exp(rate.real() * s);
            l.speed += left * std::abs(rate);
            l.swing += 2 * left;
        }
        return l;
    };
    const std::int64_t s = march(first, kLongest, look);
    return s < 0 ? kernel::kNever : std::max(later(begin_, s), from + kernel::Duration(1));  // very slow: whoever asked looks again from there
}

// The same where no mode rings. A single mode, or modes that all pull one way, pass a target at most once.
Time LinearTransient::passesReal(const Passing& p, Time from) const
{
    const double first = std::max(kernel::seconds(from - begin_), 0.0);
    std::array<double, 64> weight;
    const Index n = std::min<Index>(realAmplitudes_.size(), static_cast<Index>(weight.size()));
    const double g0 = volts_[p.plus] - (p.minus == Passing::kGround ? 0 : volts_[p.minus]) - p.target;
    double up = 0, down = 0;  // how far the modes may still pull it, from the beginning on
    for (Index i = 0; i < n; ++i) {
        const double w = (form_->realOutlines(p.plus, i) - (p.minus == Passing::kGround ? 0 : form_->realOutlines(p.minus, i))) * realAmplitudes_[i];
        weight[static_cast<std::size_t>(i)] = w;
        (w > 0 ? down : up) += std::fabs(w);
    }
    // From the beginning it never goes beyond these, which settles most questions without an exponential.
    if (g0 - down > kNear || g0 + up < -kNear)
        return kernel::kNever;
    const auto look = [&](double s) {
        Look l{g0, 0, 0};
        for (Index i = 0; i < n; ++i) {
            const double rate = form_->realRates[i];
            const double w = weight[static_cast<std::size_t>(i)];
            const double grown = s == 0 ? 0 : std::expm1(rate * s);
            l.g += w * grown;
            const double left = std::fabs(w) * (1 + grown);
            l.speed -= left * rate;
            l.swing += left;
        }
        return l;
    };
    const std::int64_t s = march(first, kLongest, look);
    return s < 0 ? kernel::kNever : std::max(later(begin_, s), from + kernel::Duration(1));
}

// Which needs no exponential.
Span LinearTransient::span(Network::Node node) const
{
    Span s{volts_[node], volts_[node], volts_[node], 0};
    const double* const outline = form_->realOutlines.data() + node;
    const Index stride = form_->realOutlines.rows();
    for (Index i = 0; i < realAmplitudes_.size(); ++i) {
        const double w = outline[i * stride] * realAmplitudes_[i];  // of a mode that dies away: the voltage goes by -w
        if (w > 0)
            s.low -= w;
        else
            s.high -= w;
        s.speed -= std::fabs(w) * form_->realRates[i];
    }
    return s;
}

Time crossing(const Side& plus, const Side& minus, double target, Time from)
{
    if (plus.piece == nullptr && minus.piece == nullptr)
        return kernel::kNever;
    if (minus.piece == nullptr)
        return plus.piece->passes({plus.node, Passing::kGround, minus.volts + target}, from);
    if (plus.piece == nullptr)
        return minus.piece->passes({minus.node, Passing::kGround, plus.volts - target}, from);
    if (plus.piece == minus.piece)
        return plus.piece->passes({plus.node, minus.node, target}, from);
    const Time end = std::min(plus.piece->until(), minus.piece->until());
    const auto look = [&](double s) {
        const Time t = from + kernel::Duration(std::llround(s * 1e12));
        const Reach a = plus.piece->reach(plus.node, t);
        const Reach b = minus.piece->reach(minus.node, t);
        return Look{plus.piece->volts(plus.node, t) - minus.piece->volts(minus.node, t) - target, a.speed + b.speed, a.swing + b.swing};
    };
    const double last = std::min(kLongest, kernel::seconds(end - from));
    const std::int64_t at = march(0, last, look);
    return at < 0 ? kernel::kNever : std::max(later(from, at), from + kernel::Duration(1));
}

}  // namespace bramix::circuit
