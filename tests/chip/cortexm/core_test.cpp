// The Cortex-M3 core: whole programs against the same sources compiled for this machine; exceptions, faults and cycles against the manuals.
#include <QtTest>

#include "chip/cortexm/arm_bench.h"
#include "chip/cortexm/core_programs.h"
#include "chip/cross_compiler.h"

using namespace bramix;
using namespace bramix::test;
using namespace bramix::test::arm;

class CoreTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;
    std::vector<std::uint32_t> expected_;

    std::unique_ptr<ArmBench> run(const char* source, const QStringList& options = {"-O1"})
    {
        const QString elf = compile(folder_, source, options);
        auto bench = std::make_unique<ArmBench>();
        if (elf.isEmpty() || !bench->load(elf) || !bench->toEnd())
            return nullptr;
        return bench;
    }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("arm-none-eabi-gcc is not installed");
        expected_ = resultsHere(folder_, kWork);
        QCOMPARE(expected_.size(), std::size_t{256});
    }

    void programsDoWhatTheyDoHere_data()
    {
        QTest::addColumn<QStringList>("options");
        for (const char* level : {"-O0", "-O1", "-O2", "-O3", "-Os"})
            QTest::newRow(level) << QStringList{level};
        QTest::newRow("-O2, unaligned never") << QStringList{"-O2", "-mno-unaligned-access"};
        QTest::newRow("-O3, unrolled") << QStringList{"-O3", "-funroll-all-loops"};
    }
    void programsDoWhatTheyDoHere()
    {
        QFETCH(QStringList, options);
        const QString elf = compile(folder_, QString(kWork) + "int main(void) { for (int i = 0; i < 256; i++) results[i] = 0; work(results); return 0; }", options);
        QVERIFY(!elf.isEmpty());
        ArmBench bench;
        QVERIFY(bench.load(elf));
        QVERIFY(bench.toEnd());
        for (unsigned i = 0; i < 256; ++i)
            QVERIFY2(bench.result(i) == expected_[i], qPrintable(QString("result %1 is %2, expected %3").arg(i).arg(bench.result(i), 8, 16).arg(expected_[i], 8, 16)));
        QVERIFY(bench.notes.empty());
    }

    // Cortex-M3 TRM, table 3-1: moves, adds and NOPs take one cycle, a taken branch 1 + 2, a load 2, MLA 2, a store with its address in a register 2, UDIV by its quotient 2 to 12.
    void cyclesAreThoseOfTheManual()
    {
        const auto bench = run(kCycles);
        QVERIFY(bench != nullptr);
        const std::uint32_t none = bench->result(0);
        QCOMPARE(none, 2U);
        QCOMPARE(bench->result(1) - none, 100U);
        QCOMPARE(bench->result(2) - none, 1U + 99 * (1 + 3) + 1 + 1);
        QCOMPARE(bench->result(3) - none, 2U + 2);
        QCOMPARE(bench->result(4) - none, 2U + 2);
        QCOMPARE(bench->result(5) - none, 1U + 1 + 3);
    }

    // A tick of the system timer wakes the core; the handler begins twelve cycles after it (TRM, 3.9: latency), every 1000 cycles to the cycle.
    void aTickComesWhenItIsDue()
    {
        const auto bench = run(kTicks);
        QVERIFY(bench != nullptr);
        QCOMPARE(bench->result(0), 50U);
        QCOMPARE(bench->exceptions.size(), std::size_t{50});
        for (std::size_t i = 1; i < bench->exceptions.size(); ++i) {
            QCOMPARE(bench->exceptions[i].first, 15U);
            QCOMPARE(bench->exceptions[i].second - bench->exceptions[i - 1].second, 1000);
        }
        QCOMPARE(bench->chip.exception(15).worstLatency, 12);
    }

    // SVC asks for PendSV: it comes when SVC has ended, before the thread goes on; a higher priority interrupts a lower one.
    void exceptionsComeByTheirPriority()
    {
        const auto bench = run(kPriorities);
        QVERIFY(bench != nullptr);
        std::vector<std::uint32_t> order;
        for (unsigned i = 1; i < bench->result(0); ++i)
            order.push_back(bench->result(i));
        // PendSV asked for by SVC is of lower priority than SysTick, which is of a higher one than SVC but asked for only in PendSV.
        QCOMPARE(order, (std::vector<std::uint32_t>{1, 10, 11, 20, 30, 21, 2, 3, 30, 4}));
    }

    // ARM DDI 0403E, B1.5.14 and B3.2.15: which fault, with which bit, at which instruction.
    void faultsSayWhatTheyAre()
    {
        const auto bench = run(kFaults, {"-Os"});
        QVERIFY(bench != nullptr);
        const auto row = [&](unsigned r) { return std::vector<std::uint32_t>{bench->result(4 * r), bench->result(4 * r + 1), bench->result(4 * r + 3)}; };
        const auto at = [&](unsigned r) { return bench->result(100 + r) & ~1U; };
        QCOMPARE(row(0), (std::vector<std::uint32_t>{6, 1U << 25, at(0)}));
        QCOMPARE(row(1), (std::vector<std::uint32_t>{6, 1U << 16, at(1)}));
        QCOMPARE(row(2), (std::vector<std::uint32_t>{5, 1U << 9 | 1U << 15, at(2)}));
        QCOMPARE(bench->result(4 * 2 + 2), 0x30000000U);
        QCOMPARE(row(3), (std::vector<std::uint32_t>{6, 1U << 24, at(3)}));
        QCOMPARE(row(4), (std::vector<std::uint32_t>{3, 1U << 16, at(4)}));
        QVERIFY((bench->result(105) & 1U << 30) != 0);  // forced
        QVERIFY(std::any_of(bench->notes.begin(), bench->notes.end(), [](const auto& note) { return note.first == "fault-taken"; }));
    }

    // Threads on the process stack, the bit-band alias, exclusive access.
    void whatOperatingSystemsUse()
    {
        const auto bench = run(kSystem, {"-O1"});
        QVERIFY(bench != nullptr);
        QCOMPARE(bench->result(0), 0xFFFFFFFDU);
        QCOMPARE(bench->result(1), 1U);
        QCOMPARE(bench->result(2), 0x20U);
        QCOMPARE(bench->result(3), 1U);
        QCOMPARE(bench->result(4), 0x21U);
        QCOMPARE(bench->result(5), 0U);
        QCOMPARE(bench->result(6), 1U);
        QCOMPARE(bench->result(7), 0xFFFFFF80U);
    }

    void codeInRamRuns()
    {
        const auto bench = run(kInRam, {"-O2"});
        QVERIFY(bench != nullptr);
        QVERIFY(bench->result(0) > 0x20000000U && bench->result(0) < 0x20005000U);
        QCOMPARE(bench->result(1), 42U);
        QVERIFY(bench->result(2) == 0x0040U || bench->result(2) == 0x1800U);  // lsls r0, r0, #1 or adds r0, r0, r0
        QCOMPARE(bench->result(3), 28U);
    }

    // A chip that is saved and loaded goes on as if nothing had been.
    void aSnapshotIsTheWholeState()
    {
        const QString elf = compile(folder_, QString(kWork) + "int main(void) { for (int i = 0; i < 256; i++) results[i] = 0; work(results); return 0; }", {"-O2"});
        ArmBench bench;
        QVERIFY(bench.load(elf));
        bench.to(Time(std::chrono::milliseconds(3)));
        kernel::SaveArchive saved;
        bench.chip.save(saved);
        const std::int64_t cycles = bench.chip.cycles();
        QVERIFY(bench.toEnd());
        const std::int64_t end = bench.chip.cycles();
        const std::uint32_t last = bench.result(3);
        ArmBench other;
        QVERIFY(other.load(elf));
        other.to(Time(std::chrono::milliseconds(3)));
        const kernel::Snapshot snapshot = saved.take();
        kernel::LoadArchive loading(snapshot);
        other.chip.load(loading);
        QCOMPARE(other.chip.cycles(), cycles);
        QVERIFY(other.toEnd());
        QCOMPARE(other.chip.cycles(), end);
        QCOMPARE(other.result(3), last);
    }
};

QTEST_APPLESS_MAIN(CoreTest)
#include "core_test.moc"
