// Circuits that move by themselves, against the closed forms of any textbook on networks (formula beside each).
#include <QtTest>

#include <cmath>
#include <numbers>

#include "circuit/circuit.h"
#include "circuit/waveform.h"

using namespace bramix::circuit;
using bramix::kernel::Duration;
using bramix::kernel::EventQueue;
using bramix::kernel::seconds;
using bramix::kernel::Time;
using namespace std::chrono_literals;

namespace {

constexpr Drive kHigh{5, 25};
constexpr Drive kLow{0, 25};

struct Watcher : CircuitObserver, PinListener, VoltageListener {
    std::vector<std::pair<Time, bool>> levels;
    std::vector<Trouble> troubles;
    std::vector<double> volts;
    void netChanged(NetId, NetState, Time, Cause) override {}
    void trouble(Trouble what, NetId, PinId, PinId, double, Time, Cause) override { troubles.push_back(what); }
    void pinChanged(PinId, bool level, Time at) override { levels.emplace_back(at, level); }
    void voltageChanged(PinId, double v, Time) override { volts.push_back(v); }
};

struct Bench {
    EventQueue queue;
    Circuit circuit{queue};
    Watcher watcher;
    NetId ground = rail("GND", 0);

    NetId net(const char* name = "n") { return circuit.addNet(name); }
    NetId rail(const char* name, double volts)
    {
        const NetId n = net(name);
        circuit.addSupply(n, {volts}, circuit.addPin(n, name));
        return n;
    }
    PinId pin(NetId n) { return circuit.addPin(n, "pin"); }
    void seal() { circuit.seal(&watcher); }
    void wait(Duration d) { queue.advanceTo(queue.now() + d); }
    double volts(NetId n) { return circuit.voltage(n).value; }
};

bool near(double actual, double expected, double tolerance) { return std::fabs(actual - expected) <= tolerance; }

const DiodeModel kSilicon = DiodeModel::through({0.7}, {0.01}, 1.6, {0.5});

}  // namespace

class DynamicTest : public QObject {
    Q_OBJECT

private slots:
    // v(t) = E (1 - exp(-t/RC)), R with the output's and the capacitor's own resistance.
    void anRcStepRisesByItsExponential()
    {
        Bench b;
        const NetId out = b.net(), cap = b.net();
        const PinId source = b.pin(out);
        b.circuit.addResistor(out, cap, {9'975}, "r");
        b.circuit.addCapacitor(cap, b.ground, {100e-9}, {1e-3}, {1e15}, "c");
        b.seal();
        b.circuit.drive(source, kHigh, {});
        const double tau = (10'000 + 1e-3) * 100e-9;
        double last = 0;
        for (int i = 1; i <= 50; ++i) {
            b.wait(100us);
            const double t = seconds(b.queue.now());
            QVERIFY2(near(b.volts(cap), 5 * -std::expm1(-t / tau), 1e-6), qPrintable(QString::number(b.volts(cap) - 5 * -std::expm1(-t / tau))));
            QVERIFY(b.volts(cap) > last);
            last = b.volts(cap);
        }
    }

    // t = RC ln(E / (E - vth)): the level changes in the picosecond, not at the next look.
    void aThresholdIsPassedAtItsInstant()
    {
        Bench b;
        const NetId out = b.net(), cap = b.net();
        const PinId source = b.pin(out), input = b.pin(cap);
        b.circuit.addResistor(out, cap, {10'000 - 25}, "r");
        b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
        b.circuit.listen(input, b.watcher, {1.5, 3.0});
        b.seal();
        b.circuit.drive(source, kHigh, {});
        b.wait(100ms);
        b.circuit.drive(source, kLow, {});
        b.wait(100ms);
        QCOMPARE(b.watcher.levels.size(), 2U);
        const double tau = 10'000 * 1e-6;
        QVERIFY(b.watcher.levels[0].second);
        QVERIFY2(near(seconds(b.watcher.levels[0].first), tau * std::log(5 / 2.0), 1e-10), qPrintable(QString::number(seconds(b.watcher.levels[0].first) - tau * std::log(5 / 2.0))));
        // Down from what it had reached: t = RC ln(v0 / vth).
        const double v0 = 5 * -std::expm1(-0.1 / tau);
        QVERIFY(near(seconds(b.watcher.levels[1].first), 0.1 + tau * std::log(v0 / 1.5), 1e-9));
    }

    // i(t) = E/R (1 - exp(-tR/L)).
    void anRlStepRisesByItsExponential()
    {
        Bench b;
        const NetId out = b.net(), coil = b.net();
        const PinId source = b.pin(out);
        const ElementId r = b.circuit.addResistor(out, coil, {75}, "r");
        b.circuit.addInductor(coil, b.ground, {0.010}, {20}, {1e12}, "l");
        b.seal();
        b.circuit.drive(source, kHigh, {});
        for (int i = 1; i <= 20; ++i) {
            b.wait(25us);
            QVERIFY(near(b.circuit.current(r).value, 5 / 120.0 * -std::expm1(-seconds(b.queue.now()) * 120 / 0.010), 1e-9));
        }
    }

    // Series RLC below critical damping: v(t) = E (1 - e^(-at) (cos wt + a/w sin wt)), a = R/2L, w² = 1/LC - a².
    void anRlcRings()
    {
        Bench b;
        const NetId out = b.net(), mid = b.net(), cap = b.net();
        const PinId source = b.pin(out);
        b.circuit.addResistor(out, mid, {5}, "r");
        b.circuit.addInductor(mid, cap, {1e-3}, {10}, {1e12}, "l");
        b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
        b.seal();
        b.circuit.drive(source, {5, 5}, {});
        const double a = 20 / 2e-3, w = std::sqrt(1e9 - a * a);
        for (int i = 1; i <= 60; ++i) {
            b.wait(7us);
            const double t = seconds(b.queue.now());
            QVERIFY(near(b.volts(cap), 5 * (1 - std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t))), 1e-5));
        }
    }

    // The mean of what comes out of a filter is the mean of what goes in, d E; the ripple of a triangle: E d (1-d) T / RC for T much below RC.
    void pulseWidthModulationIntoAFilterHasTheRightMeanAndRipple()
    {
        Bench b;
        const NetId out = b.net(), cap = b.net();
        const PinId source = b.pin(out);
        b.circuit.addResistor(out, cap, {975}, "r");
        b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
        b.seal();
        double low = 9, high = 0, sum = 0;
        int looks = 0;
        for (int i = 0; i < 1500; ++i) {  // 62.5 kHz: 16 µs
            b.circuit.drive(source, kHigh, {});
            for (int k = 0; k < 4; ++k, b.wait(1us))
                if (i > 1000)
                    low = std::min(low, b.volts(cap)), sum += b.volts(cap), ++looks;
            if (i > 1000)
                high = std::max(high, b.volts(cap));
            b.circuit.drive(source, kLow, {});
            for (int k = 0; k < 12; ++k, b.wait(1us))
                if (i > 1000)
                    sum += b.volts(cap), ++looks;
        }
        QVERIFY(near(sum / looks, 1.25, 1e-3));
        const double ripple = 5 * 0.25 * 0.75 * 16e-6 / (1000 * 1e-6);
        QVERIFY2(near(high - low, ripple, ripple * 1e-3), qPrintable(QString::number(high - low)));
    }

    // What the source gives is what the resistor burns and the capacitor keeps: E Q = Q²/2C + the same again.
    void energyIsKept()
    {
        Bench b;
        const NetId out = b.net(), cap = b.net();
        const PinId source = b.pin(out);
        const ElementId r = b.circuit.addResistor(out, cap, {1000}, "r");
        b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
        const ElementId led = b.circuit.addDiode(out, b.ground, kSilicon, "d");  // makes the island step
        b.seal();
        b.circuit.drive(source, {0.5, 1}, {});
        double burnt = 0;
        for (int i = 0; i < 20'000; ++i) {
            burnt += b.circuit.watts(r) * 0.25e-6;
            b.wait(500ns);
            burnt += b.circuit.watts(r) * 0.25e-6;
        }
        QVERIFY(b.circuit.current(led).value >= 0);
        const double v = b.volts(cap);
        QVERIFY(near(v, 0.5, 5e-4));
        QVERIFY(near(burnt, 0.5 * 1e-6 * v * v, 0.002 * burnt));
    }

    // A half-wave rectifier with its smoothing capacitor, against the same equations integrated here by Heun's method at 1 µs:
    // C v' = i - v/R, and for i the law of the diode, u - v - i Rs = n VT ln(1 + i/Is) + i r, by bisection. And over a mains cycle what the source
    // gives is what the others take, and the capacitor keeps what its voltage says, C (v1² - v0²) / 2.
    void aRectifierFollowsItsEquations()
    {
        struct Sine final : Waveform {
            [[nodiscard]] double at(Time t) const override { return 10 * std::sin(2 * std::numbers::pi * 50 * seconds(t)); }
            [[nodiscard]] Time nextCorner(Time) const override { return bramix::kernel::kNever; }
            [[nodiscard]] Duration step() const override { return 200us; }
        } sine;
        constexpr double kInner = 1, kFarads = 100e-6, kLoad = 1000;
        Bench b;
        const NetId in = b.net(), out = b.net();
        const ElementId source = b.circuit.addSource(in, b.ground, {0}, {kInner}, "g", true);
        const ElementId diode = b.circuit.addDiode(in, out, kSilicon, "d");
        const ElementId cap = b.circuit.addCapacitor(out, b.ground, {kFarads}, {1e-6}, {1e12}, "c");
        const ElementId load = b.circuit.addResistor(out, b.ground, {kLoad}, "load");
        b.seal();
        b.circuit.setWave(source, &sine, {});

        const double unit = kSilicon.ideality * kThermalVolts;
        const auto through = [&](double across) {
            double least = -kSilicon.saturationAmps, most = 20;
            for (int i = 0; i < 70; ++i) {
                const double amps = (least + most) / 2;
                (unit * std::log1p(amps / kSilicon.saturationAmps) + amps * (kSilicon.seriesOhms + kInner) > across ? most : least) = amps;
            }
            return most;
        };
        const auto slope = [&](double t, double v) { return (through(10 * std::sin(2 * std::numbers::pi * 50 * t) - v) - v / kLoad) / kFarads; };
        double v = 0, worst = 0;
        constexpr double kStep = 2e-6;
        for (int i = 0; i < 30'000; ++i) {  // three cycles
            const double first = slope(i * kStep, v);
            v += kStep * (first + slope((i + 1) * kStep, v + kStep * first)) / 2;
            if (i % 50 == 49) {
                b.wait(100us);
                worst = std::max(worst, std::fabs(b.volts(out) - v));
            }
        }
        QVERIFY2(worst < 0.005, qPrintable(QString::number(worst)));

        b.wait(300ms);
        const double before = b.volts(out);
        double gave = 0, burnt = 0, kept = 0;
        for (int i = 0; i < 4000; ++i) {
            b.wait(2500ns);
            gave -= b.circuit.watts(source) * 5e-6;
            burnt += (b.circuit.watts(diode) + b.circuit.watts(load)) * 5e-6;
            kept += b.circuit.watts(cap) * 5e-6;
            b.wait(2500ns);
        }
        const double after = b.volts(out);
        QVERIFY2(near(kept, kFarads / 2 * (after * after - before * before), 0.003 * gave), qPrintable(QString::number(kept)));
        QVERIFY2(near(gave, burnt + kept, 1e-3 * gave) && gave > 1e-3, qPrintable(QString("%1 %2 %3").arg(gave).arg(burnt).arg(kept)));
    }

    // Slew rate and gain of an inverting amplifier: v = -R2/R1 u within 1/gain, and no faster than 0.5 V/µs.
    void anAmplifierAmplifiesByItsResistors()
    {
        Bench b;
        const NetId plus = b.rail("+", 6), minus = b.rail("-", -6);
        const NetId in = b.net(), sum = b.net(), out = b.net();
        const PinId source = b.pin(in);
        b.circuit.addResistor(in, sum, {1000}, "r1");
        b.circuit.addResistor(sum, out, {4700}, "r2");
        const std::array nets{b.ground, sum, out, plus, minus, kNoNet};
        const ElementId amp = b.circuit.addDevice(std::make_unique<OpAmpDevice>(OpAmpModel{}), nets, "a");
        b.circuit.addInnerCapacitor(amp, 5, {OpAmpModel::kInnerFarads});
        b.seal();
        b.circuit.drive(source, {0.5, 0.001}, {});
        b.wait(2us);
        QVERIFY2(b.volts(out) < -0.7 && b.volts(out) > -1.1, qPrintable(QString::number(b.volts(out))));  // 0.5 V/µs
        b.wait(1ms);
        QVERIFY2(near(b.volts(out), -2.35, 1e-3), qPrintable(QString::number(b.volts(out))));
        b.circuit.drive(source, {3, 0.001}, {});
        b.wait(1ms);
        QVERIFY(b.volts(out) < -5.5 && b.volts(out) > -6.01);  // at its supply, not at -14.1 V
    }

    void anInputIsHeldByItsProtectionDiodes()
    {
        Bench b;
        const NetId twelve = b.rail("12", 12), in = b.net();
        const PinId pin = b.pin(in);
        const ElementId r = b.circuit.addResistor(twelve, in, {10'000}, "r");
        b.circuit.setClamp(pin, 0, 5);
        b.seal();
        QVERIFY2(b.volts(in) > 5.4 && b.volts(in) < 5.75, qPrintable(QString::number(b.volts(in))));
        QVERIFY(near(b.circuit.current(r).value, (12 - b.volts(in)) / 10'000, 1e-9));
    }

    // A coil switched off drives its node up until the diode takes the current; without one the loss resistance takes it, at hundreds of volts.
    void aCoilNeedsItsDiode()
    {
        for (const bool diode : {true, false}) {
            Bench b;
            const NetId twelve = b.rail("12", 12), low = b.net();
            b.circuit.addInductor(twelve, low, {0.1}, {200}, {50'000}, "coil");
            const ElementId contact = b.circuit.addSwitch(low, b.ground, {0.05}, "s");
            if (diode)
                b.circuit.addDiode(low, twelve, kSilicon, "d");
            b.seal();
            b.circuit.setClosed(contact, true, {});
            b.wait(20ms);
            QVERIFY(near(b.circuit.current(contact).value, 12 / 200.05 + 12 / 50'000.0, 1e-6));
            b.circuit.setClosed(contact, false, {});
            b.wait(1us);
            if (diode)
                QVERIFY2(b.volts(low) > 12.6 && b.volts(low) < 13, qPrintable(QString::number(b.volts(low))));
            else
                QVERIFY2(b.volts(low) > 1000, qPrintable(QString::number(b.volts(low))));
        }
    }

    void aWatcherIsToldStepByStep()
    {
        Bench b;
        const NetId out = b.net(), cap = b.net();
        const PinId source = b.pin(out), eye = b.pin(cap);
        b.circuit.addResistor(out, cap, {1000}, "r");
        b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
        b.seal();
        b.circuit.watchVoltage(eye, &b.watcher, {.step = 0.1});
        b.circuit.drive(source, kHigh, {});
        b.wait(100ms);
        QVERIFY2(b.watcher.volts.size() > 45 && b.watcher.volts.size() < 52, qPrintable(QString::number(b.watcher.volts.size())));
    }

    // Two watchers of one net against another, each with an offset of its own: a new one changes nothing for the other.
    void anOffsetIsChangedForItsOwnWatcher()
    {
        Bench b;
        const NetId out = b.net(), cap = b.net(), still = b.net();
        const PinId source = b.pin(out), first = b.pin(cap), second = b.pin(cap), reference = b.pin(still);
        b.circuit.addResistor(out, cap, {975}, "r");
        b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
        b.seal();
        b.circuit.drive(reference, {1, 25}, {});
        struct Eye : VoltageListener {
            std::vector<double> told;
            void voltageChanged(PinId, double volts, Time) override { told.push_back(volts); }
        } one, two;
        b.circuit.watchVoltage(first, &one, {.against = reference, .offset = 0.5});
        b.circuit.watchVoltage(second, &two, {.against = reference, .offset = 1});
        b.circuit.setWatchOffset(first, 3);
        b.circuit.drive(source, kHigh, {});
        b.wait(100ms);
        QCOMPARE(one.told.size(), 1U);
        QVERIFY2(near(one.told[0], 4, 1e-6), qPrintable(QString::number(one.told[0], 'g', 10)));
        QCOMPARE(two.told.size(), 1U);
        QVERIFY2(near(two.told[0], 2, 1e-6), qPrintable(QString::number(two.told[0], 'g', 10)));
    }

    // A ring that would swing to 10 V meets the protection diodes of an input on its way: no higher, from the picosecond on in which it comes there.
    void aRingIsHeldByProtectionDiodesWhenItComesThere()
    {
        for (const bool diodes : {false, true}) {
            Bench b;
            const NetId out = b.net(), top = b.net();
            const PinId source = b.pin(out), input = b.pin(top);
            b.circuit.addInductor(out, top, {1}, {100}, {1e9}, "l");
            b.circuit.addCapacitor(top, b.ground, {1e-9}, {1}, {1e12}, "c");
            if (diodes)
                b.circuit.setClamp(input, 0, 5);
            b.seal();
            b.circuit.drive(source, {5, 0.1}, {});
            double most = 0;
            for (int i = 0; i < 200; ++i) {
                b.wait(1us);
                most = std::max(most, b.volts(top));
            }
            // sqrt(LC) pi = 99 us to the first crest.
            QVERIFY2(diodes ? most > 5.3 && most < 6.2 : most > 9.5 && most < 10, qPrintable(QString::number(most)));
        }
    }

    // One voltage in closed form, one in steps, as there is a diode in its way: the instant at which they cross is the one at which they are equal.
    void voltagesOfTwoKindsCrossAtTheirInstant()
    {
        Bench b;
        const NetId out = b.net(), slow = b.net(), bent = b.net(), middle = b.net();
        const PinId source = b.pin(out), other = b.pin(middle), eye = b.pin(bent), mark = b.pin(slow);
        b.circuit.addResistor(out, slow, {20'000}, "r");
        b.circuit.addCapacitor(slow, b.ground, {1e-6}, {1e-3}, {1e15}, "c");
        b.circuit.addDiode(middle, bent, kSilicon, "d");
        b.circuit.addResistor(bent, b.ground, {30'000}, "rd");
        b.circuit.addCapacitor(bent, b.ground, {1e-6}, {1e-3}, {1e15}, "cd");
        b.seal();
        struct Eye : VoltageListener {
            std::vector<std::pair<double, Time>> told;
            Bench* bench = nullptr;
            NetId slow{}, bent{};
            std::vector<double> apart;
            void voltageChanged(PinId, double volts, Time at) override
            {
                told.emplace_back(volts, at);
                apart.push_back(bench->volts(bent) - bench->volts(slow));
            }
        } both;
        both.bench = &b;
        both.slow = slow;
        both.bent = bent;
        b.circuit.drive(other, kHigh, {});
        b.wait(50ms);
        QVERIFY(b.volts(bent) > 4);
        b.circuit.watchVoltage(eye, &both, {.against = mark});
        // The one falls by its resistor, the other rises.
        b.circuit.drive(source, kHigh, {});
        b.circuit.drive(other, kLow, {});
        both.told.clear();
        both.apart.clear();
        b.wait(200ms);
        QCOMPARE(both.told.size(), 1U);
        QVERIFY2(std::fabs(both.apart[0]) < 1e-6, qPrintable(QString::number(both.apart[0])));
        QVERIFY(both.told[0].first > 1 && both.told[0].first < 4);
    }

    // What a probe is told of a coil's current is what the circuit says of it, its loss included.
    void aProbeOnACoilHearsItsLossToo()
    {
        Bench b;
        const NetId out = b.net();
        const PinId source = b.pin(out);
        const ElementId coil = b.circuit.addInductor(out, b.ground, {0.1}, {100}, {1000}, "l");
        b.seal();
        struct Probe : CurrentProbe {
            std::vector<std::pair<double, double>> amps;  // at the ends of each piece
            void piece(ElementId, Time from, Time to, const std::function<double(Time)>& at, bool) override { amps.emplace_back(at(from), at(to)); }
        } probe;
        b.circuit.probe(coil, &probe);
        b.circuit.drive(source, {5, 1e-3}, {});
        b.wait(20ms);
        b.circuit.flushProbes();
        QVERIFY(!probe.amps.empty());
        // 5 V over its loss at once, over its winding as well in the end: tau = L / R = 1 ms.
        QVERIFY2(near(probe.amps.back().second, 5.0 / 1000 + 5.0 / 100, 1e-5), qPrintable(QString::number(probe.amps.back().second)));
        QVERIFY(near(probe.amps.back().second, b.circuit.current(coil).value, 1e-9));
    }

    void secondsHighCountWhileItIsHigh()
    {
        Bench b;
        const NetId out = b.net();
        const PinId source = b.pin(out);
        b.seal();
        b.circuit.drive(source, kHigh, {});
        b.wait(3ms);
        QVERIFY(near(b.circuit.secondsHigh(out), 3e-3, 1e-12));
        b.circuit.drive(source, kLow, {});
        b.wait(5ms);
        QVERIFY(near(b.circuit.secondsHigh(out), 3e-3, 1e-12));
        b.circuit.drive(source, kHigh, {});
        b.wait(1ms);
        QVERIFY(near(b.circuit.secondsHigh(out), 4e-3, 1e-12));
    }

    // Saved at any moment and restored, it goes on to the same digits, in closed form and in steps.
    void aSnapshotGoesOnAsTheFirstRunDid()
    {
        for (const bool stepping : {false, true}) {
            Bench b;
            const NetId out = b.net(), cap = b.net();
            const PinId source = b.pin(out), input = b.pin(cap);
            b.circuit.addResistor(out, cap, {1000}, "r");
            b.circuit.addCapacitor(cap, b.ground, {1e-6}, {1e-6}, {1e15}, "c");
            if (stepping)
                b.circuit.addDiode(cap, b.ground, kSilicon, "d");
            b.circuit.listen(input, b.watcher, {0.2, 0.4});
            b.seal();
            b.circuit.drive(source, kHigh, {});
            b.wait(37us);
            bramix::kernel::SaveArchive save;
            save(b.queue, b.circuit);
            const auto snapshot = save.take();
            b.wait(3ms);
            const double first = b.volts(cap);
            const auto levels = b.watcher.levels;
            bramix::kernel::LoadArchive load(snapshot);
            load(b.queue, b.circuit);
            b.watcher.levels.clear();
            b.wait(3ms);
            QCOMPARE(b.volts(cap), first);
            QCOMPARE(b.watcher.levels, levels);
        }
    }

    // A thousand random networks: solved, and Kirchhoff's law met to a billionth, or, of less than fifty microamperes, to a femtoampere or so.
    void randomNetworksAreSolved()
    {
        unsigned random = 12345;
        const auto next = [&random](unsigned n) {
            random = random * 1664525U + 1013904223U;
            return (random >> 8U) % n;
        };
        double worst = 0;
        for (int trial = 0; trial < 1000; ++trial) {
            Bench b;
            std::vector<NetId> nets{b.ground, b.rail("5V", 5), b.rail("12V", 12)};
            const unsigned count = 3 + next(12);
            const bool moving = trial % 3 == 0;  // with capacitors, whose currents between two steps are interpolated
            for (unsigned i = 0; i < count; ++i)
                nets.push_back(b.net());
            const auto any = [&] { return nets[next(static_cast<unsigned>(nets.size()))]; };
            const auto two = [&] {
                const NetId a = any();
                NetId c = any();
                while (c == a)
                    c = any();
                return std::pair(a, c);
            };
            for (unsigned i = 0; i < count + 4; ++i) {
                const auto [a, c] = two();
                b.circuit.addResistor(a, c, {std::pow(10.0, 1 + next(5))}, "r");
            }
            for (unsigned i = 0; i < 1 + next(6); ++i) {
                const auto [a, c] = two();
                NetId d = any();
                while (d == a || d == c)
                    d = any();
                switch (next(moving ? 4 : 3)) {
                case 0: b.circuit.addDiode(a, c, kSilicon, "d"); break;
                case 1: b.circuit.addDevice(std::make_unique<BipolarDevice>(BipolarModel{}), std::array{a, c, d}, "q"); break;
                case 2: b.circuit.addDevice(std::make_unique<MosfetDevice>(MosfetModel::with({1.5}, {0.2}, {5}, next(2) == 0)), std::array{a, c, d}, "m"); break;
                default: b.circuit.addCapacitor(a, c, {1e-7}, {0.05}, {1e9}, "c"); break;
                }
            }
            b.seal();
            b.wait(50us);
            QVERIFY2(std::find(b.watcher.troubles.begin(), b.watcher.troubles.end(), Trouble::noSolution) == b.watcher.troubles.end(), qPrintable(QString("network %1").arg(trial)));
            for (const NetId n : nets)
                if (!b.circuit.isRail(n) && !moving)
                    worst = std::max(worst, b.circuit.residual(n));
        }
        QVERIFY2(worst < 2e-8, qPrintable(QString::number(worst)));
    }
};

QTEST_APPLESS_MAIN(DynamicTest)
#include "dynamic_test.moc"
