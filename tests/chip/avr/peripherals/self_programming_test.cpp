// Self-programming, as a boot loader does it (ATmega328P ch. 27).
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;

namespace {

constexpr std::uint32_t kBoot = 0x3F00;  // words; BOOTSZ = 3

struct BootBench : ChipBench {
    BootBench() : ChipBench(16'000'000, atmega328p(), {.fuses = fuses()})
    {
        // Boot section: out SPMCSR,r16 ; spm ; rjmp .-2, run once for each command.
        std::vector<std::uint16_t> words(0x4000, 0xFFFF);
        words[0] = 0xCFFF;
        words[0x10] = 0x1234;
        words[kBoot] = 0xBF07;
        words[kBoot + 1] = 0x95E8;
        words[kBoot + 2] = 0xCFFF;
        words[0x20] = 0xBF07;
        words[0x21] = 0x95E8;
        words[0x22] = 0xCFFF;
        words[kBoot + 8] = 0xBF07;   // out SPMCSR,r16
        words[kBoot + 9] = 0x9144;   // lpm r20,Z
        words[kBoot + 10] = 0xCFFF;
        program(words);
    }
    static FuseBytes fuses()
    {
        FuseBytes f = idealFuses(atmega328p());
        setFuseField(atmega328p(), f, "BOOTSZ", 3);
        return f;
    }
    void run(std::uint32_t at, std::uint8_t spmcsr, std::uint16_t z, std::uint16_t r10 = 0)
    {
        Cpu& cpu = chip.cpu();
        cpu.data[16] = spmcsr;
        cpu.data[0] = static_cast<std::uint8_t>(r10);
        cpu.data[1] = static_cast<std::uint8_t>(r10 >> 8);
        cpu.data[30] = static_cast<std::uint8_t>(z);
        cpu.data[31] = static_cast<std::uint8_t>(z >> 8);
        cpu.pc = at;
        chip.stepInstruction(kernel::kNever);
        chip.stepInstruction(kernel::kNever);
    }
    void wait() { to(chip.cpu().cycle + 5 * 16'000); }
};

constexpr std::uint8_t kEnable = 0x01, kErase = 0x03, kWrite = 0x05, kLock = 0x09, kReopen = 0x11, kSignature = 0x21;

}  // namespace

class SelfProgrammingTest : public QObject {
    Q_OBJECT

private slots:
    void aPageIsErasedFilledAndWritten()
    {
        BootBench b;
        b.run(kBoot, kErase, 0x0400);
        QCOMPARE(b.read("SPMCSR") & 0x41, 0x41);  // busy, and the RWW section closed
        b.wait();
        QCOMPARE(b.read("SPMCSR") & 0x01, 0);
        for (int i = 0; i < 64; ++i)
            b.run(kBoot, kEnable, static_cast<std::uint16_t>(0x0400 + 2 * i), static_cast<std::uint16_t>(0xA000 + i));
        b.run(kBoot, kWrite, 0x0400);
        b.wait();
        b.run(kBoot, kReopen, 0);
        QCOMPARE(b.read("SPMCSR") & 0x40, 0);
        for (unsigned i = 0; i < 64; ++i)
            QCOMPARE(b.chip.cpu().flash()[0x200 + i], 0xA000 + i);
        QCOMPARE(b.chip.cpu().flash()[0x1FF], 0xFFFF);
        QVERIFY(b.notes.empty());
    }

    void writtenCodeRuns()
    {
        BootBench b;
        b.run(kBoot, kEnable, 0x0400, 0xE22A);  // ldi r18,0x2A
        b.run(kBoot, kEnable, 0x0402, 0xCFFF);
        b.run(kBoot, kWrite, 0x0400);
        b.wait();
        b.run(kBoot, kReopen, 0);
        b.chip.cpu().pc = 0x200;
        b.to(b.chip.cpu().cycle + 10);
        QCOMPARE(b.chip.cpu().data[18], 0x2A);
    }

    void outsideTheBootSectionSpmDoesNothing()
    {
        BootBench b;
        b.run(0x20, kErase, 0x0000);
        QCOMPARE(b.chip.cpu().flash()[0x10], 0x1234);
        QCOMPARE(b.notes, std::vector<std::string>{"spm-section"});
    }

    void aLateSpmDoesNothing()
    {
        BootBench b;
        Cpu& cpu = b.chip.cpu();
        cpu.data[16] = kErase;
        cpu.pc = kBoot;
        b.chip.stepInstruction(kernel::kNever);
        cpu.cycle += 6;
        b.chip.stepInstruction(kernel::kNever);
        QCOMPARE(cpu.flash()[0x10], 0x1234);
        QCOMPARE(b.notes, std::vector<std::string>{"timed-sequence"});
    }

    void theCoreStandsWhileItsOwnSectionIsWritten()
    {
        BootBench b;
        const std::int64_t before = b.chip.cpu().cycle;
        b.run(kBoot, kErase, 0x7F80);  // the last page
        QCOMPARE(b.chip.cpu().flash()[0x3FC0], 0xFFFF);
        QVERIFY(b.chip.cpu().cycle - before >= 4 * 16'000);
    }

    void readingTheClosedSectionIsTold()
    {
        BootBench b;
        b.run(kBoot, kErase, 0x0400);
        Cpu& cpu = b.chip.cpu();
        cpu.data[30] = 0x20;
        cpu.data[31] = 0;
        cpu.pc = kBoot + 9;
        b.chip.stepInstruction(kernel::kNever);
        QCOMPARE(cpu.data[20], 0xFF);
        QCOMPARE(b.notes, std::vector<std::string>{"rww-busy"});
    }

    void fusesLockBitsAndSignatureAreRead_data()
    {
        QTest::addColumn<int>("command");
        QTest::addColumn<int>("z");
        QTest::addColumn<int>("expected");
        QTest::newRow("low fuse") << int{kLock} << 0 << 0xFF;
        QTest::newRow("lock bits") << int{kLock} << 1 << 0xFF;
        QTest::newRow("extended fuse") << int{kLock} << 2 << 0xFF;
        QTest::newRow("high fuse") << int{kLock} << 3 << 0xDF;
        QTest::newRow("signature 1") << int{kSignature} << 0 << 0x1E;
        QTest::newRow("signature 2") << int{kSignature} << 2 << 0x95;
        QTest::newRow("signature 3") << int{kSignature} << 4 << 0x0F;
    }
    void fusesLockBitsAndSignatureAreRead()
    {
        QFETCH(int, command);
        QFETCH(int, z);
        QFETCH(int, expected);
        BootBench b;
        b.run(kBoot + 8, static_cast<std::uint8_t>(command), static_cast<std::uint16_t>(z));
        QCOMPARE(b.chip.cpu().data[20], expected);
        // The window is closed again: an ordinary LPM.
        b.chip.cpu().data[30] = 0x20;
        b.chip.cpu().pc = kBoot + 9;
        b.chip.stepInstruction(kernel::kNever);
        QCOMPARE(b.chip.cpu().data[20], 0x34);
    }

    void lockBitsForbidWriting()
    {
        BootBench b;
        b.run(kBoot, kLock, 1, 0xFB);  // BLB01 clear: SPM may not write the application section
        b.run(kBoot, kErase, 0x0000);
        QCOMPARE(b.chip.cpu().flash()[0x10], 0x1234);
        QCOMPARE(b.notes, std::vector<std::string>{"spm-locked"});
    }

    void stateCarriesFlashThatTheFirmwareWrote()
    {
        BootBench b;
        b.run(kBoot, kEnable, 0x0400, 0xE02A);
        b.run(kBoot, kWrite, 0x0400);
        b.wait();
        const auto chip = kernel::saveState(b.chip);
        const auto queue = kernel::saveState(b.queue);
        b.run(kBoot, kErase, 0x0400);
        b.wait();
        QCOMPARE(b.chip.cpu().flash()[0x200], 0xFFFF);
        kernel::loadState(b.queue, queue);
        kernel::loadState(b.chip, chip);
        QCOMPARE(b.chip.cpu().flash()[0x200], 0xE02A);
    }
};

QTEST_GUILESS_MAIN(SelfProgrammingTest)
#include "self_programming_test.moc"
