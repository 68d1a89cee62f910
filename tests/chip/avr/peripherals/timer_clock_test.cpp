// What drives a timer besides the prescaled clock: its pin, its own crystal; and input capture (ATmega328P ch. 16.6, 17, 18.9).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;

class TimerClockTest : public QObject {
    Q_OBJECT

private slots:
    void countsTheEdgesOfItsPin_data()
    {
        QTest::addColumn<int>("cs");
        QTest::addColumn<int>("expected");
        QTest::newRow("falling") << 6 << 5;
        QTest::newRow("rising") << 7 << 6;
    }
    void countsTheEdgesOfItsPin()
    {
        QFETCH(int, cs);
        QFETCH(int, expected);
        ChipBench b;
        b.drive("PD4", false);
        b.to(10);
        b.write("TCCR0B", static_cast<std::uint8_t>(cs));
        for (int i = 0; i < 11; ++i) {
            b.drive("PD4", i % 2 == 0);
            b.to(100 + 20 * i);
        }
        QCOMPARE(b.read("TCNT0"), expected);
    }

    void anEdgeCountsTwoAndAHalfToThreeAndAHalfCyclesLater()
    {
        ChipBench b;
        b.drive("PD5", false);
        b.write("TCCR1B", 7);
        b.to(100);
        b.drive("PD5", true);  // at the rising edge of cycle 100: sampled at 100.5, seen at 101, counted at 103
        QCOMPARE(b.readAt("TCNT1L", 102), 0);
        QCOMPARE(b.readAt("TCNT1L", 103), 1);
    }

    void captureTakesTheCountAtTheEdge_data()
    {
        QTest::addColumn<bool>("rising");
        QTest::addColumn<bool>("canceller");
        for (const bool rising : {false, true})
            for (const bool canceller : {false, true})
                QTest::newRow(qPrintable(QString("%1%2").arg(rising ? "rising" : "falling", canceller ? ", noise canceller" : ""))) << rising << canceller;
    }
    void captureTakesTheCountAtTheEdge()
    {
        QFETCH(bool, rising);
        QFETCH(bool, canceller);
        ChipBench b;
        b.drive("PB0", !rising);
        b.to(20);
        b.write("TCCR1B", static_cast<std::uint8_t>((canceller ? 0x80 : 0) | (rising ? 0x40 : 0) | 1), 20);
        b.write16("TCNT1", 0);
        b.to(1000);
        const int before = b.read("TCNT1L") | (b.read("TCNT1H") << 8);
        b.drive("PB0", rising);
        b.to(1020);
        QCOMPARE(b.read("TIFR1") & 0x20, 0x20);
        // 3 cycles through synchroniser and edge detector, 4 more through the canceller.
        QCOMPARE((b.read("ICR1L") | (b.read("ICR1H") << 8)) - before, canceller ? 7 : 3);
        // The other edge captures nothing.
        b.write("TIFR1", 0x20);
        b.drive("PB0", !rising);
        b.to(1100);
        QCOMPARE(b.read("TIFR1") & 0x20, 0);
    }

    void theCancellerLeavesOutWhatIsShorterThanFourSamples()
    {
        ChipBench b;
        b.drive("PB0", false);
        b.to(20);
        b.write("TCCR1B", 0xC1);
        b.to(100);
        b.drive("PB0", true);
        b.to(102);
        b.drive("PB0", false);
        b.to(200);
        QCOMPARE(b.read("TIFR1") & 0x20, 0);
    }

    void timer2CountsItsCrystal()
    {
        ChipBench b;
        b.write("ASSR", 0x20);  // AS2
        b.write("TCCR2B", 0x05);  // by 128: 256 a second
        QCOMPARE(b.read("ASSR") & 0x1F, 0x01);  // TCR2BUB
        b.to(16'000'000 / 2);
        QCOMPARE(b.read("ASSR") & 0x1F, 0);
        // Half a second of 256 a second, less two edges of the crystal.
        QVERIFY(b.read("TCNT2") == 128 || b.read("TCNT2") == 127);
    }

    void asynchronousWritesWaitForTwoEdgesOfTheCrystal()
    {
        ChipBench b;
        b.write("ASSR", 0x20);
        b.to(1000);
        b.write("OCR2A", 99);
        QCOMPARE(b.read("ASSR") & 0x08, 0x08);
        // An edge every 488.28 cycles: the second one is at most 977 cycles away.
        b.to(2000);
        QCOMPARE(b.read("ASSR") & 0x08, 0);
        QCOMPARE(b.read("OCR2A"), 99);
    }

    void timer2WakesFromPowerSave()
    {
        ChipBench b;
        std::vector<std::uint16_t> words(64, 0xCFFF);
        words[0] = 0x9478;
        words[1] = 0x9588;
        words[2] = 0xCFFF;
        b.program(words);
        b.write("ASSR", 0x20);
        b.write("TIMSK2", 0x01);
        b.write("TCNT2", 0x80);
        b.write("TCCR2B", 0x01);
        b.to(1500);
        b.write("SMCR", 0x07);  // power-save
        b.to(16'000'000 / 32'768 * 140);
        QCOMPARE(b.interrupts.size(), 1U);
        QCOMPARE(b.interrupts[0].first, 9);
    }

    void heldPrescalersStartTogether()
    {
        ChipBench b;
        b.write("GTCCR", 0x81);
        b.write("TCCR0B", 0x02);
        b.write("TCCR1B", 0x02);
        b.to(500);
        QCOMPARE(b.read("TCNT0"), 0);
        b.write("GTCCR", 0x00, 500);
        QCOMPARE(b.readAt("TCNT0", 507), 0);
        QCOMPARE(b.read("TCNT0", 508), 1);
        QCOMPARE(b.read("TCNT1L", 508), 1);
    }

    void theThirdCompareUnitHasItsPinAndTheModulatorJoinsTwo()
    {
        ChipBench b(16'000'000, atmega2560());
        b.write("DDRB", 0x80);
        b.write("DDRE", 0x20);
        b.write16("OCR3C", 49);
        b.write("TCCR3A", 0x04);  // toggle OC3C
        b.write("TCCR3B", 0x09);  // CTC by OCR3A
        b.write16("OCR3A", 49);
        b.to(1000);
        const auto edges = b.edges("PE5");
        QVERIFY(edges.size() > 10);
        QCOMPARE(edges[6].cycle - edges[5].cycle, 50);
        // OC0A fast and OC1C slow on PB7: with PORTB7 = 0 it is low wherever one is low.
        b.write("OCR0A", 9);
        b.write("TCCR0A", 0x42);
        b.write("TCCR0B", 0x01);
        b.write16("OCR1A", 499);
        b.write16("OCR1C", 499);
        b.write("TCCR1A", 0x04);
        b.write("TCCR1B", 0x09);
        b.forgetEdges();
        b.to(11'000);
        int within = 0;
        for (const RecordedEdge& e : b.edges("PB7"))
            within += e.state == circuit::NetState::high ? 1 : 0;
        // In 10000 cycles OC0A rises 500 times; half of them fall into the low half of OC1C.
        QVERIFY2(within > 230 && within < 270, qPrintable(QString::number(within)));
    }

    void theOlderLayoutHasItsTimers()
    {
        ChipBench b(16'000'000, atmega32());
        b.write("DDRB", 0x08);
        b.write("OCR0", 24);
        b.write("TCCR0", 0x19);  // CTC (WGM01), toggle OC0 (COM00), clk/1
        b.to(500);
        const auto edges = b.edges("PB3");
        QVERIFY(edges.size() > 10);
        QCOMPARE(edges[5].cycle - edges[4].cycle, 25);
        QCOMPARE(b.read("TIFR") & 0x02, 0x02);
        b.write("TCCR2", 0x02);
        b.write("TIFR", 0xFF);
        b.write("TCNT2", 0xFF);
        b.to(600);
        QCOMPARE(b.read("TIFR") & 0x40, 0x40);
    }

    void stateIsRestoredWhileACaptureIsOnItsWay()
    {
        ChipBench b;
        b.drive("PB0", false);
        b.to(20);
        b.write("TCCR1B", 0xC1);
        b.to(400);
        b.drive("PB0", true);
        b.to(404);
        const auto queue = kernel::saveState(b.queue);
        const auto chip = kernel::saveState(b.chip);
        b.to(500);
        const int first = b.read("ICR1L");
        kernel::loadState(b.queue, queue);
        kernel::loadState(b.chip, chip);
        QCOMPARE(b.chip.peek(b.address("TIFR1")) & 0x20, 0);
        b.to(500);
        QCOMPARE(b.read("ICR1L"), first);
        QCOMPARE(b.read("TIFR1") & 0x20, 0x20);
    }
};

QTEST_GUILESS_MAIN(TimerClockTest)
#include "timer_clock_test.moc"
