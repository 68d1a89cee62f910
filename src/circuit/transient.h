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
    bool usable = false;        // false where A has no full set of modes, or is no longer linear there

    static LinearForm of(const Network& network);
};

// Passing `target` by the difference of two nodes' voltages; `minus` may be kGround.
struct Passing {
    static constexpr Network::Node kGround = UINT32_MAX;
    Network::Node plus = 0;
    Network::Node minus = kGround;
    double target = 0;
};

class Transient {
public:
    virtual ~Transient() = default;
    // Until when this piece holds; then goOn() makes the next.
    [[nodiscard]] virtual Time until() const = 0;
    virtual void goOn(const Network& network) = 0;
    [[nodiscard]] virtual double volts(Network::Node node, Time t) const = 0;
    [[nodiscard]] virtual std::vector<double> states(Time t) const = 0;
    [[nodiscard]] virtual double slope(std::size_t reactance, Time t) const = 0;  // dx/dt
    // The first instant after `from`, and not after until(), at which the target has been passed; kNever where there is none.
    [[nodiscard]] virtual Time passes(const Passing& p, Time from) const = 0;
    [[nodiscard]] virtual bool converged() const { return true; }

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
    void begin(const LinearForm& form, Time t, std::vector<double> x);

    [[nodiscard]] Time until() const override { return kernel::kNever; }
    void goOn(const Network&) override {}
    [[nodiscard]] double volts(Network::Node node, Time t) const override;
    [[nodiscard]] std::vector<double> states(Time t) const override;
    [[nodiscard]] double slope(std::size_t reactance, Time t) const override;
    [[nodiscard]] Time passes(const Passing& p, Time from) const override;

private:
    const LinearForm* form_ = nullptr;
    Time begin_{};
    std::vector<double> x_;
    Eigen::VectorXd volts_;           // at the beginning
    Eigen::VectorXcd amplitudes_;
};

class SteppingTransient final : public Transient {
public:
    // `guess`: voltages to begin the first solution from.
    void begin(const Network& network, Time t, std::vector<double> x, const Eigen::VectorXd& guess);

    [[nodiscard]] Time until() const override { return end_; }
    void goOn(const Network& network) override;
    [[nodiscard]] double volts(Network::Node node, Time t) const override;
    [[nodiscard]] std::vector<double> states(Time t) const override;
    [[nodiscard]] double slope(std::size_t reactance, Time t) const override;
    [[nodiscard]] Time passes(const Passing& p, Time from) const override;
    [[nodiscard]] bool converged() const override { return converged_; }

    template <class Archive>
    void state(Archive& ar, const Network& network)
    {
        std::vector<double> v(volts_[0].data(), volts_[0].data() + volts_[0].size());
        ar(begin_, try_, quiet_, states_[0], slopes_[0], v);
        if constexpr (Archive::kLoading) {
            volts_[0] = Eigen::Map<const Eigen::VectorXd>(v.data(), static_cast<Eigen::Index>(v.size()));
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
    bool converged_ = true;
    // At the beginning, at γ, at the end.
    std::array<std::vector<double>, 3> states_, slopes_;
    std::array<Eigen::VectorXd, 3> volts_;
};

}  // namespace bramix::circuit
