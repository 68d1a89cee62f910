// The ARM926EJ-S with ARM's peripherals, as bare-metal courses use them.
#include <QtTest>

#include "chip/arm9/arm926_programs.h"
#include "chip/arm9/arm9_program.h"
#include "chip/lone_chip.h"
#include "kernel/archive.h"

using namespace bramix;
using namespace bramix::test;
using namespace std::chrono_literals;

class Arm926Test : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    std::unique_ptr<LoneChip> load(const QString& source, const QStringList& options = {"-O1"})
    {
        const QString elf = arm9::compile(folder_, QString(arm9::kNames) + source, options);
        auto bench = std::make_unique<LoneChip>("arm926ej-s");
        return !elf.isEmpty() && bench->load(elf) ? std::move(bench) : nullptr;
    }
    static std::uint32_t result(const LoneChip& b, unsigned i) { return b.word(arm9::kResults + 4 * i); }
    static std::string heard(LoneChip& b, const char* pin, kernel::Duration bit)
    {
        std::string out;
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
            unsigned value = 0;
            for (unsigned i = 0; i < 8; ++i)
                value |= (levelAt(e.at + bit * (i + 1) + bit / 2) ? 1U : 0U) << i;
            out += static_cast<char>(value);
            t = e.at + bit * 9 + bit / 2;
        }
        return out;
    }
    static void say(LoneChip& b, const char* pin, unsigned value, kernel::Duration bit)
    {
        const Time from = b.chip->now();
        const unsigned frame = value << 1 | 1U << 9;
        for (unsigned i = 0; i < 10; ++i) {
            b.to(from + bit * i);
            b.drive(pin, (frame >> i & 1U) != 0);
        }
        b.to(from + bit * 11);
    }
    static constexpr kernel::Duration kBit{8'680'556};

private slots:
    void initTestCase()
    {
        if (!arm9::haveCompiler())
            QSKIP("arm-none-eabi-gcc is not installed");
    }

    // Without a word to the control register, and without looking at flags.
    void aMonitorHasLeftTheUartOn()
    {
        const auto b = load("int main(void) { for (const char *t = \"weir\\n\"; *t; t++) UART0(0) = *t; return 0; }");
        QVERIFY(b != nullptr);
        b->to(Time(2ms));

        QCOMPARE(QByteArray::fromStdString(heard(*b, "U0TX", kBit)), QByteArray("weir\n"));
        QVERIFY(b->noted("serial-full"));
        QVERIFY(std::abs(b->chip->serialFormat(0).baud - 115'200) < 100);
    }

    // The first job: what is typed comes by interrupt, through controller and CPSR, and is answered.
    void whatIsTypedIsAnswered()
    {
        const auto b = load(arm9::kAnswer);
        QVERIFY(b != nullptr);
        b->drive("U0RX", true);
        b->to(Time(1ms));
        for (const char c : std::string("otter"))
            say(*b, "U0RX", static_cast<unsigned char>(c), kBit);
        b->forward(1ms);
        QCOMPARE(result(*b, 255), 5U);
        QCOMPARE(QByteArray::fromStdString(heard(*b, "U0TX", kBit)), QByteArray("OTTER"));
        QCOMPARE(b->chip->exception(6).count, 5);
        QCOMPARE(b->exceptions.size(), std::size_t{5});
    }

    // DDI 0271D: 24 MHz through 16, periodic, reload value 1499: each 1500 ticks are 1 ms.
    void theTimerRingsInTime()
    {
        const auto b = load(arm9::kRings);
        QVERIFY(b && b->toEnd());
        QCOMPARE(result(*b, 0), 20U);
        QCOMPARE(b->exceptions.size(), std::size_t{20});
        for (std::size_t i = 1; i < 20; ++i)
            QVERIFY(std::abs(b->exceptions[i].second - b->exceptions[i - 1].second - 96'000) < 50);
        QCOMPARE(result(*b, 2) & 0x000FFFFFU, 0x041804U);
        QCOMPARE(result(*b, 3), 0xB105F00DU);
    }

    // DDI 0181E: a more urgent vector interrupts a handler, a less urgent one waits for the write to the address register; FIQ goes before all.
    void vectorsHavePriorities()
    {
        const auto b = load(arm9::kVectors, {"-O1", "-marm"});
        QVERIFY(b && b->toEnd());
        std::vector<std::uint32_t> order;
        for (unsigned i = 1; i <= result(*b, 0); ++i)
            order.push_back(result(*b, i));
        QCOMPARE(order, (std::vector<std::uint32_t>{0x222, 0x333, 0x2FF, 0x111, 0xF1}));
    }

    void rawImagesAndHexBegin()
    {
        const QString elf = arm9::compile(folder_, "int main(void) { results[0] = 0x7E; return 0; }", {"-Os"});
        const QString raw = folder_.filePath("raw.bin"), hex = folder_.filePath("raw.hex");
        QVERIFY(runTool(folder_.path(), "arm-none-eabi-objcopy", {"-O", "binary", "-R", "results", elf, raw}) && runTool(folder_.path(), "arm-none-eabi-objcopy", {"-O", "ihex", "-R", "results", elf, hex}));
        for (const QString& image : {raw, hex}) {
            LoneChip b("arm926ej-s");
            QVERIFY(b.load(image) && b.toEnd());
            QCOMPARE(result(b, 0), 0x7EU);
        }
    }

    void nothingElseAnswers()
    {
        const auto b = load(arm9::kAborts);
        QVERIFY(b && b->toEnd());
        QCOMPARE(result(*b, 0), 1U);
        QVERIFY(b->noted("abort-taken"));
        // All registers of all modes can be looked at: what was interrupted is in SPSR.
        const chip::Device& d = b->chip->device();
        const auto named = [&](const char* name) {
            for (std::size_t r = 0; r < d.coreRegisters.size(); ++r)
                if (d.coreRegisters[r].name == name)
                    return b->chip->readRegister(r);
            return std::uint64_t{0};
        };
        QCOMPARE(named("cpsr") & 0x1F, std::uint64_t{0x17});
        QCOMPARE(named("spsr_abt") & 0x1F, std::uint64_t{0x13});
        QCOMPARE(named("sp_irq"), std::uint64_t{0x300000});
        QVERIFY(named("sp_svc") <= 0x340000 && named("sp_svc") > 0x33FF00);
    }

    // 64 MB: a snapshot costs what has been written, and the run goes on alike.
    void snapshotsShareMemory()
    {
        const auto b = load("int main(void) { for (uint32_t i = 0; ; i++) { REG(0x400000 + (i & 0x1FFF) * 4096) = i; results[0] = i; } }");
        QVERIFY(b != nullptr);
        b->to(Time(2ms));
        kernel::SaveArchive first;
        b->chip->save(first);
        const kernel::Snapshot before = first.take();
        const std::uint32_t count = result(*b, 0);
        b->to(Time(3ms));
        kernel::SaveArchive second;
        b->chip->save(second);
        const kernel::Snapshot after = second.take();
        QVERIFY(after.freshPages > 0 && after.freshPages < 16'000);
        const std::uint32_t later = result(*b, 0);
        kernel::LoadArchive back(before);
        b->chip->load(back);
        QCOMPARE(result(*b, 0), count);
        kernel::LoadArchive on(after);
        b->chip->load(on);
        QCOMPARE(result(*b, 0), later);
    }
};

QTEST_GUILESS_MAIN(Arm926Test)
#include "arm926_test.moc"
