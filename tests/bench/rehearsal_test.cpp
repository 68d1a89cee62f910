// Floating inputs are told of firmware that has not run yet.
#include <QtTest>

#include "bench/rehearsal.h"

using namespace bramix;
using namespace bramix::bench;

class RehearsalTest : public QObject {
    Q_OBJECT

private slots:
    // in r16, PINB, over and over, at byte address 4; with and without the pull-up of PB0 switched on before.
    void aKeyWithoutPullUpIsToldBeforeItRuns()
    {
        const Catalogue catalogue = *Catalogue::loadInstalled();
        QTemporaryDir folder;
        const auto image = [&](const char* name, std::initializer_list<int> words) {
            QFile out(folder.filePath(name));
            if (!out.open(QIODevice::WriteOnly))
                qFatal("cannot write");
            for (const int word : words)
                out.write(QByteArray(1, static_cast<char>(word)) + QByteArray(1, static_cast<char>(word >> 8)));
        };
        image("bare.bin", {0xE001, 0x0000, 0xB103, 0xCFFE});
        image("pulled.bin", {0xE001, 0xB905, 0xB103, 0xCFFE});
        const auto told = [&](const char* firmware, const char* ends) {
            const std::string text = std::string("bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"m\"\nkind = \"briar-328\"\nat = [0, 0]\n") + (*firmware != 0 ? "firmware = \"" + std::string(firmware) + "\"\n" : "")
                + "[[part]]\nid = \"k\"\nkind = \"push-button\"\nat = [40, 0]\n[[wire]]\nends = [\"k.1\", \"" + ends + "\"]\ncolor = \"ink\"\n[[wire]]\nends = [\"k.2\", \"m.GND\"]\ncolor = \"ink\"\n";
            const auto document = parseDocument("t", text);
            if (!document)
                qFatal("%s", document.error().text().c_str());
            return rehearse(*document, catalogue, {.folder = folder.path().toStdString()});
        };
        const auto floats = told("bare.bin", "m.PB0");
        QVERIFY(!floats.empty());
        QCOMPARE(floats[0].where, "m.PB0");
        QCOMPARE(floats[0].code.value_or(0), 4U);
        QVERIFY(floats[0].time < kernel::Time(std::chrono::milliseconds(20)) && floats[0].wiring);
        const auto tells = [](const std::vector<Finding>& all, const char* where) { return std::any_of(all.begin(), all.end(), [&](const Finding& f) { return f.where == where; }); };
        QVERIFY(!tells(told("pulled.bin", "m.PB0"), "m.PB0"));
        QVERIFY(!tells(told("bare.bin", "m.PD3"), "m.PD3"));  // another pin than those that are read
        QVERIFY(told("", "m.PB0").empty());
        QVERIFY(told("absent.bin", "m.PB0").empty());
    }
};

QTEST_GUILESS_MAIN(RehearsalTest)
#include "rehearsal_test.moc"
