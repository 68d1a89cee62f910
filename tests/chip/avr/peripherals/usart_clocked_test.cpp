// The USART's clocked modes, and its older register layout (ATmega328P ch. 20.3.3, 21).
#include <QtTest>

#include "chip/avr/two_chips.h"

using namespace bramix;
using namespace bramix::test;

class UsartClockedTest : public QObject {
    Q_OBJECT

private slots:
    void aSynchronousMasterTalksToASlave_data()
    {
        QTest::addColumn<int>("polarity");
        QTest::newRow("changed at the rising edge") << 0;
        QTest::newRow("changed at the falling edge") << 1;
    }
    void aSynchronousMasterTalksToASlave()
    {
        QFETCH(int, polarity);
        TwoChips t(atmega328p(), atmega328p(), {{"PD4", "PD4"}, {"PD1", "PD0"}, {"PD0", "PD1"}});
        t.write(t.a, "DDRD", 0x10);  // XCK given
        for (Chip* chip : {&t.a, &t.b}) {
            t.write(*chip, "UBRR0L", 7);  // 16 MHz / (2 * 8) = 1 Mbit/s
            t.write(*chip, "UCSR0C", static_cast<std::uint8_t>(0x46 | polarity));
            t.write(*chip, "UCSR0B", 0x18);
        }
        t.wait(std::chrono::microseconds(5));
        for (const int byte : {0x5A, 0x00, 0xFF, 0x81}) {
            t.write(t.a, "UDR0", static_cast<std::uint8_t>(byte));
            t.write(t.b, "UDR0", static_cast<std::uint8_t>(byte ^ 0xFF));
            QVERIFY(t.waitFor(t.b, "UCSR0A", 0x80));
            QVERIFY(t.waitFor(t.a, "UCSR0A", 0x80));
            QCOMPARE(t.read(t.b, "UDR0"), byte);
            QCOMPARE(t.read(t.a, "UDR0"), byte ^ 0xFF);
        }
    }

    void theClockHasItsRate()
    {
        ChipBench b;
        b.write("DDRD", 0x10);
        b.write("UBRR0L", 7);
        b.write("UCSR0C", 0x46);
        b.write("UCSR0B", 0x08);
        b.to(500);
        const auto edges = b.edges("PD4");
        QVERIFY(edges.size() > 20);
        QCOMPARE(edges[12].cycle - edges[10].cycle, 16);  // f / (2 (UBRR + 1)), table 20-1
    }

    void spiModeClocksOutAByte_data()
    {
        QTest::addColumn<int>("mode");
        for (int mode = 0; mode < 4; ++mode)
            QTest::newRow(qPrintable(QString("mode %1").arg(mode))) << mode;
    }
    void spiModeClocksOutAByte()
    {
        QFETCH(int, mode);
        // Against the other chip's SPI slave: SCK, MOSI and MISO.
        TwoChips t(atmega328p(), atmega328p(), {{"PD4", "PB5"}, {"PD1", "PB3"}, {"PD0", "PB4"}, {"PB0", "PB2"}});
        t.write(t.a, "PORTB", 0x01);
        t.write(t.a, "DDRB", 0x01);
        t.write(t.a, "DDRD", 0x10);
        t.write(t.b, "DDRB", 0x10);
        t.write(t.b, "SPCR", static_cast<std::uint8_t>(0x40 | (mode << 2)));
        t.write(t.a, "UCSR0C", static_cast<std::uint8_t>(0xC0 | ((mode & 1) << 1) | (mode >> 1)));
        t.write(t.a, "UCSR0B", 0x18);
        t.write(t.a, "UBRR0L", 9);
        t.write(t.b, "SPDR", 0x6C);
        t.write(t.a, "PORTB", 0x00);
        t.wait(std::chrono::microseconds(2));
        t.write(t.a, "UDR0", 0xB5);
        QVERIFY(t.waitFor(t.a, "UCSR0A", 0x80));
        QCOMPARE(t.read(t.a, "UDR0"), 0x6C);
        QCOMPARE(t.read(t.b, "SPDR"), 0xB5);
    }

    void theOlderUsartSharesAnAddress()
    {
        ChipBench b(16'000'000, atmega32());
        b.write("UCSRC", 0x86 | 0x30);  // URSEL: 8O1
        b.write("UCSRC", 0x02);         // UBRRH
        b.write("UBRRL", 0x34);
        const std::int64_t at = b.chip.cpu().cycle;
        QCOMPARE(b.read("UCSRC", at), 0x02);
        QCOMPARE(b.read("UCSRC", at + 1), 0xB6);
        QCOMPARE(b.chip.usart(0).format().cyclesPerBit, 16 * (0x234 + 1));
        QVERIFY(b.chip.usart(0).format().parity == UartFormat::Parity::odd);
    }
};

QTEST_GUILESS_MAIN(UsartClockedTest)
#include "usart_clocked_test.moc"
