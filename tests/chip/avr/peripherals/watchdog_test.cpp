// The watchdog: time-outs, modes, and the sequence that guards it (ATmega328P ch. 11.8; table 11-2).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;

namespace {

constexpr std::uint8_t kInterrupt = 0x40, kChange = 0x10, kEnable = 0x08;

void configure(ChipBench& b, std::uint8_t value)
{
    const std::int64_t at = b.chip.cpu().cycle;
    b.write("WDTCSR", kChange | kEnable, at);
    b.write("WDTCSR", value, at + 4);
}

}  // namespace

class WatchdogTest : public QObject {
    Q_OBJECT

private slots:
    void resetsAfterItsTimeOut_data()
    {
        QTest::addColumn<int>("bits");
        QTest::addColumn<qint64>("periods");  // of 128 kHz, table 11-2
        for (int wdp = 0; wdp < 10; ++wdp)
            QTest::newRow(qPrintable(QString("WDP %1").arg(wdp))) << ((wdp & 7) | ((wdp & 8) << 2)) << (qint64{2048} << wdp);
    }
    void resetsAfterItsTimeOut()
    {
        QFETCH(int, bits);
        QFETCH(qint64, periods);
        ChipBench b(1'000'000);
        configure(b, static_cast<std::uint8_t>(kEnable | bits));
        const auto end = static_cast<std::int64_t>(static_cast<double>(periods) / 128e3 * 1e6);
        b.to(end - 50);
        QCOMPARE(b.read("MCUSR"), 0x01);
        b.to(end + 50);
        QCOMPARE(b.read("MCUSR"), 0x09);  // PORF and WDRF
    }

    void aResetByTheWatchdogLeavesItRunningWithTheShortestTime()
    {
        ChipBench b(1'000'000);
        configure(b, kEnable | 3);
        b.to(129'000);
        QCOMPARE(b.read("WDTCSR") & 0x0F, kEnable + 0);
        // WDE cannot go while WDRF is set; then it can.
        configure(b, 0);
        QCOMPARE(b.read("WDTCSR") & kEnable, kEnable + 0);
        b.write("MCUSR", 0);
        configure(b, 0);
        QCOMPARE(b.read("WDTCSR") & kEnable, 0);
    }

    void countsFromWhenItIsSwitchedOn()
    {
        ChipBench b(1'000'000);
        b.to(100'000);
        configure(b, kEnable);
        b.to(100'000 + 15'950);
        QCOMPARE(b.read("MCUSR"), 0x01);
        b.to(100'000 + 16'050);
        QCOMPARE(b.read("MCUSR"), 0x09);
    }

    void wdrPutsItOff()
    {
        // wdr ; rjmp .-4
        ChipBench b(1'000'000);
        b.program({0x95A8, 0xCFFE});
        configure(b, kEnable);
        b.to(500'000);
        QCOMPARE(b.read("MCUSR"), 0x01);
    }

    void interruptModeRaisesItsVectorAndThenResets()
    {
        ChipBench b(1'000'000);
        std::vector<std::uint16_t> words(64, 0xCFFF);
        words[0] = 0x9478;
        words[1] = 0xCFFF;
        b.program(words);
        configure(b, kEnable | kInterrupt);
        b.to(20'000);
        QCOMPARE(b.interrupts.size(), 1U);
        QCOMPARE(b.interrupts[0].first, 6);
        QVERIFY(b.interrupts[0].second >= 16'000 && b.interrupts[0].second < 16'020);
        QCOMPARE(b.read("WDTCSR") & kInterrupt, 0);
        b.to(33'000);
        QCOMPARE(b.read("MCUSR") & 0x08, 0x08);
    }

    void aMissedSequenceIsToldAndChangesNothing()
    {
        ChipBench b;
        b.write("WDTCSR", kEnable, 10);
        b.write("WDTCSR", 0, 20);
        QCOMPARE(b.read("WDTCSR") & kEnable, kEnable + 0);
        b.write("WDTCSR", kEnable | 5, 30);
        QCOMPARE(b.read("WDTCSR") & 7, 0);
        QVERIFY(!b.notes.empty());
        QCOMPARE(b.notes[0], "timed-sequence");
    }

    void theOldOneCountsAMillionASecond()
    {
        ChipBench b(1'000'000, atmega32());
        b.write("WDTCR", kEnable | 2);  // 64 K cycles
        b.to(65'536 - 50);
        QCOMPARE(b.read("MCUCSR"), 0x01);
        b.to(65'536 + 50);
        QCOMPARE(b.read("MCUCSR"), 0x09);
        QCOMPARE(b.read("WDTCR") & kEnable, 0);  // and it is off after the reset
    }
};

QTEST_GUILESS_MAIN(WatchdogTest)
#include "watchdog_test.moc"
