// The resistor helper against the circuit itself, and preferred values against IEC 60063.
#include <QtTest>

#include "bench/series_resistor.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;

class SeriesResistorTest : public QObject {
    Q_OBJECT

private slots:
    void preferredValuesAreThoseOfTheStandard()
    {
        QCOMPARE(nearestPreferred(265, 12), 270.0);
        QCOMPARE(nearestPreferred(265, 24), 270.0);
        QCOMPARE(nearestPreferred(265, 96), 267.0);
        QCOMPARE(nearestPreferred(4990, 96), 4990.0);
        QCOMPARE(nearestPreferred(98, 12), 100.0);
        QCOMPARE(nearestPreferred(0.5, 24), 0.51);
        QCOMPARE(nearestPreferred(1e6, 12), 1e6);
    }

    // What it works out is what the circuit then does.
    void theCurrentIsTheOneThatFlows()
    {
        const Catalogue catalogue = *Catalogue::loadInstalled();
        const auto bench = [](const std::string& ohms) {
            return *parseDocument("t", "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\nat = [0, 0]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [9, 0]\n"
                                       "[[part]]\nid = \"d\"\nkind = \"led\"\nat = [2, 0]\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nat = [5, 0]\nset = { resistance = \"" + ohms + "\" }\n"
                                       "[[wire]]\nends = [\"v.V\", \"r.1\"]\ncolor = \"ink\"\n[[wire]]\nends = [\"r.2\", \"d.A\"]\ncolor = \"ink\"\n[[wire]]\nends = [\"d.K\", \"g.V\"]\ncolor = \"ink\"\n");
        };
        const Document before = bench("330");
        const auto world = *World::build(before, catalogue, {}, nullptr);
        const auto path = seriesPath(*world, before, catalogue, "d");
        QVERIFY(path);
        QCOMPARE(path->resistor, "r");
        QCOMPARE(path->volts, 5.0);
        QVERIFY(qAbs(path->ampsWith(330) - world->circuit().current(*world->part("d")->mainElement()).value) < 1e-6);
        const auto ohms = path->ohmsFor(0.010);
        QVERIFY(ohms);
        const Document after = bench(std::to_string(*ohms));
        const auto changed = *World::build(after, catalogue, {}, nullptr);
        QVERIFY(qAbs(changed->circuit().current(*changed->part("d")->mainElement()).value - 0.010) < 2e-6);
        QVERIFY(!path->ohmsFor(5.0));  // no resistance is small enough
    }

    // On a board: a lamp at an output, a second one at the same output, one that the output sinks. What is worked out is what flows.
    void lampsThatShareAnOutputAndOneThatItSinks()
    {
        const Catalogue catalogue = *Catalogue::loadInstalled();
        const std::string folder = shareFolder() + "/benches/withy-lock";
        Document d = *loadDocument(folder + "/bench.toml");
        const auto add = [&](const char* kind, const char* id) {
            d.parts.emplace_back();
            d.parts.back().id = id;
            d.parts.back().kind = kind;
        };
        const auto wire = [&](const PinRef& a, const PinRef& b) {
            d.wires.emplace_back();
            d.wires.back().from = a;
            d.wires.back().to = b;
        };
        for (const char* id : {"second", "sunk"})
            add("led", id);
        for (const char* id : {"rsecond", "rsunk"}) {
            add("resistor", id);
            d.parts.back().set["resistance"] = "100";
        }
        wire({"mcu", "PB2"}, {"rsecond", "1"});
        wire({"rsecond", "2"}, {"second", "A"});
        wire({"second", "K"}, {"mcu", "GND2"});
        wire({"mcu", "5V"}, {"rsunk", "1"});
        wire({"rsunk", "2"}, {"sunk", "A"});
        wire({"sunk", "K"}, {"mcu", "PB0"});
        WorldOptions options;
        options.folder = folder;
        const auto world = *World::build(d, catalogue, options, nullptr);
        world->runUntil(kernel::Time(std::chrono::milliseconds(200)));
        for (const auto& [led, ohms] : {std::pair("stop", 330.0), std::pair("second", 100.0), std::pair("sunk", 100.0)}) {
            const auto path = seriesPath(*world, d, catalogue, led);
            QVERIFY2(path, led);
            const double flows = world->circuit().current(*world->part(led)->mainElement()).value;
            QVERIFY2(flows > 0.003, led);
            QVERIFY2(qAbs(path->ampsWith(ohms) - flows) < 0.01 * flows, qPrintable(QString("%1: %2 against %3").arg(led).arg(path->ampsWith(ohms)).arg(flows)));
            QVERIFY2(qAbs(*path->ohmsFor(flows) - ohms) < 0.02 * ohms, led);
        }
    }
};

QTEST_GUILESS_MAIN(SeriesResistorTest)
#include "series_resistor_test.moc"
