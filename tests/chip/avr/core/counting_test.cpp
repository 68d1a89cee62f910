// Time in handlers and depth of the stack while cycles are counted, against counts by hand.
#include <QtTest>

#include "chip/cycle_counts.h"

using namespace bramix::chip;

class CountingTest : public QObject {
    Q_OBJECT

private slots:
    // A handler of 20 cycles, interrupted for 7 of them by another; and one that never comes back because of a reset.
    void handlersNest()
    {
        CycleCounts counts;
        counts.returned(3);  // nobody has entered
        counts.entered(5, 100);
        counts.entered(9, 110);
        counts.returned(117);
        counts.returned(120);
        counts.entered(5, 200);
        counts.returned(210);
        counts.entered(5, 300);
        counts.forgetOpen();
        counts.returned(400);
        QCOMPARE(counts.handlers[5].times, 2);
        QCOMPARE(counts.handlers[5].cycles, 30);
        QCOMPARE(counts.handlers[5].longest, 20);
        QCOMPARE(counts.handlers[9].times, 1);
        QCOMPARE(counts.handlers[9].cycles, 7);
        QCOMPARE(counts.handlers[0].times, 0);
    }

    // Whatever the length of the run, the deepest moment is in it, at its place, in 512 stretches at most.
    void theDeepestMomentIsKept()
    {
        for (const std::int64_t length : {100LL, 64LL * 512, 1'000'000LL, 50'000'000LL}) {
            StackTrace trace;
            const std::int64_t deepest = 1000 + length / 3;
            for (std::int64_t c = 1000; c < 1000 + length; c += 7)
                trace.note(c, c <= deepest && deepest < c + 7 ? 0x800 : 0x8FF);
            const auto& lowest = trace.lowest();
            QVERIFY(lowest.size() <= StackTrace::kMost);
            QCOMPARE(trace.from(), 1000);
            QVERIFY(static_cast<std::int64_t>(lowest.size()) * trace.width() >= length - 7);
            const auto at = std::min_element(lowest.begin(), lowest.end()) - lowest.begin();
            QCOMPARE(lowest[static_cast<std::size_t>(at)], 0x800);
            QCOMPARE(at, (deepest - 1000) / trace.width());
            QCOMPARE(std::count(lowest.begin(), lowest.end(), 0x800), 1);
        }
    }

    // While nothing runs the stack stays where it was.
    void aSleepIsNoGap()
    {
        StackTrace trace;
        trace.note(0, 0x8F0);
        trace.note(1000, 0x8FF);
        QCOMPARE(trace.lowest().size(), std::size_t{16});
        QCOMPARE(trace.lowest()[8], 0x8F0);
        QCOMPARE(trace.lowest()[15], 0x8F0);
    }
};

QTEST_GUILESS_MAIN(CountingTest)
#include "counting_test.moc"
