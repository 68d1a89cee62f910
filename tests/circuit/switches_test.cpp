// Nets that open switches cut off from each other: driven, let go, joined and cut at random, held against a dense matrix of the test's own.
#include <QtTest>

#include <cmath>
#include <numeric>
#include <random>

#include "circuit/circuit.h"

using namespace bramix::circuit;
using bramix::kernel::Edge;
using bramix::kernel::EdgeCursor;
using bramix::kernel::EventQueue;
using bramix::kernel::Time;

namespace {

constexpr std::size_t kNets = 7;
constexpr double kContactOhms = 0.5;

struct Contact {
    std::size_t a, b;  // kNets: ground
    ElementId id;
    bool closed = false;
};

struct Heard final : CircuitObserver, PinListener {
    std::map<NetId, NetState> last;
    std::map<PinId, bool> level;
    std::size_t edges = 0;
    void netChanged(NetId net, NetState state, Time, Cause) override
    {
        last[net] = state;
        ++edges;
    }
    void trouble(Trouble, NetId, PinId, PinId, double, Time, Cause) override {}
    void pinChanged(PinId pin, bool to, Time) override { level[pin] = to; }
};

struct Matrix {
    EventQueue queue;
    Circuit circuit{queue};
    Heard heard;
    std::vector<NetId> nets;
    std::vector<PinId> pins;           // two a net
    std::vector<Drive> drives;
    std::vector<Contact> contacts;

    explicit Matrix(std::mt19937& random)
    {
        const NetId ground = circuit.addNet("GND");
        circuit.addSupply(ground, {0}, circuit.addPin(ground, "GND"));
        for (std::size_t i = 0; i < kNets; ++i) {
            nets.push_back(circuit.addNet("n" + std::to_string(i)));
            for (int k = 0; k < 2; ++k) {
                pins.push_back(circuit.addPin(nets.back(), "p"));
                drives.push_back(kFloating);
            }
            circuit.listen(pins[2 * i], heard, {1.5, 3.0});
        }
        for (std::size_t i = 0; i < 9; ++i) {
            Contact c{random() % kNets, random() % (kNets + 1), {}, false};
            if (c.a == c.b)
                continue;
            c.id = circuit.addSwitch(nets[c.a], c.b == kNets ? ground : nets[c.b], {kContactOhms}, "k");
            contacts.push_back(c);
        }
        circuit.seal(&heard);
    }

    // Every net by Gauss; NaN where nothing drives it.
    [[nodiscard]] std::vector<double> expected() const
    {
        std::vector<std::vector<double>> a(kNets, std::vector<double>(kNets + 1, 0.0));
        std::vector<std::size_t> group(kNets + 1);
        std::iota(group.begin(), group.end(), std::size_t{0});
        for (const Contact& c : contacts) {
            if (!c.closed)
                continue;
            const std::size_t from = group[c.a], to = group[c.b];
            std::replace(group.begin(), group.end(), from, to);
            a[c.a][c.a] += 1 / kContactOhms;
            if (c.b == kNets)
                continue;
            a[c.b][c.b] += 1 / kContactOhms;
            a[c.a][c.b] -= 1 / kContactOhms;
            a[c.b][c.a] -= 1 / kContactOhms;
        }
        std::set<std::size_t> driven{group[kNets]};
        for (std::size_t i = 0; i < pins.size(); ++i)
            if (!drives[i].floating()) {
                a[i / 2][i / 2] += 1 / drives[i].ohms;
                a[i / 2][kNets] += drives[i].volts / drives[i].ohms;
                driven.insert(group[i / 2]);
            }
        for (std::size_t i = 0; i < kNets; ++i)
            if (!driven.contains(group[i]))
                a[i][i] += 1;  // anything, so that it can be solved
        for (std::size_t k = 0; k < kNets; ++k)
            for (std::size_t i = 0; i < kNets; ++i)
                if (i != k)
                    for (std::size_t j = kNets + 1; j-- > k;)
                        a[i][j] -= a[i][k] / a[k][k] * a[k][j];
        std::vector<double> out;
        for (std::size_t i = 0; i < kNets; ++i)
            out.push_back(driven.contains(group[i]) ? a[i][kNets] / a[i][i] : NAN);
        return out;
    }
};

}  // namespace

class SwitchesTest : public QObject {
    Q_OBJECT

private slots:
    void aMatrixOfSwitchesIsWhatItsContactsMakeOfIt_data()
    {
        QTest::addColumn<unsigned>("seed");
        QTest::addColumn<bool>("recorded");
        for (unsigned seed = 1; seed <= 40; ++seed)
            QTest::addRow("%u%s", seed, seed % 2 == 0 ? ", recorded" : "") << seed << (seed % 2 == 0);
    }
    void aMatrixOfSwitchesIsWhatItsContactsMakeOfIt()
    {
        QFETCH(unsigned, seed);
        QFETCH(bool, recorded);
        std::mt19937 random(seed);
        Matrix m(random);
        // A little room a channel, so that the recording is full at times.
        std::vector<std::vector<Edge>> room(kNets + 1, std::vector<Edge>(5));
        std::vector<EdgeCursor> cursors;
        std::vector<std::uint32_t> channels;
        for (std::uint32_t i = 0; i <= kNets; ++i) {
            cursors.push_back({room[i].data(), room[i].data() + room[i].size()});
            channels.push_back(i);
        }
        if (recorded)
            m.circuit.recordInto(cursors.data(), channels.data());
        std::map<PinId, bool> level;
        std::size_t recordedEdges = 0;
        constexpr std::array kDrives{Drive{5, 25}, Drive{0, 25}, Drive{5, 35'000}, Drive{0, 1000}, kFloating};
        const auto change = [&] {
            if (!m.contacts.empty() && random() % 4 == 0) {
                Contact& c = m.contacts[random() % m.contacts.size()];
                c.closed = random() % 3 == 0;
                m.circuit.setClosed(c.id, c.closed, {});
            } else {
                const std::size_t i = random() % m.pins.size();
                m.drives[i] = kDrives[random() % kDrives.size()];
                m.circuit.drive(m.pins[i], m.drives[i], {});
            }
        };
        for (int step = 0; step < 400; ++step) {
            if (random() % 3 == 0) {
                const Circuit::Batch together(m.circuit);
                for (unsigned k = 1 + random() % 5; k > 0; --k)
                    change();
            } else {
                change();
            }
            const std::vector<double> volts = m.expected();
            for (std::size_t i = 0; i < kNets; ++i) {
                const NetState state = m.circuit.stateOf(m.nets[i]);
                if (std::isnan(volts[i])) {
                    QCOMPARE(state, NetState::floating);
                    continue;
                }
                QVERIFY2(std::fabs(m.circuit.voltage(m.nets[i]).value - volts[i]) < 1e-6,
                         qPrintable(QString("step %1, net %2: %3 V, not %4").arg(step).arg(i).arg(m.circuit.voltage(m.nets[i]).value).arg(volts[i])));
                if (state != NetState::conflict)
                    QCOMPARE(state, volts[i] <= 1.5 ? NetState::low : volts[i] >= 3.0 ? NetState::high : NetState::between);
                bool& reads = level[m.pins[2 * i]];
                reads = reads ? volts[i] > 1.5 : volts[i] >= 3.0;
                QCOMPARE(m.circuit.level(m.pins[2 * i]), reads);
                // Current is what Kirchhoff's law leaves for the pins.
                QVERIFY(std::fabs(m.circuit.current(m.pins[2 * i]).value - (m.drives[2 * i].floating() ? 0 : (m.drives[2 * i].volts - volts[i]) / m.drives[2 * i].ohms)) < 1e-6);
            }
            if (step % 50 == 49)
                for (std::size_t i = 0; i < kNets; ++i)
                    QVERIFY(m.circuit.residual(m.nets[i]) < 1e-6);
            // What was heard and what was recorded are together every change.
            for (std::size_t i = 0; i < kNets; ++i) {
                EdgeCursor& place = cursors[i + 1];
                Edge* const first = room[i + 1].data();
                if (place.next != first) {
                    recordedEdges += static_cast<std::size_t>(place.next - first);
                    m.heard.last[m.nets[i]] = static_cast<NetState>(place.next[-1].state);
                }
                if (step % 3 == 0)
                    place.next = first;  // room again
                if (m.heard.last.contains(m.nets[i]) && step % 3 == 0)
                    QCOMPARE(m.heard.last[m.nets[i]], m.circuit.stateOf(m.nets[i]));
            }
        }
        QCOMPARE(recordedEdges > 0, recorded);
        QVERIFY(m.heard.edges > 0);
    }

    // Who waits for a filtered voltage to pass an output's waits for the output's new level once it has one. Each of the two watches the other.
    void aComparatorWaitsForTheNewLevelOfThePinThatItIsHeldAgainst()
    {
        struct Passed final : VoltageListener {
            std::vector<Time> at;
            void voltageChanged(PinId, double, Time when) override { at.push_back(when); }
        } passed, partner;
        EventQueue queue;
        Circuit circuit(queue);
        Heard heard;
        const NetId ground = circuit.addNet("GND");
        circuit.addSupply(ground, {0}, circuit.addPin(ground, "GND"));
        const NetId filtered = circuit.addNet("filtered"), source = circuit.addNet("source"), level = circuit.addNet("level");
        const PinId out = circuit.addPin(source, "out"), reference = circuit.addPin(level, "reference"), input = circuit.addPin(filtered, "in");
        circuit.addResistor(source, filtered, {10'000}, "r");
        circuit.addCapacitor(filtered, ground, {1e-6}, {1e-3}, {1e9}, "c");
        circuit.listen(reference, heard, {1.5, 3.0});
        circuit.seal(&heard);
        circuit.drive(reference, {5, 25}, {});
        circuit.watchVoltage(input, &passed, {.against = reference});
        circuit.watchVoltage(reference, &partner, {.against = input});
        circuit.drive(out, {5, 25}, {});
        queue.advanceTo(Time(std::chrono::milliseconds(5)));
        passed.at.clear();
        circuit.drive(reference, {3, 25}, {});
        QVERIFY(passed.at.empty());
        queue.advanceTo(Time(std::chrono::milliseconds(20)));
        QCOMPARE(passed.at.size(), std::size_t{1});
        const double expected = -10'025 * 1e-6 * std::log(1 - 3.0 / 5.0);
        QVERIFY2(std::fabs(bramix::kernel::seconds(passed.at.front() - Time{}) - expected) < 2e-6, qPrintable(QString::number(bramix::kernel::seconds(passed.at.front() - Time{}) * 1e3)));
    }
};

QTEST_GUILESS_MAIN(SwitchesTest)
#include "switches_test.moc"
