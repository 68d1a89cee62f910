// The converter against the data sheet's arithmetic: ADC = V 1024 / Vref (24.7), 13 and 25 clocks (table 24-1).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;

namespace {

constexpr std::uint8_t kEnable = 0x80, kStart = 0x40, kAuto = 0x20, kFlag = 0x10, kInterrupt = 0x08, kBy128 = 0x07;

int result(ChipBench& b)
{
    const int low = b.read("ADCL");
    return low | (b.read("ADCH") << 8);
}

// One conversion of a channel at 125 kHz, the first thrown away.
int convert(ChipBench& b, std::uint8_t admux)
{
    b.write("ADMUX", admux);
    b.write("ADCSRA", kEnable | kStart | kBy128);
    b.to(b.chip.cpu().cycle + 26 * 128);
    b.write("ADCSRA", kEnable | kStart | kBy128);
    b.to(b.chip.cpu().cycle + 15 * 128);
    return result(b);
}

}  // namespace

class AdcTest : public QObject {
    Q_OBJECT

private slots:
    void convertsByItsReference_data()
    {
        QTest::addColumn<double>("volts");
        QTest::addColumn<int>("admux");
        QTest::addColumn<int>("expected");
        QTest::newRow("AVCC, 0 V") << 0.0 << 0x40 << 0;
        QTest::newRow("AVCC, 1.234 V: floor(1.234 * 1024 / 5)") << 1.234 << 0x40 << 252;
        QTest::newRow("AVCC, 4.999 V: floor(1023.8)") << 4.999 << 0x40 << 1023;
        QTest::newRow("AVCC, above the reference") << 5.4 << 0x40 << 1023;
        QTest::newRow("band gap 1.1 V, 0.5 V: floor(0.5 * 1024 / 1.1)") << 0.5 << 0xC0 << 465;
        QTest::newRow("AVCC, the band gap itself: floor(1.1 * 1024 / 5)") << 0.0 << 0x4E << 225;
        QTest::newRow("AVCC, ground") << 3.0 << 0x4F << 0;
        QTest::newRow("band gap, temperature, 314 mV at 25 degrees: floor(0.314 * 1024 / 1.1)") << 0.0 << 0xC8 << 292;
        QTest::newRow("left adjusted: 252 << 6") << 1.234 << 0x60 << 252;
    }
    void convertsByItsReference()
    {
        QFETCH(double, volts);
        QFETCH(int, admux);
        QFETCH(int, expected);
        ChipBench b;
        b.drive("PC0", volts);
        QCOMPARE(convert(b, static_cast<std::uint8_t>(admux)), (admux & 0x20) != 0 ? expected << 6 : expected);
    }

    void aConversionTakesThirteenClocksAndTheFirstTwentyFive()
    {
        ChipBench b;
        b.write("ADMUX", 0x40);
        b.to(1000);
        // ADEN starts the ADC clock; the conversion begins at its next edge, 128 cycles later.
        b.write("ADCSRA", kEnable | kStart | kBy128, 1000);
        QVERIFY((b.readAt("ADCSRA", 1000 + 128 + 25 * 128 - 1) & kStart) != 0);
        QCOMPARE(b.readAt("ADCSRA", 1000 + 128 + 25 * 128) & (kStart | kFlag), kFlag + 0);
        // Started 10 cycles behind an edge: the next edge begins it.
        const std::int64_t edge = 1000 + 40 * 128;
        b.to(edge + 10);
        b.write("ADCSRA", kEnable | kStart | kFlag | kBy128, edge + 10);
        QCOMPARE(b.readAt("ADCSRA", edge + 128 + 13 * 128 - 1) & kFlag, 0);
        QCOMPARE(b.readAt("ADCSRA", edge + 128 + 13 * 128) & kFlag, kFlag + 0);
    }

    void freeRunningGoesOnEveryThirteenClocks()
    {
        ChipBench b;
        b.write("ADMUX", 0x40);
        b.write("ADCSRA", kEnable | kStart | kAuto | kInterrupt | 0x05, 0);  // 500 kHz
        b.write("ADCSRB", 0);
        std::vector<std::int64_t> ends;
        for (std::int64_t cycle = 0; cycle < 4000; ++cycle) {
            b.to(cycle);
            if ((b.chip.peek(b.address("ADCSRA")) & kFlag) != 0) {
                ends.push_back(cycle);
                b.write("ADCSRA", kEnable | kAuto | kFlag | kInterrupt | 0x05, cycle);
            }
        }
        QVERIFY(ends.size() >= 5);
        QCOMPARE(ends[0], 32 + 25 * 32);
        for (std::size_t i = 1; i < ends.size(); ++i)
            QCOMPARE(ends[i] - ends[i - 1], 13 * 32);
    }

    void aCompareMatchStartsConversions()
    {
        ChipBench b;
        b.drive("PC1", 2.5);
        b.write("ADMUX", 0x41);
        b.write("ADCSRA", kEnable | kStart | kBy128);
        b.to(26 * 128 + 128);
        b.write("ADCSRB", 0x03);  // Timer0 compare match A
        b.write("ADCSRA", kEnable | kAuto | kFlag | 0x04);
        b.write("OCR0A", 99);
        b.write("TCCR0A", 0x02);
        b.write("TCCR0B", 0x02, b.chip.cpu().cycle);  // CTC, clk/8: every 800 cycles, with no interrupt enabled
        const std::int64_t from = b.chip.cpu().cycle;
        std::int64_t ended = 0;
        for (std::int64_t cycle = from; ended == 0 && cycle < from + 3000; ++cycle) {
            b.to(cycle);
            if ((b.chip.peek(b.address("ADCSRA")) & kFlag) != 0)
                ended = cycle;
        }
        // The match comes on a multiple of 8 cycles; the result 13.5 ADC clocks of 16 cycles after it.
        QVERIFY(ended > 0);
        QCOMPARE((ended - 216) % 8, 0);
        QCOMPARE(result(b), 512);  // 2.5 * 1024 / 5
    }

    void theMultiplexerIsTakenOverWhenAConversionBegins()
    {
        ChipBench b;
        b.drive("PC0", 1.0);
        b.drive("PC1", 4.0);
        (void)convert(b, 0x40);
        b.write("ADCSRA", kEnable | kStart | kBy128);
        b.to(b.chip.cpu().cycle + 2 * 128);
        b.write("ADMUX", 0x41);
        b.to(b.chip.cpu().cycle + 15 * 128);
        QCOMPARE(result(b), 204);  // floor(1.0 * 1024 / 5)
    }

    void readingTheLowByteLocksTheResult()
    {
        ChipBench b;
        b.drive("PC0", 1.0);
        (void)convert(b, 0x40);
        QCOMPARE(b.read("ADCL"), 204);
        b.drive("PC0", 4.0);
        b.write("ADCSRA", kEnable | kStart | kBy128);
        b.to(b.chip.cpu().cycle + 15 * 128);
        QCOMPARE(b.read("ADCL"), 204);
        QCOMPARE(b.read("ADCH"), 0);
        b.write("ADCSRA", kEnable | kStart | kBy128);
        b.to(b.chip.cpu().cycle + 15 * 128);
        QCOMPARE(result(b), 819);  // floor(4.0 * 1024 / 5)
    }

    void aSourceOfHighResistanceDoesNotChargeTheCapacitor()
    {
        ChipBench b;
        b.drive("PC0", 0.0);
        b.drive("PC1", 4.0, 1e6);
        (void)convert(b, 0x40);
        b.write("ADMUX", 0x41);
        b.write("ADCSRA", kEnable | kStart | 0x05);  // 500 kHz: 1.5 clocks are 3 us
        b.to(b.chip.cpu().cycle + 15 * 32);
        // V = 4 (1 - exp(-3 us / (1.005 Mohm * 14 pF))), tau = 14.07 us; 0.768 V is 157
        const double volts = 4 * (1 - std::exp(-3e-6 / (1.005e6 * 14e-12)));
        QCOMPARE(result(b), static_cast<int>(volts * 1024 / 5));
    }

    void differentialChannelsAmplifyAndAreSigned()
    {
        ChipBench b(16'000'000, atmega2560());
        b.drive("PF0", 2.0);
        b.drive("PF1", 2.05);
        QCOMPARE(convert(b, 0x40 | 9), 51);           // ADC1 - ADC0 by 10: floor(0.05 * 10 * 512 / 5) = 51.2
        QCOMPARE(convert(b, 0x40 | 16), 0x400 - 6);    // ADC0 - ADC1: floor(-0.05 * 512 / 5) = -6
    }

    void theTinysDifferentialChannelsAreUnipolarUnlessToldOtherwise()
    {
        ChipBench b(8'000'000, attiny85());
        b.drive("PB4", 2.0);  // ADC2
        b.drive("PB3", 1.9);  // ADC3
        QCOMPARE(convert(b, 6), 20);  // floor(0.1 * 1024 / 5)
        b.write("ADCSRB", 0x80);      // BIN
        QCOMPARE(convert(b, 6), 10);  // floor(0.1 * 512 / 5)
        b.write("ADCSRB", 0xA0);      // and IPR
        QCOMPARE(convert(b, 6), 0x400 - 11);
    }

    void aClockOutOfRangeIsTold()
    {
        ChipBench b;
        b.write("ADMUX", 0x40);
        b.write("ADCSRA", kEnable | kStart | 0x01);  // 8 MHz
        QCOMPARE(b.notes, std::vector<std::string>{"adc-clock"});
    }

    void anUnwiredReferenceIsTold()
    {
        ChipBench b;
        (void)convert(b, 0x00);
        QVERIFY(std::find(b.notes.begin(), b.notes.end(), "adc-reference") != b.notes.end());
    }

    void stateIsRestoredInTheMiddleOfAConversion()
    {
        ChipBench b;
        b.drive("PC0", 3.0);
        b.write("ADMUX", 0x40);
        b.write("ADCSRA", kEnable | kStart | kBy128);
        for (const std::int64_t stop : {200, 1900, 3000}) {
            b.to(stop);
            const auto snapshot = kernel::saveState(b.chip);
            const auto queue = kernel::saveState(b.queue);
            b.to(4000);
            const int first = result(b);
            kernel::loadState(b.queue, queue);
            kernel::loadState(b.chip, snapshot);
            b.to(4000);
            QCOMPARE(result(b), first);
            QCOMPARE(first, 614);  // floor(3 * 1024 / 5)
            kernel::loadState(b.queue, queue);
            kernel::loadState(b.chip, snapshot);
        }
    }
};

QTEST_GUILESS_MAIN(AdcTest)
#include "adc_test.moc"
