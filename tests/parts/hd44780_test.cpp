// The display's controller by its data sheet: bus of eight and four bits, addresses, shifts, characters of one's own, times.
#include <QtTest>

#include <bit>

#include <set>

#include "parts/dot_font.h"
#include "parts/hd44780.h"

using namespace bramix;
using namespace bramix::parts;
using kernel::Time;
using namespace std::chrono_literals;

namespace {

// A master with patience, on eight lines or on four.
struct Master {
    Hd44780 display;
    Time now{};
    bool four = false;
    std::vector<std::string> wrong;

    Master(int columns, int rows) : display(columns, rows)
    {
        display.wrong = [this](std::string_view rule, const std::string&) { wrong.emplace_back(rule); };
        display.powerUp(now);
        now += 15ms;
    }
    void strobe(bool rs, std::uint8_t lines, kernel::Duration pulse = 450ns)
    {
        display.lines(rs, false, true, lines, now);
        now += pulse;
        display.lines(rs, false, false, lines, now);
        now += 550ns;
    }
    void write(bool rs, std::uint8_t byte, kernel::Duration wait = 50us)
    {
        strobe(rs, four ? byte & 0xF0 : byte);
        if (four)
            strobe(rs, static_cast<std::uint8_t>(byte << 4));
        now += wait;
    }
    std::uint8_t readHalf(bool rs)
    {
        display.lines(rs, true, true, 0xFF, now);
        now += 450ns;
        const std::uint8_t v = display.drives() ? display.driven() : 0xFF;
        display.lines(rs, true, false, 0xFF, now);
        now += 550ns;
        return v;
    }
    std::uint8_t read(bool rs)
    {
        const std::uint8_t high = readHalf(rs);
        return four ? static_cast<std::uint8_t>((high & 0xF0) | readHalf(rs) >> 4) : high;
    }
    void text(const char* s)
    {
        while (*s != 0)
            write(true, static_cast<std::uint8_t>(*s++));
    }
    void begin()
    {
        write(false, four ? 0x28 : 0x38);
        write(false, 0x0C);
        write(false, 0x01, 2ms);
        write(false, 0x06);
    }
    [[nodiscard]] std::string row(int r) const
    {
        std::string all = display.text();
        for (; r > 0; --r)
            all = all.substr(all.find('\n') + 1);
        return all.substr(0, all.find('\n'));
    }
};

}  // namespace

class Hd44780Test : public QObject {
    Q_OBJECT

private slots:
    void writesAndReadsOnEightLines()
    {
        Master m(16, 2);
        m.begin();
        m.text("sluice");
        m.write(false, 0xC3);
        m.text("open");
        QCOMPARE(m.row(0), "sluice          ");
        QCOMPARE(m.row(1), "   open         ");
        QCOMPARE(m.read(false), std::uint8_t(0x47));  // not busy, behind the last letter
        m.write(false, 0x82);
        QCOMPARE(m.read(true), std::uint8_t('u'));
        m.now += 50us;
        QCOMPARE(m.read(true), std::uint8_t('i'));
        QVERIFY(m.wrong.empty());
    }

    // The interface begins at eight lines; 0x2_ makes it four, and from then on halves count.
    void goesOverToFourLines()
    {
        Master m(16, 2);
        for (int i = 0; i < 3; ++i)
            m.write(false, 0x30, 5ms);
        m.write(false, 0x20);
        m.four = true;
        m.begin();
        m.text("weir");
        QCOMPARE(m.row(0), "weir            ");
        QCOMPARE(m.read(false), std::uint8_t(4));
        m.write(false, 0x80);
        QCOMPARE(m.read(true), std::uint8_t('w'));
        QVERIFY(m.wrong.empty());
    }

    // 37 µs, 41 µs and 1.52 ms; what comes sooner is lost.
    void takesItsTime()
    {
        Master m(16, 2);
        m.begin();
        m.write(false, 0x01, 0us);
        QVERIFY((m.read(false) & 0x80) != 0);
        m.write(true, 'x', 0us);
        QCOMPARE(m.wrong, std::vector<std::string>{"display-busy"});
        m.now += 1600us;
        QVERIFY((m.read(false) & 0x80) == 0);
        QCOMPARE(m.row(0), std::string(16, ' '));
        m.write(true, 'a', 42us);
        m.write(true, 'b', 38us);
        m.write(true, 'c', 50us);  // two microseconds early
        QCOMPARE(m.row(0).substr(0, 3), "ab ");
        Master fresh(16, 2);
        fresh.now = Time(5ms);
        fresh.write(false, 0x38);
        QCOMPARE(fresh.wrong, std::vector<std::string>{"display-busy"});
        Master quick(16, 2);
        quick.strobe(false, 0x38, 125ns);
        QCOMPARE(quick.wrong, std::vector<std::string>{"display-timing"});
    }

    // Two lines of forty; the display is a window on them.
    void shiftsAndWraps()
    {
        Master m(16, 2);
        m.begin();
        for (int i = 0; i < 42; ++i)
            m.write(true, static_cast<std::uint8_t>('A' + i % 26));
        QCOMPARE(m.row(0), "ABCDEFGHIJKLMNOP");
        QCOMPARE(m.row(1), "OP              ");  // the forty-first goes on in the second line
        for (int i = 0; i < 38; ++i)
            m.write(false, 0x18);
        QCOMPARE(m.row(0).substr(0, 4), "MNAB");
        m.write(false, 0x1C);
        QCOMPARE(m.row(0).substr(0, 4), "LMNA");
        m.write(false, 0x02, 2ms);
        QCOMPARE(m.row(0).substr(0, 4), "ABCD");
        // Backwards, with the display going along.
        m.write(false, 0x04);
        m.write(false, 0x84);
        m.text("xy");
        QCOMPARE(m.row(0).substr(0, 6), "ABCyxF");
        m.write(false, 0x10);
        m.write(false, 0x14);
        QCOMPARE(m.read(false), std::uint8_t(2));
    }

    void fourRowsLieInTwoLines()
    {
        Master m(20, 4);
        m.begin();
        for (const auto& [at, word] : {std::pair(0x80, "one"), std::pair(0xC0, "two"), std::pair(0x94, "three"), std::pair(0xD4, "four")}) {
            m.write(false, static_cast<std::uint8_t>(at));
            m.text(word);
        }
        QCOMPARE(m.row(2), "three               ");
        QCOMPARE(m.row(3), "four                ");
        m.write(false, 0x08);
        QCOMPARE(m.row(0), std::string(20, ' '));  // off, not forgotten
        m.write(false, 0x0C);
        QCOMPARE(m.row(0), "one                 ");
    }

    void showsCharactersOfOnesOwn()
    {
        Master m(16, 2);
        m.begin();
        m.write(false, 0x48);  // the second
        for (const int row : {0x04, 0x0E, 0x1F, 0x04, 0x04, 0x04, 0x04, 0x11})
            m.write(true, static_cast<std::uint8_t>(row));
        m.write(false, 0x80);
        m.write(true, 1);
        m.write(true, 'A');
        QVERIFY(m.display.dot(0, 0, 2, 0, m.now) && !m.display.dot(0, 0, 1, 0, m.now));
        QVERIFY(m.display.dot(0, 0, 0, 7, m.now) && m.display.dot(0, 0, 4, 7, m.now));
        for (int y = 0; y < 7; ++y)
            for (int x = 0; x < 5; ++x)
                QCOMPARE(m.display.dot(1, 0, x, y, m.now), (dotRows('A')[static_cast<std::size_t>(y)] >> (4 - x) & 1) != 0);
        // The cursor lies under the next place, and blinks on request.
        m.write(false, 0x0E);
        QVERIFY(m.display.dot(2, 0, 3, 7, m.now) && !m.display.dot(3, 0, 3, 7, m.now));
        m.write(false, 0x0D);
        QVERIFY(m.display.dot(2, 0, 3, 3, Time(500ms)) != m.display.dot(2, 0, 3, 3, Time(900ms)));
    }

    // Every letter that can be typed is there, and no two are alike.
    void theFontIsWhole()
    {
        std::set<DotRows> seen;
        for (int c = 0x20; c < 0x7F; ++c) {
            const DotRows& rows = dotRows(static_cast<std::uint8_t>(c));
            QVERIFY2(seen.insert(rows).second, qPrintable(QString(QChar(c))));
            for (const std::uint8_t row : rows)
                QVERIFY(row < 0x20);
        }
    }

    // Of the upper half two are used everywhere: the degree at 0xDF and the full block at 0xFF (Table 4, ROM code A00).
    void theDegreeAndTheBlockAreThere()
    {
        const auto lit = [](std::uint8_t code) {
            int count = 0;
            for (const std::uint8_t row : dotRows(code))
                count += std::popcount(row);
            return count;
        };
        QCOMPARE(lit(0xFF), 35);
        QVERIFY(lit(0xDF) >= 4 && lit(0xDF) <= 10);
        for (int y = 4; y < 7; ++y)
            QCOMPARE(dotRows(0xDF)[static_cast<std::size_t>(y)], std::uint8_t{0});  // it hangs at the top
        for (const int other : {0x80, 0xA0, 0xDE, 0xE0, 0xFE}) {
            QVERIFY(dotRows(static_cast<std::uint8_t>(other)) != dotRows(0xFF));
            QVERIFY(dotRows(static_cast<std::uint8_t>(other)) != dotRows(0xDF));
        }
    }
};

QTEST_GUILESS_MAIN(Hd44780Test)
#include "hd44780_test.moc"
