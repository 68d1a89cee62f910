// What a board's supply pins give: by Ohm's law, with the limits and drops that its settings say.
#include <QtTest>

#include <cmath>

#include "bench/document.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

std::unique_ptr<World> rig(const std::string& boardSet, const std::string& parts, const std::vector<std::array<std::string, 2>>& wires)
{
    static const Catalogue catalogue = *Catalogue::loadInstalled();
    std::string text = "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nat = [0, 0]\nset = { " + boardSet + " }\n" + parts;
    for (const auto& [a, b] : wires)
        text += "[[wire]]\nends = [\"" + a + "\", \"" + b + "\"]\n";
    const auto document = parseDocument("t", text);
    if (!document)
        qFatal("%s", document.error().text().c_str());
    auto world = World::build(*document, catalogue, {}, nullptr);
    if (!world)
        qFatal("%s", world.error().text().c_str());
    (*world)->runUntil(kernel::Time(100ms));
    return std::move(*world);
}

std::string part(const char* id, const char* kind, const std::string& set) { return std::string("[[part]]\nid = \"") + id + "\"\nkind = \"" + kind + "\"\nat = [" + std::to_string(40 + static_cast<int>(id[0])) + ", 0]\nset = { " + set + " }\n"; }
std::string load(double ohms) { return part("r", "resistor", "resistance = \"" + std::to_string(ohms) + "\", power = \"100\""); }
double volts(const World& w, const char* p, const char* pin) { return w.circuit().voltage(w.circuit().netOf(*w.pin({p, pin}))).value; }
bool told(const World& w, const char* rule)
{
    const std::vector<Finding> all = w.findings();
    return std::any_of(all.begin(), all.end(), [&](const Finding& f) { return f.rule == rule && f.where == "mcu"; });
}

const std::vector<std::array<std::string, 2>> kOn5{{"mcu.5V", "r.1"}, {"r.2", "mcu.GND"}};
const std::vector<std::array<std::string, 2>> kOn3{{"mcu.3V3", "r.1"}, {"r.2", "mcu.GND"}};

}  // namespace

class BoardSupplyTest : public QObject {
    Q_OBJECT

private slots:
    void aLittleLoadChangesNothing()
    {
        const auto w = rig("", load(1000), kOn5);
        QCOMPARE(volts(*w, "mcu", "5V"), 5.0);
        QCOMPARE(volts(*w, "mcu", "3V3"), 3.3);
        QVERIFY(!told(*w, "supply-overload"));
    }

    // Cable and fuse: 5 V R / (R + 0.2).
    void usbSinksByItsResistance()
    {
        for (const double source : {0.2, 1.0}) {
            const auto w = rig("usb-limit = \"5A\", usb-resistance = \"" + std::to_string(source) + "\"", load(10), kOn5);
            QVERIFY2(std::fabs(volts(*w, "mcu", "5V") - 5 * 10 / (10 + source)) < 0.03, qPrintable(QString::number(volts(*w, "mcu", "5V"))));
            QVERIFY(!told(*w, "supply-overload"));
        }
    }

    // Beyond its limit it gives the limit: V = I R.
    void usbGivesNoMoreThanItsLimit()
    {
        for (const auto& [limit, ohms] : {std::pair(0.5, 5.0), {0.5, 8.0}, {0.1, 5.0}}) {
            const auto w = rig("usb-limit = \"" + std::to_string(limit) + "\"", load(ohms), kOn5);
            // Of the limit the board itself has some 10 to 20 mA.
            QVERIFY2(volts(*w, "mcu", "5V") < limit * ohms + 0.02 && volts(*w, "mcu", "5V") > (limit - 0.02) * ohms - 0.02, qPrintable(QString::number(volts(*w, "mcu", "5V"))));
            QVERIFY(told(*w, "supply-overload"));
        }
    }

    void theSmallRegulatorHasItsOwnLimit()
    {
        const auto good = rig("", load(33), kOn3);
        QCOMPARE(volts(*good, "mcu", "3V3"), 3.3);
        QVERIFY(!told(*good, "supply-overload"));
        const auto bad = rig("", load(11), kOn3);
        QVERIFY2(std::fabs(volts(*bad, "mcu", "3V3") - 0.15 * 11) < 0.05, qPrintable(QString::number(volts(*bad, "mcu", "3V3"))));
        QVERIFY(told(*bad, "supply-overload"));
    }

    void vinFeedsTheBoardThroughItsRegulator()
    {
        const auto on = [](const char* battery, const std::string& set, double ohms) {
            return rig("supply = \"VIN\"" + set, part("b", "battery", std::string("inner = \"0.1\", voltage = \"") + battery + "\"") + load(ohms), {{"b.+", "mcu.VIN"}, {"b.-", "mcu.GND2"}, {"mcu.5V", "r.1"}, {"r.2", "mcu.GND"}});
        };
        const auto nine = on("9V", "", 100);
        QCOMPARE(volts(*nine, "mcu", "5V"), 5.0);
        // What the board takes, its battery gives: 50 mA through a tenth of an ohm.
        QVERIFY(std::fabs(volts(*nine, "b", "+") - volts(*nine, "b", "-") - (9 - 0.005)) < 0.003);
        QVERIFY(!told(*nine, "regulator-hot"));
        const auto low = on("5.5V", "", 1000);
        QVERIFY2(std::fabs(volts(*low, "mcu", "5V") - 4.4) < 0.03, qPrintable(QString::number(volts(*low, "mcu", "5V"))));
        QVERIFY(told(*low, "supply-too-low"));
        // (12 V - 5 V) 250 mA are 1.75 W.
        QVERIFY(told(*on("12V", "", 20), "regulator-hot"));
        QVERIFY(!told(*on("12V", ", regulator-power = \"3W\"", 20), "regulator-hot"));
        QVERIFY(told(*on("24V", "", 1000), "supply-too-high"));
    }

    void vinTheWrongWayRoundIsNoSupply()
    {
        const auto w = rig("supply = \"VIN\"", part("b", "battery", ""), {{"b.-", "mcu.VIN"}, {"b.+", "mcu.GND2"}});
        QVERIFY(told(*w, "supply-reversed"));
        QVERIFY(volts(*w, "mcu", "5V") < 0.1);
        const auto open = rig("supply = \"VIN\"", "", {});
        QVERIFY(told(*open, "no-supply"));
        QVERIFY(open->chips()[0].chip->inReset());
    }

    // Back in time the supply stands where it stood.
    void goingBackGoesBackToItsVoltage()
    {
        const auto w = rig("", part("k", "push-button", "bounce = \"off\"") + load(5), {{"mcu.5V", "k.1"}, {"k.2", "r.1"}, {"r.2", "mcu.GND"}});
        const auto before = w->remember();
        QCOMPARE(volts(*w, "mcu", "5V"), 5.0);
        QVERIFY(w->setControl("k", "pressed", 1));
        w->runUntil(kernel::Time(200ms));
        const double low = volts(*w, "mcu", "5V");
        QVERIFY(low < 3);
        const auto after = w->remember();
        w->recall(*before);
        QCOMPARE(volts(*w, "mcu", "5V"), 5.0);
        QCOMPARE(w->chips()[0].chip->supplyVolts(), 5.0);
        w->recall(*after);
        QCOMPARE(volts(*w, "mcu", "5V"), low);
        QCOMPARE(w->chips()[0].chip->supplyVolts(), low);
    }
};

QTEST_GUILESS_MAIN(BoardSupplyTest)
#include "board_supply_test.moc"
