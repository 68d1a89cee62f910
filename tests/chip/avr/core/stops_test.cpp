// Breakpoints, watches and counting: they stop where they say, and change nothing of what the firmware does.
#include <QtTest>

#include <set>

#include "chip/avr/core/bare_core.h"
#include "kernel/random.h"

using namespace bramix::chip;
using namespace bramix::test;
using bramix::kernel::Random;

namespace {

constexpr std::int64_t kEnd = 20'000;

// A loop that counts in SRAM and calls a function that pushes:
//   0: ldi r16,0   1: lds r17,0x0100   3: inc r17   4: sts 0x0100,r17   6: rcall 10   7: inc r16   8: rjmp 1   10: push r16   11: pop r18   12: ret
const std::vector<std::uint16_t> kLoop{0xE000, 0x9110, 0x0100, 0x9513, 0x9310, 0x0100, 0xD003, 0x9503, 0xCFF8, 0x0000, 0x930F, 0x912F, 0x9508};

struct Machine {
    PlainBus bus;
    Cpu cpu;
    explicit Machine(std::vector<std::uint16_t> words, const Core& core = smallCore()) : cpu(core, bus)
    {
        cpu.loadFlash(std::move(words));
        cpu.poke(0x0100, 0);
    }
    static Core smallCore()
    {
        Core core;
        core.flashWords = 0x4000;
        core.ramStart = 0x100;
        core.ramEnd = 0x8FF;
        return core;
    }
};

}  // namespace

class StopsTest : public QObject {
    Q_OBJECT

private slots:
    void aBreakpointStopsBeforeItsInstructionEveryTime()
    {
        Machine m(kLoop);
        m.cpu.setBreakpoints({7});
        for (int round = 1; round <= 20; ++round) {
            m.cpu.run(kEnd);
            QCOMPARE(m.cpu.debugStop.kind, DebugStop::Kind::breakpoint);
            QCOMPARE(m.cpu.pc, 7U);
            QCOMPARE(int{m.cpu.data[0x100]}, round);
            QCOMPARE(int{m.cpu.data[16]}, round - 1);
            m.cpu.debugStop = {};
            m.cpu.passBreakpoint();
        }
    }

    void aBreakpointThatIsNotPassedStopsAgainAtOnce()
    {
        Machine m(kLoop);
        m.cpu.setBreakpoints({3});
        m.cpu.run(kEnd);
        const std::int64_t at = m.cpu.cycle;
        m.cpu.debugStop = {};
        m.cpu.run(kEnd);
        QCOMPARE(m.cpu.cycle, at);
        QCOMPARE(m.cpu.debugStop.kind, DebugStop::Kind::breakpoint);
    }

    void aWatchTellsWhatWasThereAndWhatCame()
    {
        Machine m(kLoop);
        m.cpu.setWatches({{0x0100, 1, false, true}});
        for (int round = 0; round < 5; ++round) {
            m.cpu.run(kEnd);
            QCOMPARE(m.cpu.debugStop.kind, DebugStop::Kind::access);
            QCOMPARE(m.cpu.debugStop.pc, 4U);
            QCOMPARE(int{m.cpu.debugStop.before}, round);
            QCOMPARE(int{m.cpu.debugStop.value}, round + 1);
            QCOMPARE(m.cpu.pc, 6U);  // after the instruction
            m.cpu.debugStop = {};
        }
    }

    // What is watched may be another place after each stop; what was watched before is silent, and comes to no harm.
    void aWatchMayMove()
    {
        // X = 0x0100; again: st X+, r26; cpi r27, 8; brne again; rjmp .
        Machine m({0xE0A0, 0xE0B1, 0x93AD, 0x30B8, 0xF7E9, 0xCFFF});
        Random random(3);
        int met = 0;
        std::uint16_t last = 0x0100;
        for (;;) {
            const auto next = static_cast<std::uint16_t>(last + random.below(40));
            if (next >= 0x0800)
                break;
            m.cpu.setWatches({{next, 1, false, true}, {0x0060, 2, true, true}});
            m.cpu.run(kEnd);
            QCOMPARE(m.cpu.debugStop.kind, DebugStop::Kind::access);
            QCOMPARE(m.cpu.debugStop.address, next);
            QCOMPARE(int{m.cpu.debugStop.value}, next & 0xFF);
            m.cpu.debugStop = {};
            last = static_cast<std::uint16_t>(next + 1);
            ++met;
        }
        QVERIFY(met > 50);
        m.cpu.setWatches({});
        m.cpu.run(kEnd);
        QCOMPARE(m.cpu.debugStop.kind, DebugStop::Kind::none);
        for (std::uint16_t a = 0x0100; a < 0x0800; ++a)
            QCOMPARE(int{m.cpu.data[a]}, a & 0xFF);
    }

    void aWatchForReadingSeesReadsOnly()
    {
        Machine m(kLoop);
        m.cpu.setWatches({{0x0100, 1, true, false}});
        m.cpu.run(kEnd);
        QCOMPARE(m.cpu.debugStop.pc, 1U);
        QVERIFY(!m.cpu.debugStop.write);
    }

    void aWatchOnTheStackSeesPushesAndReturnAddresses()
    {
        Machine m(kLoop);
        m.cpu.setWatches({{0x08FF, 1, false, true}});  // the low byte of the return address
        m.cpu.run(kEnd);
        QCOMPARE(m.cpu.debugStop.pc, 6U);
        QCOMPARE(int{m.cpu.debugStop.value}, 7);
        m.cpu.debugStop = {};
        m.cpu.setWatches({{0x08FD, 1, false, true}});
        m.cpu.run(kEnd);
        QCOMPARE(m.cpu.debugStop.pc, 10U);
    }

    void countsAddUpToTheCyclesRun()
    {
        Machine m(kLoop);
        CycleCounts counts;
        m.cpu.countInto(&counts);
        m.cpu.run(kEnd);
        QCOMPARE(counts.total(), m.cpu.cycle);
        QCOMPARE(counts.times[0], 1);
        QCOMPARE(counts.cycles[8], 2 * counts.times[8]);  // rjmp takes two
        QVERIFY(counts.times[7] > 500);
    }

    // The same random programs with and without stops: state for state.
    void stopsChangeNothing()
    {
        Random random(7);
        int stopped = 0, moved = 0;
        // On the stack, or anywhere.
        const auto somewhere = [&random] { return static_cast<std::uint16_t>(random.below(2) == 0 ? 0x8E0 - random.below(0x40) : 0x80 + random.below(0x800)); };
        for (int round = 0; round < 300; ++round) {
            std::vector<std::uint16_t> words;
            for (int i = 0; i < 0x200; ++i) {
                const auto any = static_cast<std::uint16_t>(random.next());
                switch (random.below(7)) {
                case 0: words.push_back(0xF000 | (any & 0x07FF)); break;
                case 1: words.push_back(0x8000 | (any & 0x2FFF)); break;
                case 2: words.push_back(0x9000 | (any & 0x03FF)); break;
                case 3: words.push_back(static_cast<std::uint16_t>(0x940A | ((any & 15) << 4))); words.push_back(0xF7F1); break;  // a counted loop
                case 4: words.push_back(0xD000 | (any & 0x0FFF)); break;
                default: words.push_back(static_cast<std::uint16_t>(random.below(0x5000) + 0x3000)); break;
                }
            }
            Machine plain(words), stopping(words);
            for (unsigned i = 26; i < 32; ++i)
                plain.cpu.data[i] = stopping.cpu.data[i] = static_cast<std::uint8_t>(i % 2 == 0 ? random.next() : 1 + random.below(6));
            std::vector<std::uint32_t> breaks;
            for (int i = 0; i < 12; ++i)
                breaks.push_back(static_cast<std::uint32_t>(random.below(0x200)));
            std::vector<Watch> watches;
            for (int i = 0; i < 4; ++i)
                watches.push_back({somewhere(), static_cast<std::uint16_t>(1 + random.below(40)), random.below(2) == 0, true});
            stopping.cpu.setBreakpoints(breaks);
            if (round % 2 == 0)
                stopping.cpu.setWatches(watches);
            for (const std::int64_t until : {500, 4000, 9000}) {
                plain.cpu.run(until);
                while (stopping.cpu.cycle < until && !stopping.cpu.stopped() && !stopping.cpu.sleeping) {
                    stopping.cpu.run(until);
                    if (stopping.cpu.debugStop.kind == DebugStop::Kind::breakpoint)
                        QVERIFY(std::find(breaks.begin(), breaks.end(), stopping.cpu.pc) != breaks.end());
                    if (stopping.cpu.debugStop.kind != DebugStop::Kind::none)
                        ++stopped;
                    if (stopping.cpu.debugStop.kind == DebugStop::Kind::access) {
                        QVERIFY(std::any_of(watches.begin(), watches.end(), [&](const Watch& w) { return stopping.cpu.debugStop.address >= w.address && stopping.cpu.debugStop.address < w.address + w.length; }));
                        // What is watched may be something else each time.
                        watches[random.below(4)].address = somewhere();
                        stopping.cpu.setWatches(watches);
                        ++moved;
                    }
                    stopping.cpu.debugStop = {};
                    stopping.cpu.passBreakpoint();
                }
                QCOMPARE(stopping.cpu.cycle, plain.cpu.cycle);
                QCOMPARE(bramix::kernel::saveState(stopping.cpu) == bramix::kernel::saveState(plain.cpu), true);
            }
        }
        QVERIFY2(stopped > 1000, qPrintable(QString::number(stopped)));
        QVERIFY2(moved > 20, qPrintable(QString::number(moved)));
    }
};

QTEST_APPLESS_MAIN(StopsTest)
#include "stops_test.moc"
