// The ESP32-C3's peripherals by what its pins and registers do, against the figures of its reference manual.
#include <QtTest>

#include "chip/lone_chip.h"
#include "chip/riscv/esp32c3_programs.h"
#include "chip/riscv/riscv_program.h"
#include "kernel/archive.h"

using namespace bramix;
using namespace bramix::test;
using namespace std::chrono_literals;

class Esp32c3Test : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    std::unique_ptr<LoneChip> load(const char* source, const QStringList& options = {"-O1"})
    {
        const QString elf = riscv::compile(folder_, QString(kRegisters) + source, options, QString(riscv::kStart));
        auto bench = std::make_unique<LoneChip>("esp32c3");
        return !elf.isEmpty() && bench->load(elf) ? std::move(bench) : nullptr;
    }
    static std::uint32_t result(const LoneChip& b, unsigned i) { return b.word(riscv::kResults + 4 * i); }
    // Bits of a line as a receiver of this bit time sees them; the bytes, by `frame` bits each.
    static std::vector<unsigned> heard(LoneChip& b, const char* pin, kernel::Duration bit, unsigned data, bool parity)
    {
        std::vector<unsigned> out;
        const auto edges = b.edges(pin);
        const auto levelAt = [&](Time t) {
            bool level = true;
            for (const auto& e : edges)
                if (e.at <= t)
                    level = e.state == circuit::NetState::high;
            return level;
        };
        Time t{};
        for (const auto& e : edges) {
            if (e.state != circuit::NetState::low || e.at < t)
                continue;
            unsigned value = 0, ones = 0;
            for (unsigned i = 0; i < data + (parity ? 1 : 0); ++i) {
                const bool one = levelAt(e.at + bit * (i + 1) + bit / 2);
                ones += one;
                if (i < data)
                    value |= (one ? 1U : 0U) << i;
            }
            if (!parity || ones % 2 == 0)
                out.push_back(value);
            t = e.at + bit * (data + (parity ? 1 : 0) + 1) + bit / 2;
        }
        return out;
    }
    static void say(LoneChip& b, const char* pin, unsigned value, kernel::Duration bit)
    {
        const Time from = b.chip->now();
        unsigned frame = value << 1, ones = 0;
        for (unsigned i = 0; i < 8; ++i)
            ones += value >> i & 1U;
        frame |= (ones & 1U) << 9 | 1U << 10;
        for (unsigned i = 0; i < 11; ++i) {
            b.to(from + bit * i);
            b.drive(pin, (frame >> i & 1U) != 0);
        }
        b.to(from + bit * 12);
    }

private slots:
    void initTestCase()
    {
        if (!riscv::haveCompiler())
            QSKIP("riscv64-unknown-elf-gcc is not installed");
    }

    void pinsDoWhatTheyAreTold()
    {
        const auto b = load(kPins);
        QVERIFY(b && b->toEnd());
        const auto edges = b->edges("GPIO8");
        QVERIFY(edges.size() >= 8);
        int compared = 0;
        for (std::size_t i = 2; i < edges.size(); ++i) {
            // 10 us of the timer and the way round the loop.
            const double us = kernel::seconds(edges[i].at - edges[i - 1].at) * 1e6;
            QVERIFY2(us > 9.9 && us < 14, qPrintable(QString::number(us)));
            ++compared;
        }
        QVERIFY(compared >= 6);
        QCOMPARE(result(*b, 0), 1U);
        QCOMPARE(result(*b, 1), 0U);
    }

    void itSpeaksAndHears()
    {
        const auto b = load(kSerial);
        QVERIFY(b != nullptr);
        b->drive("GPIO3", true);
        b->to(Time(2ms));
        const auto format = b->chip->serialFormat(0);
        QVERIFY2(std::abs(format.baud - 115'200) < 300, qPrintable(QString::number(format.baud)));
        QCOMPARE(heard(*b, "GPIO21", format.bit, 8, false), (std::vector<unsigned>{'e', 'b', 'b', '\n'}));
        const kernel::Duration bit(17'361'111);
        for (const unsigned c : {0x41U, 0x00U, 0xFEU, 0x55U})
            say(*b, "GPIO3", c, bit);
        b->forward(2ms);
        QCOMPARE(result(*b, 2), 4U);
        QCOMPARE(result(*b, 1), 0x80000007U);
        for (unsigned i = 0; const unsigned c : {0x41U, 0x00U, 0xFEU, 0x55U})
            QCOMPARE(result(*b, 8 + i++), c);
        QCOMPARE(heard(*b, "GPIO4", bit, 8, true), (std::vector<unsigned>{0x42, 0x01, 0xFF, 0x56}));
        QVERIFY(b->chip->serialFormat(1).parity == chip::SerialFormat::Parity::even);
    }

    // 8000 ticks of 16 MHz are 500 us, exactly, whatever the core does.
    void theSystemTimerRingsInTime()
    {
        const auto b = load(kTicks);
        QVERIFY(b && b->toEnd());
        QCOMPARE(result(*b, 0), 40U);
        QCOMPARE(result(*b, 1), 0x80000003U);
        QCOMPARE(b->exceptions.size(), std::size_t{40});
        const auto edges = b->edges("GPIO2");
        QVERIFY(edges.size() > 35);
        for (std::size_t i = 4; i < edges.size(); ++i) {
            const double us = kernel::seconds(edges[i].at - edges[i - 1].at) * 1e6;
            QVERIFY2(std::abs(us - 500) < 0.2, qPrintable(QString::number(us)));
        }
        QCOMPARE(b->chip->exception(32 + 3).count, 40);
    }

    void interruptsComeByPriorityAndThreshold()
    {
        const auto b = load(kPriorities);
        QVERIFY(b && b->toEnd());
        QCOMPARE(result(*b, 20), 2U);
        QCOMPARE((std::vector<std::uint32_t>{result(*b, 1), result(*b, 2), result(*b, 3)}), (std::vector<std::uint32_t>{11, 12, 10}));
    }

    // TRM chapter 29: f = 80 MHz / divider / 1024, high for the duty's part.
    void theLedPwmHasItsFrequencyAndDuty()
    {
        const auto b = load(kPwm);
        QVERIFY(b != nullptr);
        b->to(Time(5ms));
        QCOMPARE(b->chip->clock().hz(), std::uint64_t{160'000'000});
        const auto edges = b->edges("GPIO6");
        QVERIFY(edges.size() > 40);
        const double divider = static_cast<double>(80'000'000ULL * 256 / (5000 * 1024)) / 256, period = divider * 1024 / 80e6;
        for (std::size_t i = edges.size() - 20; i + 2 < edges.size(); ++i) {
            QVERIFY(std::abs(kernel::seconds(edges[i + 2].at - edges[i].at) - period) < 2e-9);
            if (edges[i].state == circuit::NetState::high)
                QVERIFY(std::abs(kernel::seconds(edges[i + 1].at - edges[i].at) - period * 384 / 1024) < 2e-9);
        }
    }

    void theTransmitterSendsWidths()
    {
        const auto b = load(kPixels);
        QVERIFY(b && b->toEnd());
        QCOMPARE(result(*b, 0) & 1U, 1U);
        std::vector<LoneChip::Edge> edges = b->edges("GPIO10");
        while (!edges.empty() && edges.front().state != circuit::NetState::high)
            edges.erase(edges.begin());
        QVERIFY(edges.size() >= 48);
        std::uint32_t pixel = 0;
        for (std::size_t i = 0; i < 24; ++i) {
            const double high = kernel::seconds(edges[2 * i + 1].at - edges[2 * i].at) * 1e9;
            QVERIFY2(std::abs(high - 350) < 1 || std::abs(high - 700) < 1, qPrintable(QString::number(high)));
            pixel = pixel << 1 | (high > 500 ? 1U : 0U);
            if (i < 23)
                QVERIFY(std::abs(kernel::seconds(edges[2 * i + 2].at - edges[2 * i].at) * 1e9 - 1150) < 1);
        }
        QCOMPARE(pixel, 0x10FF80U);
    }

    void theConverterReads()
    {
        const auto b = load(kAnalog);
        QVERIFY(b != nullptr);
        b->driveVolts("GPIO2", 1.25);
        QVERIFY(b->toEnd());
        for (unsigned i = 0; i < 3; ++i)
            QVERIFY2(std::abs(static_cast<int>(result(*b, i)) - 2048) <= 1, qPrintable(QString::number(result(*b, i))));
        const auto seen = b->chip->analogReading(b->own("GPIO2"));
        QVERIFY(seen && std::abs(seen->count - 2048) <= 1 && seen->fullScale == 4096);
        QVERIFY(!b->chip->analogReading(b->own("GPIO8")));
    }

    // TRM 12.2: they bite unless they are switched off, and the reset says which it was.
    void watchdogsBite()
    {
        const QString start = "#define KEEP_WATCHDOGS\n" + QString(riscv::kStart);
        const QString elf = riscv::compile(folder_, QString(kRegisters) + "void handler(uint32_t c) { (void)c; }\nint main(void) { results[0] = REG(0x60008038); results[1]++; for (;;) ; }", {"-O1"}, start);
        LoneChip b("esp32c3");
        QVERIFY(b.load(elf));
        b.to(Time(50ms));
        QCOMPARE(b.word(riscv::kResults), 1U);
        const std::uint32_t before = b.word(riscv::kResults + 4);
        // 26 million ticks of the bus, which runs with the core's 20 MHz: 1.3 s; the super watchdog comes first, at 0.98 s.
        b.to(Time(970ms));
        QCOMPARE(b.word(riscv::kResults + 4), before);
        b.to(Time(1100ms));
        QCOMPARE(b.word(riscv::kResults), 0x12U);
        QCOMPARE(b.word(riscv::kResults + 4), before + 1);
        QVERIFY(b.noted("watchdog-reset"));
    }

    // Stopped in the middle and gone on from there it is the same run.
    void aSnapshotGoesOnAlike()
    {
        const auto b = load(kTicks);
        QVERIFY(b != nullptr);
        for (int i = 1; i < 12; ++i) {
            b->to(Time(1ms * i) + 137us);
            kernel::SaveArchive save;
            b->chip->save(save);
            const kernel::Snapshot kept = save.take();
            const auto pc = b->chip->codeAddress();
            const auto cycles = b->chip->cycles();
            kernel::LoadArchive load(kept);
            b->chip->load(load);
            QCOMPARE(b->chip->codeAddress(), pc);
            QCOMPARE(b->chip->cycles(), cycles);
        }
        QVERIFY(b->toEnd());
        QCOMPARE(result(*b, 0), 40U);
    }

    void aRawImageBeginsByItsMark()
    {
        const QString elf = riscv::compile(folder_, QString(kRegisters) + "void handler(uint32_t c) { (void)c; }\nint main(void) { results[0] = 0x7E; return 0; }", {"-Os"});
        const QString raw = folder_.filePath("raw.bin"), hex = folder_.filePath("raw.hex");
        QVERIFY(runTool(folder_.path(), "riscv64-unknown-elf-objcopy", {"-O", "binary", "-j", ".text", "-j", ".data", elf, raw}));
        LoneChip b("esp32c3");
        QVERIFY(b.load(raw));
        QVERIFY(b.toEnd());
        QCOMPARE(b.word(riscv::kResults), 0x7EU);
        QVERIFY(runTool(folder_.path(), "riscv64-unknown-elf-objcopy", {"-O", "ihex", "-j", ".text", "-j", ".data", elf, hex}));
        LoneChip c("esp32c3");
        QVERIFY(c.load(hex));
        QVERIFY(c.toEnd());
        QCOMPARE(c.word(riscv::kResults), 0x7EU);
        // Without one it says why it does not.
        QFile file(folder_.filePath("none.bin"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(QByteArray(64, '\x11'));
        file.close();
        LoneChip d("esp32c3");
        QVERIFY(d.load(file.fileName()));
        QVERIFY(d.chip->faulted());
        QVERIFY2(QString::fromStdString(d.chip->fault()->what).contains("expected 0xaedb041d twice"), d.chip->fault()->what.c_str());
    }

    void whatIsNotThereIsTold()
    {
        const auto b = load("void handler(uint32_t c) { results[0] = c; MATRIX(0x104) = 0; for (;;) __asm volatile(\"csrci mstatus, 8\\nwfi\"); }\nint main(void) { take_interrupt(50, 1, 1); ((void (*)(void))0x40000040)(); return 0; }");
        QVERIFY(b != nullptr);
        b->to(Time(1ms));
        QCOMPARE(result(*b, 0), 1U);
        QVERIFY(b->noted("rom-call"));
    }
};

QTEST_GUILESS_MAIN(Esp32c3Test)
#include "esp32c3_test.moc"
