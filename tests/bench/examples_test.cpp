// Every example runs and does what it says.
#include <QtTest>

#include <cmath>
#include <filesystem>

#include "bench/geometry.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using kernel::Time;
using namespace std::chrono_literals;

class ExamplesTest : public QObject, private WorldObserver {
    Q_OBJECT

private:
    std::string said_;
    void edge(NetId, NetState, Time, Cause) override {}
    void serialByte(std::size_t, std::uint8_t byte, bool, bool fromChip, Time) override
    {
        if (fromChip)
            said_ += static_cast<char>(byte);
    }
    void finding(const Finding&) override {}
    void interrupt(std::size_t, std::uint8_t, Time) override {}

    std::unique_ptr<World> open(const std::string& name)
    {
        static const Catalogue catalogue = *Catalogue::loadInstalled();
        said_.clear();
        const std::string folder = shareFolder() + "/benches/" + name;
        const auto document = loadDocument(folder + "/bench.toml");
        if (!document)
            qFatal("%s", document.error().text().c_str());
        if (const auto ok = checkDocument(*document, catalogue, name); !ok)
            qFatal("%s", ok.error().text().c_str());
        auto world = World::build(*document, catalogue, {.folder = folder}, this);
        if (!world)
            qFatal("%s", world.error().text().c_str());
        return std::move(*world);
    }
    static std::string face(const World& w, const char* part) { return w.part(part)->face(); }
    static void set(World& w, const char* part, const char* control, double value) { QVERIFY(w.setControl(part, control, value).has_value()); }

private slots:
    // What is drawn can be followed: no wire goes on behind the body of a part. Next to an end it may: pads lie within their boards.
    void noWireRunsBehindAPart()
    {
        const Catalogue catalogue = *Catalogue::loadInstalled();
        QStringList behind;
        for (const auto& entry : std::filesystem::directory_iterator(shareFolder() + "/benches")) {
            const auto document = loadDocument(entry.path().string() + "/bench.toml");
            QVERIFY(document.has_value());
            const auto paths = wirePaths(*document, catalogue);
            for (std::size_t w = 0; w < paths.size(); ++w)
                for (const PartItem& part : document->parts) {
                    const PartKind& kind = *catalogue.find(part.kind);
                    if (kind.id.starts_with("breadboard") || paths[w].empty())
                        continue;
                    const GridRect body = bodyRect(part, kind);
                    const auto away = [&](GridPoint p, GridPoint end) { return std::abs(p.x - end.x) + std::abs(p.y - end.y) > 2; };
                    for (std::size_t i = 1; i < paths[w].size(); ++i) {
                        const GridPoint a = paths[w][i - 1], b = paths[w][i];
                        const int steps = std::abs(b.x - a.x) + std::abs(b.y - a.y);
                        for (int k = 0; k <= steps && steps > 0; ++k) {
                            const GridPoint p{a.x + (b.x - a.x) * k / steps, a.y + (b.y - a.y) * k / steps};
                            if (p.x > body.left && p.x < body.right && p.y > body.top && p.y < body.bottom && away(p, paths[w].front()) && away(p, paths[w].back()))
                                behind << QString::fromStdString(entry.path().filename().string() + ": " + document->wires[w].from.text() + " to " + document->wires[w].to.text() + " behind " + part.id);
                        }
                    }
                }
        }
        behind.removeDuplicates();
        QVERIFY2(behind.isEmpty(), qPrintable(behind.join("\n")));
    }

    // None has anything to find fault with before it runs.
    void noneHasAnError()
    {
        int count = 0;
        for (const auto& entry : std::filesystem::directory_iterator(shareFolder() + "/benches")) {
            const std::string name = entry.path().filename().string();
            const auto world = open(name);
            for (const Finding& f : world->findings())
                QVERIFY2(f.severity != Severity::error || !f.muted.empty(), (name + ": " + f.message).c_str());
            world->runUntil(Time(500ms));
            for (const Finding& f : world->findings())
                QVERIFY2(f.severity == Severity::note || !f.muted.empty(), (name + ": " + f.message).c_str());
            ++count;
        }
        QVERIFY(count >= 8);
    }

    void withyLockPassesABoat()
    {
        const auto w = open("withy-lock");
        set(*w, "level", "level", 0.6);
        w->runUntil(Time(1s));
        QCOMPARE(face(*w, "panel"), "boats stop      \nchamber 1.2 m   ");
        QVERIFY(std::fabs(*w->part("paddle")->angle()) < 2);
        QCOMPARE(face(*w, "horn"), "silent");
        set(*w, "keeper", "pressed", 1);
        w->runUntil(Time(1200ms));
        QCOMPARE(face(*w, "horn"), "2.3 kHz");
        set(*w, "keeper", "pressed", 0);
        w->runUntil(Time(2s));
        QVERIFY(face(*w, "panel").starts_with("paddle opens"));
        QVERIFY(std::fabs(*w->part("paddle")->angle() - 90) < 2);
        QCOMPARE(face(*w, "horn"), "silent");
        w->runUntil(Time(3s));
        QVERIFY(face(*w, "panel").starts_with("boats go"));
        set(*w, "upper", "position", 1);
        w->runUntil(Time(3500ms));
        QVERIFY(face(*w, "panel").starts_with("boats stop"));
        QVERIFY(std::fabs(*w->part("paddle")->angle()) < 2);
        QVERIFY(said_.find("boats go, passage 1") != std::string::npos && said_.find("gate opened, boats stop") != std::string::npos);
    }

    // High water is every 12 h 25 min after 2:40 on the first: at six o'clock it falls, and comes again at 15:05.
    void tideClockTellsTheWater()
    {
        const auto w = open("tide-clock");
        w->runUntil(Time(3500ms));
        const std::string text = face(*w, "panel");
        QVERIFY2(text.starts_with("Saltmarsh           \n01.03.2026  06:00:03\n"), text.c_str());
        QVERIFY2(text.find(" m, falling") != std::string::npos && text.ends_with("high water at 15:05 "), text.c_str());
        // 200 minutes after high water: 0.6 m + 4.2 m (1 + cos(2 pi 200/745)) / 2 = 2.5 m.
        const std::size_t at = text.find(" m, ");
        QVERIFY2(std::fabs(std::stod(text.substr(at - 4, 4)) - 2.47) < 0.1, text.c_str());
        QVERIFY(said_.starts_with("06:00 "));
    }

    // The key 6 is the seventh: six semitones above A4 at 440 Hz, and the fourth light.
    void handBellsSoundAndShine()
    {
        const auto w = open("hand-bells");
        w->runUntil(Time(50ms));
        QCOMPARE(face(*w, "horn"), "silent");
        set(*w, "keys", "6", 1);
        w->runUntil(Time(200ms));
        const double hertz = std::stod(face(*w, "horn"));
        QVERIFY2(std::fabs(hertz / (440 * std::pow(2, 6 / 12.0)) - 1) < 2e-3, face(*w, "horn").c_str());
        QCOMPARE(face(*w, "strip"), "000000 000000 000000 DC3C00 000000 000000 000000 000000");
        set(*w, "keys", "6", 0);
        w->runUntil(Time(300ms));
        QCOMPARE(face(*w, "horn"), "silent");
        QCOMPARE(face(*w, "strip"), "000000 000000 000000 000000 000000 000000 000000 000000");
    }

    // A call goes over one line, the boat over the other; it takes a second and a half, and lies at one landing at a time.
    void ferryLandingsCallTheBoat()
    {
        const auto w = open("ferry-landings");
        const auto lit = [&](const char* lamp) { return w->part(lamp)->mainElement() && w->circuit().watts(*w->part(lamp)->mainElement()) > 1e-3; };
        w->runUntil(Time(100ms));
        QVERIFY(lit("south-boat") && !lit("north-boat"));
        set(*w, "north-rope", "pressed", 1);
        w->runUntil(Time(300ms));
        set(*w, "north-rope", "pressed", 0);
        QCOMPARE(said_, std::string("call\n"));
        int blinks = 0;
        for (bool last = lit("south-called"); w->now() < Time(2300ms);) {
            w->runUntil(w->now() + 10ms);
            blinks += lit("south-called") && !last ? 1 : 0;
            last = lit("south-called");
        }
        QVERIFY2(blinks >= 7 && blinks <= 9, std::to_string(blinks).c_str());  // every 256 ms
        set(*w, "south-rope", "pressed", 1);
        w->runUntil(Time(2500ms));
        set(*w, "south-rope", "pressed", 0);
        QCOMPARE(said_, std::string("call\nboat\n"));
        QVERIFY(!lit("south-boat") && !lit("north-boat") && !lit("south-called"));
        w->runUntil(Time(3700ms));
        QVERIFY(!lit("north-boat"));
        w->runUntil(Time(4000ms));
        QVERIFY(lit("north-boat") && !lit("south-boat"));
    }

    void mothTrapShinesByNight()
    {
        const auto w = open("moth-trap");
        const auto amps = [&] {
            const auto element = *w->part("lamp")->mainElement();
            const double before = w->circuit().charge(element);
            const Time from = w->now();
            w->runUntil(from + 100ms);
            return (w->circuit().charge(element) - before) / 0.1;
        };
        set(*w, "dusk", "light", 1000);
        w->runUntil(Time(1s));
        QVERIFY(amps() < 1e-5);
        set(*w, "dusk", "light", 1);
        w->runUntil(Time(2s));
        const double rising = amps();
        w->runUntil(Time(5s));
        const double full = amps();
        QVERIFY2(rising > 0.001 && full > 1.4 * rising && full > 0.008, qPrintable(QString("%1 %2").arg(rising).arg(full)));
        set(*w, "dusk", "light", 1000);
        w->runUntil(w->now() + 500ms);
        QVERIFY(amps() < 1e-5);
    }
};

QTEST_GUILESS_MAIN(ExamplesTest)
#include "examples_test.moc"
