// Figures that stand on the pages of parts, each against what the part then does; and ranges of settings, on both sides of their ends.
#include <QtTest>

#include <cmath>

#include "bench/document.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

const Catalogue& catalogue()
{
    static const Catalogue loaded = *Catalogue::loadInstalled();
    return loaded;
}

kernel::Result<std::unique_ptr<World>> build(const std::vector<std::array<std::string, 3>>& parts, const std::vector<std::array<std::string, 2>>& wires)
{
    std::string text = "bramix = 1\ntitle = \"t\"\n";
    int x = 0;
    for (const auto& [id, kind, set] : parts)
        text += "[[part]]\nid = \"" + id + "\"\nkind = \"" + kind + "\"\nat = [" + std::to_string(x += 9) + ", 0]\nset = { " + set + " }\n";
    for (const auto& [a, b] : wires)
        text += "[[wire]]\nends = [\"" + a + "\", \"" + b + "\"]\ncolor = \"ink\"\n";
    const auto document = parseDocument("t", text);
    if (!document)
        return tl::unexpected(document.error());
    if (auto good = checkDocument(*document, catalogue(), "t"); !good)
        return tl::unexpected(good.error());
    return World::build(*document, catalogue(), {}, nullptr);
}

std::unique_ptr<World> rig(const std::vector<std::array<std::string, 3>>& parts, const std::vector<std::array<std::string, 2>>& wires)
{
    auto world = build(parts, wires);
    if (!world)
        qFatal("%s", world.error().text().c_str());
    return std::move(*world);
}

double volts(const World& w, const char* part, const char* pin) { return w.circuit().voltage(w.circuit().netOf(*w.pin({part, pin}))).value; }
double amps(const World& w, const char* part) { return w.circuit().current(*w.part(part)->mainElement()).value; }
bool near(double actual, double expected, double tolerance) { return std::fabs(actual - expected) <= tolerance; }

// The gravest that was told by a rule.
std::optional<Severity> told(const World& w, const char* rule)
{
    std::optional<Severity> worst;
    for (const Finding& f : w.findings())
        if (f.rule == rule && (!worst || f.severity > *worst))
            worst = f.severity;
    return worst;
}

}  // namespace

class FiguresTest : public QObject {
    Q_OBJECT

private slots:
    void aSettingIsTakenUpToItsEndsAndNoFarther_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        QTest::addColumn<QString>("good");
        QTest::addColumn<QString>("bad");
        const auto row = [](const char* kind, const char* name, const char* good, const char* bad) { QTest::addRow("%s %s %s", kind, name, bad) << kind << name << good << bad; };
        row("led", "breakdown", "1", "0.9");
        row("led", "breakdown", "500", "501");
        row("capacitor", "capacitance", "10", "10.5");
        row("capacitor", "capacitance", "1p", "0.9p");
        row("electrolytic", "voltage", "1", "0.9");
        row("electrolytic", "voltage", "100k", "101k");
        row("diode", "limit", "100u", "90u");
        row("diode", "limit", "1000", "1001");
        row("multimeter", "shunt", "100u", "90u");
        row("multimeter", "shunt", "100", "101");
        row("battery", "voltage", "0.1", "0.09");
        row("battery", "voltage", "1000", "1001");
        row("battery", "inner", "1m", "0.9m");
        row("current-source", "compliance", "0.1", "0.09");
        row("voltage-source", "voltage", "-30", "-31");
        row("voltage-source", "voltage", "30", "31");
        row("voltage-source", "limit", "1", "1.1");
        row("bench-supply", "voltage", "15", "15.5");
        row("bench-supply", "limit", "1m", "0.9m");
    }
    void aSettingIsTakenUpToItsEndsAndNoFarther()
    {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        QFETCH(QString, good);
        QFETCH(QString, bad);
        const auto with = [&](const QString& value) { return build({{"p", kind.toStdString(), (name + " = \"" + value + "\"").toStdString()}, {"g", "ground", ""}}, {}); };
        const auto taken = with(good);
        QVERIFY2(taken, taken ? "" : taken.error().text().c_str());
        const auto refused = with(bad);
        QVERIFY2(!refused, qPrintable(bad));
        QVERIFY2(refused.error().text().find(name.toStdString()) != std::string::npos, refused.error().text().c_str());
    }

    // On either side of zero, and at its limit on either side.
    void aVoltageSourceGoesBelowZero()
    {
        auto w = rig({{"s", "voltage-source", "voltage = \"-6\", limit = \"100m\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1k\", power = \"5\""}}, {{"s.+", "r.1"}, {"s.-", "g.V"}, {"r.2", "g.V"}});
        QVERIFY2(near(volts(*w, "s", "+"), -6, 1e-3), qPrintable(QString::number(volts(*w, "s", "+"))));
        QVERIFY(near(amps(*w, "r"), -6e-3, 1e-5));
        QVERIFY(w->setControl("s", "volts", 12).has_value());
        QVERIFY(near(volts(*w, "s", "+"), 12, 1e-3));
        QVERIFY(w->setControl("s", "volts", -30).has_value());
        QVERIFY(near(volts(*w, "s", "+"), -30, 1e-2));
        auto limited = rig({{"s", "voltage-source", "voltage = \"-6\", limit = \"100m\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"10\", power = \"5\""}}, {{"s.+", "r.1"}, {"s.-", "g.V"}, {"r.2", "g.V"}});
        QVERIFY2(near(volts(*limited, "s", "+"), -1, 0.02), qPrintable(QString::number(volts(*limited, "s", "+"))));
    }

    // At 20 mA what the page says; from 10 to 30 mA by the diode's equation and its series resistance.
    void anLedsForwardVoltageIsThatOfItsColour_data()
    {
        QTest::addColumn<double>("at20");
        QTest::addColumn<double>("ideality");
        QTest::addColumn<double>("ohms");
        QTest::newRow("red") << 1.95 << 1.8 << 6.0;
        QTest::newRow("amber") << 2.05 << 1.8 << 6.0;
        QTest::newRow("yellow") << 2.1 << 1.9 << 7.0;
        QTest::newRow("green") << 2.15 << 2.0 << 8.0;
        QTest::newRow("blue") << 3.15 << 2.6 << 10.0;
        QTest::newRow("white") << 3.15 << 2.6 << 10.0;
    }
    void anLedsForwardVoltageIsThatOfItsColour()
    {
        QFETCH(double, at20);
        QFETCH(double, ideality);
        QFETCH(double, ohms);
        const auto at = [&](const char* current) {
            auto w = rig({{"i", "current-source", std::string("current = \"") + current + "\""}, {"d", "led", std::string("color = \"") + QTest::currentDataTag() + "\""}, {"g", "ground", ""}}, {{"i.+", "d.A"}, {"i.-", "g.V"}, {"d.K", "g.V"}});
            return volts(*w, "d", "A");
        };
        QVERIFY2(near(at("20m"), at20, 0.005), qPrintable(QString::number(at("20m"))));
        constexpr double kThermal = 0.02585;
        const double expected = ideality * kThermal * std::log(3.0) + ohms * 0.020;
        QVERIFY2(near(at("30m") - at("10m"), expected, 0.004), qPrintable(QString("%1 %2").arg(at("30m") - at("10m")).arg(expected)));
    }

    // 0.01 CV: a hundredth of an ampere a volt and farad.
    void anElectrolyticLeaks()
    {
        auto w = rig({{"v", "voltage-source", "voltage = \"10\""}, {"g", "ground", ""}, {"r", "resistor", "resistance = \"1k\""}, {"c", "electrolytic", "capacitance = \"100u\", voltage = \"25\""}},
                     {{"v.+", "r.1"}, {"v.-", "g.V"}, {"r.2", "c.1"}, {"c.2", "g.V"}});
        w->runUntil(kernel::Time(5s));
        QVERIFY2(near(amps(*w, "r"), 10e-6, 0.3e-6), qPrintable(QString::number(amps(*w, "r"))));
    }

    void aMeterShowsTheDifferenceOfItsLeads()
    {
        auto w = rig({{"a", "voltage-source", "voltage = \"5\""}, {"b", "voltage-source", "voltage = \"3.3\""}, {"g", "ground", ""}, {"m", "multimeter", ""}}, {{"a.+", "m.+"}, {"b.+", "m.COM"}, {"a.-", "g.V"}, {"b.-", "g.V"}});
        QCOMPARE(w->part("m")->face(), "1.7 V");
    }

    void aPotentiometerSaysHowFarItWasTurned()
    {
        auto w = rig({{"p", "potentiometer", ""}, {"g", "ground", ""}}, {{"p.A", "g.V"}});
        QVERIFY(w->setControl("p", "position", 0.37).has_value());
        QVERIFY2(w->part("p")->why("W").find("37 %") != std::string::npos, w->part("p")->why("W").c_str());
    }

    // A split supply the wrong way round is told, the right way round it is not.
    void anAmplifierOnAReversedSplitSupplyIsTold()
    {
        for (const bool reversed : {false, true}) {
            auto w = rig({{"a", "voltage-source", reversed ? "voltage = \"-5\"" : "voltage = \"5\""}, {"b", "voltage-source", reversed ? "voltage = \"5\"" : "voltage = \"-5\""}, {"g", "ground", ""}, {"u", "op-amp", ""}},
                         {{"a.+", "u.V+"}, {"b.+", "u.V-"}, {"a.-", "g.V"}, {"b.-", "g.V"}, {"u.+", "g.V"}, {"u.-", "u.OUT"}});
            w->runUntil(kernel::Time(1ms));
            QCOMPARE(told(*w, "supply-reversed").has_value(), reversed);
        }
    }

    // Whatever has a supply and a ground of its own dies of having them the wrong way round, and is content the right way.
    void whatHasASupplyIsToldOfAReversedOne_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QStringList>("plus");
        QTest::addColumn<QString>("minus");
        int kinds = 0;
        for (const auto& [name, kind] : catalogue().kinds()) {
            QStringList plus, minus;
            if (kind.ideal)
                continue;
            for (const auto& pin : kind.pins) {
                if (pin.name == "VCC" || pin.name == "VDD" || pin.name == "VS" || pin.name == "V+" || pin.name == "VM")
                    plus << QString::fromStdString(pin.name);
                if (pin.name == "GND" || pin.name == "V-")
                    minus << QString::fromStdString(pin.name);
            }
            if (plus.isEmpty() || minus.isEmpty())
                continue;
            QTest::newRow(name.c_str()) << QString::fromStdString(name) << plus << minus.front();
            ++kinds;
        }
        QVERIFY(kinds > 35);
    }
    void whatHasASupplyIsToldOfAReversedOne()
    {
        QFETCH(QString, kind);
        QFETCH(QStringList, plus);
        QFETCH(QString, minus);
        for (const bool reversed : {true, false}) {
            std::vector<std::array<std::string, 2>> wires{{"v.-", "g.V"}, {reversed ? "v.+" : "g.V", "x." + minus.toStdString()}};
            for (const QString& pin : plus)
                wires.push_back({reversed ? "g.V" : "v.+", "x." + pin.toStdString()});
            auto w = rig({{"v", "voltage-source", "voltage = \"5\""}, {"g", "ground", ""}, {"x", kind.toStdString(), ""}}, wires);
            w->runUntil(kernel::Time(50ms));
            QCOMPARE(told(*w, "supply-reversed").has_value(), reversed);
        }
    }

    // A key that opens under a coil, and a key across a supply: both are errors.
    void whatDestroysIsAnError()
    {
        auto coil = rig({{"v", "battery", "voltage = \"9\""}, {"g", "ground", ""}, {"k", "push-button", "bounce = \"off\""}, {"l", "inductor", "inductance = \"100m\", loss = \"100k\""}, {"r", "resistor", "resistance = \"100\", power = \"5\""}},
                        {{"v.+", "k.1"}, {"k.2", "l.1"}, {"l.2", "r.1"}, {"r.2", "g.V"}, {"v.-", "g.V"}});
        QVERIFY(coil->setControl("k", "pressed", 1).has_value());
        coil->runUntil(kernel::Time(50ms));
        QVERIFY(coil->setControl("k", "pressed", 0).has_value());
        coil->runUntil(kernel::Time(60ms));
        QVERIFY(told(*coil, "coil-without-diode") == Severity::error);
        auto shorted = rig({{"v", "bench-supply", "voltage = \"12\", limit = \"2\""}, {"g", "ground", ""}, {"k", "push-button", "bounce = \"off\""}}, {{"v.V", "k.1"}, {"k.2", "g.V"}, {"v.GND", "g.V"}});
        QVERIFY(shorted->setControl("k", "pressed", 1).has_value());
        shorted->runUntil(kernel::Time(10ms));
        QVERIFY(told(*shorted, "supply-short") == Severity::error);
    }

    // A first-order thermal model with the time constant and the margin of docs/findings.md: a load of L ratings, put on at power-up, has heated it to its
    // margin m after -T ln(1 - m/L).
    void anOverloadedPartBurnsOutWhenItsModelSays_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("set");
        QTest::addColumn<double>("amps");
        QTest::addColumn<double>("load");    // that is so many times its rating
        QTest::addColumn<double>("seconds");
        QTest::addColumn<double>("margin");
        QTest::newRow("LED at five times") << "led" << "limit = \"20m\"" << 0.1 << 5.0 << 0.4 << 2.5;
        QTest::newRow("LED at three times") << "led" << "limit = \"20m\"" << 0.06 << 3.0 << 0.4 << 2.5;
        QTest::newRow("diode") << "diode" << "limit = \"100m\"" << 0.5 << 5.0 << 0.5 << 3.0;
        QTest::newRow("diode at four times") << "diode" << "limit = \"100m\"" << 0.4 << 4.0 << 0.5 << 3.0;
        QTest::newRow("resistor") << "resistor" << "resistance = \"100\", power = \"250m\"" << std::sqrt(1.25 / 100) << 5.0 << 2.0 << 3.0;  // by its power
    }
    void anOverloadedPartBurnsOutWhenItsModelSays()
    {
        QFETCH(QString, kind);
        QFETCH(QString, set);
        QFETCH(double, amps);
        QFETCH(double, load);
        QFETCH(double, seconds);
        QFETCH(double, margin);
        const std::string plus = kind == "resistor" ? "x.1" : "x.A", minus = kind == "resistor" ? "x.2" : "x.K";
        auto w = rig({{"s", "current-source", "compliance = \"40\", current = \"" + QString::number(amps, 'g', 12).toStdString() + "\""}, {"g", "ground", ""}, {"x", kind.toStdString(), set.toStdString()}}, {{"s.+", plus}, {"s.-", "g.V"}, {minus, "g.V"}});
        const double at = -seconds * std::log(1 - margin / load);
        const auto time = [&](double share) { return kernel::Time(kernel::Duration(static_cast<std::int64_t>(at * share * 1e12))); };
        w->runUntil(time(0.97));
        QVERIFY2(!w->part("x")->dead(), qPrintable(QString("dead before %1 s").arg(at)));
        QVERIFY(told(*w, "part-over-limit") == Severity::warning);
        w->runUntil(time(1.03));
        QVERIFY2(w->part("x")->dead(), qPrintable(QString("alive after %1 s").arg(at)));
        QVERIFY(told(*w, "part-destroyed") == Severity::error);
    }

    // A CD4511 takes what is above 70 % of its supply for high and what is below 30 % for low, and keeps what it was between: its lamp test lights all.
    void thresholdsGoWithTheSupply_data()
    {
        QTest::addColumn<double>("supply");
        QTest::newRow("5 V") << 5.0;
        QTest::newRow("10 V") << 10.0;
        QTest::newRow("15 V") << 15.0;
    }
    void thresholdsGoWithTheSupply()
    {
        QFETCH(double, supply);
        std::vector<std::array<std::string, 3>> parts{{"v", "bench-supply", ""}, {"t", "bench-supply", ""}, {"g", "ground", ""}, {"x", "cd4511", ""}, {"r", "resistor", "resistance = \"10k\""}};
        std::vector<std::array<std::string, 2>> wires{{"v.V", "x.VCC"}, {"v.GND", "g.V"}, {"t.GND", "g.V"}, {"x.GND", "g.V"}, {"t.V", "x.LT"}, {"x.a", "r.1"}, {"r.2", "g.V"}, {"g.V", "x.LE"}, {"v.V", "x.BL"}};
        // A "1": of its segments a is dark.
        wires.insert(wires.end(), {{"v.V", "x.A"}, {"g.V", "x.B"}, {"g.V", "x.C"}, {"g.V", "x.D"}});
        auto w = rig(parts, wires);
        QVERIFY(w->setControl("v", "volts", supply).has_value());
        const auto lights = [&](double share) {
            if (!w->setControl("t", "volts", supply * share))
                return false;
            w->runUntil(w->now() + 1ms);
            return volts(*w, "x", "a") > supply / 2;
        };
        QVERIFY(!lights(1));
        QVERIFY(!lights(0.31));
        QVERIFY(lights(0.29));
        QVERIFY(lights(0.69));
        QVERIFY(!lights(0.71));
        QVERIFY(!lights(0.5));
    }

    // R = R10 (lux / 10)^-gamma, from the setting's name: the resistance at 10 lux.
    void aLightSensorFollowsItsPower()
    {
        auto w = rig({{"v", "supply-5v", ""}, {"g", "ground", ""}, {"n", "light-sensor", ""}, {"r", "resistor", "resistance = \"10k\""}}, {{"v.V", "n.1"}, {"n.2", "r.1"}, {"r.2", "g.V"}});
        for (const double lux : {1.0, 10.0, 100.0, 1000.0}) {
            QVERIFY(w->setControl("n", "light", lux).has_value());
            const double ohms = 15e3 * std::pow(lux / 10, -0.7);
            QVERIFY2(near(volts(*w, "n", "2"), 5 * 10e3 / (10e3 + ohms), 1e-5), qPrintable(QString("%1 lx: %2 V").arg(lux).arg(volts(*w, "n", "2"))));
        }
    }

    // Volts across a battery with a meter set to amperes: told as it happens; the same meter set to volts takes nothing.
    void aMeterOfAmperesAcrossAVoltageIsTold()
    {
        auto w = rig({{"v", "battery", "voltage = \"9\", inner = \"1\""}, {"g", "ground", ""}, {"m", "multimeter", ""}}, {{"v.+", "m.+"}, {"v.-", "m.COM"}, {"v.-", "g.V"}});
        w->runUntil(kernel::Time(10ms));
        QVERIFY(!told(*w, "meter-short"));
        QVERIFY(w->setControl("m", "mode", 1).has_value());
        w->runUntil(kernel::Time(20ms));
        QVERIFY(told(*w, "meter-short") == Severity::error);
    }

    // A buzzer sounds at the frequency that it is given, from 20 Hz to 20 kHz, and nothing else.
    void aBuzzerSoundsWhatCanBeHeard()
    {
        for (const auto& [hertz, heard] : std::vector<std::pair<const char*, bool>>{{"12Hz", false}, {"25Hz", true}, {"440Hz", true}, {"15kHz", true}, {"30kHz", false}}) {
            auto w = rig({{"s", "generator", std::string("wave = \"square\", frequency = \"") + hertz + "\""}, {"x", "buzzer-passive", ""}, {"g", "ground", ""}}, {{"s.S", "x.+"}, {"s.GND", "x.-"}, {"s.GND", "g.V"}});
            w->runUntil(kernel::Time(400ms));
            const std::string face = w->part("x")->face();
            QVERIFY2((face.find("Hz") != std::string::npos) == heard, qPrintable(QString("%1: %2").arg(hertz, QString::fromStdString(face))));
        }
    }
};

QTEST_GUILESS_MAIN(FiguresTest)
#include "figures_test.moc"
