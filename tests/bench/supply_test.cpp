// What chips and modules take from their supply, and what a weak supply does under it, against Ohm's law and the datasheets' figures.
#include <QtTest>

#include <cmath>

#include "chip/avr/chip.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

using Strings = std::vector<std::string>;

bool near(double actual, double expected, double share) { return std::fabs(actual - expected) <= share * std::fabs(expected); }

}  // namespace

class SupplyTest : public QObject {
    Q_OBJECT

    Catalogue catalogue_ = *Catalogue::loadInstalled();
    QTemporaryDir folder_;

    // Parts as "id kind rest", wires as "a.p b.q"; firmware for the part "m" in opcodes.
    std::unique_ptr<World> build(const Strings& parts, const Strings& wires, const QList<int>& code = {})
    {
        std::string text = "bramix = 1\ntitle = \"test\"\n";
        int x = 0;
        for (const std::string& p : parts) {
            const std::size_t a = p.find(' '), b = p.find(' ', a + 1);
            text += "[[part]]\nid = \"" + p.substr(0, a) + "\"\nkind = \"" + p.substr(a + 1, b == std::string::npos ? b : b - a - 1) + "\"\nat = [" + std::to_string(x += 40) + ", 0]\n";
            if (p[0] == 'm' && !code.isEmpty())
                text += "firmware = \"m.bin\"\n";
            if (b != std::string::npos)
                text += p.substr(b + 1) + "\n";
        }
        for (const std::string& w : wires)
            text += "[[wire]]\nends = [\"" + w.substr(0, w.find(' ')) + "\", \"" + w.substr(w.find(' ') + 1) + "\"]\ncolor = \"ink\"\n";
        QFile out(folder_.filePath("m.bin"));
        if (!out.open(QIODevice::WriteOnly))
            qFatal("cannot write");
        for (const int word : code)
            out.write(QByteArray(1, static_cast<char>(word)) + QByteArray(1, static_cast<char>(word >> 8)));
        out.close();
        const auto document = parseDocument("test", text);
        if (!document)
            qFatal("%s", document.error().text().c_str());
        auto world = World::build(*document, catalogue_, {.folder = folder_.path().toStdString()}, nullptr);
        if (!world)
            qFatal("%s", world.error().text().c_str());
        return std::move(*world);
    }
    static double volts(const World& world, const PinRef& pin) { return world.circuit().voltage(world.circuit().netOf(*world.pin(pin))).value; }
    static bool found(const World& world, const std::string& rule)
    {
        const auto all = world.findings();
        return std::any_of(all.begin(), all.end(), [&](const Finding& f) { return f.rule == rule; });
    }

private slots:
    // ATmega328P as shipped, 1 MHz: 5.2 mA at 8 MHz and 5 V is 0.13 mA a volt and megahertz. A battery of 5 V behind 100 ohms, and a pin that holds 470 ohms
    // up behind its own 25: V = 5 / (1 + 100 (G + 1 / 495)).
    void aChipLoadsItsBattery()
    {
        const Strings wires{"b.+ m.VCC", "b.- g.V", "g.V m.GND", "m.PB0 r.1", "r.2 g.V"};
        const Strings parts{"b battery set = { voltage = \"5V\", inner = \"100\" }", "g ground", "m atmega328p", "r resistor set = { resistance = \"470\" }"};
        const auto still = build(parts, wires, {0xCFFF});
        still->runUntil(kernel::Time(100ms));
        QVERIFY(near(volts(*still, {"m", "VCC"}), 5 / (1 + 100 * 0.13e-3), 1e-3));
        const auto driven = build(parts, wires, {0xE001, 0xB904, 0xB905, 0xCFFF});
        driven->runUntil(kernel::Time(100ms));
        const double expected = 5 / (1 + 100 * (0.13e-3 + 1.0 / 495));
        const double v = volts(*driven, {"m", "VCC"});
        QVERIFY2(near(v, expected, 2e-3), qPrintable(QString("%1, expected %2").arg(v).arg(expected)));
        // Kirchhoff at the three leads of that wire: the battery gives what the chip takes, and of that the resistor gets its part.
        QVERIFY(near(-*driven->leadAmps({"b", "+"}), (5 - v) / 100, 1e-6));
        QVERIFY(near(*driven->leadAmps({"m", "VCC"}), (5 - v) / 100, 1e-6));
        QVERIFY(near(driven->chipAmps(0), (5 - v) / 100, 5e-3));
        QVERIFY(near(*driven->leadAmps({"r", "1"}), v / 495, 1e-2));
        QVERIFY(near(*driven->leadAmps({"r", "2"}), -*driven->leadAmps({"r", "1"}), 1e-9));
        QVERIFY(near(-*driven->leadAmps({"m", "PB0"}), *driven->leadAmps({"r", "1"}), 1e-9));
        QVERIFY(!driven->leadAmps({"m", "GND"}) && !driven->leadAmps({"x", "1"}));
    }

    // Asleep in power-down (SMCR = 5, SLEEP): 0.1 µA at 3 V. What has been taken adds up: the first thousand-odd cycles awake hardly count in a second.
    void sleepTakesNextToNothing()
    {
        const Strings parts{"v supply-3v3", "g ground", "m atmega328p"}, wires{"v.V m.VCC", "g.V m.GND"};
        const auto asleep = build(parts, wires, {0xE005, 0xBF03, 0x9588, 0xCFFF});
        asleep->runUntil(kernel::Time(100ms));
        QVERIFY(chip::avr::chipOf(*asleep->chips()[0].chip).cpu().sleeping);
        QVERIFY(near(asleep->chipAmps(0), 0.1e-6 / 3 * 3.3, 1e-6));
        const auto awake = build(parts, wires, {0xCFFF});
        awake->runUntil(kernel::Time(100ms));
        const double before = awake->chips()[0].chip->chargeTaken();
        awake->runUntil(kernel::Time(1100ms));
        QVERIFY(near(awake->chips()[0].chip->chargeTaken() - before, 0.13e-3 * 3.3, 1e-3));
        QVERIFY(near(-*awake->leadAmps({"v", "V"}), 0.13e-3 * 3.3, 1e-3));
    }

    // Pins that light more than the battery can give pull the chip's own supply down to its brown-out level; it resets, and begins anew.
    void aChipBrownsItselfOut()
    {
        const auto lit = [this](const char* inner) {
            return build({std::string("b battery set = { voltage = \"5V\", inner = \"") + inner + "\" }", "g ground", "m atmega328p set = { BODLEVEL = \"4\" }", "r resistor set = { resistance = \"150\" }"},
                         {"b.+ m.VCC", "b.- g.V", "g.V m.GND", "m.PB0 r.1", "r.2 g.V"}, {0xE001, 0xB904, 0xB905, 0xCFFF});
        };
        const auto weak = lit("50"), strong = lit("5");  // 4.3 V; 5 / (1 + 50 / 175) is 3.9 V
        weak->runUntil(kernel::Time(500ms));
        strong->runUntil(kernel::Time(500ms));
        QVERIFY(found(*weak, "brown-out"));
        QVERIFY(!found(*strong, "brown-out"));
    }

    // A servo takes 6 mA at rest and 200 mA more while it turns, both at 5 V.
    void aServoPullsItsSupplyDownWhileItTurns()
    {
        // Pulses of 2 ms from power-up on: from the middle to the end, 90 degrees at 60 in 120 ms.
        const auto world = build({"b battery set = { voltage = \"5V\", inner = \"2\" }", "g ground", "s servo set = { least = \"1ms\", most = \"2ms\" }", "w generator set = { wave = \"pulse\", frequency = \"50Hz\", duty = \"10\" }"},
                                 {"b.+ s.VCC", "b.- g.V", "s.GND g.V", "w.S s.SIG", "w.GND g.V"});
        double least = 9, most = 0;
        for (int i = 0; i < 400; ++i) {
            world->runUntil(world->now() + 1ms);
            least = std::min(least, volts(*world, {"s", "VCC"}));
            most = std::max(most, volts(*world, {"s", "VCC"}));
        }
        QVERIFY2(near(most, 5 / (1 + 2 * 0.006 / 5), 1e-4), qPrintable(QString::number(most)));
        QVERIFY2(near(least, 5 / (1 + 2 * 0.206 / 5), 1e-4), qPrintable(QString::number(least)));
        QVERIFY(near(volts(*world, {"s", "VCC"}), most, 1e-6));
    }

    // The pull-up is a setting: against 35 kohm to ground a pin's pull-up of 20 kohm gives 5 * 35 / 55.
    void aPullUpIsWhatTheSettingSays()
    {
        const auto at = [this](const char* ohms) {
            const auto world = build({std::string("m briar-328 set = { pull-up = \"") + ohms + "\" }", "r resistor set = { resistance = \"35k\" }"}, {"m.PB0 r.1", "r.2 m.GND"}, {0xE001, 0xB905, 0xCFFF});
            world->runUntil(kernel::Time(100ms));
            return volts(*world, {"m", "PB0"});
        };
        QVERIFY(near(at("20k"), 5 * 35.0 / 55, 1e-6));
        QVERIFY(near(at("50k"), 5 * 35.0 / 85, 1e-6));
        const auto document = parseDocument("t", "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"m\"\nkind = \"briar-328\"\nat = [0, 0]\nset = { pull-up = \"3k\" }\n");
        const auto world = World::build(*document, catalogue_, {}, nullptr);
        QVERIFY(!world && world.error().text().find("m.pull-up") == 0 && world.error().text().find("20 kΩ to 50 kΩ") != std::string::npos);
    }
};

QTEST_GUILESS_MAIN(SupplyTest)
#include "supply_test.moc"
