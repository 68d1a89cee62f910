// What is kept of lanes while a run goes on, held against hearing them from the beginning: in small pieces, across other courses of the run, with little room, and searched.
#include <QtTest>

#include "debug/compiled.h"
#include "session/example_bench.h"
#include "session/lanes/heard_lane.h"
#include "session/lanes/tape_search.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Duration;
using kernel::Time;

class LaneLogsTest : public QObject {
    Q_OBJECT

private:
    static constexpr const char* kBus = "i2c:SDA=mcu.PC4,SCL=mcu.PC5";
    bench::Catalogue catalogue_;

    // The bench of the tide clock, whose display and clock stand on one bus.
    std::unique_ptr<Session> tideClock(std::size_t readEdges)
    {
        SessionOptions options;
        options.historyBytes = 64U << 20U;
        options.readEdges = readEdges;
        return openExample(catalogue_, "tide-clock", options);
    }
    static const std::string& busOf(const Session& s)
    {
        static std::string lane;
        for (const BusLane& bus : s.buses())
            if (bus.text.starts_with("i2c:"))
                lane = bus.text;
        return lane;
    }

private slots:
    void initTestCase() { catalogue_ = std::move(*bench::Catalogue::loadInstalled()); }

    void inPiecesAsAtOnce_data()
    {
        QTest::addColumn<std::size_t>("edges");
        for (const std::size_t edges : {std::size_t{1}, std::size_t{7}, std::size_t{1000}, SIZE_MAX})
            QTest::newRow(qPrintable(QString::number(edges))) << edges;
    }

    void inPiecesAsAtOnce()
    {
        QFETCH(std::size_t, edges);
        const auto s = tideClock(edges);
        QVERIFY(s != nullptr);
        for (int ms = 5; ms <= 60; ms += 5)
            s->advance(Time(std::chrono::milliseconds(ms)));
        while (s->watchLines()) {}
        const LaneLog* log = s->laneLog(busOf(*s));
        QVERIFY(log != nullptr && log->speaks() && log->knownFrom() == Time{});
        QCOMPARE(log->at(), s->latest() - Duration(1));
        const auto items = itemsOf(*log);
        QVERIFY(items.size() > 500);
        QVERIFY(items == heardUpTo(*s, busOf(*s), log->at()));
        QVERIFY(std::any_of(items.begin(), items.end(), [](const tape::Decoded& d) { return d.meaning; }));
        QVERIFY(s->laneLog("uart:mcu.PD1") == nullptr);
        // What is shown and listed is taken from it, and is what the edges say.
        const auto all = readAll(*s, busOf(*s), Time{}, s->latest(), SIZE_MAX);
        std::vector<tape::Decoded> decoded;
        QVERIFY(decodeLane(*s, busOf(*s), Time{}, s->latest(), SIZE_MAX, [&](const tape::Decoded& d) { decoded.push_back(d); return true; }).has_value());
        QVERIFY(all.has_value() && *all == decoded);
    }

    // A master that moves its lines by itself calls a part that is not there, and one that is: told once, after the third call, and again on the way through the past.
    void callsThatNobodyAnswersAreTold()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        const QString source = R"(
#include <avr/io.h>
#define F_CPU 16000000UL
#include <util/delay.h>
static void sda(uint8_t high) { if (high) DDRB &= ~1; else DDRB |= 1; _delay_us(3); }
static void scl(uint8_t high) { if (high) DDRB &= ~2; else DDRB |= 2; _delay_us(3); }
static uint8_t call(uint8_t address)
{
    sda(1); scl(1); sda(0); scl(0);
    uint8_t byte = address << 1;
    for (uint8_t i = 0; i < 8; i++, byte <<= 1) { sda(byte & 0x80); scl(1); scl(0); }
    sda(1); scl(1);
    const uint8_t answered = !(PINB & 1);
    scl(0); sda(0); scl(1); sda(1);
    return answered;
}
int main(void)
{
    for (uint8_t i = 0; i < 2; i++)
        call(0x21);
    for (uint8_t address = 0x30; address < 0x38; address++)
        call(address);
    for (uint8_t i = 0; i < 5; i++) {
        call(0x68);
        _delay_us(50);
    }
    for (uint8_t i = 0; i < 6; i++)
        call(0x52);
    for (;;)
        ;
}
)";
        QFile file(folder.filePath("t.c"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(source.toUtf8());
        file.close();
        QCOMPARE(QProcess::execute("avr-gcc", {"-mmcu=atmega328p", "-Os", "-gdwarf-4", "-o", folder.filePath("t.elf"), folder.filePath("t.c")}), 0);
        auto document = bench::parseDocument("t", R"(bramix = 1
title = "t"
[[part]]
id = "mcu"
kind = "briar-328"
at = [0, 0]
firmware = "t.elf"
[[part]]
id = "clock"
kind = "ds3231"
at = [60, 0]
[[part]]
id = "r1"
kind = "resistor"
at = [80, 0]
set = { resistance = "4k7" }
[[part]]
id = "r2"
kind = "resistor"
at = [90, 0]
set = { resistance = "4k7" }
[[net]]
name = "5V"
pins = ["mcu.5V", "clock.VCC", "r1.1", "r2.1"]
[[net]]
name = "GND"
pins = ["mcu.GND", "clock.GND"]
[[net]]
name = "SDA"
pins = ["mcu.PB0", "clock.SDA", "r1.2"]
[[net]]
name = "SCL"
pins = ["mcu.PB1", "clock.SCL", "r2.2"]
)");
        QVERIFY(document.has_value());
        SessionOptions options;
        options.folder = folder.path().toStdString();
        options.historyBytes = 64U << 20U;
        auto s = Session::open(*document, catalogue_, options);
        QVERIFY2(s.has_value(), s ? "" : s.error().text().c_str());
        const auto told = [&] {
            QStringList out;
            for (const bench::Finding& f : (*s)->findings())
                if (f.rule == "bus-no-answer")
                    out << QString::fromStdString(f.where + ": " + f.message);
            return out;
        };
        (*s)->advance(Time(40ms));
        while ((*s)->watchLines()) {}
        QVERIFY2(told().size() == 1 && told()[0].contains("0x52"), qPrintable(told().join("; ")));
        QVERIFY((*s)->goTo(Time(1ms)).has_value());
        QVERIFY(told().isEmpty());
        (*s)->advance(Time(40ms));
        while ((*s)->watchLines()) {}
        QCOMPARE(told().size(), 1);
    }

    // A lane that is added later is read from the tape's beginning; one that is let go is forgotten.
    void lanesComeAndGo()
    {
        const auto s = tideClock(500);
        s->advance(Time(50ms));
        s->alsoWatch({kBus, "value mcu.PC4 mcu.PC5", "nonsense", "uart:mcu.PD1,baud=9600"});
        int pieces = 0;
        while (s->watchLines())
            ++pieces;
        QVERIFY(pieces > 5);
        QVERIFY(itemsOf(*s->laneLog(kBus)) == heardUpTo(*s, kBus, s->laneLog(kBus)->at()));
        QVERIFY(s->laneLog(kBus) == s->laneLog(busOf(*s)));  // the same bus by another name
        QVERIFY(s->laneLog("nonsense") == nullptr && s->laneLog("value mcu.PC4 mcu.PC5") == nullptr && s->laneLog("uart:mcu.PD1,baud=9600") != nullptr);
        s->alsoWatch({});
        (void)s->watchLines();
        QVERIFY(s->laneLog(kBus) == nullptr && s->laneLog(busOf(*s)) != nullptr);
    }

    // Back in the middle of a transfer, and on with a byte that another firmware's memory makes it send.
    void anotherCourseIsHeardFromWhereItLeaves()
    {
        const auto s = tideClock(SIZE_MAX);
        s->advance(Time(60ms));
        const auto before = itemsOf(*s->laneLog(busOf(*s)));
        const std::uint64_t tail = before.size();
        for (const auto back : {33'100us, 33'107us, 45'000us, 22'345us, 1'000us}) {
            QVERIFY(s->goTo(Time(back)).has_value());
            // Only looked at: what lies ahead is known still.
            (void)s->watchLines();
            QVERIFY(itemsOf(*s->laneLog(busOf(*s))).size() > 100 || back < 2ms);
            s->poke(0, debug::Space::data, 0x8F0, 1);
            s->advance(Time(back) + 20ms);
            while (s->watchLines()) {}
            const LaneLog& log = *s->laneLog(busOf(*s));
            QVERIFY2(itemsOf(log) == heardUpTo(*s, busOf(*s), log.at()), qPrintable(QString::number(back.count())));
        }
        s->advance(Time(60ms));
        QCOMPARE(s->laneLog(busOf(*s))->items().end(), tail);  // a byte of memory that nobody reads changes nothing
    }

    // Of a pin with pulses of sixteen lengths, two seconds in little room: what is held is still what was said, the tape itself reaches further back, and searches do too.
    void littleRoomIsKept()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        const QString elf = compile(folder, "#include <avr/io.h>\n#include <util/delay_basic.h>\nint main(void) { DDRB = 1; for (uint8_t i = 0;; ++i) { PORTB = 1; _delay_loop_1((uint8_t)((i * 7 & 15) + 1)); PORTB = 0; } }\n", {"-Os"});
        QVERIFY(!elf.isEmpty());
        const auto document = bench::parseDocument("pulses", "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"" + elf.toStdString() + "\"\n");
        constexpr std::size_t kRoom = 1'200'000;
        constexpr const char* kLane = "pwm:mcu.PB0";
        std::array<std::unique_ptr<Session>, 2> sessions;
        for (std::size_t i = 0; i < 2; ++i) {
            SessionOptions options;
            options.folder = folder.path().toStdString();
            options.tapeBytes = i == 0 ? std::size_t{64} << 20U : kRoom;
            sessions[i] = std::move(*Session::open(*document, catalogue_, options));
            sessions[i]->alsoWatch({kLane});
            for (int ms = 50; ms <= 2000; ms += 50)
                sessions[i]->advance(Time(std::chrono::milliseconds(ms)));
        }
        const auto& s = sessions[1];
        const LaneLog &all = *sessions[0]->laneLog(kLane), &some = *s->laneLog(kLane);
        const auto truth = itemsOf(all), kept = itemsOf(some);
        QVERIFY(all.items().first() == 0 && some.items().first() > 0 && some.knownFrom() > s->tape().knownFrom() + 50ms);
        QVERIFY(s->tape().bytes() + some.bytes() < kRoom + 100'000);  // and a little that is not packed yet
        QVERIFY(kept.size() > 50'000 && kept.size() < truth.size());
        QVERIFY(std::equal(kept.rbegin(), kept.rend(), truth.rbegin()));
        // Read where it is kept, and where it has been forgotten.
        for (const Time from : {some.knownFrom() - Duration(40ms), some.knownFrom() - Duration(1ms), some.knownFrom() + Duration(1ms)}) {
            const auto read = readAll(*s, kLane, from, from + Duration(2ms), SIZE_MAX);
            std::vector<tape::Decoded> wanted;
            for (const tape::Decoded& d : truth)
                if (d.to >= from && d.from <= from + Duration(2ms))
                    wanted.push_back(d);
            QVERIFY(wanted.size() > 100 && read.has_value());
            // One at the end may not be over yet for who reads the edges.
            QVERIFY(read->size() + 1 >= wanted.size() && std::equal(read->begin(), read->end(), wanted.begin()));
        }
        // Too much to be told one by one: where it speaks is shown all the same.
        Lookback lookback(*s, catalogue_);
        LaneReader reader;
        std::vector<ReadLane> lanes;
        reader.read(*s, lookback, {kLane}, {some.knownFrom() + Duration(1ms), s->latest() + Duration(100ms), 300}, lanes);
        QVERIFY(lanes[0].crowded && lanes[0].items.empty() && lanes[0].outstanding.empty() && lanes[0].columns.size() == 300);
        const double spoken = (s->latest() - some.knownFrom()) / Duration(1us), all300 = spoken + 100'000;
        const auto active = std::count_if(lanes[0].columns.begin(), lanes[0].columns.end(), [](const tape::Column& c) { return c.first == 1; });
        QVERIFY(std::abs(static_cast<double>(active) - 300 * spoken / all300) < 2);
        for (const bool forward : {true, false})
            for (const Duration off : {Duration(-40ms), Duration(-5us), Duration(5us), Duration(40ms)}) {
                const Time from = some.knownFrom() + off;
                const std::string words = truth[truth.size() / 2].text;
                std::optional<Time> nearest;
                for (const tape::Decoded& d : truth)
                    if (d.text == words && (forward ? d.from > from : d.from < from) && (!nearest || (forward ? d.from < *nearest : d.from > *nearest)))
                        nearest = d.from;
                const auto hit = searchTape(*s, {words, "", {kLane}, from, forward});
                QVERIFY2(hit && *hit && !(*hit)->more && (*hit)->at == *nearest, qPrintable(QString("%1 %2").arg(off.count()).arg(forward)));
            }
    }

    // Forward and back, words and bytes, what was said long ago and what is said just now; against all that was heard.
    void searchesAreExact()
    {
        const auto s = tideClock(2'000);
        s->advance(Time(110ms));  // the log is behind
        for (const bool all : {false, true}) {
            if (all)
                while (s->watchLines()) {}
            const auto heard = heardUpTo(*s, busOf(*s), s->latest());
            for (const char* words : {"0x68 write", "0x27", "SECONDS", "'h'", "nack", "68 00", "27 08 0c", "00"})
                for (const Time from : {Time(1ms), Time(25ms), Time(33ms), Time(60ms), Time(105ms), Time(109'990us)})
                    for (const bool forward : {true, false}) {
                        const QStringList bytes = QString(words).split(' ');
                        const bool hex = bytes[0].size() == 2;
                        std::optional<Time> nearest;
                        std::vector<const tape::Decoded*> row;
                        for (const tape::Decoded& d : heard) {
                            if (hex && (d.meaning || (d.what != "byte" && d.what != "address")))
                                continue;
                            row.push_back(&d);
                            const std::size_t length = hex ? static_cast<std::size_t>(bytes.size()) : 1;
                            if (row.size() < length)
                                continue;
                            bool same = true;
                            for (std::size_t i = 0; i < length; ++i)
                                same = same && (hex ? row[row.size() - length + i]->value == bytes[static_cast<qsizetype>(i)].toUInt(nullptr, 16) : d.text.find(words) != std::string::npos);
                            const Time at = row[row.size() - length]->from;
                            if (same && (forward ? at > from : at < from) && (!nearest || (forward ? at < *nearest : at > *nearest)))
                                nearest = at;
                        }
                        const auto hit = searchTape(*s, {words, "", {busOf(*s)}, from, forward});
                        QVERIFY(hit.has_value());
                        QVERIFY2(hit->has_value() == nearest.has_value() && (!nearest || (*hit)->at == *nearest), qPrintable(QString("%1 from %2 %3 %4").arg(words).arg(from.time_since_epoch() / 1us).arg(forward).arg(all)));
                    }
        }
    }
};

QTEST_GUILESS_MAIN(LaneLogsTest)
#include "lane_logs_test.moc"
