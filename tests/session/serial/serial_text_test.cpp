// The text of a serial line: lines, times, a terminal's sequences, going back, forgetting; and numbers in it.
#include <QtTest>

#include "kernel/random.h"
#include "session/serial/serial_numbers.h"
#include "session/serial/serial_text.h"

using namespace bramix;
using namespace bramix::session;
using kernel::Duration;

namespace {

Time ms(std::int64_t t) { return Time(std::chrono::milliseconds(t)); }

// A byte a millisecond.
class Line {
public:
    explicit Line(std::size_t most = std::size_t{768} << 20U) : text(most) {}
    Line& says(std::string_view bytes, bool fromChip = true, bool good = true)
    {
        for (const char c : bytes)
            text.add({ms(++now), 0, static_cast<std::uint8_t>(c), good, fromChip, static_cast<std::uint32_t>(0x100 + now)});
        return *this;
    }
    [[nodiscard]] QStringList lines() const
    {
        QStringList out;
        for (std::uint64_t i = text.first(); i < text.end(); ++i)
            out << QString::fromStdString(text.line(i).text);
        return out;
    }

    SerialText text;
    std::int64_t now = 0;
};

using Numbers = std::vector<NamedNumber>;

}  // namespace

class SerialTextTest : public QObject {
    Q_OBJECT

private slots:
    void linesKnowWhenTheyBeganAndWhoSentThem()
    {
        Line l;
        l.says("gate up\r\n").says("level 3\r\n").says("op");
        QCOMPARE(l.lines(), (QStringList{"gate up", "level 3", "op"}));
        QCOMPARE(l.text.line(1).at, ms(10));
        QCOMPARE(l.text.line(1).code, 0x100U + 10);
        QVERIFY(l.text.line(1).complete && !l.text.line(2).complete);
        // The other side in lines of its own.
        l.says("go\n", false).says("en\n");
        QCOMPARE(l.lines(), (QStringList{"gate up", "level 3", "op", "go", "en"}));
        QVERIFY(l.text.line(3).sent && !l.text.line(4).sent);
    }

    void aTerminalsSequencesAreUnderstood_data()
    {
        QTest::addColumn<QString>("bytes");
        QTest::addColumn<QStringList>("lines");
        const auto row = [](const char* name, const char* bytes, const QStringList& lines) { QTest::newRow(name) << QString::fromLatin1(bytes) << lines; };
        row("a carriage return writes over", "10 %\r25 %\rdone\n", {"done"});
        row("back space", "abc\b\bX\n", {"aXc"});
        row("tab", "a\tb\n", {"a       b"});
        row("cursor left and right", "abcd\x1B[3DX\x1B[1CY\n", {"aXcY"});
        row("erase to the end", "abcdef\x1B[3D\x1B[K\n", {"abc"});
        row("erase the whole line", "abcdef\x1B[2K\rxy\n", {"xy"});
        row("up and down", "one\ntwo\x1B[A\rONE\x1B[B\rTWO\n", {"ONE", "TWO"});
        row("a place of the page", "one\ntwo\nthree\x1B[2;2HWO\x1B[9;1H", {"one", "tWO", "three"});
        row("a new page keeps what was", "old\n\x1B[2J\x1B[Hnew\n", {"old", "new"});
        row("unknown sequences", "a\x1B[?25lb\x1B]0;title\x07" "c\x1B(Bd\n", {"abcBd"});
        row("empty lines stay", "a\n\nb\n", {"a", "", "b"});
    }

    void aTerminalsSequencesAreUnderstood()
    {
        QFETCH(QString, bytes);
        QFETCH(QStringList, lines);
        Line l;
        l.says(bytes.toLatin1().toStdString());
        QStringList seen = l.lines();
        while (!seen.isEmpty() && seen.last().isEmpty() && seen.size() > lines.size())
            seen.removeLast();
        QCOMPARE(seen, lines);
    }

    void coloursAndBrokenFramesAreKept()
    {
        Line l;
        l.says("a\x1B[31mbc\x1B[1md\x1B[0me").says("?", true, false).says("f\n");
        const SerialLine line = l.text.line(0);
        QCOMPARE(QString::fromStdString(line.text), QString("abcde?f"));
        const std::vector<InkRun> wanted{{1, 2}, {3, 2 | kBold}, {4, 0}, {5, kBroken}, {6, 0}};
        QVERIFY(line.inks == wanted);
        // The same when it has left the page.
        for (int i = 0; i < 40; ++i)
            l.says("x\n");
        QVERIFY(l.text.pageBegin() > 0 && l.text.line(0).inks == wanted && l.text.line(0).text == "abcde?f");
    }

    // Cut at any byte, in page or packed: as if nothing more had come.
    void goingBackIsExact()
    {
        kernel::Random random(4);
        std::string all;
        for (int i = 0; i < 400; ++i) {
            all += "line " + std::to_string(i) + (random.below(5) == 0 ? " \x1B[32mgreen\x1B[0m" : "") + (random.below(4) == 0 ? "\rover" : "");
            all += random.below(9) == 0 ? "\x1B[A\rup\x1B[B\n" : "\n";
        }
        for (int round = 0; round < 60; ++round) {
            const std::size_t cut = random.below(all.size());
            Line whole, part;
            whole.says(all);
            whole.text.rewind(ms(static_cast<std::int64_t>(cut)));
            part.says(all.substr(0, cut));
            if (whole.lines() != part.lines())
                qWarning() << cut << QString::fromStdString(all.substr(cut > 60 ? cut - 60 : 0, 60)) << whole.lines().mid(whole.lines().size() - 4) << part.lines().mid(part.lines().size() - 4);
            QCOMPARE(whole.lines(), part.lines());
            // And it goes on the same.
            whole.now = part.now;
            whole.says("on\n");
            part.says("on\n");
            QCOMPARE(whole.lines(), part.lines());
            QCOMPARE(whole.text.endByte(), part.text.endByte());
        }
    }

    void theOldestIsForgottenAndNumbersStay()
    {
        Line l(12U << 20U);
        for (int i = 0; i < 200'000; ++i)
            l.says("a line of some length, number " + std::to_string(i) + "\n");
        QVERIFY(l.text.first() > 1000);
        QVERIFY(l.text.memory() < (50U << 20U));
        QCOMPARE(l.text.end(), std::uint64_t{200'000});
        for (const std::uint64_t n : {l.text.first(), l.text.first() + 777, std::uint64_t{199'990}})
            QCOMPARE(QString::fromStdString(l.text.line(n).text), QString("a line of some length, number %1").arg(n));
        l.text.clear();
        QCOMPARE(l.text.first(), l.text.end());
        l.says("on\n");
        QCOMPARE(QString::fromStdString(l.text.line(200'000).text), QString("on"));
    }

    void numbersInTextAreRead_data()
    {
        QTest::addColumn<QStringList>("lines");
        QTest::addColumn<QString>("last");
        const auto row = [](const char* name, const QStringList& lines, const char* last) { QTest::newRow(name) << lines << QString(last); };
        row("name and value", {"level: 3.25 m"}, "level=3.25");
        row("two of them", {"level=3.2 flow=-0.5e1"}, "level=3.2 flow=-5");
        row("names of two words", {"chamber level: 12, upper gate: 1"}, "chamber level=12 upper gate=1");
        row("commas", {"1, 2.5, -3"}, "1=1 2=2.5 3=-3");
        row("spaces", {"7 8"}, "1=7 2=8");
        row("under a header", {"time,level,flow", "1,2,3"}, "time=1 level=2 flow=3");
        row("a header of another width", {"a,b", "1,2,3"}, "1=1 2=2 3=3");
        row("units", {"12.5 mV; 80%"}, "1=12.5 2=80");
        row("words and numbers in turn", {"level 3.2 flow 4"}, "level=3.2 flow=4");
        row("a figure and a word", {"4.5 C  frost"}, "1=4.5");
        row("units apart", {"level 3.2 m flow 4 %"}, "level=3.2 flow=4");
        row("hex", {"port: 0x1F"}, "port=31");
        row("talk", {"Bell tower ready"}, "");
        row("a time of day", {"12:30:05 gate"}, "");
        row("a count in a sentence", {"boat 3 passed the gate"}, "");
        row("empty", {""}, "");
    }

    void numbersInTextAreRead()
    {
        QFETCH(QStringList, lines);
        QFETCH(QString, last);
        NumberReader reader;
        Numbers numbers;
        for (const QString& line : lines)
            numbers = reader.read(line.toStdString());
        QStringList told;
        for (const NamedNumber& n : numbers)
            told << QString("%1=%2").arg(QString::fromStdString(n.name)).arg(n.value);
        QCOMPARE(told.join(' '), last);
    }

    // Sequences of any sort, whole, cut, with numbers without end: lines stay lines, and gone back and on again they are the same.
    void strangeSequencesHarmNothing_data()
    {
        QTest::addColumn<int>("seed");
        for (int seed = 1; seed <= 40; ++seed)
            QTest::newRow(qPrintable(QString::number(seed))) << seed;
    }
    void strangeSequencesHarmNothing()
    {
        QFETCH(int, seed);
        kernel::Random random(static_cast<std::uint64_t>(seed), "sequences");
        std::string bytes;
        static constexpr std::string_view kFinals = "ABCDEFGHJKSTdfhlmnrsu@P`~qXZ";
        static constexpr std::array<std::string_view, 10> kNumbers{"0", "1", "2", "7", "38", "255", "65536", "4294967296", "99999999999999999999", ""};
        while (bytes.size() < 6000) {
            switch (random.below(6)) {
            case 0: bytes += static_cast<char>(random.below(256)); break;
            case 1:
                for (std::uint64_t n = random.below(30); n > 0; --n)
                    bytes += static_cast<char>(' ' + random.below(95));
                break;
            case 2: bytes += "\r\n\b\t\f\v"[random.below(6)]; break;
            default:
                bytes += random.below(8) == 0 ? "\x9B" : "\x1B[";
                if (random.below(6) == 0)
                    bytes += "?>=!\""[random.below(5)];
                for (std::uint64_t n = random.below(5); n > 0; --n)
                    bytes += std::string(kNumbers[random.below(kNumbers.size())]) + (random.below(4) == 0 ? ":" : ";");
                if (random.below(9) != 0)
                    bytes += kFinals[random.below(kFinals.size())];
                break;
            }
        }
        Line whole, turned(1U << 20U);
        whole.says(bytes);
        const std::size_t half = bytes.size() - 600;
        turned.says(std::string_view(bytes).substr(0, half));
        turned.says(std::string_view(bytes).substr(half, 300));
        turned.text.rewind(ms(static_cast<std::int64_t>(half)));
        turned.now = static_cast<std::int64_t>(half);
        turned.says(std::string_view(bytes).substr(half));
        QCOMPARE(turned.lines(), whole.lines());
        for (std::uint64_t i = whole.text.first(); i < whole.text.end(); ++i) {
            const SerialLine line = whole.text.line(i);
            QVERIFY(line.text.find('\n') == std::string::npos && line.text.find('\x1B') == std::string::npos);
            QVERIFY(line.text.size() < 70'000);
            for (const InkRun& run : line.inks)
                QVERIFY(run.from <= line.text.size());
        }
        QVERIFY(whole.text.memory() < (4U << 20U));
    }
};

QTEST_GUILESS_MAIN(SerialTextTest)
#include "serial_text_test.moc"
