// Clocks, fuses, reset causes, brown-out, sleep and power reduction (ATmega328P ch. 9 to 12).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;

namespace {

FuseBytes shipped(const ChipTable& table) { return table.fuseDefaults; }

}  // namespace

class SystemControlTest : public QObject {
    Q_OBJECT

private slots:
    void aChipAsShippedRunsAtItsInternalClock_data()
    {
        QTest::addColumn<QString>("chip");
        QTest::addColumn<int>("hz");
        QTest::newRow("ATmega328P: 8 MHz by 8") << "atmega328p" << 1'000'000;
        QTest::newRow("ATmega2560: 8 MHz by 8") << "atmega2560" << 1'000'000;
        QTest::newRow("ATmega32: 1 MHz") << "atmega32" << 1'000'000;
        QTest::newRow("ATtiny85: 8 MHz by 8") << "attiny85" << 1'000'000;
    }
    void aChipAsShippedRunsAtItsInternalClock()
    {
        QFETCH(QString, chip);
        QFETCH(int, hz);
        const ChipTable& table = *findChip(chip.toStdString());
        ChipOptions options;
        options.fuses = shipped(table);
        ChipBench b(16'000'000, table, options);
        QCOMPARE(b.chip.clock().hz(), static_cast<std::uint64_t>(hz));
    }

    void clockSourcesFollowTheirFuse_data()
    {
        QTest::addColumn<QString>("cksel");
        QTest::addColumn<int>("hz");
        QTest::newRow("crystal") << "0b1111" << 12'000'000;
        QTest::newRow("internal") << "0b0010" << 8'000'000;
        QTest::newRow("128 kHz") << "3" << 128'000;
        QTest::newRow("watch crystal") << "4" << 32'768;
        QTest::newRow("external clock") << "0" << 12'000'000;
    }
    void clockSourcesFollowTheirFuse()
    {
        QFETCH(QString, cksel);
        QFETCH(int, hz);
        ChipOptions options;
        options.fuses = idealFuses(atmega328p());
        QVERIFY(setFuse(atmega328p(), *options.fuses, "cksel", cksel.toStdString()));
        ChipBench b(12'000'000, atmega328p(), options);
        QCOMPARE(b.chip.clock().hz(), static_cast<std::uint64_t>(hz));
    }

    void aCrystalThatIsNotThereIsToldAndNothingRuns()
    {
        ChipOptions options;
        options.hasCrystal = false;
        ChipBench b(16'000'000, atmega328p(), options);
        b.to(1000);
        QCOMPARE(b.chip.cpu().instructions, 0);
        QCOMPARE(b.notes[0], "no-clock");
    }

    void clkprDividesAfterItsSequence()
    {
        ChipBench b;
        b.write("CLKPR", 0x80, 100);
        b.write("CLKPR", 0x02, 104);
        QCOMPARE(b.chip.clock().hz(), 4'000'000U);
        b.write("CLKPR", 0x80, 200);
        b.write("CLKPR", 0x00, 205);  // too late
        QCOMPARE(b.chip.clock().hz(), 4'000'000U);
        QCOMPARE(b.notes, std::vector<std::string>{"timed-sequence"});
    }

    void aTimerGoesOnWhereTheClockChanges()
    {
        ChipBench b;
        b.write("DDRD", 0x40);
        b.write("OCR0A", 99);
        b.write("TCCR0A", 0x42);
        b.write("TCCR0B", 0x01);
        b.to(1000);
        const Time before = b.chip.now();
        b.write("CLKPR", 0x80);
        b.write("CLKPR", 0x04, b.chip.cpu().cycle + 2);  // 1 MHz
        b.forgetEdges();
        b.to(3000);
        const auto edges = b.edges("PD6");
        QVERIFY(edges.size() >= 10);
        // Every 100 cycles as before, but now 100 us.
        QCOMPARE(edges[5].cycle - edges[4].cycle, 100);
        QVERIFY(kernel::seconds(b.chip.now() - before) > 1.9e-3);
    }

    void osccalTunesTheInternalOscillator()
    {
        ChipOptions options;
        options.fuses = shipped(atmega328p());
        ChipBench b(16'000'000, atmega328p(), options);
        const std::uint8_t calibration = b.read("OSCCAL");
        b.write("OSCCAL", static_cast<std::uint8_t>(calibration + 10));
        QVERIFY(b.chip.clock().hz() > 1'030'000);
        b.write("OSCCAL", calibration);
        QCOMPARE(b.chip.clock().hz(), 1'000'000U);
    }

    void startsInTheBootSectionWhereTheFuseSaysSo_data()
    {
        QTest::addColumn<int>("bootsz");
        QTest::addColumn<int>("start");  // table 27-7, word address
        QTest::newRow("256 words") << 3 << 0x3F00;
        QTest::newRow("512 words") << 2 << 0x3E00;
        QTest::newRow("1024 words") << 1 << 0x3C00;
        QTest::newRow("2048 words") << 0 << 0x3800;
    }
    void startsInTheBootSectionWhereTheFuseSaysSo()
    {
        QFETCH(int, bootsz);
        QFETCH(int, start);
        ChipOptions options;
        options.fuses = idealFuses(atmega328p());
        setFuseField(atmega328p(), *options.fuses, "BOOTSZ", static_cast<unsigned>(bootsz));
        setFuseField(atmega328p(), *options.fuses, "BOOTRST", 0);
        ChipBench b(16'000'000, atmega328p(), options);
        QCOMPARE(b.chip.cpu().pc, static_cast<std::uint32_t>(start));
    }

    void vectorsMoveAfterTheirSequence()
    {
        ChipOptions options;
        options.fuses = idealFuses(atmega328p());
        setFuseField(atmega328p(), *options.fuses, "BOOTSZ", 3);
        ChipBench b(16'000'000, atmega328p(), options);
        std::vector<std::uint16_t> words(0x4000, 0xCFFF);
        words[0] = 0x9478;
        words[1] = 0xCFFF;
        b.program(words);
        b.write("MCUCR", 0x01, 10);
        b.write("MCUCR", 0x02, 14);
        b.write("TIMSK0", 0x01);
        b.write("TCNT0", 0xF0);
        b.write("TCCR0B", 0x01);
        b.to(100);
        QCOMPARE(b.chip.cpu().pc, 0x3F00U + 2 * 16);
    }

    void brownOutHoldsTheChipUntilTheSupplyIsBack()
    {
        ChipOptions options;
        options.fuses = idealFuses(atmega328p());
        setFuseField(atmega328p(), *options.fuses, "BODLEVEL", 5);  // 2.7 V
        ChipBench b(8'000'000, atmega328p(), options);
        b.to(1000);
        b.chip.setSupply(2.8);
        b.to(2000);
        QVERIFY(!b.chip.inReset());
        b.chip.setSupply(2.6);
        b.to(3000);
        QVERIFY(b.chip.inReset());
        b.chip.setSupply(2.72);  // inside the hysteresis
        b.to(4000);
        QVERIFY(b.chip.inReset());
        b.chip.setSupply(5.0);
        b.to(5000);
        QVERIFY(!b.chip.inReset());
        QCOMPARE(b.read("MCUSR"), 0x05);  // PORF and BORF
        // Gone altogether: a new power-on.
        b.chip.setSupply(0.5);
        b.chip.setSupply(5.0);
        b.to(6000);
        QCOMPARE(b.read("MCUSR"), 0x01);
    }

    void supplySetsTheOutputsVoltage()
    {
        ChipBench b(8'000'000);
        b.write("DDRB", 0x01);
        b.write("PORTB", 0x01);
        QCOMPARE(b.circuit.voltage(b.circuit.netOf(b.pins["PB0"])).value, 5.0);
        b.chip.setSupply(3.3);
        QCOMPARE(b.circuit.voltage(b.circuit.netOf(b.pins["PB0"])).value, 3.3);
    }

    void aClockTooFastForTheSupplyIsTold()
    {
        ChipBench b(16'000'000);
        b.chip.setSupply(3.3);
        QCOMPARE(b.notes, std::vector<std::string>{"clock-too-fast"});
    }

    void whatPowerReductionSwitchesOffTakesNoWrites()
    {
        ChipBench b;
        b.write("TCCR0B", 0x01);
        b.to(100);
        b.write("PRR", 0x20);  // PRTIM0
        const int count = b.read("TCNT0");
        b.to(500);
        QCOMPARE(b.read("TCNT0"), count);
        b.write("OCR0A", 7);
        QCOMPARE(b.notes, std::vector<std::string>{"power-reduced"});
        b.write("PRR", 0);
        b.to(600);
        QVERIFY(b.read("TCNT0") != count);
        QCOMPARE(b.read("OCR0A"), 0);
    }

    void wakingFromDeepSleepWaitsForTheOscillator_data()
    {
        QTest::addColumn<int>("mode");
        QTest::addColumn<int>("clocks");  // before the interrupt is entered
        QTest::newRow("idle") << 0 << 4;
        QTest::newRow("power-down: 16 K clocks") << 2 << 16'384 + 4;
        QTest::newRow("standby: 6 clocks") << 6 << 6 + 4;
    }
    void wakingFromDeepSleepWaitsForTheOscillator()
    {
        QFETCH(int, mode);
        QFETCH(int, clocks);
        ChipBench b;
        std::vector<std::uint16_t> words(64, 0xCFFF);
        words[0] = 0x9478;  // sei
        words[1] = 0x9588;  // sleep
        words[2] = 0xCFFF;
        b.drive("PB0", false);
        b.program(words);
        b.write("PCICR", 0x01);
        b.write("PCMSK0", 0x01);
        b.write("SMCR", static_cast<std::uint8_t>((mode << 1) | 1));
        b.to(1000);
        QVERIFY(b.chip.cpu().sleeping);
        b.drive("PB0", true);
        b.to(30'000);
        QCOMPARE(b.interrupts.size(), 1U);
        // The change passes the synchroniser and the pin-change logic (1 + 2 clocks), then the core starts, then 4 clocks of entry.
        QCOMPARE(b.interrupts[0].second, 1000 + 3 + clocks + 4);
    }

    void jtagHoldsItsPinsUntilFuseOrFirmwareFreesThem()
    {
        ChipOptions options;
        options.fuses = shipped(atmega32());
        ChipBench b(16'000'000, atmega32(), options);
        b.write("DDRC", 0xFF);
        b.write("PORTC", 0x00);
        b.to(20);
        QCOMPARE(b.read("PINC"), 0x2C);  // TCK, TMS, TDI are held up; TDO floats
        b.write("MCUCSR", 0x80, 100);
        b.write("MCUCSR", 0x80, 102);
        b.to(200);
        QCOMPARE(b.read("PINC"), 0x00);
        setFuseField(atmega32(), *options.fuses, "JTAGEN", 1);
        ChipBench c(16'000'000, atmega32(), options);
        c.write("DDRC", 0xFF);
        c.to(20);
        QCOMPARE(c.read("PINC"), 0x00);
    }

    void fusesAreReadByNameAndTheirErrorsSayWhatIsExpected()
    {
        FuseBytes f = idealFuses(atmega328p());
        QVERIFY(setFuse(atmega328p(), f, "LOW", "0x62"));
        QCOMPARE(f[0], 0x62);
        QVERIFY(setFuse(atmega328p(), f, "WDTON", "programmed"));
        QCOMPARE(fuseField(atmega328p(), f, "WDTON"), 0U);
        const auto unknown = setFuse(atmega328p(), f, "JTAGEN", "0");
        QVERIFY(!unknown);
        QVERIFY(unknown.error().what.find("has no fuse of this name; it has low, high, extended, lock, CKSEL") != std::string::npos);
        const auto large = setFuse(atmega328p(), f, "SUT", "4");
        QCOMPARE(large.error().what, "expected 0 to 3 (0 is programmed), also as 0b11");
    }
};

QTEST_GUILESS_MAIN(SystemControlTest)
#include "system_control_test.moc"
