// Analog parts on small benches, against their equations.
#include <QtTest>

#include <cmath>

#include "bench/document.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

std::unique_ptr<World> rig(const std::vector<std::array<std::string, 3>>& parts, const std::vector<std::array<std::string, 2>>& wires)
{
    static const Catalogue catalogue = *Catalogue::loadInstalled();
    std::string text = "bramix = 1\ntitle = \"t\"\n";
    int x = 0;
    for (const auto& [id, kind, set] : parts)
        text += "[[part]]\nid = \"" + id + "\"\nkind = \"" + kind + "\"\nat = [" + std::to_string(x += 9) + ", 0]\nset = { " + set + " }\n";
    for (const auto& [a, b] : wires)
        text += "[[wire]]\nends = [\"" + a + "\", \"" + b + "\"]\ncolor = \"ink\"\n";
    auto world = World::build(*parseDocument("t", text), catalogue, {}, nullptr);
    if (!world)
        qFatal("%s", world.error().text().c_str());
    return std::move(*world);
}

double volts(const World& w, const char* part, const char* pin) { return w.circuit().voltage(w.circuit().netOf(*w.pin({part, pin}))).value; }
void set(World& w, const char* part, const char* control, double value) { QVERIFY(w.setControl(part, control, value).has_value()); }
bool near(double actual, double expected, double tolerance) { return std::fabs(actual - expected) <= tolerance; }

}  // namespace

class AnalogPartsTest : public QObject {
    Q_OBJECT

private slots:
    void aPotentiometerDivides()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"p", "potentiometer", "resistance = \"10k\""}}, {{"v.V", "p.A"}, {"p.B", "g.V"}});
        for (const double at : {0.25, 0.5, 0.9}) {
            set(*w, "p", "position", at);
            QVERIFY(near(volts(*w, "p", "W"), 5 * (1 - at), 1e-6));
        }
    }

    // R(T) = R25 exp(B (1/T - 1/298.15)): 33.6 kΩ at 0 °C for 10 kΩ and B = 3950.
    void aWarmthSensorFollowsItsEquation()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"n", "warmth-sensor", ""}, {"r", "resistor", "resistance = \"10k\""}}, {{"v.V", "n.1"}, {"n.2", "r.1"}, {"r.2", "g.V"}});
        set(*w, "n", "temperature", 0);
        const double ohms = 10e3 * std::exp(3950 * (1 / 273.15 - 1 / 298.15));
        QVERIFY(near(volts(*w, "n", "2"), 5 * 10e3 / (10e3 + ohms), 1e-6));
        set(*w, "n", "temperature", 25);
        QVERIFY(near(volts(*w, "n", "2"), 2.5, 1e-6));
    }

    void aBatterySagsByItsResistance()
    {
        auto w = rig({{"b", "battery", "voltage = \"9V\", inner = \"2\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"100\", power = \"2\""}}, {{"b.+", "r.1"}, {"r.2", "b.-"}, {"b.-", "g.V"}});
        QVERIFY(near(volts(*w, "b", "+"), 9 * 100 / 102.0, 1e-6));
    }

    void aBenchSupplyHoldsItsCurrent()
    {
        auto w = rig({{"s", "bench-supply", "voltage = \"10V\", limit = \"0.1\""}, {"r", "resistor", "resistance = \"22\", power = \"5\""}}, {{"s.V", "r.1"}, {"r.2", "s.GND"}});
        QVERIFY(near(volts(*w, "s", "V"), 2.2, 0.01));
        set(*w, "s", "amps", 2);
        QVERIFY(near(volts(*w, "s", "V"), 10 * 22 / 22.05, 1e-3));
    }

    void aCurrentSourceGivesItsCurrent()
    {
        auto w = rig({{"i", "current-source", "current = \"4m\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"250\""}}, {{"i.+", "r.1"}, {"r.2", "g.V"}, {"i.-", "g.V"}});
        QVERIFY2(near(volts(*w, "r", "1"), 1.0, 2e-3), qPrintable(QString::number(volts(*w, "r", "1"))));
    }

    // Saturated, the collector lies near the emitter; with no base current it does not conduct.
    void aTransistorSwitches()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"k", "slide-switch", "bounce = \"off\""}, {"rb", "resistor", "resistance = \"4k7\""}, {"rc", "resistor", "resistance = \"220\""}, {"q", "npn", ""}},
                       {{"k.A", "g.V"}, {"k.B", "v.V"}, {"k.C", "rb.1"}, {"rb.2", "q.B"}, {"v.V", "rc.1"}, {"rc.2", "q.C"}, {"q.E", "g.V"}});
        QVERIFY(volts(*w, "q", "C") > 4.99);
        set(*w, "k", "position", 1);
        w->runUntil(kernel::Time(1ms));
        QVERIFY2(volts(*w, "q", "C") < 0.2, qPrintable(QString::number(volts(*w, "q", "C"))));
        QVERIFY(near(volts(*w, "q", "B"), 0.7, 0.1));
    }

    void aMosfetSwitchesByItsGate()
    {
        for (const bool p : {false, true}) {
            auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"k", "slide-switch", "bounce = \"off\""}, {"r", "resistor", "resistance = \"100\", power = \"1\""}, {"m", p ? "pmos" : "nmos", ""}},
                           {{"k.A", p ? "v.V" : "g.V"}, {"k.B", p ? "g.V" : "v.V"}, {"k.C", "m.G"}, {p ? "v.V" : "g.V", "m.S"}, {"m.D", "r.1"}, {"r.2", p ? "g.V" : "v.V"}});
            const double off = p ? 0.0 : 5.0, on = p ? 5.0 : 0.0;
            QVERIFY(near(volts(*w, "m", "D"), off, 0.01));
            set(*w, "k", "position", 1);
            w->runUntil(kernel::Time(1ms));
            QVERIFY(near(volts(*w, "m", "D"), on, 0.02));
        }
    }

    void aZenerHolds()
    {
        auto w = rig({{"b", "battery", "voltage = \"12V\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1k\""}, {"z", "zener", "breakdown = \"5.1V\""}}, {{"b.+", "r.1"}, {"r.2", "z.K"}, {"z.A", "g.V"}, {"b.-", "g.V"}});
        QVERIFY2(near(volts(*w, "z", "K"), 5.1, 0.1), qPrintable(QString::number(volts(*w, "z", "K"))));
    }

    void aSignalSourceGivesItsWave()
    {
        auto w = rig({{"s", "generator", "wave = \"sine\", frequency = \"1kHz\", low = \"-1V\", high = \"3V\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1M\""}}, {{"s.S", "r.1"}, {"r.2", "g.V"}, {"s.GND", "g.V"}});
        for (const double part : {0.0, 0.25, 0.5, 0.75, 1.1}) {
            w->runUntil(kernel::Time(kernel::Duration(static_cast<std::int64_t>(part * 1e9))));
            QVERIFY2(near(volts(*w, "s", "S"), 1 + 2 * std::sin(2 * M_PI * part), 2e-3), qPrintable(QString::number(volts(*w, "s", "S"))));
        }
        auto t = rig({{"s", "generator", "wave = \"square\", frequency = \"1kHz\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1M\""}}, {{"s.S", "r.1"}, {"r.2", "g.V"}, {"s.GND", "g.V"}});
        t->runUntil(kernel::Time(400us));
        QVERIFY(near(volts(*t, "s", "S"), 5, 1e-3));
        t->runUntil(kernel::Time(600us));
        QVERIFY(near(volts(*t, "s", "S"), 0, 1e-3));
    }

    // A comparator against half the supply makes a square of a sine, with its edges where the sine passes.
    void aComparatorSquaresASine()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"s", "generator", "wave = \"sine\", frequency = \"1kHz\""}, {"r1", "resistor", "resistance = \"10k\""}, {"r2", "resistor", "resistance = \"10k\""},
                        {"c", "comparator", "output = \"push-pull\", hysteresis = \"0V\", delay = \"1ns\""}},
                       {{"s.S", "c.+"}, {"s.GND", "g.V"}, {"v.V", "r1.1"}, {"r1.2", "c.-"}, {"r2.1", "c.-"}, {"r2.2", "g.V"}, {"c.V+", "v.V"}, {"c.V-", "g.V"}});
        w->runUntil(kernel::Time(250us));
        QVERIFY2(volts(*w, "c", "OUT") > 4.9, qPrintable(QString::number(volts(*w, "c", "OUT"))));
        w->runUntil(kernel::Time(750us));
        QVERIFY(volts(*w, "c", "OUT") < 0.1);
    }

    // On a triangle of 1 V a millisecond the output changes half the hysteresis after the middle, going up and coming down.
    void aComparatorsHysteresisIsAsWideAsItIsSet_data()
    {
        QTest::addColumn<double>("hysteresis");
        for (const double h : {0.0, 0.005, 0.1, 0.2, 0.5, 1.0, 2.0})
            QTest::newRow(qPrintable(QString::number(h))) << h;
    }
    void aComparatorsHysteresisIsAsWideAsItIsSet()
    {
        QFETCH(double, hysteresis);
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"s", "generator", "wave = \"triangle\", frequency = \"100Hz\", inner = \"1\""}, {"t", "supply-3v3", "voltage = \"2.5V\""},
                      {"c", "comparator", "output = \"push-pull\", delay = \"1ns\", hysteresis = \"" + std::to_string(hysteresis) + "V\""}},
                     {{"s.S", "c.+"}, {"s.GND", "g.V"}, {"t.V", "c.-"}, {"c.V+", "v.V"}, {"c.V-", "g.V"}});
        const auto goesAt = [&](bool high, double from, double to) {
            const auto is = [&](double t) {
                w->runUntil(kernel::Time(kernel::Duration(static_cast<std::int64_t>(t * 1e12))));
                return (volts(*w, "c", "OUT") > 2.5) == high;
            };
            for (double t = from; t < to; t += 2e-6)
                if (is(t))
                    return t;
            return -1.0;
        };
        // 5 V in 5 ms: a volt a millisecond, through the middle at 2.5 and 7.5 ms of each ten.
        const double up = goesAt(true, 0.0101, 0.0149), down = goesAt(false, up + 1e-5, 0.0199);
        QVERIFY2(near(up, 0.0125 + hysteresis / 2 * 1e-3, 4e-6), qPrintable(QString::number(up, 'g', 9)));
        QVERIFY2(near(down, 0.0175 + hysteresis / 2 * 1e-3, 4e-6), qPrintable(QString::number(down, 'g', 9)));
    }

    // Its own output on its minus input: it goes on and off with its delay.
    void aComparatorThatIsFedBackOscillates()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"t", "supply-3v3", "voltage = \"2.5V\""}, {"c", "comparator", "output = \"push-pull\", delay = \"1us\""}}, {{"t.V", "c.+"}, {"c.OUT", "c.-"}, {"c.V+", "v.V"}, {"c.V-", "g.V"}});
        w->runUntil(kernel::Time(100us));
        const auto before = w->circuit().changes(w->circuit().netOf(*w->pin({"c", "OUT"})));
        w->runUntil(kernel::Time(200us));
        QCOMPARE(w->circuit().changes(w->circuit().netOf(*w->pin({"c", "OUT"}))) - before, std::uint64_t{100});
    }

    // Two filters whose voltages cross: + from 0 to 5 V with 1 ms, - from 5 V to 0 with 1 ms, so at 1 ms ln 2 after the switch.
    void aComparatorSeesTwoMovingInputsCross()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"k", "slide-switch", "bounce = \"off\""}, {"l", "slide-switch", "bounce = \"off\""}, {"r", "resistor", "resistance = \"10k\""}, {"q", "resistor", "resistance = \"10k\""},
                      {"a", "capacitor", "capacitance = \"100n\""}, {"b", "capacitor", "capacitance = \"100n\""}, {"c", "comparator", "output = \"push-pull\", hysteresis = \"0V\", delay = \"1ns\""}},
                     {{"k.A", "g.V"}, {"k.B", "v.V"}, {"k.C", "r.1"}, {"l.A", "v.V"}, {"l.B", "g.V"}, {"l.C", "q.1"}, {"r.2", "a.1"}, {"a.2", "g.V"}, {"q.2", "b.1"}, {"b.2", "g.V"}, {"a.1", "c.+"}, {"b.1", "c.-"}, {"c.V+", "v.V"}, {"c.V-", "g.V"}});
        w->runUntil(kernel::Time(50ms));
        QVERIFY(volts(*w, "c", "OUT") < 0.1);
        set(*w, "k", "position", 1);
        set(*w, "l", "position", 1);
        w->runUntil(kernel::Time(50ms) + 690us);
        QVERIFY(volts(*w, "c", "OUT") < 0.1);
        w->runUntil(kernel::Time(50ms) + 696us);
        QVERIFY(volts(*w, "c", "OUT") > 4.9);
    }

    // Of three solutions the middle one does not last.
    void aFlipFlopDecides()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1k\""}, {"s", "resistor", "resistance = \"1k\""}, {"a", "nmos", ""}, {"b", "nmos", ""}, {"k", "push-button", "bounce = \"off\""}, {"l", "push-button", "bounce = \"off\""}},
                     {{"v.V", "r.1"}, {"v.V", "s.1"}, {"r.2", "a.D"}, {"s.2", "b.D"}, {"a.G", "b.D"}, {"b.G", "a.D"}, {"a.S", "g.V"}, {"b.S", "g.V"}, {"k.1", "a.G"}, {"k.2", "g.V"}, {"l.1", "b.G"}, {"l.2", "g.V"}});
        const auto aIsHigh = [&] { return volts(*w, "a", "D") > 4.5 && volts(*w, "b", "D") < 0.5; };
        const auto bIsHigh = [&] { return volts(*w, "b", "D") > 4.5 && volts(*w, "a", "D") < 0.5; };
        QVERIFY(aIsHigh() || bIsHigh());
        int ms = 1;
        for (const auto& [key, high] : {std::pair("k", true), {"l", false}, {"k", true}, {"l", false}}) {
            set(*w, key, "pressed", 1);
            w->runUntil(kernel::Time(std::chrono::milliseconds(++ms)));
            set(*w, key, "pressed", 0);
            w->runUntil(kernel::Time(std::chrono::milliseconds(++ms)));
            QVERIFY2(high ? aIsHigh() : bIsHigh(), key);
        }
        // Going back in time it remembers what it was.
        const auto moment = w->remember();
        set(*w, "k", "pressed", 1);
        w->runUntil(kernel::Time(20ms));
        set(*w, "k", "pressed", 0);
        QVERIFY(aIsHigh());
        w->recall(*moment);
        QVERIFY(bIsHigh());
        w->runUntil(kernel::Time(40ms));
        QVERIFY(bIsHigh());
    }

    // Whatever a supply symbol is set to.
    void aSupplyHasTheVoltageThatItIsSetTo()
    {
        for (const auto& [kind, text, expected] : {std::tuple("supply-5v", "12V", 12.0), {"supply-5v", "-5V", -5.0}, {"supply-3v3", "1.8V", 1.8}, {"supply-3v3", "3.3V", 3.3}}) {
            auto w = rig({{"v", kind, std::string("voltage = \"") + text + "\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1k\", power = \"2\""}}, {{"v.V", "r.1"}, {"r.2", "g.V"}});
            QVERIFY(near(volts(*w, "v", "V"), expected, 1e-12));
            QVERIFY(std::none_of(w->findings().begin(), w->findings().end(), [](const Finding& f) { return f.severity == Severity::error; }));
        }
    }

    void anInductorHasTheLossThatItIsSetTo()
    {
        // Switched off, the current goes through the loss alone: I R.
        for (const double loss : {1e3, 20e3}) {
            auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"k", "push-button", "bounce = \"off\""}, {"l", "inductor", "inductance = \"100m\", winding = \"100\", loss = \"" + std::to_string(loss) + "\""}}, {{"v.V", "k.1"}, {"k.2", "l.1"}, {"l.2", "g.V"}});
            set(*w, "k", "pressed", 1);
            w->runUntil(kernel::Time(100ms));
            set(*w, "k", "pressed", 0);
            const double expected = -0.05 * loss;
            QVERIFY2(near(volts(*w, "l", "1"), expected, -0.01 * expected), qPrintable(QString::number(volts(*w, "l", "1"))));
        }
    }

    void aMultimeterReads()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1k\""}, {"m", "multimeter", ""}, {"x", "resistor", "resistance = \"4k7\""}, {"n", "multimeter", ""}},
                       {{"v.V", "m.+"}, {"m.COM", "r.1"}, {"r.2", "g.V"}, {"n.+", "x.1"}, {"n.COM", "x.2"}});
        set(*w, "m", "mode", 1);
        QCOMPARE(w->part("m")->face(), "5 mA");
        set(*w, "n", "mode", 2);
        QCOMPARE(w->part("n")->face(), "4.7 kΩ");
        set(*w, "n", "mode", 3);
        QCOMPARE(w->part("n")->face(), "open");
        set(*w, "m", "mode", 2);
        QCOMPARE(w->part("m")->face(), "powered");
    }

    void wrongSettingsNamePartAndSetting()
    {
        static const Catalogue catalogue = *Catalogue::loadInstalled();
        const auto error = [](const std::string& kind, const std::string& set) {
            const auto world = World::build(*parseDocument("t", "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"x\"\nkind = \"" + kind + "\"\nat = [0, 0]\nset = { " + set + " }\n"), catalogue, {}, nullptr);
            return world ? std::string("no error") : world.error().text();
        };
        QCOMPARE(error("capacitor", "capacitance = \"100n\""), "no error");
        QCOMPARE(error("capacitor", "capacitance = \"much\""), "x.capacitance: cannot read \"much\": expected a capacitance, such as 100n or 10uF");
        QCOMPARE(error("led", "forward = \"90V\""), "x.forward: 90 V; expected 500 mV to 20 V; \"typical\" is a value too");
        QCOMPARE(error("generator", "wave = \"file\", file = \"absent.csv\""), "x.file: \"absent.csv\" cannot be read: no such file; expected lines of seconds and volts");
        QCOMPARE(error("nmos", "threshold = \"5V\""), "x.drive: is not above the threshold; expected the gate voltage at which the on-resistance holds");
    }
};

QTEST_GUILESS_MAIN(AnalogPartsTest)
#include "analog_parts_test.moc"
