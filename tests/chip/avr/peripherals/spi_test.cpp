// SPI: a master and a slave exchange bytes in every mode, order and rate (ATmega328P ch. 19).
#include <QtTest>

#include "chip/avr/two_chips.h"

using namespace bramix::test;

namespace {

constexpr std::uint8_t kEnable = 0x40, kLsbFirst = 0x20, kMaster = 0x10, kInterruptFlag = 0x80, kCollision = 0x40;

TwoChips wired() { return TwoChips(atmega328p(), atmega328p(), {{"PB2", "PB2"}, {"PB3", "PB3"}, {"PB4", "PB4"}, {"PB5", "PB5"}, {"PB1", "PB1"}}); }

}  // namespace

class SpiTest : public QObject {
    Q_OBJECT

private slots:
    void bytesGoBothWaysInEveryMode_data()
    {
        QTest::addColumn<int>("mode");
        QTest::addColumn<bool>("lsbFirst");
        QTest::addColumn<int>("rate");
        for (int mode = 0; mode < 4; ++mode)
            for (const bool lsb : {false, true})
                for (const int rate : {0, 1, 3})
                    QTest::newRow(qPrintable(QString("mode %1%2, SPR %3").arg(mode).arg(lsb ? ", lsb first" : "").arg(rate))) << mode << lsb << rate;
    }
    void bytesGoBothWaysInEveryMode()
    {
        QFETCH(int, mode);
        QFETCH(bool, lsbFirst);
        QFETCH(int, rate);
        auto t = wired();
        const auto control = static_cast<std::uint8_t>(kEnable | (lsbFirst ? kLsbFirst : 0) | (mode << 2) | rate);
        t.write(t.a, "PORTB", 0x04);
        t.write(t.a, "DDRB", 0x2C);  // SS, MOSI, SCK
        t.write(t.b, "DDRB", 0x10);  // MISO
        t.write(t.a, "SPCR", control | kMaster);
        t.write(t.b, "SPCR", control);
        t.write(t.b, "SPDR", 0xA7);
        t.write(t.a, "PORTB", 0x00);  // select
        t.wait(std::chrono::microseconds(1));
        t.write(t.a, "SPDR", 0x35);
        QVERIFY(t.waitFor(t.a, "SPSR", kInterruptFlag));
        QCOMPARE(t.read(t.a, "SPDR"), 0xA7);
        QCOMPARE(t.read(t.b, "SPSR") & kInterruptFlag, kInterruptFlag + 0);
        QCOMPARE(t.read(t.b, "SPDR"), 0x35);
        // The flag goes when SPSR and then SPDR are read.
        (void)t.read(t.a, "SPSR");
        (void)t.read(t.a, "SPDR");
        QCOMPARE(t.read(t.a, "SPSR") & kInterruptFlag, 0);
    }

    void eightBitsTakeEightPeriodsOfTheRate_data()
    {
        QTest::addColumn<int>("spr");
        QTest::addColumn<bool>("doubled");
        QTest::addColumn<int>("divisor");  // table 19-5
        QTest::newRow("4") << 0 << false << 4;
        QTest::newRow("16") << 1 << false << 16;
        QTest::newRow("64") << 2 << false << 64;
        QTest::newRow("128") << 3 << false << 128;
        QTest::newRow("2") << 0 << true << 2;
        QTest::newRow("8") << 1 << true << 8;
        QTest::newRow("32") << 2 << true << 32;
        QTest::newRow("64 again") << 3 << true << 64;
    }
    void eightBitsTakeEightPeriodsOfTheRate()
    {
        QFETCH(int, spr);
        QFETCH(bool, doubled);
        QFETCH(int, divisor);
        ChipBench b;
        b.write("DDRB", 0x2C);
        b.write("SPCR", static_cast<std::uint8_t>(kEnable | kMaster | spr));
        b.write("SPSR", doubled ? 1 : 0);
        b.to(100);
        b.write("SPDR", 0x55, 100);
        QCOMPARE(b.readAt("SPSR", 100 + 8 * divisor - 1) & kInterruptFlag, 0);
        QCOMPARE(b.readAt("SPSR", 100 + 8 * divisor) & kInterruptFlag, kInterruptFlag + 0);
        std::vector<std::int64_t> rises;
        for (const RecordedEdge& e : b.edges("PB5"))
            if (e.state == bramix::circuit::NetState::high)
                rises.push_back(e.cycle);
        QCOMPARE(rises.size(), 8U);
        QCOMPARE(rises[1] - rises[0], divisor);
    }

    void aWriteDuringATransferCollides()
    {
        ChipBench b;
        b.write("DDRB", 0x2C);
        b.write("SPCR", kEnable | kMaster | 3);
        b.write("SPDR", 0x11);
        b.to(50);
        b.write("SPDR", 0x22);
        QCOMPARE(b.read("SPSR") & kCollision, kCollision + 0);
        QVERIFY(std::find(b.notes.begin(), b.notes.end(), "spi-collision") != b.notes.end());
    }

    void aMasterWhoseSelectIsPulledLowBecomesASlave()
    {
        ChipBench b;
        b.write("DDRB", 0x28);
        b.drive("PB2", true);
        b.write("SPCR", kEnable | kMaster);
        b.to(50);
        QCOMPARE(b.read("SPCR") & kMaster, kMaster + 0);
        b.drive("PB2", false);
        QCOMPARE(b.read("SPCR") & kMaster, 0);
        QCOMPARE(b.read("SPSR") & kInterruptFlag, kInterruptFlag + 0);
        QVERIFY(std::find(b.notes.begin(), b.notes.end(), "spi-master-lost") != b.notes.end());
    }
};

QTEST_GUILESS_MAIN(SpiTest)
#include "spi_test.moc"
