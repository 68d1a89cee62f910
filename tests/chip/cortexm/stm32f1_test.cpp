// Peripherals of the STM32F103 against the arithmetic of RM0008, seen from outside: at the pins.
#include <QtTest>

#include "chip/cortexm/arm_bench.h"
#include "chip/cortexm/stm32f1_programs.h"

using namespace bramix;
using namespace bramix::test::arm;
using namespace std::chrono_literals;

class Stm32f1Test : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    std::unique_ptr<ArmBench> load(const char* program, chip::McuOptions options = {})
    {
        const QString elf = compile(folder_, QString(kRegisters) + program, {"-O2"});
        auto bench = std::make_unique<ArmBench>(options);
        return !elf.isEmpty() && bench->load(elf) ? std::move(bench) : nullptr;
    }
    static double ns(kernel::Duration d) { return kernel::seconds(d) * 1e9; }
    // Times of edges of one direction, of pin driven strongly.
    static std::vector<Time> rising(const std::vector<ArmBench::Edge>& edges, bool up = true)
    {
        std::vector<Time> out;
        for (std::size_t i = 1; i < edges.size(); ++i)
            if ((edges[i].state == circuit::NetState::high) == up && (edges[i - 1].state == circuit::NetState::high) != up)
                out.push_back(edges[i].at);
        return out;
    }
    // Bytes of a line, read in the middle of their bits.
    static QByteArray bytesOf(const std::vector<ArmBench::Edge>& edges, kernel::Duration bit, Time until)
    {
        const auto levelAt = [&](Time t) {
            bool high = true;
            for (const ArmBench::Edge& e : edges)
                if (e.at <= t)
                    high = e.state == circuit::NetState::high;
            return high;
        };
        QByteArray out;
        for (std::size_t i = 1; i < edges.size(); ++i) {
            const bool falls = edges[i].state == circuit::NetState::low && edges[i - 1].state == circuit::NetState::high;
            if (!falls)
                continue;
            const Time start = edges[i].at;
            if (start + bit * 10 > until || levelAt(start + bit / 2) || !levelAt(start + bit * 19 / 2))
                continue;
            unsigned value = 0;
            for (int b = 0; b < 8; ++b)
                value |= levelAt(start + bit * (2 * b + 3) / 2) ? 1U << b : 0U;
            out.append(static_cast<char>(value));
            while (i + 1 < edges.size() && edges[i + 1].at < start + bit * 19 / 2)
                ++i;
        }
        return out;
    }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("arm-none-eabi-gcc is not installed");
    }

    // Two stores of two cycles each, at 8 MHz.
    void aPinGoesUpAndDown()
    {
        const auto bench = load(kToggle);
        QVERIFY(bench != nullptr && bench->toEnd());
        const auto up = rising(bench->edges("PA4"));
        QCOMPARE(up.size(), std::size_t{8});
        for (std::size_t i = 1; i < up.size(); ++i)
            QCOMPARE(up[i] - up[i - 1], kernel::Duration(500ns));
    }

    // RM0008, 7.3.7: a peripheral whose clock is off reads as 0 and takes nothing; that is told.
    void aPortWithoutItsClockTakesNothing()
    {
        const auto bench = load(kNoClock);
        QVERIFY(bench != nullptr && bench->toEnd());
        QCOMPARE(bench->result(0), 0U);
        QCOMPARE(bench->result(1), 0x44444444U);
        QVERIFY(std::any_of(bench->notes.begin(), bench->notes.end(), [](const auto& n) { return n.second.find("GPIOA") != std::string::npos; }));
        QVERIFY(rising(bench->edges("PA4")).empty());
    }

    // 8 MHz times 9: TIM2 counts at 72 MHz (its bus has half of it, and timers twice that), so 7200 counts are 100 us and 1800 of them a quarter.
    void thePllMakesSeventyTwoMegahertz()
    {
        const auto bench = load(kFast);
        QVERIFY(bench != nullptr);
        bench->to(Time(6ms));
        QCOMPARE(bench->chip.clock().hz(), std::uint64_t{72'000'000});
        const auto up = rising(bench->edges("PA0")), down = rising(bench->edges("PA0"), false);
        QVERIFY(up.size() > 10);
        for (std::size_t i = 1; i < up.size(); ++i)
            QVERIFY(std::abs(ns(up[i] - up[i - 1]) - 100'000) < 0.01);
        const Time after = *std::upper_bound(down.begin(), down.end(), up[1]);
        QVERIFY(std::abs(ns(after - up[1]) - 25'000) < 0.01);
    }

    // BRR 833 at 8 MHz: 104.125 us a bit.
    void bytesGoOutAndIn()
    {
        const auto bench = load(kSerial);
        QVERIFY(bench != nullptr);
        bench->drive("PA10", true);
        const kernel::Duration bit = 104'125ns;
        bench->to(Time(8ms));
        QCOMPARE(bytesOf(bench->edges("PA9"), bit, bench->queue.now()), QByteArray("Kelp"));
        // 0xA5 comes in, its complement goes out.
        Time at(8ms);
        for (const int level : {0, 1, 0, 1, 0, 0, 1, 0, 1, 1}) {
            bench->drive("PA10", level != 0);
            at += bit;
            bench->to(at);
        }
        bench->to(at + bit * 12);
        QCOMPARE(bytesOf(bench->edges("PA9"), bit, bench->queue.now()), QByteArray("Kelp\x5A"));
        QCOMPARE(bench->chip.serialFormat(0).dataBits, 8U);
        QVERIFY(std::abs(bench->chip.serialFormat(0).baud - 8e6 / 833) < 1e-6);
    }

    void anEdgeInterrupts()
    {
        const auto bench = load(kEdges);
        QVERIFY(bench != nullptr);
        bench->drive("PA0", false);
        bench->to(Time(1ms));
        for (int i = 1; i <= 5; ++i) {
            bench->drive("PA0", true);
            bench->to(Time(1ms * (2 * i)));
            bench->drive("PA0", false);
            bench->to(Time(1ms * (2 * i + 1)));
            QCOMPARE(bench->result(0), static_cast<std::uint32_t>(i));
        }
        QCOMPARE(rising(bench->edges("PA4")).size(), std::size_t{3});
        QVERIFY(bench->chip.isSleeping());
        // Out of sleep the handler begins twelve cycles after the edge.
        QVERIFY(bench->chip.exception(16 + 6).worstLatency >= 12 && bench->chip.exception(16 + 6).worstLatency <= 14);
    }

    // 8 MHz by 8 and by 1000: 1 ms.
    void aTimerDivides()
    {
        const auto bench = load(kTimer);
        QVERIFY(bench != nullptr && bench->toEnd());
        QCOMPARE(bench->result(0), 20U);
        QCOMPARE(bench->exceptions.size(), std::size_t{20});
        for (std::size_t i = 1; i < bench->exceptions.size(); ++i)
            QCOMPARE(bench->exceptions[i].second - bench->exceptions[i - 1].second, 8000);
    }

    // RM0008 11.3: sampling and 12.5 clocks of the converter, which is half of the core's here; counts of VDDA.
    void theConverterReads()
    {
        const auto bench = load(kAnalog);
        QVERIFY(bench != nullptr);
        bench->driveVolts("PA1", 3.3 / 4);
        bench->driveVolts("PA0", 2.5);
        QVERIFY(bench->toEnd());
        QVERIFY(bench->result(0) > 1024 + 5);
        QVERIFY2(std::abs(static_cast<int>(bench->result(1)) - 1024) <= 1, qPrintable(QString::number(bench->result(1))));
        QVERIFY2(std::abs(static_cast<int>(bench->result(2)) - static_cast<int>(2.5 / 3.3 * 4096)) <= 1, qPrintable(QString::number(bench->result(2))));
        // 252 clocks are 504 cycles, and the program's own.
        QVERIFY2(bench->result(3) >= 504 && bench->result(3) < 560, qPrintable(QString::number(bench->result(3))));
        QVERIFY2(std::abs(static_cast<int>(bench->result(4)) - static_cast<int>(1.2 / 3.3 * 4096)) <= 1, qPrintable(QString::number(bench->result(4))));
    }

    // RM0008 13.3: widths, circular mode, flags, a request for each byte, and an address at which nothing answers.
    void memoryIsAccessedDirectly()
    {
        const auto bench = load(kDma);
        QVERIFY(bench != nullptr);
        bench->driveVolts("PA0", 3.3 / 2);
        bench->driveVolts("PA1", 3.3 / 8);
        QVERIFY(bench->toEnd());
        QCOMPARE(bench->result(0), 0x88882222U);
        QCOMPARE(bench->result(1), 0x55AAU);
        QCOMPARE(bench->result(2), 7U);  // any, full, half
        QCOMPARE(bench->result(3), 0U);
        QVERIFY(std::abs(static_cast<int>(bench->result(4)) - 2048) <= 1 && std::abs(static_cast<int>(bench->result(5)) - 512) <= 1);
        QCOMPARE(bytesOf(bench->edges("PA9"), 104'125ns, bench->queue.now() + kernel::Duration(2ms)), QByteArray("Oats"));
        QCOMPARE(bench->result(6), 0U);
        QCOMPARE(bench->result(7), 0U);
        QCOMPARE(std::count_if(bench->exceptions.begin(), bench->exceptions.end(), [](const auto& e) { return e.first == 16 + 14; }), 1);
    }

    // A watch sees what DMA stores, and says that it was DMA.
    void aWatchSeesDma()
    {
        const auto bench = load(kDma);
        QVERIFY(bench != nullptr);
        bench->driveVolts("PA0", 3.3 / 2);
        bench->driveVolts("PA1", 3.3 / 8);
        const chip::Watchpoint ram[] = {{.address = kRamBase, .length = 0x2000, .reads = false, .writes = true}};
        bench->chip.setWatchpoints(ram);
        bool core = false, dma = false;
        for (int i = 0; i < 20'000 && !(core && dma); ++i) {
            bench->chip.stepInstruction(bench->chip.now() + std::chrono::microseconds(10));
            bench->queue.advanceTo(bench->chip.now());
            if (!bench->chip.hasStopped())
                continue;
            const chip::StopInfo stop = bench->chip.stopInfo();
            (stop.by.empty() ? core : dma) = true;
            if (!stop.by.empty()) {
                QCOMPARE(stop.by, std::string("DMA1"));
                QCOMPARE(stop.value, 0x2222ULL);
            }
            bench->chip.resume(true);
        }
        QVERIFY(core && dma);
    }
};

QTEST_APPLESS_MAIN(Stm32f1Test)
#include "stm32f1_test.moc"
