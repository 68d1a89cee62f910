// The ARM926EJ-S core: whole programs against the same sources compiled for this machine, in ARM and in Thumb; exceptions, MMU and version 5's own instructions against the manuals.
#include <QtTest>

#include "chip/arm9/arm9_program.h"
#include "chip/arm9/core_programs.h"
#include "chip/lone_chip.h"
#include "chip/work_program.h"

using namespace bramix;
using namespace bramix::test;

class Arm9CoreTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    std::unique_ptr<LoneChip> run(const char* source, const QStringList& options = {"-O1"})
    {
        const QString elf = arm9::compile(folder_, source, options);
        auto bench = std::make_unique<LoneChip>("arm926ej-s");
        return !elf.isEmpty() && bench->load(elf) && bench->toEnd() ? std::move(bench) : nullptr;
    }
    static std::uint32_t result(const LoneChip& b, unsigned i) { return b.word(arm9::kResults + 4 * i); }

private slots:
    void initTestCase()
    {
        if (!arm9::haveCompiler())
            QSKIP("arm-none-eabi-gcc is not installed");
    }

    void programsDoWhatTheyDoHere_data()
    {
        QTest::addColumn<QStringList>("options");
        for (const char* level : {"-O0", "-O1", "-O2", "-O3", "-Os"}) {
            QTest::newRow(level) << QStringList{level};
            QTest::newRow(qPrintable(QString("Thumb %1").arg(level))) << QStringList{level, "-mthumb"};
        }
        QTest::newRow("-O3, unrolled") << QStringList{"-O3", "-funroll-all-loops"};
    }
    void programsDoWhatTheyDoHere()
    {
        QFETCH(QStringList, options);
        static const std::vector<std::uint32_t> expected = resultsHere(folder_, kWork);
        QCOMPARE(expected.size(), std::size_t{256});
        const QString elf = arm9::compile(folder_, QString(kWork) + "int main(void) { work(results); return 0; }", options);
        QVERIFY(!elf.isEmpty());
        LoneChip bench("arm926ej-s");
        QVERIFY(bench.load(elf));
        QVERIFY(bench.toEnd());
        for (unsigned i = 0; i < 256; ++i)
            if (result(bench, i) != expected[i])
                QFAIL(qPrintable(QString("result %1 is %2, expected %3").arg(i).arg(result(bench, i), 8, 16).arg(expected[i], 8, 16)));
        QVERIFY2(bench.notes.empty(), bench.notes.empty() ? "" : bench.notes.front().second.c_str());
    }

    // DDI 0100I A2.6; DDI 0198E table 3-9: status 8 is an external abort.
    void exceptionsAreTakenAndReturnedFrom()
    {
        const auto b = run(arm9::kExceptions);
        QVERIFY(b != nullptr);
        QCOMPARE(result(*b, 0), 0x13U);
        QCOMPARE(result(*b, 1) & 0x1FU, 0x13U);
        QCOMPARE(result(*b, 2), result(*b, 10) + 4);
        QCOMPARE(result(*b, 3) & 0xFU, 8U);
        QCOMPARE(result(*b, 4), 0x20000000U);
        QCOMPARE(result(*b, 5), result(*b, 11) + 8);
        // Neither the register nor its base are changed by what is aborted.
        QCOMPARE(result(*b, 8), 0x44U);
        QCOMPARE(result(*b, 9), 0x20000000U);
        QCOMPARE(result(*b, 6) & 0xFU, 8U);
        QCOMPARE(result(*b, 7), 0x30000004U);
        QCOMPARE(result(*b, 12), 1U);
        QCOMPARE(result(*b, 13), 0x330000U);
        QVERIFY(b->noted("abort-taken"));
    }

    // DDI 0198E 3.3 and 3.4: sections, pages, domains, permissions, and their fault statuses.
    void theMmuTranslates()
    {
        const auto b = run(arm9::kTables, {"-O0"});
        QVERIFY(b != nullptr);
        QCOMPARE(result(*b, 1), 0x11111111U);
        QCOMPARE(result(*b, 2), 0x22222222U);
        QCOMPARE(result(*b, 3), 0x33333333U);
        QCOMPARE(result(*b, 4), 0U);
        QCOMPARE(result(*b, 5), 0x17U);
        QCOMPARE(result(*b, 6), 0x40202000U);
        QCOMPARE(result(*b, 7) & 0xFU, 5U);
        QCOMPARE(result(*b, 8), 0x40300000U);
        QCOMPARE(result(*b, 9), 0x29U);
        QCOMPARE(result(*b, 10), 0x11111111U);
        QCOMPARE(result(*b, 11), 0x1DU);
        QCOMPARE(result(*b, 12), 0x33333333U);
        QCOMPARE(result(*b, 13), 0x1FU);
        QCOMPARE(result(*b, 14), 0x11111111U);
        QCOMPARE(result(*b, 15), 0x44444444U);
        QCOMPARE(result(*b, 16), 5U);
    }

    void versionFiveHasItsOwnInstructions()
    {
        const auto b = run(arm9::kSignals, {"-O2"});
        QVERIFY(b != nullptr);
        for (unsigned i = 1; i <= 15; ++i)
            QVERIFY2(result(*b, i) == 0, qPrintable(QString("%1: %2 wrong").arg(i).arg(result(*b, i))));
        QCOMPARE(result(*b, 30), 1U);
        QCOMPARE(result(*b, 31), 0x11443322U);
        QCOMPARE(result(*b, 32), 0x88776655U);
        QCOMPARE(result(*b, 33), 0x12345678U);
        QCOMPARE(result(*b, 34), 0x44332211U ^ 0x12345678U);
    }
};

QTEST_GUILESS_MAIN(Arm9CoreTest)
#include "core_test.moc"
