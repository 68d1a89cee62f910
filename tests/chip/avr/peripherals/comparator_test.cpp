// The analog comparator: who is greater, when it tells, and what follows (ATmega328P ch. 23).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix::test;

class ComparatorTest : public QObject {
    Q_OBJECT

private slots:
    void comparesItsInputs()
    {
        ChipBench b;
        b.drive("PD6", 2.0);  // AIN0
        b.drive("PD7", 1.0);  // AIN1
        QCOMPARE(b.read("ACSR") & 0x20, 0x20);
        b.drive("PD7", 3.0);
        b.to(100);
        QCOMPARE(b.read("ACSR") & 0x20, 0);
        b.write("ACSR", 0x40);  // band gap: 1.1 V < 3 V
        b.to(200);
        QCOMPARE(b.read("ACSR") & 0x20, 0);
        b.drive("PD7", 1.05);
        b.to(300);
        QCOMPARE(b.read("ACSR") & 0x20, 0x20);
    }

    void theEdgeThatAcisAsksForRaisesTheFlag_data()
    {
        QTest::addColumn<int>("acis");
        QTest::addColumn<bool>("rising");
        QTest::addColumn<bool>("flag");
        QTest::newRow("toggle, rising") << 0 << true << true;
        QTest::newRow("toggle, falling") << 0 << false << true;
        QTest::newRow("falling, rising") << 2 << true << false;
        QTest::newRow("falling, falling") << 2 << false << true;
        QTest::newRow("rising, rising") << 3 << true << true;
        QTest::newRow("rising, falling") << 3 << false << false;
    }
    void theEdgeThatAcisAsksForRaisesTheFlag()
    {
        QFETCH(int, acis);
        QFETCH(bool, rising);
        QFETCH(bool, flag);
        ChipBench b;
        b.drive("PD7", 2.0);
        b.drive("PD6", rising ? 1.0 : 3.0);
        b.write("ACSR", static_cast<std::uint8_t>(acis));
        b.to(50);
        b.write("ACSR", static_cast<std::uint8_t>(0x10 | acis));
        b.drive("PD6", rising ? 3.0 : 1.0);
        b.to(100);
        QCOMPARE((b.read("ACSR") & 0x10) != 0, flag);
    }

    void theMultiplexerServesWhileTheConverterIsOff()
    {
        ChipBench b;
        b.drive("PD6", 2.0);
        b.drive("PD7", 5.0);
        b.drive("PC3", 1.0);
        b.write("ADMUX", 0x43);
        b.write("ADCSRB", 0x40);  // ACME
        b.to(50);
        QCOMPARE(b.read("ACSR") & 0x20, 0x20);
        b.write("ADCSRA", 0x80);
        b.write("ADMUX", 0x43);
        b.to(100);
        QCOMPARE(b.read("ACSR") & 0x20, 0);
    }

    void theOutputCanCaptureTheTimer()
    {
        ChipBench b;
        b.drive("PD7", 2.0);
        b.drive("PD6", 1.0);
        b.write("ACSR", 0x04);    // ACIC
        b.write("TCCR1B", 0x41);  // rising edge, clk/1
        b.to(500);
        b.drive("PD6", 3.0);
        b.to(520);
        QCOMPARE(b.read("TIFR1") & 0x20, 0x20);
        const int captured = b.read("ICR1L") | (b.read("ICR1H") << 8);
        // Through the comparator's synchroniser and the capture's: a few cycles after 500.
        QVERIFY2(captured >= 502 && captured <= 508, qPrintable(QString::number(captured)));
    }
};

QTEST_GUILESS_MAIN(ComparatorTest)
#include "comparator_test.moc"
