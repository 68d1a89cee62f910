// A recorded voltage against integrals worked out by hand.
#include <QtTest>

#include <cmath>
#include <numbers>

#include "kernel/random.h"
#include "tape/waveform.h"

using namespace bramix::tape;
using namespace std::chrono_literals;

namespace {

Time at(double seconds) { return Time(Duration(static_cast<std::int64_t>(std::llround(seconds * 1e12)))); }
bool near(double actual, double expected, double tolerance) { return std::fabs(actual - expected) <= tolerance; }

// 0 and 4 V, high for `duty` of each millisecond.
Waveform pulses(double duty, int periods)
{
    Waveform w;
    for (int i = 0; i < periods; ++i) {
        w.add(at(i * 1e-3), at((i + duty) * 1e-3), [](Time) { return 4.0; }, true);
        w.add(at((i + duty) * 1e-3), at((i + 1) * 1e-3), [](Time) { return 0.0; }, true);
    }
    return w;
}

}  // namespace

class WaveformTest : public QObject {
    Q_OBJECT

private slots:
    // Mean d·E, root mean square E·√d.
    // The trigger may lie so early that the picture begins before the run did.
    void aSpanThatBeginsBeforeTheRunIsMeasured()
    {
        const Waveform w = pulses(0.25, 20);
        const auto early = w.measure(at(-0.5), at(0.02)), known = w.measure(at(0), at(0.02));
        QVERIFY(early && known);
        QVERIFY(std::fabs(early->mean - known->mean) < 1e-12);
        QVERIFY(std::fabs(early->rms - known->rms) < 1e-12);
    }

    void pulsesAreMeasured()
    {
        const Waveform w = pulses(0.25, 20);
        const auto m = w.measure(at(0), at(0.02));
        QVERIFY(m);
        QVERIFY(near(m->mean, 1, 1e-9));
        QVERIFY(near(m->rms, 2, 1e-9));
        QCOMPARE(m->least, 0.0);
        QCOMPARE(m->most, 4.0);
        QVERIFY(near(m->period.value_or(0), 1e-3, 1e-12));
        QVERIFY(near(m->duty.value_or(0), 0.25, 1e-9));
        QVERIFY(near(m->rise.value_or(1), 0, 1e-12));
    }

    // What a long time is thinned to has the same means, least and most as all of it, in any part; what it cannot tell it does not.
    void aThinnedOneIsMeasuredTheSame()
    {
        constexpr std::size_t kMost = 2000;
        Waveform all, thin = Waveform::thinned(kMost);
        bramix::kernel::Random random(3, "volts");
        double t = 0, v = 1;
        for (int i = 0; i < 30'000; ++i) {
            const double length = 1e-6 * static_cast<double>(1 + random.below(i % 3000 == 0 ? 1'000'000 : 300)), next = static_cast<double>(random.below(5000)) / 1000;
            const bool constant = random.below(2) == 0;
            for (Waveform* w : {&all, &thin})
                w->add(at(t), at(t + length), [&](Time x) { return constant ? v : v + (next - v) * (bramix::kernel::seconds(x - at(t)) / length); }, constant);
            QVERIFY(thin.size() <= kMost);
            t += length;
            v = next;
        }
        QVERIFY(thin.size() > kMost / 4 && all.exactFrom() == Time{} && thin.exactFrom() > at(0));
        QVERIFY(thin.knownFrom() == all.knownFrom() && thin.knownTo() == all.knownTo());
        const auto a = all.measure(at(0), at(t)), b = thin.measure(at(0), at(t));
        QVERIFY(a && b && a->least == b->least && a->most == b->most && near(a->mean, b->mean, 1e-9) && near(a->rms, b->rms, 1e-9));
        QVERIFY(a->period.has_value() && !b->period && !b->duty && !b->rise);
        // Of a part: all but what is cut in two at its ends.
        for (int i = 0; i < 100; ++i) {
            const double from = t * static_cast<double>(random.below(800)) / 1000, to = from + t / 10;
            const auto x = all.measure(at(from), at(to)), y = thin.measure(at(from), at(to));
            QVERIFY2(x && y && near(x->mean, y->mean, 0.05) && near(x->rms, y->rms, 0.05), qPrintable(QString("%1 %2, %3 %4").arg(x->mean).arg(y->mean).arg(x->rms).arg(y->rms)));
            QVERIFY(near(x->least, y->least, 0.05) && near(x->most, y->most, 0.05));
        }
        // A curve over all of it: nothing is lost.
        const auto fine = all.columns(at(0), at(t), 50), coarse = thin.columns(at(0), at(t), 50);
        int alike = 0;
        for (std::size_t c = 0; c < 50; ++c) {
            QVERIFY(coarse[c].known);
            alike += near(coarse[c].least, fine[c].least, 0.1) && near(coarse[c].most, fine[c].most, 0.1) ? 1 : 0;
        }
        // A line may be cut in two where a column ends.
        QVERIFY2(alike >= 45, qPrintable(QString::number(alike)));
        // As fine at the beginning as at the end; what has just come is whole.
        thin.add(at(t), at(t + 1), [](Time) { return 2.5; }, true);
        const auto whole = thin.measure(std::max(thin.exactFrom(), at(t)), at(t + 1));
        QVERIFY(whole && near(whole->mean, 2.5, 1e-9));
    }

    // Mean 1, rms √(1 + 2²/2), period 1/f; 10 to 90 per cent of a sine's swing take 2·asin(0.8)/2π of its period.
    void aSineIsMeasured()
    {
        Waveform w;
        const auto sine = [](Time t) { return 1 + 2 * std::sin(2 * std::numbers::pi * 50 * bramix::kernel::seconds(t)); };
        for (int i = 0; i < 40; ++i)
            w.add(at(i * 5e-3), at((i + 1) * 5e-3), sine, false);
        const auto m = w.measure(at(0), at(0.2));
        QVERIFY(near(m->mean, 1, 1e-3));
        QVERIFY(near(m->rms, std::sqrt(3.0), 2e-3));
        QVERIFY(near(m->period.value_or(0), 0.02, 2e-6));
        QVERIFY(near(m->duty.value_or(0), 0.5, 1e-3));
        QVERIFY(near(m->rise.value_or(0), 0.02 * 2 * std::asin(0.8) / (2 * std::numbers::pi), 5e-5));
        for (double t = 0; t < 0.2; t += 0.00037)
            QVERIFY(near(w.at(at(t)).value_or(99), sine(at(t)), 2.5e-3));
        QVERIFY2(w.size() < 4000, qPrintable(QString::number(w.size())));
    }

    void anExponentialIsKeptWithinItsBound()
    {
        Waveform w;
        const auto e = [](Time t) { return 5 * -std::expm1(-bramix::kernel::seconds(t) / 1e-3); };
        w.add(at(0), at(10), e, false);  // ten thousand time constants in one piece
        for (double t = 0; t < 0.01; t += 1e-5)
            QVERIFY2(near(w.at(at(t)).value_or(99), e(at(t)), 5e-3), qPrintable(QString::number(t)));
    }

    void aPassingIsFoundWhereItIs()
    {
        Waveform w;
        w.add(at(0), at(1), [](Time t) { return bramix::kernel::seconds(t) * 10; }, false);
        const auto t = w.lastPassing(2.5, true, at(0), at(1));
        QVERIFY(t && near(bramix::kernel::seconds(*t), 0.25, 1e-9));
        QVERIFY(!w.lastPassing(2.5, false, at(0), at(1)));
        QVERIFY(!w.lastPassing(2.5, true, at(0.3), at(1)));
        QCOMPARE(w.firstPassing(2.5, true, at(0), at(1)), t);
        QVERIFY(!w.firstPassing(2.5, true, at(0.3), at(1)));
    }

    void columnsShowEveryExcursion()
    {
        Waveform w = pulses(0.5, 10);
        w.add(at(0.01), at(0.010000001), [](Time) { return 9.0; }, true);  // a nanosecond's spike
        w.add(at(0.010000001), at(0.02), [](Time) { return 0.0; }, true);
        const auto columns = w.columns(at(0), at(0.02), 100);
        QCOMPARE(columns.size(), 100U);
        QVERIFY(std::all_of(columns.begin(), columns.end(), [](const WaveColumn& c) { return c.known; }));
        QVERIFY(std::any_of(columns.begin(), columns.end(), [](const WaveColumn& c) { return c.most == 9.0; }));
        QCOMPARE(columns[1].most, 4.0);
        QVERIFY(!w.columns(at(1), at(2), 10)[3].known);
    }
};

QTEST_APPLESS_MAIN(WaveformTest)
#include "waveform_test.moc"
