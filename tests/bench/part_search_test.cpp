// What people type when they look for a part, and what must come first.
#include <QtTest>

#include "bench/part_search.h"

using namespace bramix::bench;

class PartSearchTest : public QObject {
    Q_OBJECT

private slots:
    void initTestCase()
    {
        auto loaded = Catalogue::loadInstalled();
        QVERIFY(loaded);
        catalogue_ = std::move(*loaded);
    }

    void theFirstHitIsWhatWasMeant_data()
    {
        QTest::addColumn<QString>("typed");
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("value");  // "name=value", where one was typed
        const auto row = [](const char* typed, const char* kind, const char* value = "") { QTest::newRow(typed) << typed << kind << value; };
        row("rgb", "rgb-led");
        row("color led", "rgb-led");
        row("colour led", "rgb-led");
        row("16x2", "character-display");
        row("lcd i2c", "character-display-i2c");
        row("generator", "generator");
        row("signal generator", "generator");
        row("220", "resistor", "resistance=220");
        row("resistor 160", "resistor", "resistance=160");
        row("4k7", "resistor", "resistance=4k7");
        row("100n", "capacitor", "capacitance=100n");
        row("capacitor 22p", "capacitor", "capacitance=22p");
        row("10mH", "inductor", "inductance=10mH");
        row("crystal 8MHz", "crystal", "frequency=8MHz");
        row("led", "led");
        row("lamp", "led");
        row("button", "push-button");
        row("pot", "potentiometer");
        row("Potentiometer 10k", "potentiometer", "resistance=10k");
        row("mosfet", "nmos");
        row("thermistor", "warmth-sensor");
        row("dmm", "multimeter");
        row("change over", "slide-switch");
        row("ds18b20", "ds18b20");
        row("power supply", "bench-supply");
    }
    void theFirstHitIsWhatWasMeant()
    {
        QFETCH(QString, typed);
        QFETCH(QString, kind);
        QFETCH(QString, value);
        const auto hits = searchParts(catalogue_.kinds(), typed.toStdString());
        QVERIFY(!hits.empty());
        QCOMPARE(QString::fromStdString(hits[0].kind->id), kind);
        QString set;
        for (const auto& [name, text] : hits[0].set)
            set += QString::fromStdString(name + "=" + text);
        QCOMPARE(set, value);
    }

    void whatNothingIsCalledFindsNothing()
    {
        for (const char* typed : {"zeppelin", "led zeppelin", "-5", "1e400", "0", "99999999999999999999"})
            QVERIFY2(searchParts(catalogue_.kinds(), typed).empty() || QByteArray(typed) == "0", typed);
    }

    void allAreListedForNothingTyped()
    {
        const auto hits = searchParts(catalogue_.kinds(), "  ");
        QCOMPARE(hits.size(), static_cast<std::size_t>(std::count_if(catalogue_.kinds().begin(), catalogue_.kinds().end(), [](const auto& entry) { return entry.second.listed; })));
    }

private:
    Catalogue catalogue_;
};

QTEST_GUILESS_MAIN(PartSearchTest)
#include "part_search_test.moc"
