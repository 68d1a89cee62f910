// The bench that is drawn and the one that runs are one bench, or nothing runs.
#include <QtTest>

#include <QDir>
#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "session/live/live_session.h"
#include "session/session.h"

using namespace bramix;
using namespace bramix::session;
using namespace std::chrono_literals;

namespace {

const bench::Catalogue& catalogue()
{
    static const bench::Catalogue loaded = *bench::Catalogue::loadInstalled();
    return loaded;
}

bench::Document parse(const std::string& text)
{
    auto document = bench::parseDocument("t", text);
    if (!document)
        qFatal("%s", document.error().text().c_str());
    return *document;
}

// An LED behind a resistor, or straight across the supply.
bench::Document lamp(bool straight, const std::string& kind = "led")
{
    const std::string plus = kind == "led" ? "d.A" : "d.R", minus = kind == "led" ? "d.K" : "d.COM";
    return parse("bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\nat = [0, 0]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [9, 0]\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nat = [20, 0]\nset = { resistance = \"330\" }\n"
                 "[[part]]\nid = \"d\"\nkind = \"" + kind + "\"\nat = [30, 0]\n[[wire]]\nends = [\"v.V\", \"r.1\"]\n[[wire]]\nends = [\"" + std::string(straight ? "v.V" : "r.2") + "\", \"" + plus + "\"]\n[[wire]]\nends = [\"" + minus + "\", \"g.V\"]\n");
}

void put(const QString& file, const QByteArray& bytes)
{
    QFile out(file);
    QVERIFY(out.open(QIODevice::WriteOnly));
    out.write(bytes);
}

// sbi DDRB,0 ; rjmp .-2
const QByteArray kFirmware("\x20\x9A\xFF\xCF", 4);

bench::Document board(const std::string& firmware, bool wired)
{
    return parse("bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nat = [0, 0]\nfirmware = \"" + firmware + "\"\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nat = [40, 0]\n" +
                 (wired ? "[[wire]]\nends = [\"mcu.PB0\", \"r.1\"]\n[[wire]]\nends = [\"r.2\", \"mcu.GND\"]\n" : ""));
}

}  // namespace

class DrawnBenchTest : public QObject {
    Q_OBJECT

private slots:
    // A part that is rewired into an overload while it runs heats from then on, as one that was so from the beginning: an LED at half an ampere is gone within a second.
    void limitsHoldForEachWayInWhichAPartComesToBeThere_data()
    {
        QTest::addColumn<QString>("kind");
        for (const char* kind : {"led", "rgb-led", "two-color-led"})
            QTest::newRow(kind) << kind;
    }
    void limitsHoldForEachWayInWhichAPartComesToBeThere()
    {
        QFETCH(QString, kind);
        const auto burnt = [](Session& s) { 
            const std::vector<bench::Finding> all = s.world().findings();
            return std::any_of(all.begin(), all.end(), [](const bench::Finding& f) { return f.rule == "part-destroyed"; });
        };
        auto fromTheStart = Session::open(lamp(true, kind.toStdString()), catalogue(), {});
        QVERIFY(fromTheStart);
        (*fromTheStart)->advance(kernel::Time(2s));
        QVERIFY(burnt(**fromTheStart));
        auto rewired = Session::open(lamp(false, kind.toStdString()), catalogue(), {});
        QVERIFY(rewired);
        (*rewired)->advance(kernel::Time(100s));
        QVERIFY(!burnt(**rewired));
        QVERIFY((*rewired)->edit(lamp(true, kind.toStdString())));
        (*rewired)->advance(kernel::Time(100s) + 1ms);
        QVERIFY(!burnt(**rewired));  // it takes its time to heat
        (*rewired)->advance(kernel::Time(102s));
        QVERIFY(burnt(**rewired));
        // A new part begins at the present too.
        bench::Document other = lamp(true, kind.toStdString());
        auto fresh = Session::open(lamp(false, kind.toStdString()), catalogue(), {});
        (*fresh)->advance(kernel::Time(100s));
        other.part("d")->set["overload"] = "only warns";
        if (catalogue().find(kind.toStdString())->setting("overload") != nullptr) {
            QVERIFY((*fresh)->edit(other));
            (*fresh)->advance(kernel::Time(103s));
            QVERIFY(!(*fresh)->world().part("d")->dead());
        }
    }

    void firmwareThatIsGoneKeepsNoWireAway()
    {
        QTemporaryDir folder;
        put(folder.filePath("a.bin"), kFirmware);
        SessionOptions options;
        options.folder = folder.path().toStdString();
        auto s = Session::open(board("a.bin", false), catalogue(), options);
        QVERIFY(s);
        (*s)->advance(kernel::Time(100ms));
        const auto cycles = chip::avr::chipOf(*(*s)->world().chips()[0].chip).cpu().cycle;
        QVERIFY(QFile::remove(folder.filePath("a.bin")));
        QVERIFY((*s)->edit(board("a.bin", true)));
        QCOMPARE((*s)->world().circuit().netOf(*(*s)->world().pin({"mcu", "PB0"})), (*s)->world().circuit().netOf(*(*s)->world().pin({"r", "1"})));
        QVERIFY(chip::avr::chipOf(*(*s)->world().chips()[0].chip).cpu().cycle >= cycles);
        (*s)->advance(kernel::Time(200ms));
        QVERIFY(chip::avr::chipOf(*(*s)->world().chips()[0].chip).cpu().cycle > cycles);
        const auto findings = (*s)->findings();
        QVERIFY(std::any_of(findings.begin(), findings.end(), [](const bench::Finding& f) { return f.rule == "firmware-unreadable" && f.where == "mcu"; }));
    }

    // The file moves to another folder, and its firmware's path with it: what is drawn afterwards is there.
    void aBenchThatMovesFindsItsFirmware()
    {
        QTemporaryDir folder;
        QDir(folder.path()).mkpath("old");
        QDir(folder.path()).mkpath("new");
        put(folder.filePath("old/a.bin"), kFirmware);
        SessionOptions options;
        options.folder = folder.filePath("old").toStdString();
        auto s = Session::open(board("a.bin", false), catalogue(), options);
        QVERIFY(s);
        (*s)->advance(kernel::Time(100ms));
        const auto cycles = chip::avr::chipOf(*(*s)->world().chips()[0].chip).cpu().cycle;
        QVERIFY((*s)->edit(board("../old/a.bin", true), folder.filePath("new").toStdString()));
        QVERIFY(chip::avr::chipOf(*(*s)->world().chips()[0].chip).cpu().cycle >= cycles);
        const auto findings = (*s)->findings();
        QVERIFY(std::none_of(findings.begin(), findings.end(), [](const bench::Finding& f) { return f.rule == "firmware-unreadable"; }));
        QVERIFY((*s)->restart());
        QCOMPARE((*s)->world().circuit().netOf(*(*s)->world().pin({"mcu", "PB0"})), (*s)->world().circuit().netOf(*(*s)->world().pin({"r", "1"})));
    }

    void whatCannotBeBuiltStandsStillAndSaysSo()
    {
        LiveSession live(catalogue());
        live.open(lamp(false), "/");
        live.run();
        live.settle();
        QTRY_VERIFY(live.picture()->now > kernel::Time(10ms));
        bench::Document broken = lamp(false);
        broken.part("r")->set["resistance"] = "much";
        live.edit(broken);
        live.settle();
        QTRY_VERIFY(!live.picture()->notBuilt.empty());
        QTRY_VERIFY(!live.picture()->running);
        QCOMPARE(live.picture()->notBuilt, std::string("r.resistance: cannot read \"much\": expected a resistance, such as 330 or 4k7"));
        const kernel::Time stood = live.picture()->now;
        const auto holds = [&] {
            live.settle();
            QTest::qWait(60);
            return !live.picture()->notBuilt.empty() && live.picture()->now == stood && !live.picture()->running;
        };
        live.run();
        QVERIFY(holds());
        live.restart();
        QVERIFY(holds());
        live.step(Step::line);
        QVERIFY(holds());
        const auto shown = live.picture();
        QVERIFY(std::any_of(shown->findings.begin(), shown->findings.end(), [](const bench::Finding& f) { return f.rule == "bench-not-built"; }));
        live.edit(lamp(false));
        live.settle();
        QTRY_VERIFY(live.picture()->notBuilt.empty());
        live.run();
        QTRY_VERIFY(live.picture()->now > stood);
    }

    // Nothing outside the folder, through whatever it is named by.
    void aStrangersBenchReachesNothingOutside()
    {
        QTemporaryDir folder;
        QDir(folder.path()).mkpath("bench");
        put(folder.filePath("secret.bin"), kFirmware);
        QVERIFY(QFile::link(folder.filePath("secret.bin"), folder.filePath("bench/inside.bin")));
        SessionOptions options;
        options.folder = folder.filePath("bench").toStdString();
        options.confined = true;
        for (const std::string& name : {std::string("../secret.bin"), folder.filePath("secret.bin").toStdString(), std::string("inside.bin")}) {
            const auto s = Session::open(board(name, false), catalogue(), options);
            QVERIFY2(!s, name.c_str());
            QVERIFY(s.error().text().find("lies outside the folder of the bench") != std::string::npos);
        }
        options.allowed = {folder.filePath("secret.bin").toStdString()};
        QVERIFY(Session::open(board("../secret.bin", false), catalogue(), options));
        options.allowed.clear();
        const auto memory = Session::open(parse("bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"m\"\nkind = \"24c32\"\nat = [0, 0]\nset = { contents = \"../secret.bin\" }\n"), catalogue(), options);
        QVERIFY(!memory);
        QCOMPARE(memory.error().text(), std::string("m.contents: \"../secret.bin\": lies outside the folder of the bench, which nobody has allowed; choose the file yourself, or put it beside the bench"));
    }

    // Whatever it is doing, a run that is interrupted comes back.
    void anInterruptedRunComesBack()
    {
        std::atomic<bool> interrupt{false};
        SessionOptions options;
        options.interrupt = &interrupt;
        auto s = Session::open(lamp(false), catalogue(), options);
        QVERIFY(s);
        (*s)->advance(kernel::Time(1ms));
        interrupt = true;
        (*s)->advance(kernel::Time(2ms));
        QCOMPARE((*s)->world().now(), kernel::Time(1ms));
        interrupt = false;
        (*s)->advance(kernel::Time(2ms));
        QCOMPARE((*s)->world().now(), kernel::Time(2ms));
    }
};

QTEST_MAIN(DrawnBenchTest)
#include "drawn_bench_test.moc"
