// Timers against the datasheet's arithmetic. Each expected figure stands beside its formula; the chapter is the ATmega328P's.
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;
using circuit::NetState;

namespace {

struct Wave {
    std::int64_t period = 0;
    std::int64_t high = 0;
};

// Period and high time of a pin, from its last whole period.
Wave measure(const std::vector<RecordedEdge>& edges)
{
    Wave w;
    std::vector<std::int64_t> rises;
    for (const RecordedEdge& e : edges)
        if (e.state == NetState::high)
            rises.push_back(e.cycle);
    if (rises.size() < 3)
        return w;
    const std::int64_t last = rises[rises.size() - 2];
    w.period = rises.back() - last;
    for (const RecordedEdge& e : edges)
        if (e.state == NetState::low && e.cycle > last && e.cycle <= rises.back())
            w.high = e.cycle - last;
    return w;
}

}  // namespace

class TimerTest : public QObject {
    Q_OBJECT

private slots:
    void ctcTogglesItsPinAtTheDatasheetFrequency_data()
    {
        QTest::addColumn<int>("prescaleBits");
        QTest::addColumn<int>("prescale");
        QTest::addColumn<int>("ocr");
        QTest::newRow("clk/1, OCR 0") << 1 << 1 << 0;
        QTest::newRow("clk/1, OCR 99") << 1 << 1 << 99;
        QTest::newRow("clk/8, OCR 124") << 2 << 8 << 124;
        QTest::newRow("clk/64, OCR 3") << 3 << 64 << 3;
        QTest::newRow("clk/1024, OCR 255") << 5 << 1024 << 255;
    }
    void ctcTogglesItsPinAtTheDatasheetFrequency()
    {
        QFETCH(int, prescaleBits);
        QFETCH(int, prescale);
        QFETCH(int, ocr);
        ChipBench b;
        b.write("DDRD", 0x40);
        b.write("OCR0A", static_cast<std::uint8_t>(ocr));
        b.write("TCCR0A", 0x42);  // toggle OC0A, CTC
        b.write("TCCR0B", static_cast<std::uint8_t>(prescaleBits));
        b.to(10LL * prescale * (ocr + 1) + 100);
        const Wave w = measure(b.edges("PD6"));
        // f = clk / (2 N (1 + OCR)), 15.7.2
        QCOMPARE(w.period, 2LL * prescale * (1 + ocr));
        QCOMPARE(w.high, std::int64_t{prescale} * (1 + ocr));
    }

    void fastPwmHasItsPeriodAndDuty_data()
    {
        QTest::addColumn<int>("ocr");
        QTest::addColumn<bool>("inverted");
        for (const int ocr : {0, 1, 63, 128, 254, 255})
            for (const bool inverted : {false, true})
                QTest::newRow(qPrintable(QString("OCR %1%2").arg(ocr).arg(inverted ? ", inverted" : ""))) << ocr << inverted;
    }
    void fastPwmHasItsPeriodAndDuty()
    {
        QFETCH(int, ocr);
        QFETCH(bool, inverted);
        ChipBench b;
        b.write("DDRD", 0x40);
        b.write("OCR0A", static_cast<std::uint8_t>(ocr));
        b.write("TCCR0A", inverted ? 0xC3 : 0x83);
        b.write("TCCR0B", 1);
        b.to(256 * 8);
        const Wave w = measure(b.edges("PD6"));
        // f = clk / (N 256), 15.7.3; non-inverting: high for OCR + 1 counts, and constantly high at OCR = MAX.
        if (ocr == 255) {
            QCOMPARE(w.period, 0);
            QVERIFY(b.chip.ports().level(Chip::portPin(atmega328p(), "PD6")) != inverted);
            return;
        }
        QCOMPARE(w.period, 256);
        QCOMPARE(w.high, inverted ? 256 - (ocr + 1) : ocr + 1);
    }

    void phaseCorrectPwmHasItsPeriodAndDuty_data()
    {
        QTest::addColumn<int>("ocr");
        for (const int ocr : {0, 1, 100, 254, 255})
            QTest::newRow(qPrintable(QString("OCR %1").arg(ocr))) << ocr;
    }
    void phaseCorrectPwmHasItsPeriodAndDuty()
    {
        QFETCH(int, ocr);
        ChipBench b;
        b.write("DDRD", 0x20);
        b.write("OCR0B", static_cast<std::uint8_t>(ocr));
        b.write("TCCR0A", 0x21);  // OC0B non-inverting, phase correct, TOP 0xFF
        b.write("TCCR0B", 2);     // clk/8
        b.to(8 * 510 * 8);
        const Wave w = measure(b.edges("PD5"));
        // f = clk / (N 510), 15.7.4; high for 2 OCR counts; constant at the extremes.
        if (ocr == 0 || ocr == 255) {
            QCOMPARE(w.period, 0);
            QCOMPARE(b.chip.ports().level(Chip::portPin(atmega328p(), "PD5")), ocr == 255);
            return;
        }
        QCOMPARE(w.period, 8 * 510);
        QCOMPARE(w.high, 8 * 2 * ocr);
    }

    void timer1PwmModesHaveTheirTops_data()
    {
        QTest::addColumn<int>("wgm");
        QTest::addColumn<qint64>("period");  // in counts
        QTest::newRow("phase correct, 8-bit") << 1 << qint64{2 * 0xFF};
        QTest::newRow("phase correct, 9-bit") << 2 << qint64{2 * 0x1FF};
        QTest::newRow("phase correct, 10-bit") << 3 << qint64{2 * 0x3FF};
        QTest::newRow("fast, 8-bit") << 5 << qint64{0x100};
        QTest::newRow("fast, 9-bit") << 6 << qint64{0x200};
        QTest::newRow("fast, 10-bit") << 7 << qint64{0x400};
        QTest::newRow("phase and frequency correct, ICR") << 8 << qint64{2 * 1999};
        QTest::newRow("phase correct, ICR") << 10 << qint64{2 * 1999};
        QTest::newRow("fast, ICR") << 14 << qint64{2000};
    }
    void timer1PwmModesHaveTheirTops()
    {
        QFETCH(int, wgm);
        QFETCH(qint64, period);
        ChipBench b;
        b.write("DDRB", 0x02);
        b.write16("OCR1A", 50);
        b.write("TCCR1A", static_cast<std::uint8_t>(0x80 | (wgm & 3)));
        b.write("TCCR1B", static_cast<std::uint8_t>((wgm & 12) << 1));
        if (period / 2 == 1999 || period == 2000)
            b.write16("ICR1", 1999);  // 16.6.3: only after the mode that uses it as TOP
        b.write("TCCR1B", static_cast<std::uint8_t>(((wgm & 12) << 1) | 1));
        b.to(period * 6);
        const Wave w = measure(b.edges("PB1"));
        QCOMPARE(w.period, period);
        QCOMPARE(w.high, wgm >= 5 && wgm != 8 && wgm != 10 ? 51 : 100);  // OCR + 1, or 2 OCR
    }

    void newCompareValueWaitsForTheUpdatePoint()
    {
        ChipBench b;
        b.write("DDRD", 0x40);
        b.write("OCR0A", 99);
        b.write("TCCR0A", 0x83);  // fast PWM
        b.write("TCCR0B", 1);
        b.to(256 * 4 + 20);  // in the fifth period, before the match
        b.write("OCR0A", 9);
        QCOMPARE(b.read("OCR0A"), 9);  // reads the buffer
        b.to(256 * 8);
        std::vector<std::int64_t> widths;
        std::int64_t rise = -1;
        for (const RecordedEdge& e : b.edges("PD6")) {
            if (e.state == NetState::high)
                rise = e.cycle;
            else if (rise >= 0 && e.state == NetState::low)
                widths.push_back(e.cycle - rise);
        }
        QVERIFY(widths.size() >= 5);
        QCOMPARE(widths[3], 100);  // the period in progress keeps the old value (15.7.3)
        QCOMPARE(widths[4], 10);
    }

    void overflowInterruptComesAtItsCycle()
    {
        ChipBench b;
        b.program(std::vector<std::uint16_t>(64, 0xCFFF));
        b.write("TIMSK0", 1);
        b.write("TCNT0", 200);
        b.write("TCCR0B", 2);  // clk/8
        b.chip.cpu().sreg = kI;
        b.to(2000);
        // 56 counts of 8 cycles after the prescaler's phase at 0; the self-jump ends at the next even cycle; four cycles to enter (7.7.1).
        QCOMPARE(b.interrupts.size(), 1U);
        QCOMPARE(b.interrupts[0].first, 16);
        QCOMPARE(b.interrupts[0].second, 8 * 56 + 4);
        QCOMPARE(b.read("TIFR0") & 1, 0);  // entering clears the flag
    }

    void compareFlagRisesOneCountAfterTheMatchAndIsClearedByWritingOne()
    {
        ChipBench b;
        b.write("OCR0A", 10);
        b.write("TCCR0B", 1);
        const std::int64_t start = b.chip.cpu().cycle;
        // Started at `start`, the count is n at start + n; OCF0A is set when it becomes 11 (figure 15-10).
        QCOMPARE(b.read("TCNT0", start + 10), 10);
        QCOMPARE(b.read("TIFR0", start + 10) & 2, 0);
        QCOMPARE(b.read("TIFR0", start + 11) & 2, 2);
        b.write("TIFR0", 2, start + 12);
        QCOMPARE(b.read("TIFR0", start + 13) & 2, 0);
    }

    void sixteenBitAccessGoesThroughTheTemporaryRegister()
    {
        ChipBench b;
        b.write("TCNT1H", 0x12);
        b.write("TCNT1L", 0xFF);
        b.write("TCCR1B", 1);
        const std::int64_t start = b.chip.cpu().cycle;
        // The low byte read at count 0x12FF latches the high byte; by the second read the count has passed 0x1300.
        QCOMPARE(b.read("TCNT1L", start), 0xFF);
        QCOMPARE(b.read("TCNT1H", start + 2), 0x12);
        QCOMPARE(b.read("TCNT1L", start + 4), 0x03);
        QCOMPARE(b.read("TCNT1H", start + 6), 0x13);
    }

    void aCountReadLateIsTheSameAsOneWatchedAllTheTime()
    {
        for (const int wgm : {0, 1, 2, 3, 5, 7}) {
            ChipBench lazy;
            ChipBench watched;
            for (ChipBench* b : {&lazy, &watched}) {
                b->write("OCR0A", 77);
                b->write("OCR0B", 30);
                b->write("TCCR0A", static_cast<std::uint8_t>(wgm & 3));
                b->write("TCCR0B", static_cast<std::uint8_t>(1 | ((wgm & 4) << 1)));
            }
            const std::int64_t start = watched.chip.cpu().cycle;
            for (std::int64_t c = 1; c < 5000; ++c)
                (void)watched.read("TCNT0", start + c);
            QCOMPARE(lazy.read("TCNT0", start + 5000), watched.read("TCNT0", start + 5000));
            QCOMPARE(lazy.read("TIFR0", start + 5000), watched.read("TIFR0", start + 5000));
        }
    }

    void prescalerResetStartsTheCountAfresh()
    {
        ChipBench b;
        b.write("TCCR0B", 5);  // clk/1024
        b.to(1000);
        b.write("GTCCR", 1, 1000);  // PSRSYNC
        QCOMPARE(b.read("TCNT0", 1030), 0);
        QCOMPARE(b.read("TCNT0", 1000 + 1023), 0);
        QCOMPARE(b.read("TCNT0", 1000 + 1024), 1);
        QCOMPARE(b.read("GTCCR"), 0);  // clears itself
    }

    void timer2HasItsOwnPrescalerValues()
    {
        // Table 18-9: 3 is clk/32, 5 is clk/128.
        for (const auto& [bits, divisor] : {std::pair(3, 32), std::pair(5, 128)}) {
            ChipBench b;
            b.write("TCCR2B", static_cast<std::uint8_t>(bits));
            const std::int64_t start = b.chip.cpu().cycle / divisor * divisor;
            QCOMPARE(b.read("TCNT2", start + divisor * 9 - 1), 8);
            QCOMPARE(b.read("TCNT2", start + divisor * 9), 9);
        }
    }
};

QTEST_APPLESS_MAIN(TimerTest)
#include "timer_test.moc"
