// The EEPROM: timed sequence, times, modes, and what outlives a reset (ATmega328P ch. 8.6).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;

namespace {

constexpr std::uint8_t kRead = 1, kProgram = 2, kMaster = 4, kInterrupt = 8;

void store(ChipBench& b, int address, int value, std::uint8_t mode = 0)
{
    b.write("EEARH", static_cast<std::uint8_t>(address >> 8));
    b.write("EEARL", static_cast<std::uint8_t>(address));
    b.write("EEDR", static_cast<std::uint8_t>(value));
    const std::int64_t at = b.chip.cpu().cycle;
    b.write("EECR", static_cast<std::uint8_t>(mode | kMaster), at);
    b.write("EECR", static_cast<std::uint8_t>(mode | kMaster | kProgram), at + 2);
}

int load(ChipBench& b, int address)
{
    b.write("EEARH", static_cast<std::uint8_t>(address >> 8));
    b.write("EEARL", static_cast<std::uint8_t>(address));
    b.write("EECR", kRead);
    return b.read("EEDR");
}

}  // namespace

class EepromTest : public QObject {
    Q_OBJECT

private slots:
    void aByteIsThereAfterItsWriteTime_data()
    {
        QTest::addColumn<int>("mode");
        QTest::addColumn<double>("millis");
        QTest::addColumn<int>("expected");  // over 0x0F, written 0x3C
        QTest::newRow("erase and write") << 0x00 << 3.3 << 0x3C;
        QTest::newRow("erase only") << 0x10 << 1.8 << 0xFF;
        QTest::newRow("write only: ones stay only where both are") << 0x20 << 1.8 << 0x0C;
    }
    void aByteIsThereAfterItsWriteTime()
    {
        QFETCH(int, mode);
        QFETCH(double, millis);
        QFETCH(int, expected);
        ChipBench b;
        std::vector<std::uint8_t> before(1024, 0x0F);
        b.chip.eeprom().program(before);
        store(b, 0x155, 0x3C, static_cast<std::uint8_t>(mode));
        const auto end = static_cast<std::int64_t>(millis * 16'000);
        QCOMPARE(b.readAt("EECR", end - 20) & kProgram, kProgram + 0);
        QCOMPARE(b.readAt("EECR", end + 20) & kProgram, 0);
        QCOMPARE(load(b, 0x155), expected);
        QCOMPARE(load(b, 0x154), 0x0F);
        QCOMPARE(b.chip.eeprom().revision(), 1U);
    }

    void withoutTheSequenceNothingIsWritten()
    {
        ChipBench b;
        b.write("EEDR", 0x12);
        b.write("EECR", kMaster, 100);
        b.write("EECR", kMaster | kProgram, 105);  // one cycle too late
        b.to(100'000);
        QCOMPARE(load(b, 0), 0xFF);
        QCOMPARE(b.notes, std::vector<std::string>{"timed-sequence"});
    }

    void theCoreStandsForReadsAndWrites()
    {
        // ldi r16,1 ; out EECR,r16 (read: 4 cycles of halt) ; rjmp .-2
        ChipBench b;
        b.program({0xE001, 0xBB0F, 0xCFFF});
        b.chip.stepInstruction(kernel::kNever);
        b.chip.stepInstruction(kernel::kNever);
        QCOMPARE(b.chip.cpu().cycle, 1 + 1 + 4);
    }

    void readyInterruptComesWhenTheWriteEnds()
    {
        ChipBench b;
        std::vector<std::uint16_t> words(64, 0xCFFF);
        words[0] = 0x9478;  // sei
        words[1] = 0xCFFF;
        b.program(words);
        store(b, 1, 1, kInterrupt);
        b.to(60'000);
        QVERIFY(!b.interrupts.empty());
        QCOMPARE(b.interrupts[0].first, 22);
        QVERIFY(b.interrupts[0].second >= 3.3 * 16'000);
    }

    void contentsOutliveAResetAndAnInterruptedSnapshot()
    {
        ChipBench b;
        store(b, 7, 0x77);
        b.to(10'000);
        const auto snapshot = kernel::saveState(b.chip);
        const auto queue = kernel::saveState(b.queue);
        b.to(60'000);
        QCOMPARE(load(b, 7), 0x77);
        kernel::loadState(b.queue, queue);
        kernel::loadState(b.chip, snapshot);
        QCOMPARE(b.chip.eeprom().contents()[7], 0xFF);
        b.to(60'000);
        QCOMPARE(load(b, 7), 0x77);
        b.chip.setResetLine(false);
        b.chip.setResetLine(true);
        b.to(70'000);
        QCOMPARE(load(b, 7), 0x77);
    }
};

QTEST_GUILESS_MAIN(EepromTest)
#include "eeprom_test.moc"
