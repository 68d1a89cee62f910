// Who hears of a chip's registers hears of each access at its cycle, of interrupts and resets, and changes nothing.
#include <QtTest>

#include <vector>

#include "chip/avr/chip_bench.h"

using namespace bramix::test;

namespace {

constexpr std::uint16_t kTifr0 = 0x35;

//   0: sbi DDRB,0   1: sbi PORTB,0   2: cbi PORTB,0   3: in r16,PINB   4: rjmp 1
const std::vector<std::uint16_t> kToggles{0x9A20, 0x9A28, 0x9828, 0xB103, 0xCFFC};

// Interrupted by timer 0 all the time:   0: sei   1: rjmp 1   32: reti
std::vector<std::uint16_t> interrupted()
{
    std::vector<std::uint16_t> words(33, 0);
    words[0] = 0x9478;
    words[1] = 0xCFFF;
    words[32] = 0x9518;
    return words;
}

}  // namespace

class HeardBusTest : public QObject {
    Q_OBJECT

private slots:
    // From the instruction set manual: SBI and CBI two cycles, IN one, RJMP two; a read samples in its last cycle, a write ends with it.
    void eachAccessIsHeardAtItsCycle()
    {
        ChipBench bench;
        bench.program(kToggles);
        std::vector<std::int64_t> heard;
        bench.chip.setChangeListener([&](Time at) { heard.push_back(bench.chip.clock().firstCycleAtOrAfter(at).n); });
        bench.to(25);
        QVERIFY((heard == std::vector<std::int64_t>{2, 4, 6, 6, 11, 13, 13, 18, 20, 20, 25}));
        bench.chip.setChangeListener({});
        bench.to(100);
        QCOMPARE(heard.size(), std::size_t{11});
    }

    // At each call the register is as it has become.
    void whatIsSeenThenIsWhatTheRegisterHolds()
    {
        ChipBench bench;
        bench.program(kToggles);
        std::vector<int> seen;
        bench.chip.setChangeListener([&](Time at) {
            const int level = bench.chip.peekRegister(0x25, bench.chip.clock().firstCycleAtOrAfter(at).n) & 1;
            if (seen.empty() || seen.back() != level)
                seen.push_back(level);
        });
        bench.to(7 * 20);
        QCOMPARE(seen.size(), std::size_t{41});
    }

    void interruptsAndAlarmsAreHeard()
    {
        ChipBench bench;
        bench.program(interrupted());
        bench.write("TCCR0B", 1);
        bench.write("TIMSK0", 1);
        int raised = 0, taken = 0;
        bool flag = false;
        const auto look = [&](Time at) {
            const bool now = (bench.chip.peekRegister(kTifr0, bench.chip.clock().firstCycleAtOrAfter(at).n) & 1) != 0;
            raised += now && !flag ? 1 : 0;
            taken += !now && flag ? 1 : 0;
            flag = now;
        };
        bench.queue.hear(look);
        bench.chip.setChangeListener(look);
        bench.to(256 * 50 + 100);
        QCOMPARE(raised, 50);
        QCOMPARE(taken, 50);
    }

    void aResetIsHeard()
    {
        ChipBench bench;
        bench.program(kToggles);
        bench.to(20);
        int cleared = 0;
        bench.chip.setChangeListener([&](Time at) { cleared += bench.chip.peekRegister(0x24, bench.chip.clock().firstCycleAtOrAfter(at).n) == 0 ? 1 : 0; });
        bench.to(30);
        QCOMPARE(cleared, 0);
        bench.chip.setResetLine(false);
        QCOMPARE(cleared, 1);
    }

    void whoHearsChangesNothing()
    {
        for (const auto& words : {kToggles, interrupted()}) {
            ChipBench bare, heard;
            std::int64_t times = 0;
            for (ChipBench* bench : {&bare, &heard}) {
                bench->program(words);
                bench->write("TCCR0B", 1);
                bench->write("TIMSK0", 1);
            }
            heard.queue.hear([&](Time) { ++times; });
            heard.chip.setChangeListener([&](Time) { ++times; });
            for (std::int64_t cycle = 1; cycle < 5000; cycle += 97) {
                bare.to(cycle);
                heard.to(cycle);
                bramix::kernel::SaveArchive a, b;
                a(bare.chip);
                b(heard.chip);
                QVERIFY(a.take() == b.take());
            }
            QVERIFY(times > 10);
        }
    }
};

QTEST_APPLESS_MAIN(HeardBusTest)
#include "heard_bus_test.moc"
