// What only the ATtiny85 has: Timer1 with its PLL and dead time, and the universal serial interface (datasheet 2586 ch. 12, 15).
#include <QtTest>

#include "chip/avr/two_chips.h"

using namespace bramix;
using namespace bramix::test;
using circuit::NetState;

class TinyTest : public QObject {
    Q_OBJECT

private slots:
    void timer1DividesByItsPrescaler_data()
    {
        QTest::addColumn<int>("cs");
        for (int cs = 1; cs <= 12; ++cs)
            QTest::newRow(qPrintable(QString("CS %1").arg(cs))) << cs;
    }
    void timer1DividesByItsPrescaler()
    {
        QFETCH(int, cs);
        ChipBench b(8'000'000, attiny85());
        b.write("DDRB", 0x02);
        b.write("OCR1C", 9);
        b.write("OCR1A", 9);
        b.write("TCCR1", static_cast<std::uint8_t>(0x90 | cs));  // CTC1, toggle OC1A
        b.to(10LL * 5 << (cs - 1));
        const auto edges = b.edges("PB1");
        QVERIFY(edges.size() >= 4);
        QCOMPARE(edges[3].cycle - edges[2].cycle, std::int64_t{10} << (cs - 1));  // (OCR1C + 1) 2^(CS-1)
    }

    void thePllGives250KilohertzOfEightBitPwm()
    {
        ChipBench b(8'000'000, attiny85());
        b.write("DDRB", 0x02);
        b.write("PLLCSR", 0x02);
        b.to(8000);
        QCOMPARE(b.read("PLLCSR") & 0x01, 0x01);  // locked after 100 us
        b.write("PLLCSR", 0x06);                  // PCKE
        b.write("OCR1C", 255);
        b.write("OCR1A", 63);
        b.write("TCCR1", 0x61);  // PWM1A, clear on match, PCK/1
        b.forgetEdges();
        b.to(8000 + 8000);
        // 64 MHz / 256 = 250 kHz for a millisecond
        int rises = 0;
        for (const RecordedEdge& e : b.edges("PB1"))
            rises += e.state == NetState::high ? 1 : 0;
        QVERIFY2(rises >= 249 && rises <= 251, qPrintable(QString::number(rises)));
    }

    void complementaryOutputsKeepTheirDeadTime()
    {
        ChipBench b(8'000'000, attiny85());
        b.write("DDRB", 0x03);
        b.write("DT1A", 0x35);  // 3 before OC1A rises, 5 before /OC1A does
        b.write("OCR1C", 99);
        b.write("OCR1A", 39);
        b.write("TCCR1", 0x51);  // PWM1A, COM1A = 1: both outputs
        b.to(1000);
        const auto direct = b.edges("PB1");
        const auto complement = b.edges("PB0");
        QVERIFY(direct.size() > 6 && complement.size() > 6);
        const auto after = [](const std::vector<RecordedEdge>& edges, std::int64_t cycle, NetState state) {
            for (const RecordedEdge& e : edges)
                if (e.cycle > cycle && e.state == state)
                    return e.cycle;
            return std::int64_t{-1};
        };
        const std::int64_t fall = after(complement, 300, NetState::low);
        const std::int64_t rise = after(direct, fall - 1, NetState::high);
        QCOMPARE(rise - fall, 3);
        const std::int64_t off = after(direct, rise, NetState::low);
        QCOMPARE(after(complement, off - 1, NetState::high) - off, 5);
        QCOMPARE(after(complement, rise, NetState::low) - fall, 100);
        QCOMPARE(off - fall, 40);  // OCR1A + 1
    }

    void threeWireStrobesByteOut()
    {
        ChipBench b(8'000'000, attiny85());
        b.write("DDRB", 0x06);
        b.write("USIDR", 0xA5);
        b.write("USISR", 0x40);
        b.drive("PB0", true);
        int out = 0;
        for (int i = 0; i < 16; ++i) {
            // USITC toggles USCK, USICS = 10 with USICLK: shift at its rising edge, count at the strobe.
            b.to(100 + 20 * i);
            if (i % 2 == 0)
                out = (out << 1) | (b.chip.ports().level(Chip::portPin(attiny85(), "PB1")) ? 1 : 0);
            b.write("USICR", 0x1B);
        }
        b.to(600);
        QCOMPARE(b.read("USISR") & 0x40, 0x40);
        QCOMPARE(b.read("USIDR"), 0xFF);
        QCOMPARE(b.read("USIBR"), 0xFF);
        QCOMPARE(out & 0x7F, 0xA5 & 0x7F);
    }

    void threeWireTalksToAnSpiMaster()
    {
        TwoChips t(atmega328p(), attiny85(), {{"PB5", "PB2"}, {"PB3", "PB0"}, {"PB4", "PB1"}}, 8'000'000);
        t.write(t.a, "DDRB", 0x2C);
        t.write(t.b, "DDRB", 0x02);
        t.write(t.a, "SPCR", 0x51);
        t.write(t.b, "USICR", 0x18);  // three-wire, external, rising edge
        t.write(t.b, "USIDR", 0x96);
        t.write(t.a, "SPDR", 0x3C);
        QVERIFY(t.waitFor(t.a, "SPSR", 0x80));
        QCOMPARE(t.read(t.b, "USISR") & 0x40, 0x40);  // 16 edges counted
        QCOMPARE(t.read(t.b, "USIBR"), 0x3C);
        QCOMPARE(t.read(t.a, "SPDR"), 0x96);
    }

    void theStartDetectorSeesAStartAndHoldsTheClock()
    {
        TwoChips t(atmega328p(), attiny85(), {{"PC4", "PB0"}, {"PC5", "PB2"}}, 8'000'000);
        t.pullUp("PC4");
        t.pullUp("PC5");
        t.write(t.b, "PORTB", 0x05);
        t.write(t.b, "DDRB", 0x04);
        t.write(t.b, "USICR", 0x28);  // two-wire, external
        t.write(t.b, "USISR", 0xF0);
        t.write(t.a, "TWBR", 32);
        t.write(t.a, "TWCR", 0xA4);
        QVERIFY(t.waitFor(t.b, "USISR", 0x80));
        QVERIFY(t.waitFor(t.a, "TWCR", 0x80));
        // The tiny holds SCL: the address does not go out until USISIF is cleared.
        t.write(t.a, "TWDR", 0x50);
        t.write(t.a, "TWCR", 0x84);
        t.wait(std::chrono::milliseconds(1));
        QCOMPARE(t.read(t.b, "USISR") & 0x0F, 1);  // the edge behind the START
        t.write(t.b, "USISR", 0xF0);
        t.wait(std::chrono::microseconds(300));
        QVERIFY((t.read(t.b, "USISR") & 0x4F) != 0);
    }

    void theResetPinIsAPortPinByItsName() { QVERIFY(Chip::portPin(attiny85(), "PB5").exists()); }
};

QTEST_GUILESS_MAIN(TinyTest)
#include "tiny_test.moc"
