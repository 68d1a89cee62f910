// Circuits made at random against a second, plain way to work them out: node by node in a dense matrix, with halved Newton steps for diodes, and time in steps far
// smaller than any time constant. Nothing here is shared with the solver.
#include <QtTest>

#include <array>
#include <cmath>
#include <random>

#include "circuit/circuit.h"

using namespace bramix::circuit;
using bramix::kernel::Duration;
using bramix::kernel::EventQueue;
using bramix::kernel::Time;

namespace {

using Matrix = std::vector<std::vector<double>>;

// Gauss with the greatest pivot of each column.
std::vector<double> solveDense(Matrix a, std::vector<double> b)
{
    const std::size_t n = b.size();
    for (std::size_t k = 0; k < n; ++k) {
        std::size_t best = k;
        for (std::size_t i = k + 1; i < n; ++i)
            if (std::fabs(a[i][k]) > std::fabs(a[best][k]))
                best = i;
        std::swap(a[k], a[best]);
        std::swap(b[k], b[best]);
        for (std::size_t i = k + 1; i < n; ++i) {
            const double f = a[i][k] / a[k][k];
            for (std::size_t j = k; j < n; ++j)
                a[i][j] -= f * a[k][j];
            b[i] -= f * b[k];
        }
    }
    for (std::size_t k = n; k-- > 0;) {
        for (std::size_t j = k + 1; j < n; ++j)
            b[k] -= a[k][j] * b[j];
        b[k] /= a[k][k];
    }
    return b;
}

// Shockley's equation with a resistance inside, solved for the current by halving.
double diodeAmps(double volts, double saturation, double ideality, double ohms)
{
    double low = -saturation, high = std::max(volts, 0.0) / ohms + 1e-12;
    for (int i = 0; i < 200; ++i) {
        const double mid = (low + high) / 2;
        (mid * ohms + ideality * kThermalVolts * std::log1p(mid / saturation) < volts ? low : high) = mid;
    }
    return (low + high) / 2;
}

struct Branch {
    int a, b;
    double value;
};

// Node 0 is ground, node 1 the supply; the rest is unknown.
struct Net {
    int nodes = 0;
    double supply = 0;
    std::vector<Branch> resistors, diodes, capacitors, inductors;
};

constexpr double kSaturation = 1e-12, kIdeality = 1.5, kInner = 0.5;

// Currents out of each unknown node at these voltages, without what reactances carry.
std::vector<double> sums(const Net& net, const std::vector<double>& v)
{
    std::vector<double> out(static_cast<std::size_t>(net.nodes), 0.0);
    for (const Branch& r : net.resistors) {
        const double amps = (v[static_cast<std::size_t>(r.a)] - v[static_cast<std::size_t>(r.b)]) / r.value;
        out[static_cast<std::size_t>(r.a)] += amps;
        out[static_cast<std::size_t>(r.b)] -= amps;
    }
    for (const Branch& d : net.diodes) {
        const double amps = diodeAmps(v[static_cast<std::size_t>(d.a)] - v[static_cast<std::size_t>(d.b)], kSaturation, kIdeality, kInner);
        out[static_cast<std::size_t>(d.a)] += amps;
        out[static_cast<std::size_t>(d.b)] -= amps;
    }
    return out;
}

// Newton's method with slopes by difference, halved until the sum of squares falls.
std::vector<double> operatingPoint(const Net& net, std::vector<double> v)
{
    const std::size_t n = static_cast<std::size_t>(net.nodes);
    v[0] = 0;
    v[1] = net.supply;
    const auto norm = [&](const std::vector<double>& f) {
        double sum = 0;
        for (std::size_t i = 2; i < n; ++i)
            sum += f[i] * f[i];
        return sum;
    };
    for (int iteration = 0; iteration < 400; ++iteration) {
        const std::vector<double> f = sums(net, v);
        if (norm(f) < 1e-26)
            break;
        Matrix j(n - 2, std::vector<double>(n - 2));
        std::vector<double> b(n - 2);
        for (std::size_t k = 2; k < n; ++k) {
            std::vector<double> moved = v;
            moved[k] += 1e-7;
            const std::vector<double> g = sums(net, moved);
            for (std::size_t i = 2; i < n; ++i)
                j[i - 2][k - 2] = (g[i] - f[i]) / 1e-7;
            b[k - 2] = -f[k];
        }
        const std::vector<double> step = solveDense(j, b);
        for (double part = 1; part > 1e-9; part /= 2) {
            std::vector<double> next = v;
            for (std::size_t k = 2; k < n; ++k)
                next[k] += part * step[k - 2];
            if (norm(sums(net, next)) < norm(f) || part < 1e-8) {
                v = next;
                break;
            }
        }
    }
    return v;
}

struct Built {
    EventQueue queue;
    Circuit circuit{queue};
    std::vector<NetId> nets;

    explicit Built(const Net& net)
    {
        DiodeModel model;
        model.saturationAmps = kSaturation;
        model.ideality = kIdeality;
        model.seriesOhms = kInner;
        for (int i = 0; i < net.nodes; ++i)
            nets.push_back(circuit.addNet("n" + std::to_string(i)));
        circuit.addSupply(nets[0], {0}, circuit.addPin(nets[0], "GND"));
        circuit.addSupply(nets[1], {net.supply}, circuit.addPin(nets[1], "V"));
        const auto at = [&](int i) { return nets[static_cast<std::size_t>(i)]; };
        for (const Branch& r : net.resistors)
            circuit.addResistor(at(r.a), at(r.b), {r.value}, "r");
        for (const Branch& d : net.diodes)
            circuit.addDiode(at(d.a), at(d.b), model, "d");
        for (const Branch& c : net.capacitors)
            circuit.addCapacitor(at(c.a), at(c.b), {c.value}, {1e-3}, {1e15}, "c");
        for (const Branch& l : net.inductors)
            circuit.addInductor(at(l.a), at(l.b), {l.value}, {1e-3}, {1e12}, "l");
        circuit.seal(nullptr);
    }
    [[nodiscard]] double volts(int node) const { return circuit.voltage(nets[static_cast<std::size_t>(node)]).value; }
};

double between(std::mt19937& random, double low, double high) { return low * std::pow(high / low, std::uniform_real_distribution<double>(0, 1)(random)); }

// A tree of resistors joins every node, and more branches lie across it.
Net atRandom(std::mt19937& random, int nodes, int more)
{
    Net net;
    net.nodes = nodes;
    net.supply = std::uniform_real_distribution<double>(1, 12)(random);
    const auto node = [&](int below) { return std::uniform_int_distribution<int>(0, below - 1)(random); };
    for (int i = 2; i < nodes; ++i)
        net.resistors.push_back({i, node(i), between(random, 10, 1e6)});
    for (int i = 0; i < more; ++i)
        if (const int a = node(nodes), b = node(nodes); a != b)
            net.resistors.push_back({a, b, between(random, 10, 1e6)});
    return net;
}

}  // namespace

class ReferenceTest : public QObject {
    Q_OBJECT

private slots:
    void fiftyNetworksOfResistors()
    {
        std::mt19937 random(1);
        for (int n = 0; n < 50; ++n) {
            const Net net = atRandom(random, 3 + n % 9, n % 12);
            const Built built(net);
            const std::vector<double> expected = operatingPoint(net, std::vector<double>(static_cast<std::size_t>(net.nodes), 0.0));
            for (int i = 2; i < net.nodes; ++i)
                QVERIFY2(std::fabs(built.volts(i) - expected[static_cast<std::size_t>(i)]) < 1e-5 * net.supply, qPrintable(QString("network %1, node %2: %3 against %4").arg(n).arg(i).arg(built.volts(i)).arg(expected[static_cast<std::size_t>(i)])));
        }
    }

    void fiftyNetworksWithDiodes()
    {
        std::mt19937 random(2);
        for (int n = 0; n < 50; ++n) {
            Net net = atRandom(random, 4 + n % 6, 2 + n % 5);
            const auto node = [&] { return std::uniform_int_distribution<int>(0, net.nodes - 1)(random); };
            for (int i = 0; i < 1 + n % 4; ++i)
                if (const int a = node(), b = node(); a != b && a + b != 1)  // none straight across the supply
                    net.diodes.push_back({a, b, 0});
            const Built built(net);
            const std::vector<double> expected = operatingPoint(net, std::vector<double>(static_cast<std::size_t>(net.nodes), 0.0));
            for (int i = 2; i < net.nodes; ++i)
                QVERIFY2(std::fabs(built.volts(i) - expected[static_cast<std::size_t>(i)]) < 2e-5 * net.supply, qPrintable(QString("network %1, node %2: %3 against %4").arg(n).arg(i).arg(built.volts(i)).arg(expected[static_cast<std::size_t>(i)])));
        }
    }

    // From empty, capacitors to ground at each unknown node: C v' = -(sum of currents), by the classical method of Runge and Kutta.
    void thirtyStepsThroughCapacitors()
    {
        std::mt19937 random(3);
        for (int n = 0; n < 30; ++n) {
            Net net = atRandom(random, 3 + n % 4, n % 4);
            if (n % 3 == 2)
                net.diodes.push_back({net.nodes - 1, 0, 0});
            double fastest = 1e9;
            for (Branch& r : net.resistors)
                r.value = std::clamp(r.value, 1e3, 1e5);
            for (int i = 2; i < net.nodes; ++i) {
                net.capacitors.push_back({i, 0, between(random, 1e-8, 1e-7)});
                double siemens = n % 3 == 2 ? 0.05 : 0;
                for (const Branch& r : net.resistors)
                    siemens += r.a == i || r.b == i ? 1 / r.value : 0;
                fastest = std::min(fastest, net.capacitors.back().value / siemens);
            }
            const double end = 5e-4;
            const auto steps = static_cast<int>(std::ceil(end / (fastest / 20)));
            if (steps > 60'000)
                continue;
            Built built(net);
            const double h = end / steps;
            std::vector<double> v(static_cast<std::size_t>(net.nodes), 0.0);
            v[1] = net.supply;
            const auto slope = [&](const std::vector<double>& at) {
                std::vector<double> s = sums(net, at);
                s[0] = s[1] = 0;
                for (int i = 2; i < net.nodes; ++i)
                    s[static_cast<std::size_t>(i)] /= -net.capacitors[static_cast<std::size_t>(i - 2)].value;
                return s;
            };
            const auto plus = [](std::vector<double> a, const std::vector<double>& b, double f) {
                for (std::size_t i = 0; i < a.size(); ++i)
                    a[i] += f * b[i];
                return a;
            };
            for (int step = 0; step < steps; ++step) {
                const auto k1 = slope(v), k2 = slope(plus(v, k1, h / 2)), k3 = slope(plus(v, k2, h / 2)), k4 = slope(plus(v, k3, h));
                for (std::size_t i = 2; i < v.size(); ++i)
                    v[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
            }
            built.queue.advanceTo(Time(Duration(static_cast<std::int64_t>(end * 1e12))));
            for (int i = 2; i < net.nodes; ++i)
                QVERIFY2(std::fabs(built.volts(i) - v[static_cast<std::size_t>(i)]) < 3e-4 * net.supply, qPrintable(QString("network %1, node %2: %3 against %4").arg(n).arg(i).arg(built.volts(i)).arg(v[static_cast<std::size_t>(i)])));
        }
    }

    // A coil and a capacitor in a row behind a resistor: v(t) = V (1 - e^-at (cos wt + a/w sin wt)), a = R/2L, w² = 1/LC - a².
    void twentyRings()
    {
        std::mt19937 random(4);
        for (int n = 0; n < 20; ++n) {
            const double henries = between(random, 1e-5, 1e-2), farads = between(random, 1e-9, 1e-6), critical = 2 * std::sqrt(henries / farads);
            const double ohms = critical * std::uniform_real_distribution<double>(0.02, 0.6)(random);
            Net net;
            net.nodes = 4;
            net.supply = 5;
            net.resistors.push_back({1, 2, ohms});
            net.inductors.push_back({2, 3, henries});
            net.capacitors.push_back({3, 0, farads});
            Built built(net);
            const double whole = ohms + 2e-3, a = whole / (2 * henries), w = std::sqrt(1 / (henries * farads) - a * a);
            for (const double turns : {0.3, 0.7, 1.4, 3.2}) {
                const double t = std::floor(turns * 6.283185 / w * 1e12) * 1e-12;
                built.queue.advanceTo(Time(Duration(static_cast<std::int64_t>(t * 1e12))));
                const double expected = 5 * (1 - std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t)));
                QVERIFY2(std::fabs(built.volts(3) - expected) < 1e-3, qPrintable(QString("ring %1: %2 against %3").arg(n).arg(built.volts(3)).arg(expected)));
            }
        }
    }

    // Two outputs into two filters: their voltages cross at t = RC ln 2 where one rises to 5 V and one falls from it.
    void twoMovingVoltagesCrossAtTheirInstant()
    {
        struct Told : VoltageListener {
            std::vector<Time> at;
            EventQueue* queue = nullptr;
            void voltageChanged(PinId, double, Time) override { at.push_back(queue->now()); }
        };
        for (const double ohms : {100.0, 4700.0, 1e6}) {
            EventQueue queue;
            Circuit circuit(queue);
            const NetId ground = circuit.addNet("GND");
            circuit.addSupply(ground, {0}, circuit.addPin(ground, "GND"));
            std::array<NetId, 2> out{}, cap{};
            std::array<PinId, 2> pin{}, eye{};
            for (std::size_t i = 0; i < 2; ++i) {
                out[i] = circuit.addNet("out");
                cap[i] = circuit.addNet("cap");
                pin[i] = circuit.addPin(out[i], "pin");
                eye[i] = circuit.addPin(cap[i], "eye");
                circuit.addResistor(out[i], cap[i], {ohms}, "r");
                circuit.addCapacitor(cap[i], ground, {1e-7}, {1e-6}, {1e15}, "c");
            }
            circuit.seal(nullptr);
            circuit.drive(pin[0], {0, 1}, {});
            circuit.drive(pin[1], {5, 1}, {});
            const double tau = (ohms + 1 + 1e-6) * 1e-7;
            queue.advanceTo(Time(Duration(static_cast<std::int64_t>(40 * tau * 1e12))));
            Told told;
            told.queue = &queue;
            circuit.watchVoltage(eye[0], &told, {.against = eye[1]});
            circuit.watchVoltage(eye[1], &told, {.against = eye[0]});
            const Time begin = queue.now();
            told.at.clear();
            {
                const Circuit::Batch together(circuit);
                circuit.drive(pin[0], {5, 1}, {});
                circuit.drive(pin[1], {0, 1}, {});
            }
            queue.advanceTo(begin + Duration(static_cast<std::int64_t>(20 * tau * 1e12)));
            QVERIFY(told.at.size() == 1 || told.at.size() == 2);  // one of them tells, or both
            for (const Time at : told.at) {
                const double seconds = bramix::kernel::seconds(at - begin);
                QVERIFY2(std::fabs(seconds - tau * std::log(2)) < 1e-6 * tau + 3e-12, qPrintable(QString("%1 against %2").arg(seconds).arg(tau * std::log(2))));
            }
        }
    }
};

QTEST_GUILESS_MAIN(ReferenceTest)
#include "reference_test.moc"
