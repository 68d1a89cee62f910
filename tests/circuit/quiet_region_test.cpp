// Edges that change nothing for whoever listens are taken without a closer look: nobody may see a difference. The same bench with a probe on a net, which has
// every edge looked at, is the measure; closed forms say that both are right.
#include <QtTest>

#include <cmath>
#include <random>

#include "circuit/circuit.h"

using namespace bramix::circuit;
using bramix::kernel::Duration;
using bramix::kernel::EventQueue;
using bramix::kernel::seconds;
using bramix::kernel::Time;
using namespace std::chrono_literals;

namespace {

struct Event {
    int what = 0;
    std::uint32_t who = 0;
    double value = 0;
    Time at{};
    bool operator==(const Event&) const = default;
    [[nodiscard]] QString text() const { return QString("%1 of %2: %3 at %4 ps").arg(what).arg(who).arg(value).arg(at.time_since_epoch().count()); }
};

struct Recorder : CircuitObserver, PinListener, ElementListener, ProbeListener {
    std::vector<Event> events;
    void netChanged(NetId net, NetState state, Time at, Cause) override { events.push_back({1, static_cast<std::uint32_t>(net), static_cast<double>(state), at}); }
    void trouble(Trouble what, NetId net, PinId, PinId, double, Time at, Cause) override { events.push_back({2, static_cast<std::uint32_t>(net), static_cast<double>(what), at}); }
    void overloadEnded(PinId pin, Time at) override { events.push_back({3, static_cast<std::uint32_t>(pin), 0, at}); }
    void pinChanged(PinId pin, bool level, Time at) override { events.push_back({4, static_cast<std::uint32_t>(pin), level ? 1.0 : 0.0, at}); }
    void elementChanged(ElementId e, Time at) override { events.push_back({5, static_cast<std::uint32_t>(e), 0, at}); }
    void piece(NetId, Time, Time, const std::function<double(Time)>&, bool) override {}
};

// An output into a filter of one or two stages; inputs listen at each stage.
struct Bench {
    EventQueue queue;
    Circuit circuit{queue};
    Recorder recorder;
    NetId ground, out, first, second;
    PinId pin, input, far;
    ElementId capacitor;

    Bench(double ohms, double farads, bool twoStages, double limit, bool quiet)
    {
        ground = circuit.addNet("GND");
        circuit.addSupply(ground, {0}, circuit.addPin(ground, "GND"));
        out = circuit.addNet("out");
        first = circuit.addNet("first");
        second = circuit.addNet("second");
        pin = circuit.addPin(out, "pin");
        input = circuit.addPin(first, "input");
        far = circuit.addPin(second, "far");
        circuit.addResistor(out, first, {ohms}, "r1");
        capacitor = circuit.addCapacitor(first, ground, {farads}, {0.1}, {1e9}, "c1");
        circuit.addResistor(first, second, {ohms * 3}, "r2");
        if (twoStages)
            circuit.addCapacitor(second, ground, {farads / 2}, {0.1}, {1e9}, "c2");
        circuit.listen(pin, recorder, {1.5, 3.0});
        circuit.listen(input, recorder, {1.5, 3.0});
        circuit.listen(far, recorder, {2.0, 2.4});
        circuit.setClamp(pin, 0, 5);
        circuit.setLimit(pin, {limit}, 1, {0.2});
        circuit.watchElement(capacitor, recorder, {4.0});
        circuit.setQuietRange(capacitor, -1, 4.0);
        circuit.seal(&recorder);
        if (!quiet)
            circuit.probe(second, &recorder);
        recorder.events.clear();
    }
    void drive(Drive d) { circuit.drive(pin, d, {}); }
    void wait(Duration d) { queue.advanceTo(queue.now() + d); }
    double volts(NetId n) { return circuit.voltage(n).value; }
};

}  // namespace

class QuietRegionTest : public QObject {
    Q_OBJECT

private slots:
    // Duty, period, pauses, floating and overloads at random: the same voltages to the last bit, the same events at the same instants.
    void nobodySeesADifference_data()
    {
        QTest::addColumn<bool>("twoStages");
        QTest::addColumn<double>("ohms");
        QTest::addColumn<double>("limit");
        QTest::addRow("one stage") << false << 9'975.0 << 0.04;
        QTest::addRow("two stages") << true << 9'975.0 << 0.04;
        QTest::addRow("one stage, fast") << false << 400.0 << 0.04;
        QTest::addRow("two stages, overloaded at times") << true << 400.0 << 0.006;
    }
    void nobodySeesADifference()
    {
        QFETCH(bool, twoStages);
        QFETCH(double, ohms);
        QFETCH(double, limit);
        for (unsigned seed = 1; seed <= 4; ++seed) {
            Bench quiet(ohms, 1e-7, twoStages, limit, true), whole(ohms, 1e-7, twoStages, limit, false);
            std::mt19937 random(seed);
            const auto upTo = [&](int most) { return static_cast<int>(random() % static_cast<unsigned>(most)); };
            for (int burst = 0; burst < 40; ++burst) {
                const Duration high = 1us * (1 + upTo(30)), low = 1us * (1 + upTo(30));
                const int pulses = 1 + upTo(60);
                for (int i = 0; i < pulses; ++i)
                    for (Bench* b : {&quiet, &whole}) {
                        b->drive({5, 25});
                        b->wait(high);
                        b->drive({0, 25});
                        b->wait(low);
                    }
                const Drive last = upTo(4) == 0 ? kFloating : Drive{upTo(2) == 0 ? 0.0 : 5.0, 25};
                const Duration pause = 1us * upTo(3'000);
                for (Bench* b : {&quiet, &whole}) {
                    b->drive(last);
                    b->wait(pause);
                }
                for (const NetId net : {quiet.out, quiet.first, quiet.second}) {
                    QCOMPARE(quiet.volts(net), whole.volts(net));
                    QCOMPARE(quiet.circuit.stateOf(net), whole.circuit.stateOf(net));
                    QCOMPARE(quiet.circuit.changes(net), whole.circuit.changes(net));
                    QCOMPARE(quiet.circuit.secondsHigh(net), whole.circuit.secondsHigh(net));
                }
                QCOMPARE(quiet.circuit.current(quiet.pin).value, whole.circuit.current(whole.pin).value);
                QCOMPARE(quiet.recorder.events.size(), whole.recorder.events.size());
                for (std::size_t i = 0; i < quiet.recorder.events.size(); ++i)
                    if (!(quiet.recorder.events[i] == whole.recorder.events[i]))
                        QFAIL(qPrintable(quiet.recorder.events[i].text() + " and " + whole.recorder.events[i].text()));
            }
        }
    }

    // The recursion of a filter: v becomes E + (v - E) exp(-t/RC), edge after edge.
    void thousandsOfEdgesAreTheExponentialsOfEach()
    {
        Bench b(9'975, 1e-6, false, 0.04, true);
        double v = 0;
        const double tau = (10'000 + 0.1) * 1e-6;
        for (int i = 0; i < 5'000; ++i) {
            b.drive({5, 25});
            b.wait(7us);
            v = 5 + (v - 5) * std::exp(-7e-6 / tau);
            b.drive({0, 25});
            b.wait(9us);
            v *= std::exp(-9e-6 / tau);
        }
        QVERIFY2(std::fabs(b.volts(b.first) - v) < 2e-4, qPrintable(QString::number(b.volts(b.first) - v)));
    }

    // A duty that grows after a long time of the same: the threshold is passed at its instant, in the middle of a pulse.
    void aThresholdIsPassedInTheMiddleOfAPulse()
    {
        Bench b(9'975, 1e-6, false, 0.04, true);
        for (int i = 0; i < 10'000; ++i) {
            b.drive({5, 25});
            b.wait(4us);
            b.drive({0, 25});
            b.wait(12us);
        }
        const double before = b.volts(b.first);
        QVERIFY(before < 1.5);
        b.recorder.events.clear();
        const Time begin = b.queue.now();
        b.drive({5, 25});
        b.wait(20ms);
        const double tau = (10'000 + 0.1) * 1e-6;
        const auto heard = std::find_if(b.recorder.events.begin(), b.recorder.events.end(), [&](const Event& e) { return e.what == 4 && e.who == static_cast<std::uint32_t>(b.input); });
        QVERIFY(heard != b.recorder.events.end());
        const double due = tau * std::log((5 - before) / 2.0);
        QVERIFY2(std::fabs(seconds(heard->at - begin) - due) < 1e-6, qPrintable(QString::number(seconds(heard->at - begin) - due)));
    }

    // An element that floats between two filters, told when the difference comes to a volt: at its instant, in the middle of a pulse.
    void aDifferenceOfTwoNetsIsWatchedToo()
    {
        EventQueue queue;
        Circuit circuit(queue);
        Recorder recorder;
        const NetId ground = circuit.addNet("GND"), out = circuit.addNet("out"), fast = circuit.addNet("fast"), slow = circuit.addNet("slow");
        circuit.addSupply(ground, {0}, circuit.addPin(ground, "GND"));
        const PinId pin = circuit.addPin(out, "pin");
        circuit.addResistor(out, fast, {10'000}, "r1");
        circuit.addCapacitor(fast, ground, {1e-6}, {0.1}, {1e12}, "c1");
        circuit.addResistor(out, slow, {100'000}, "r2");
        circuit.addCapacitor(slow, ground, {1e-6}, {0.1}, {1e12}, "c2");
        const ElementId between = circuit.addCapacitor(fast, slow, {1e-12}, {0.1}, {1e12}, "between");
        circuit.watchElement(between, recorder, {1.0});
        circuit.setQuietRange(between, -1, 1);
        circuit.seal(&recorder);
        const auto pulses = [&](int count, Duration high, Duration low) {
            for (int i = 0; i < count; ++i) {
                circuit.drive(pin, {5, 25}, {});
                queue.advanceTo(queue.now() + high);
                circuit.drive(pin, {0, 25}, {});
                queue.advanceTo(queue.now() + low);
            }
        };
        pulses(500, 1us, 15us);
        recorder.events.clear();
        // Long enough to bring the fast one a volt above the slow one.
        circuit.drive(pin, {5, 25}, {});
        queue.advanceTo(queue.now() + 20ms);
        const auto heard = std::find_if(recorder.events.begin(), recorder.events.end(), [&](const Event& e) { return e.what == 5; });
        QVERIFY(heard != recorder.events.end());
        QVERIFY(circuit.voltage(fast).value - circuit.voltage(slow).value > 1);
        const Time at = heard->at;
        QVERIFY2(seconds(at) > 0.009 && seconds(at) < 0.012, qPrintable(QString::number(seconds(at))));
    }

    // Who begins to listen in the middle of quiet edges hears from the next one on.
    void whoComesLaterIsHeeded()
    {
        Bench b(9'975, 1e-6, false, 0.04, true);
        const auto pulses = [&](int count) {
            for (int i = 0; i < count; ++i) {
                b.drive({5, 25});
                b.wait(8us);
                b.drive({0, 25});
                b.wait(8us);
            }
        };
        pulses(5'000);
        b.recorder.events.clear();
        b.circuit.setQuietRange(b.capacitor, 1, -1);
        pulses(10);
        QCOMPARE(std::count_if(b.recorder.events.begin(), b.recorder.events.end(), [](const Event& e) { return e.what == 5; }), 20);
        // A threshold moved to where the voltage lies: the ripple passes it at each pulse.
        b.circuit.setQuietRange(b.capacitor, -1, 4);
        pulses(1'000);
        const double middle = b.volts(b.first);
        b.recorder.events.clear();
        b.circuit.setThresholds(b.input, {middle + 0.0005, middle + 0.001});
        pulses(10);
        QVERIFY(std::count_if(b.recorder.events.begin(), b.recorder.events.end(), [&](const Event& e) { return e.what == 4 && e.who == static_cast<std::uint32_t>(b.input); }) >= 10);
    }
};

QTEST_GUILESS_MAIN(QuietRegionTest)
#include "quiet_region_test.moc"
