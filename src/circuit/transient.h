// How the voltages of one island go on from an instant, as long as nobody changes anything: either in closed form or step by step.
//
// LinearTransient: a network without active devices and without sources that change by themselves is x' = A x + b, whose solution is a sum of
// exponentials; it holds for ever and is exact. SteppingTransient: TR-BDF2 (Bank et al., 1985; Hosea and Shampine, 1996), an implicit step in two stages
// that share one conductance matrix, second order, L-stable, with an estimate of its error that sets the step; inside a step a parabola through the
// three points serves.
// Tested by tests/circuit/dynamic_test.cpp.
#pragma once

#include <complex>
#include <map>
#include <memory>
#include <span>

#include "circuit/network.h"
#include "kernel/archive.h"

namespace bramix::circuit {

// Linear maps of a network in one position of its switches and drives: v = K x + d, x' = A x + b, A = P diag(λ) P⁻¹.
struct LinearForm {
    Eigen::MatrixXd k;
    Eigen::VectorXd d;
    Eigen::VectorXcd rates;
    Eigen::MatrixXcd shapes;    // P
    Eigen::MatrixXcd inverse;   // P⁻¹
    Eigen::MatrixXcd outlines;  // K P: a mode as the nodes show it
    Eigen::VectorXd goal;       // x where nothing changes any more
    // e^(rate s) - 1 of each real mode, of the last s that was asked for: a pulse width has the same again and again.
    mutable double grownTo = -1;
    mutable Eigen::VectorXd grown;
    bool usable = false;        // false where A has no full set of modes, or is no longer linear there
    // Where no mode rings, as wherever there are only capacitors or only inductors, the same in real numbers.
    bool real = false;
    Eigen::VectorXd realRates;
    Eigen::MatrixXd realShapes, realInverse, realOutlines;

    static LinearForm of(const Network& network);
};

// How a node's voltage may go on from an instant for as long as the present piece holds.
struct Reach {
    double speed = 0;  // volts a second at most
    double swing = 0;  // volts at most, up or down
};

// Passing `target` by the difference of two nodes' voltages; `minus` may be kGround.
struct Passing {
    static constexpr Network::Node kGround = UINT32_MAX;
    Network::Node plus = 0;
    Network::Node minus = kGround;
    double target = 0;
};

// Where a node's voltage may still come to from the beginning of a piece whose modes do not ring, and how fast.
struct Span {
    double volts = 0, low = 0, high = 0, speed = 0;

    [[nodiscard]] bool reaches(double target) const { return target >= low - kNear && target <= high + kNear; }
    [[nodiscard]] Span less(const Span& other) const { return {volts - other.volts, low - other.high, high - other.low, speed + other.speed}; }

    static constexpr double kNear = 1e-9;  // volts beyond a target, so that who looks at the instant sees it passed
    // An instant before which it has not passed the target, so long before that whoever looks then sees it on this side; kNever where it never will.
    [[nodiscard]] Time notBefore(double target, Time begin) const
    {
        if (target < low - kNear || target > high + kNear)
            return kernel::kNever;
        constexpr double kTooNear = 1e-6, kPart = 0.9;
        const double distance = target > volts ? target - volts : volts - target;
        const double picos = distance < kTooNear ? 1 : kPart * 1e12 * distance / speed;
        return picos < 4e18 ? begin + kernel::Duration(1 + static_cast<std::int64_t>(picos)) : kernel::kNever;
    }
};

class Transient {
public:
    virtual ~Transient() = default;
    // Until when this piece holds; then goOn() makes the next.
    [[nodiscard]] virtual Time until() const = 0;
    virtual void goOn(const Network& network) = 0;
    [[nodiscard]] virtual double volts(Network::Node node, Time t) const = 0;
    virtual void statesInto(std::vector<double>& x, Time t) const = 0;
    [[nodiscard]] std::vector<double> states(Time t) const
    {
        std::vector<double> x;
        statesInto(x, t);
        return x;
    }
    [[nodiscard]] virtual double slope(std::size_t reactance, Time t) const = 0;  // dx/dt
    // The first instant after `from`, and not after until(), at which the target has been passed; kNever where there is none.
    [[nodiscard]] virtual Time passes(const Passing& p, Time from) const = 0;
    [[nodiscard]] virtual bool converged() const { return true; }
    [[nodiscard]] virtual Reach reach(Network::Node node, Time t) const = 0;

    [[nodiscard]] Eigen::VectorXd all(std::size_t nodes, Time t) const
    {
        Eigen::VectorXd v(static_cast<Eigen::Index>(nodes));
        for (std::size_t i = 0; i < nodes; ++i)
            v[static_cast<Eigen::Index>(i)] = volts(static_cast<Network::Node>(i), t);
        return v;
    }
};

class LinearTransient final : public Transient {
public:
    // `form` must outlive this. From t on, with the reactances at x.
    void begin(const LinearForm& form, Time t, const std::vector<double>& x);

    [[nodiscard]] Time until() const override { return kernel::kNever; }
    void goOn(const Network&) override {}
    [[nodiscard]] double volts(Network::Node node, Time t) const override;
    void statesInto(std::vector<double>& x, Time t) const override;
    [[nodiscard]] double slope(std::size_t reactance, Time t) const override;
    [[nodiscard]] Time passes(const Passing& p, Time from) const override;
    [[nodiscard]] Reach reach(Network::Node node, Time t) const override;
    // At the beginning, where no mode rings.
    [[nodiscard]] Span span(Network::Node node) const;
    [[nodiscard]] double begins(Network::Node node) const { return volts_[node]; }

private:
    [[nodiscard]] const Eigen::VectorXd& growth(double s) const;
    [[nodiscard]] Time passesReal(const Passing& p, Time from) const;

    const LinearForm* form_ = nullptr;
    Time begin_{};
    std::vector<double> x_;
    Eigen::VectorXd volts_;           // at the beginning
    Eigen::VectorXcd amplitudes_;     // where modes ring,
    Eigen::VectorXd realAmplitudes_;  // and where none does
};

class SteppingTransient final : public Transient {
public:
    // `guess`: voltages to begin the first solution from.
    void begin(const Network& network, Time t, std::vector<double> x, const Eigen::VectorXd& guess);

    [[nodiscard]] Time until() const override { return end_; }
    void goOn(const Network& network) override;
    [[nodiscard]] double volts(Network::Node node, Time t) const override;
    void statesInto(std::vector<double>& x, Time t) const override;
    [[nodiscard]] double slope(std::size_t reactance, Time t) const override;
    [[nodiscard]] Time passes(const Passing& p, Time from) const override;
    [[nodiscard]] Reach reach(Network::Node node, Time t) const override;
    [[nodiscard]] bool converged() const override { return converged_; }

    template <class Archive>
    void state(Archive& ar, const Network& network)
    {
        std::vector<double> v(volts_[0].data(), volts_[0].data() + volts_[0].size());
        ar(begin_, try_, quiet_, tiny_, states_[0], slopes_[0], v);
        if constexpr (Archive::kLoading) {
            volts_[0] = Eigen::Map<const Eigen::VectorXd>(v.data(), static_cast<Eigen::Index>(v.size()));
            linear_ = network.linear();
            factored_.d = -1;
            step(network);
        }
    }

private:
    void step(const Network& network);
    void rest();
    [[nodiscard]] double part(Time t) const;  // of the step, 0 to 1

    Time begin_{};
    Time end_ = kernel::kNever;
    double span_ = 0;      // seconds; 0 at rest
    // The step to try, and for how many steps nothing has moved: for this step, and for the one that follows.
    double try_ = 0, tryNext_ = 0;
    std::uint32_t quiet_ = 0, quietNext_ = 0;
    std::uint32_t tiny_ = 0;  // steps in a row that came forward by next to nothing
    bool converged_ = true;
    bool linear_ = false;  // in this piece
    Network::Factored factored_;
    // At the beginning, at γ, at the end.
    std::array<std::vector<double>, 3> states_, slopes_;
    std::array<Eigen::VectorXd, 3> volts_;
};

// One side of a comparison: a node of a piece, or a voltage that stands still where `piece` is null.
struct Side {
    const Transient* piece = nullptr;
    Network::Node node = 0;
    double volts = 0;
};

// The first instant after `from`, and not after either piece ends, at which plus - minus has passed `target`; kNever where there is none.
[[nodiscard]] Time crossing(const Side& plus, const Side& minus, double target, Time from);

}  // namespace bramix::circuit
