// Which functions had the time, as the session keeps it at full speed, against the same bench gone through instruction by instruction, each looked up in its symbols.
#include <QtTest>

#include "chip/avr/chip.h"
#include "kernel/random.h"
#include "session/example_bench.h"
#include "session/lanes/function_lane.h"
#include "session/profile/function_times.h"
#include "session/keeper_bench.h"
#include "session/recording/recording.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Duration;
using kernel::Time;

namespace {

using Table = std::map<std::string, double>;  // seconds by name

Table whole(const Session& s, const std::string& chip, Time from, Time to)
{
    Table out;
    const auto shares = s.functionTimes().columns(chip, from, to, 1, s.behind());
    for (const auto& p : shares.parts)
        out[(*shares.names)[p.id]] += kernel::seconds(p.time);
    return out;
}

// By single steps of the only chip: what ran from before each to after it.
Table stepped(Session& s, Time to, Time since = Time{})
{
    Table out;
    bench::World::ChipUnit& unit = s.world().chips()[0];
    const debug::Symbols& symbols = s.program(unit.id).symbols;
    const auto nameAt = [&](std::uint32_t address) {
        // Of two that share code, as entries of the library do, the one that begins nearer to it.
        std::string name;
        for (const debug::Function& f : symbols.functions())
            if (f.caller < 0 && f.has(address))
                name = f.name;
        return name;
    };
    const std::uint32_t vectorBytes = unit.device->exceptions[1].entry;
    std::map<std::uint32_t, std::string> names;
    if (since == Time{})
        out["in reset"] = kernel::seconds(unit.chip->now());  // until its clock has settled
    while (unit.chip->now() < to) {
        const Time from = unit.chip->now();
        const bool slept = chip::avr::chipOf(*unit.chip).cpu().sleeping;
        const std::uint32_t word = chip::avr::chipOf(*unit.chip).cpu().pc;
        s.world().stepInstruction(0, to);
        if (from < since)
            continue;
        // What it takes to enter an interrupt is the time of what was interrupted; a slot of the table, through which it goes, of its handler.
        const bool inTable = word * 2 < unit.device->exceptions.size() * vectorBytes;
        const auto handlerOf = [&](std::uint32_t slot) { return nameAt(chip::avr::chipOf(*unit.chip).cpu().decodeAt(slot / vectorBytes * vectorBytes / 2).target * 2); };
        if (slept) {
            out["asleep"] += kernel::seconds(unit.chip->now() - from);
        } else {
            auto [name, fresh] = names.try_emplace(word);
            if (fresh)
                name->second = inTable ? handlerOf(word * 2) : nameAt(word * 2);
            out[name->second] += kernel::seconds(unit.chip->now() - from);
        }
    }
    return out;
}

QString compared(const Table& a, const Table& b, double within)
{
    QString out;
    Table all = a;
    all.insert(b.begin(), b.end());
    for (const auto& [name, unused] : all) {
        const double x = a.contains(name) ? a.at(name) : 0, y = b.contains(name) ? b.at(name) : 0;
        if (std::fabs(x - y) > within)
            out += QString("%1: %2 and %3 ms; ").arg(name.c_str()).arg(x * 1e3, 0, 'f', 6).arg(y * 1e3, 0, 'f', 6);
    }
    return out;
}

}  // namespace

class FunctionTimesTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;

    [[nodiscard]] std::unique_ptr<Session> open(const std::string& example, std::size_t history = 64U << 20U) const
    {
        SessionOptions options;
        options.historyBytes = history;
        return openExample(catalogue_, example, options);
    }

private slots:
    void initTestCase() { catalogue_ = std::move(*bench::Catalogue::loadInstalled()); }

    void areThoseOfSingleSteps_data()
    {
        QTest::addColumn<QString>("example");
        QTest::addColumn<int>("ms");
        QTest::newRow("clock") << "tide-clock" << 120;
        QTest::newRow("lock") << "withy-lock" << 60;
        QTest::newRow("sleeper") << "cheese-cave" << 150;
    }
    void areThoseOfSingleSteps()
    {
        QFETCH(QString, example);
        QFETCH(int, ms);
        const auto s = open(example.toStdString()), slow = open(example.toStdString());
        QVERIFY(s != nullptr && slow != nullptr);
        if (s->world().chips().size() != 1)
            QSKIP("more than one chip");
        kernel::Random random(1, "slices");
        while (s->world().now() < Time(std::chrono::milliseconds(ms)))
            s->advance(s->world().now() + Duration(static_cast<std::int64_t>(random.below(3'000'000'000))));
        const std::string& chip = s->world().chips()[0].id;
        const Time end = s->world().chips()[0].chip->now();
        const Table fast = whole(*s, chip, Time{}, end), steps = stepped(*slow, end);
        double sum = 0;
        for (const auto& [name, time] : fast)
            sum += time;
        QVERIFY2(std::fabs(sum - kernel::seconds(end)) < 1e-9, qPrintable(QString("%1 of %2").arg(sum, 0, 'g', 12).arg(kernel::seconds(end), 0, 'g', 12)));  // everything is accounted for
        QVERIFY2(fast.size() >= 3, qPrintable(QString::number(fast.size())));
        const QString wrong = compared(fast, steps, 1e-8);  // a picosecond a rounding
        QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
    }

    // Between marks near each other the calls themselves are known, and each has its own time to the cycle; far apart, the shares.
    void whatLiesBetweenMarksIsMeasured()
    {
        const auto s = open("tide-clock"), slow = open("tide-clock");
        s->advance(Time(60ms));
        const Time from = s->world().chips()[0].chip->clock().timeOf({16'000 * 20}), to = s->world().chips()[0].chip->clock().timeOf({16'000 * 45});
        Lookback look(*s, catalogue_);
        const auto table = [&] {
            Table out;
            for (const FunctionShare& f : functionsBetween(*s, look, "mcu", from, to))
                out[f.name] += f.seconds;
            return out;
        };
        const Table coarse = table();
        look.want({{"mcu", {}}}, from - 1ms, to + 1ms);
        while (look.busy())
            (void)look.work(100ms);
        const Table near = table(), steps = stepped(*slow, to, from);
        QVERIFY(near.size() >= 3);
        const QString wrong = compared(near, steps, 2e-6);  // an instruction at each mark, an entry into an interrupt
        QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
        QVERIFY2(compared(coarse, steps, 25e-3).isEmpty(), qPrintable(compared(coarse, steps, 25e-3)));
    }

    // Where columns are narrower than what was recorded, a part of the run is told once more: each column against single steps.
    void narrowColumnsAreToldOnceMore()
    {
        const auto s = open("tide-clock");
        s->advance(Time(60ms));
        const auto before = stateOf(*s);
        Lookback look(*s, catalogue_);
        constexpr std::size_t kColumns = 40;
        const Duration column = 400us;
        const Time from = s->world().chips()[0].chip->clock().timeOf({16'000 * 25}), to = from + column * static_cast<int>(kColumns);
        look.wantShares(from, to, column);
        QVERIFY(look.busy());
        while (look.busy())
            (void)look.work(1ms);
        QVERIFY(stateOf(*s) == before);
        QVERIFY(look.shares().knownFrom() <= from && look.shares().knownTo() >= to);
        kernel::Random random(5, "columns");
        for (int i = 0; i < 6; ++i) {
            const auto c = static_cast<int>(random.below(kColumns));
            Table fine;
            for (const FunctionShare& f : functionsBetween(*s, look, "mcu", from + column * c, from + column * (c + 1)))
                fine[f.name] += f.seconds;
            const auto fresh = open("tide-clock");
            const Table steps = stepped(*fresh, from + column * (c + 1), from + column * c);
            // To the stretch that each end of the column lies in.
            const QString wrong = compared(fine, steps, 210e-6);
            QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
        }
        // A little to the side it is there; wider columns take what there is; narrower ones and another course begin anew.
        look.wantShares(from + 1ms, to, column);
        QVERIFY(!look.busy());
        look.wantShares(from, to, column * 3);
        QVERIFY(!look.busy());
        look.wantShares(from, to, column / 20);
        QVERIFY(look.busy());
        look.wantShares(from, to, 50ms);
        QVERIFY(!look.busy());
        look.wantShares(from, to, column);
        while (look.busy())
            (void)look.work(10ms);
        QVERIFY(s->goTo(Time(30ms)).has_value());
        s->poke(0, debug::Space::data, 0x200, 7);
        s->advance(Time(60ms));
        QVERIFY(look.shares().knownTo() == look.shares().knownFrom());
        look.wantShares(from, to, column);
        QVERIFY(look.busy());
    }

    void anotherCourseHasItsOwn()
    {
        const auto s = open("withy-lock"), fresh = open("withy-lock");
        QVERIFY(s != nullptr && fresh != nullptr);
        s->advance(Time(300ms));
        QVERIFY(s->goTo(Time(100ms) + 123us).has_value());
        // Looked at from there, the whole run is known.
        const Table before = whole(*s, "mcu", Time{}, Time(300ms));
        const auto once = open("withy-lock");
        once->advance(Time(300ms));
        QVERIFY2(compared(before, whole(*once, "mcu", Time{}, Time(300ms)), 0).isEmpty(), "behind the present");
        s->advance(Time(150ms));
        const Time at = s->world().now();
        for (Session* one : {s.get(), fresh.get()}) {
            if (one != s.get())
                one->advance(at);
            QVERIFY(one->setControl("keeper", "pressed", 1).has_value());
            one->advance(at + 250ms);
        }
        QVERIFY(stateOf(*s) == stateOf(*fresh));
        for (const std::size_t columns : {std::size_t{1}, std::size_t{13}, std::size_t{800}}) {
            const auto a = s->functionTimes().columns("mcu", Time{}, at + 250ms, columns, s->behind()), b = fresh->functionTimes().columns("mcu", Time{}, at + 250ms, columns, fresh->behind());
            QCOMPARE(a.parts.size(), b.parts.size());
            for (std::size_t i = 0; i < a.parts.size(); ++i)
                QVERIFY(a.parts[i].column == b.parts[i].column && a.parts[i].id == b.parts[i].id && a.parts[i].time == b.parts[i].time);
        }
    }

    void otherFirmwareHasNamesOfItsOwn()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        const QString first = compile(folder, "#include <avr/io.h>\n__attribute__((noinline)) void ash(void) { PORTB ^= 1; for (volatile char i = 0; i < 50; ++i); }\nint main(void) { for (;;) ash(); }\n", {"-Os"});
        QTemporaryDir other;
        const QString second = compile(other, "#include <avr/io.h>\n__attribute__((noinline)) void oak(void) { PORTB ^= 2; for (volatile char i = 0; i < 50; ++i); }\nint main(void) { for (;;) oak(); }\n", {"-Os"});
        const auto document = bench::parseDocument("test.toml", "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"" + first.toStdString() + "\"\n");
        SessionOptions options;
        options.historyBytes = 64U << 20U;
        auto opened = Session::open(*document, catalogue_, options);
        QVERIFY(opened.has_value());
        Session& s = **opened;
        s.advance(Time(10ms));
        QVERIFY(s.loadFirmware("mcu", second.toStdString()).has_value());
        s.advance(Time(30ms));
        const Table early = whole(s, "mcu", Time{}, Time(10ms)), late = whole(s, "mcu", Time(10ms), Time(30ms));
        QVERIFY(early.contains("ash") && !early.contains("oak") && early.at("ash") > 0.008);
        double whole30 = 0;
        for (const auto& [name, time] : late)
            whole30 += time;
        QVERIFY2(std::fabs(whole30 - 0.020) < 1e-6, qPrintable(QString::number(whole30)));  // no gap
        QVERIFY2(late.contains("oak") && !late.contains("ash") && late.at("oak") > 0.017, qPrintable(compared(late, {}, 0)));
        // Begun anew, nothing of the run before is left.
        QVERIFY2(s.restart().has_value(), "restart");
        QVERIFY(!whole(s, "mcu", Time{}, Time(30ms)).contains("ash"));
    }

    void aRecordingHasThem()
    {
        QTemporaryDir folder;
        const std::string file = folder.filePath("run").toStdString();
        const auto s = open("withy-lock");
        s->advance(Time(200ms) + 77us);
        QVERIFY(s->saveRecording(file).has_value());
        auto recording = readRecording(file);
        QVERIFY(recording.has_value());
        const auto looked = open("withy-lock");
        looked->adopt(std::move(*recording));
        const Table truth = whole(*s, "mcu", Time{}, Time(200ms) + 77us);
        QVERIFY2(compared(truth, whole(*looked, "mcu", Time{}, Time(200ms) + 77us), 0).isEmpty(), "as it was");
        // Run through and on, it goes on without a gap.
        looked->advance(Time(260ms));
        s->advance(Time(260ms));
        QVERIFY2(compared(whole(*s, "mcu", Time{}, Time(260ms)), whole(*looked, "mcu", Time{}, Time(260ms)), 0).isEmpty(), "gone on");
    }
};

QTEST_GUILESS_MAIN(FunctionTimesTest)
#include "function_times_test.moc"
