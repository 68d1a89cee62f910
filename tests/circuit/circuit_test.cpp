// Nets and islands against formulas worked out by hand.
#include <QtTest>

#include <cmath>

#include "circuit/circuit.h"

using namespace bramix::circuit;
using bramix::kernel::Duration;
using bramix::kernel::EventQueue;
using bramix::kernel::Time;

namespace {

struct Watcher : CircuitObserver, PinListener {
    std::vector<std::pair<NetId, NetState>> changes;
    std::vector<Trouble> troubles;
    std::vector<bool> levels;
    void netChanged(NetId net, NetState state, Time, Cause) override { changes.emplace_back(net, state); }
    void trouble(Trouble what, NetId, PinId, PinId, double, Time, Cause) override { troubles.push_back(what); }
    void pinChanged(PinId, bool level, Time) override { levels.push_back(level); }
};

// A bench in a few words: rails, outputs, and what lies between.
struct Bench {
    EventQueue queue;
    Circuit circuit{queue};
    Watcher watcher;

    NetId net(const char* name) { return circuit.addNet(name); }
    NetId rail(const char* name, double volts)
    {
        const NetId n = net(name);
        circuit.addSupply(n, {volts}, circuit.addPin(n, name));
        return n;
    }
    PinId pin(NetId n, const char* name = "pin") { return circuit.addPin(n, name); }
    void seal() { circuit.seal(&watcher); }
};

bool near(double actual, double expected, double relative = 1e-9) { return std::fabs(actual - expected) <= relative * std::max(1e-12, std::fabs(expected)); }

constexpr Drive kHigh{5, 25};
constexpr Drive kLow{0, 25};

// Newton's method on the one-loop equation, written out by itself: E - i R - i Rs - n Vt ln(i/Is + 1) = 0.
double loopCurrent(double emf, double ohms, const DiodeModel& d)
{
    double low = 0, high = emf / (ohms + d.seriesOhms);
    for (int i = 0; i < 200; ++i) {
        const double mid = (low + high) / 2;
        const double rest = emf - mid * (ohms + d.seriesOhms) - d.ideality * kThermalVolts * std::log1p(mid / d.saturationAmps);
        (rest > 0 ? low : high) = mid;
    }
    return (low + high) / 2;
}

}  // namespace

class CircuitTest : public QObject {
    Q_OBJECT

private slots:
    void aDividerDivides()
    {
        Bench b;
        const NetId top = b.rail("5V", 5);
        const NetId ground = b.rail("GND", 0);
        const NetId middle = b.net("middle");
        const ElementId r1 = b.circuit.addResistor(top, middle, {10'000}, "r1");
        b.circuit.addResistor(middle, ground, {4'700}, "r2");
        b.seal();
        QVERIFY(near(b.circuit.voltage(middle).value, 5.0 * 4700 / 14700, 1e-7));  // the matrix leaks 1 pS
        QVERIFY(near(b.circuit.current(r1).value, 5.0 / 14700, 1e-7));
        QCOMPARE(b.circuit.stateOf(middle), NetState::between);
    }

    void anUnbalancedBridge()
    {
        // Kirchhoff at the two middle nodes a and b of a Wheatstone bridge, solved by Cramer's rule.
        Bench bench;
        const NetId top = bench.rail("10V", 10);
        const NetId ground = bench.rail("GND", 0);
        const NetId a = bench.net("a");
        const NetId b = bench.net("b");
        bench.circuit.addResistor(top, a, {1000}, "r1");
        bench.circuit.addResistor(top, b, {2000}, "r2");
        bench.circuit.addResistor(a, ground, {3000}, "r3");
        bench.circuit.addResistor(b, ground, {1000}, "r4");
        const ElementId across = bench.circuit.addResistor(a, b, {500}, "r5");
        bench.seal();
        const double g1 = 1e-3, g2 = 0.5e-3, g3 = 1.0 / 3000, g4 = 1e-3, g5 = 2e-3;
        const double aa = g1 + g3 + g5, bb = g2 + g4 + g5, det = aa * bb - g5 * g5;
        const double va = (10 * g1 * bb + g5 * 10 * g2) / det;
        const double vb = (aa * 10 * g2 + g5 * 10 * g1) / det;
        QVERIFY(near(bench.circuit.voltage(a).value, va, 1e-8));
        QVERIFY(near(bench.circuit.voltage(b).value, vb, 1e-8));
        QVERIFY(near(bench.circuit.current(across).value, (va - vb) * g5, 1e-7));
    }

    void anLedDiffersWithItsResistor_data()
    {
        QTest::addColumn<double>("ohms");
        QTest::newRow("none") << 0.0;
        QTest::newRow("330 Ω") << 330.0;
        QTest::newRow("10 kΩ") << 10'000.0;
    }
    void anLedDiffersWithItsResistor()
    {
        QFETCH(double, ohms);
        Bench b;
        const NetId ground = b.rail("GND", 0);
        const NetId out = b.net("out");
        const NetId anode = ohms > 0 ? b.net("anode") : out;
        const PinId pin = b.pin(out);
        b.circuit.setLimit(pin, {0.040});
        if (ohms > 0)
            b.circuit.addResistor(out, anode, {ohms}, "r");
        const DiodeModel red = DiodeModel::through({1.95}, {0.020}, 1.8, {6});
        const ElementId led = b.circuit.addDiode(anode, ground, red, "led");
        b.seal();
        QCOMPARE(b.circuit.current(led).value, 0.0);
        b.circuit.drive(pin, kHigh, {});
        const double expected = loopCurrent(5, 25 + ohms, red);
        QVERIFY2(near(b.circuit.current(led).value, expected, 1e-6), qPrintable(QString("%1 A, expected %2 A").arg(b.circuit.current(led).value).arg(expected)));
        QVERIFY(near(b.circuit.current(pin).value, expected, 1e-5));
        // Only without a resistor does the pin pass its absolute maximum of 40 mA.
        QCOMPARE(std::count(b.watcher.troubles.begin(), b.watcher.troubles.end(), Trouble::pinOverload), ohms == 0 ? 1 : 0);
        if (ohms == 330)
            QVERIFY(expected > 0.007 && expected < 0.010);
        if (ohms == 10'000)
            QVERIFY(expected > 0.00025 && expected < 0.00035);
        // Turned round it passes nothing.
        b.circuit.drive(pin, kLow, {});
        QVERIFY(std::fabs(b.circuit.current(led).value) < 1e-9);
    }

    void diodesBackToBackAndInABridgeConverge()
    {
        Bench b;
        const NetId ground = b.rail("GND", 0);
        const NetId in = b.net("in");
        const NetId plus = b.net("plus");
        const NetId minus = b.net("minus");
        const PinId source = b.pin(in);
        const DiodeModel d{1e-12, 1.5, 0.1};
        b.circuit.addDiode(in, plus, d, "d1");
        b.circuit.addDiode(ground, plus, d, "d2");
        b.circuit.addDiode(minus, in, d, "d3");
        b.circuit.addDiode(minus, ground, d, "d4");
        const ElementId load = b.circuit.addResistor(plus, minus, {100}, "load");
        b.seal();
        for (const double volts : {12.0, -12.0, 0.5, -30.0}) {
            b.circuit.drive(source, {volts, 0.5}, {});
            QVERIFY(!std::count(b.watcher.troubles.begin(), b.watcher.troubles.end(), Trouble::noSolution));
            QVERIFY(b.circuit.current(load).value >= -1e-9);  // rectified
            if (std::fabs(volts) > 10)
                QVERIFY(near(b.circuit.current(load).value, (std::fabs(volts) - 2 * 1.0) / 100.7, 0.08));
        }
    }

    void floatingBetweenAndFightingAreSeen()
    {
        Bench b;
        const NetId n = b.net("n");
        const PinId one = b.pin(n, "one");
        const PinId two = b.pin(n, "two");
        b.seal();
        QCOMPARE(b.circuit.stateOf(n), NetState::floating);
        b.circuit.drive(one, {5, 35'000}, {});
        QCOMPARE(b.circuit.stateOf(n), NetState::high);
        b.circuit.drive(two, {0, 35'000}, {});
        QCOMPARE(b.circuit.stateOf(n), NetState::between);
        b.circuit.drive(two, kLow, {});
        QCOMPARE(b.circuit.stateOf(n), NetState::low);
        b.circuit.drive(one, kHigh, {});
        QCOMPARE(b.circuit.stateOf(n), NetState::conflict);
        QVERIFY(near(b.circuit.voltage(n).value, 2.5));
        QVERIFY(near(b.circuit.current(one).value, 0.1));
        QVERIFY(std::count(b.watcher.troubles.begin(), b.watcher.troubles.end(), Trouble::conflict) == 1);
        b.circuit.drive(one, kFloating, {});
        b.circuit.drive(two, kFloating, {});
        QCOMPARE(b.circuit.stateOf(n), NetState::floating);
    }

    void suppliesOfDifferentVoltageOnOneNetAreAShort()
    {
        Bench b;
        const NetId n = b.rail("5V", 5);
        b.circuit.addSupply(n, {0}, b.pin(n, "GND"));
        b.seal();
        QCOMPARE(b.watcher.troubles, std::vector{Trouble::supplyShort});
    }

    void aSwitchBetweenSuppliesIsAShortWhenItCloses()
    {
        Bench b;
        const ElementId contact = b.circuit.addSwitch(b.rail("5V", 5), b.rail("GND", 0), {0.05}, "key");
        b.seal();
        QVERIFY(b.watcher.troubles.empty());
        b.circuit.setClosed(contact, true, {});
        QCOMPARE(b.watcher.troubles, std::vector{Trouble::supplyShort});
    }

    void anInputHasHysteresisAndKeepsItsLevelWhileItFloats()
    {
        Bench b;
        const NetId n = b.net("n");
        const PinId source = b.pin(n);
        const PinId input = b.pin(n);
        b.circuit.listen(input, b.watcher, {1.5, 3.0});
        b.seal();
        for (const double volts : {1.0, 2.0, 2.9, 3.1, 2.0, 1.6, 1.4, 2.0})
            b.circuit.drive(source, {volts, 10}, {});
        QCOMPARE(b.watcher.levels, (std::vector{true, false}));
        b.circuit.drive(source, kHigh, {});
        b.circuit.drive(source, kFloating, {});
        QVERIFY(b.circuit.level(input));
        QCOMPARE(b.circuit.stateOf(n), NetState::floating);
    }

    void rememberedSolutionsAreTheSameAsFreshOnes()
    {
        const auto build = [](Bench& b, std::vector<PinId>& pins) {
            const NetId ground = b.rail("GND", 0);
            const NetId sum = b.net("sum");
            for (int i = 0; i < 6; ++i) {
                const NetId n = b.net("n");
                pins.push_back(b.pin(n));
                b.circuit.addResistor(n, sum, {1000.0 * (1 << i)}, "r");
            }
            b.circuit.addDiode(sum, ground, DiodeModel{}, "d");
            b.seal();
            return sum;
        };
        Bench remembers;
        std::vector<PinId> pins;
        const NetId sum = build(remembers, pins);
        unsigned random = 1;
        for (int i = 0; i < 600; ++i) {
            random = random * 1664525U + 1013904223U;
            remembers.circuit.drive(pins[(random >> 10) % 6], ((random >> 20) & 1) != 0 ? kHigh : kLow, {});
        }
        QVERIFY(remembers.circuit.recalls() > 100);
        Bench fresh;
        std::vector<PinId> freshPins;
        const NetId freshSum = build(fresh, freshPins);
        for (std::size_t i = 0; i < 6; ++i)
            fresh.circuit.drive(freshPins[i], remembers.circuit.driveOf(pins[i]), {});
        QCOMPARE(remembers.circuit.voltage(sum).value, fresh.circuit.voltage(freshSum).value);
    }

    void meanCurrentFollowsTheDuty()
    {
        Bench b;
        const NetId ground = b.rail("GND", 0);
        const NetId out = b.net("out");
        const PinId pin = b.pin(out);
        const ElementId r = b.circuit.addResistor(out, ground, {475}, "r");
        b.seal();
        for (int i = 0; i < 100; ++i) {
            b.circuit.drive(pin, kHigh, {});
            b.queue.advanceTo(b.queue.now() + Duration(250));
            b.circuit.drive(pin, kLow, {});
            b.queue.advanceTo(b.queue.now() + Duration(750));
        }
        const double span = 100e3 * 1e-12;
        QVERIFY(near(b.circuit.charge(r) / span, 0.25 * 5 / 500, 1e-6));
        QVERIFY(near(b.circuit.secondsHigh(out) / span, 0.25, 1e-9));
    }

    void aLoopWithoutDelayIsStoppedAndTold()
    {
        struct Inverter : PinListener {
            Circuit* circuit = nullptr;
            PinId out{};
            void pinChanged(PinId, bool level, Time) override { circuit->drive(out, level ? kLow : kHigh, {}); }
        } inverter;
        Bench b;
        const NetId n = b.net("n");
        inverter.circuit = &b.circuit;
        inverter.out = b.pin(n);
        b.circuit.listen(b.pin(n), inverter, {1.5, 3.0});
        const PinId kick = b.pin(n);
        b.seal();
        b.circuit.drive(kick, {5, 1000}, {});
        QVERIFY(std::count(b.watcher.troubles.begin(), b.watcher.troubles.end(), Trouble::oscillation) == 1);
    }

    // A probe that is taken off has seen everything up to then, and what takes its place goes on from there.
    void aProbeSeesEverythingUntilItIsTakenOff()
    {
        struct Seen final : ProbeListener {
            std::vector<std::tuple<Time, Time, double>> pieces;
            void piece(NetId, Time from, Time to, const std::function<double(Time)>& volts, bool) override { pieces.emplace_back(from, to, volts(from)); }
        } first, second;
        Bench b;
        const NetId n = b.net("n");
        const PinId pin = b.pin(n);
        b.seal();
        b.circuit.drive(pin, kHigh, {});
        b.circuit.probe(n, &first);
        b.queue.advanceTo(Time(Duration(1000)));
        b.circuit.drive(pin, kLow, {});
        b.queue.advanceTo(Time(Duration(3000)));
        b.circuit.probe(n, &second);
        b.queue.advanceTo(Time(Duration(7000)));
        b.circuit.probe(n, nullptr);
        b.queue.advanceTo(Time(Duration(9000)));
        b.circuit.drive(pin, kHigh, {});
        const auto at = [](std::int64_t t) { return Time(Duration(t)); };
        QVERIFY((first.pieces == std::vector<std::tuple<Time, Time, double>>{{at(0), at(1000), 5.0}, {at(1000), at(3000), 0.0}}));
        QVERIFY((second.pieces == std::vector<std::tuple<Time, Time, double>>{{at(3000), at(7000), 0.0}}));
    }

    // What a device takes, by its curve at the voltages across it, is the same right after a restore as before the snapshot: between nets, and between a net and
    // a rail.
    void aRestoredCircuitKnowsWhatItsDevicesTake()
    {
        Bench b;
        const NetId top = b.rail("5V", 5);
        const NetId ground = b.rail("GND", 0);
        const NetId anode = b.net("anode"), middle = b.net("middle");
        const PinId pin = b.pin(anode);
        const DiodeModel model = DiodeModel::through({0.7}, {0.010}, 1.5, {1});
        const ElementId first = b.circuit.addDiode(anode, middle, model, "first");
        const ElementId second = b.circuit.addDiode(middle, ground, model, "second");
        const ElementId up = b.circuit.addDiode(anode, top, model, "up");
        b.circuit.addResistor(middle, ground, {1000}, "r");
        b.seal();
        b.circuit.drive(pin, {5, 300}, {});
        const auto taken = [&] {
            std::vector<double> out;
            for (const ElementId e : {first, second, up})
                for (const std::size_t terminal : {0, 1})
                    out.push_back(b.circuit.current(e, terminal).value);
            for (const NetId rail : {top, ground})
                for (const ElementId e : {first, second, up})
                    out.push_back(b.circuit.taken(e, rail).value);
            return out;
        };
        const std::vector<double> before = taken();
        QVERIFY(before[0] > 0.005);
        bramix::kernel::SaveArchive save;
        b.circuit.state(save);
        const auto kept = save.take();
        b.circuit.drive(pin, {0, 300}, {});
        QVERIFY(taken()[0] < 1e-6);
        bramix::kernel::LoadArchive load(kept);
        b.circuit.state(load);
        const std::vector<double> after = taken();
        for (std::size_t i = 0; i < before.size(); ++i)
            QVERIFY2(near(after[i], before[i]), qPrintable(QString("%1: %2, not %3").arg(i).arg(after[i]).arg(before[i])));
    }

    void theDiodeCurveIsShockleysWithItsSeriesResistance()
    {
        const DiodeModel d = DiodeModel::through({2.0}, {0.020}, 1.8, {6});
        QVERIFY(near(d.at(2.0).amps, 0.020, 1e-9));
        for (double v = 0.1; v < 5; v += 0.1) {
            const DiodeModel::Point p = d.at(v);
            const double back = d.ideality * kThermalVolts * std::log1p(p.amps / d.saturationAmps) + p.amps * d.seriesOhms;
            QVERIFY(near(back, v, 1e-9));
            const double slope = (d.at(v + 1e-6).amps - d.at(v - 1e-6).amps) / 2e-6;
            QVERIFY(near(p.siemens, slope, 1e-3));
        }
        QVERIFY(near(d.at(-5).amps, -d.saturationAmps, 1e-6));
    }
};

QTEST_APPLESS_MAIN(CircuitTest)
#include "circuit_test.moc"
