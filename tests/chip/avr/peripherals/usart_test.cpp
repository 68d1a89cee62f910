// The USART against the datasheet's arithmetic (ATmega328P ch. 20): baud = clk / (16 (UBRR + 1)), or 8 at double speed.
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;
using circuit::NetState;

namespace {

// A frame on a wire, as an independent sender would put it there: bit by bit, at its own bit time.
class Sender {
public:
    Sender(ChipBench& bench, double bitCycles) : bench_(bench), bitCycles_(bitCycles) { bench.drive("PD0", true); }

    void frame(const std::vector<bool>& levels)
    {
        double at = static_cast<double>(bench_.chip.cpu().cycle);
        for (const bool level : levels) {
            bench_.drive("PD0", level);
            at += bitCycles_;
            bench_.to(static_cast<std::int64_t>(at + 0.5));
        }
    }

    void byte(std::uint8_t value, bool stop = true)
    {
        std::vector<bool> levels{false};
        for (int i = 0; i < 8; ++i)
            levels.push_back(((value >> i) & 1) != 0);
        levels.push_back(stop);
        if (!stop)
            levels.push_back(true);
        frame(levels);
    }

private:
    ChipBench& bench_;
    double bitCycles_;
};

}  // namespace

class UsartTest : public QObject {
    Q_OBJECT

private slots:
    void sendsFramesWithExactBitTimes_data()
    {
        QTest::addColumn<int>("ubrr");
        QTest::addColumn<bool>("doubleSpeed");
        QTest::addColumn<int>("ucsrc");
        QTest::addColumn<QString>("bits");  // of 0xA6 on the line, start bit first
        QTest::newRow("9600 8N1") << 103 << false << 0x06 << "0" "01100101" "1";
        QTest::newRow("115200 8N1, double speed") << 16 << true << 0x06 << "0" "01100101" "1";
        QTest::newRow("8E1") << 8 << false << 0x26 << "0" "01100101" "0" "1";  // four ones: even parity bit 0
        QTest::newRow("8O2") << 8 << false << 0x3E << "0" "01100101" "1" "11";
        QTest::newRow("5N1") << 8 << false << 0x00 << "0" "01100" "1";
        QTest::newRow("7E1") << 8 << false << 0x24 << "0" "0110010" "1" "1";
    }
    void sendsFramesWithExactBitTimes()
    {
        QFETCH(int, ubrr);
        QFETCH(bool, doubleSpeed);
        QFETCH(int, ucsrc);
        QFETCH(QString, bits);
        ChipBench b;
        const std::int64_t bit = (doubleSpeed ? 8LL : 16LL) * (ubrr + 1);
        b.write("UBRR0H", 0);
        b.write("UBRR0L", static_cast<std::uint8_t>(ubrr));
        b.write("UCSR0A", doubleSpeed ? 2 : 0);
        b.write("UCSR0C", static_cast<std::uint8_t>(ucsrc));
        b.write("UCSR0B", 0x08);
        b.write("UDR0", 0xA6);
        b.to(bit * 14);
        const auto edges = b.edges("PD1");
        QVERIFY(edges.size() >= 2);
        // Rebuild the levels in the middle of each bit from the edges.
        std::int64_t start = 0;
        for (const RecordedEdge& e : edges)
            if (e.state == NetState::low) {
                start = e.cycle;
                break;
            }
        QString seen;
        for (qsizetype i = 0; i < bits.size(); ++i) {
            NetState level = NetState::high;
            for (const RecordedEdge& e : edges)
                if (e.cycle <= start + bit * i + bit / 2)
                    level = e.state;
            seen += level == NetState::high ? '1' : '0';
        }
        QCOMPARE(seen, bits);
        for (const RecordedEdge& e : edges)
            if (e.cycle > start)
                QCOMPARE((e.cycle - start) % bit, 0);
    }

    void bufferAndShiftRegisterTakeTwoBytesAndSendThemWithoutAGap()
    {
        ChipBench b;
        b.write("UBRR0L", 8);
        b.write("UCSR0B", 0x08);
        b.write("UDR0", 0x55);
        QVERIFY((b.read("UCSR0A") & 0x20) != 0);  // moved on at once: the buffer is free
        b.write("UDR0", 0x55);
        QVERIFY((b.read("UCSR0A") & 0x20) == 0);
        const std::int64_t bit = 16 * 9;
        b.to(bit * 25);
        std::vector<std::int64_t> falls;
        for (const RecordedEdge& e : b.edges("PD1"))
            if (e.state == NetState::low)
                falls.push_back(e.cycle);
        // 0x55 falls at every second bit: five times a frame, and the frames stand ten bits apart.
        QCOMPARE(falls.size(), 10U);
        QCOMPARE(falls[5] - falls[0], 10 * bit);
        QVERIFY((b.read("UCSR0A") & 0x40) != 0);  // TXC after the last stop bit
    }

    void receivesAtTheLimitsOfTheBaudTolerance_data()
    {
        QTest::addColumn<double>("error");
        // Table 20-2, 8 data bits, normal speed: +3.8 % to -3.8 % is the most that can be received.
        QTest::newRow("exact") << 0.0;
        QTest::newRow("3 % fast") << 0.03;
        QTest::newRow("3 % slow") << -0.03;
    }
    void receivesAtTheLimitsOfTheBaudTolerance()
    {
        QFETCH(double, error);
        ChipBench b;
        b.write("UBRR0L", 51);
        b.write("UCSR0B", 0x10);
        Sender s(b, 16 * 52 / (1 + error));
        b.to(5000);
        for (const std::uint8_t value : {0x00, 0xFF, 0xA6, 0x5B}) {
            s.byte(value);
            QVERIFY((b.read("UCSR0A") & 0x80) != 0);
            QCOMPARE(b.read("UCSR0A") & 0x1C, 0);
            QCOMPARE(b.read("UDR0"), value);
            QVERIFY((b.read("UCSR0A") & 0x80) == 0);
        }
    }

    void aSenderAtAnotherRateGarblesOrBreaksTheFrame()
    {
        ChipBench b;
        b.write("UBRR0L", 51);
        b.write("UCSR0B", 0x10);
        Sender s(b, 16 * 52 * 1.4);
        b.to(5000);
        s.byte(0x0F);
        b.to(b.chip.cpu().cycle + 16 * 52 * 12);
        const bool framing = (b.read("UCSR0A") & 0x10) != 0;
        QVERIFY(b.read("UDR0") != 0x0F || framing);
    }

    void missingStopBitIsAFrameError()
    {
        ChipBench b;
        b.write("UBRR0L", 51);
        b.write("UCSR0B", 0x10);
        Sender s(b, 16 * 52);
        b.to(5000);
        s.byte(0x42, false);
        QVERIFY((b.read("UCSR0A") & 0x10) != 0);
        QCOMPARE(b.notes, std::vector<std::string>{"uart-framing"});
    }

    void parityErrorIsSeenWithItsByte()
    {
        ChipBench b;
        b.write("UBRR0L", 51);
        b.write("UCSR0C", 0x26);  // 8E1
        b.write("UCSR0B", 0x10);
        Sender s(b, 16 * 52);
        b.to(5000);
        s.frame({false, true, false, false, false, false, false, false, false, true, true});  // 0x01, parity 1: right
        QCOMPARE(b.read("UCSR0A") & 0x84, 0x80);
        QCOMPARE(b.read("UDR0"), 1);
        s.frame({false, true, false, false, false, false, false, false, false, false, true});  // parity 0: wrong
        QCOMPARE(b.read("UCSR0A") & 0x84, 0x84);
    }

    void nineBitsTravelInTxb8AndRxb8()
    {
        // The chip's own transmitter wired to its receiver.
        for (const int value : {0x1A6, 0x0A6, 0x100, 0x0FF}) {
            ChipBench b;
            b.write("UBRR0L", 8);
            b.write("UCSR0C", 0x06);
            b.write("UCSR0B", static_cast<std::uint8_t>(0x1C | (value >> 8)));  // RXEN, TXEN, UCSZ2, TXB8
            b.drive("PD0", true);
            b.to(1000);
            b.write("UDR0", static_cast<std::uint8_t>(value));
            const std::int64_t bit = 16 * 9;
            for (std::int64_t step = 0; step < 13 * 16; ++step) {
                b.drive("PD0", b.chip.ports().level(Chip::portPin(atmega328p(), "PD1")));
                b.to(b.chip.cpu().cycle + bit / 16);
            }
            QVERIFY((b.read("UCSR0A") & 0x80) != 0);
            QCOMPARE((b.read("UCSR0B") >> 1) & 1, value >> 8);  // read before UDR0, 20.7.2
            QCOMPARE(b.read("UDR0"), value & 0xFF);
        }
    }

    void theFourthUnreadByteIsAnOverrun()
    {
        ChipBench b;
        b.write("UBRR0L", 8);
        b.write("UCSR0B", 0x10);
        Sender s(b, 16 * 9);
        b.to(2000);
        s.byte('a');
        s.byte('b');
        s.byte('c');  // waits in the shift register
        QVERIFY((b.read("UCSR0A") & 0x08) == 0);
        s.byte('d');  // its start bit: 'c' is lost (20.11.2, DOR)
        QVERIFY((b.read("UCSR0A") & 0x08) != 0);
        QCOMPARE(b.read("UDR0"), 'a');
        QCOMPARE(b.read("UDR0"), 'b');
        QCOMPARE(b.read("UDR0"), 'd');
        QCOMPARE(b.notes, std::vector<std::string>{"uart-overrun"});
    }
};

QTEST_APPLESS_MAIN(UsartTest)
#include "usart_test.moc"
