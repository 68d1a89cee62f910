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
};

QTEST_GUILESS_MAIN(SeriesResistorTest)
#include "series_resistor_test.moc"
