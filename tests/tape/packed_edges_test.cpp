// Packed edges against the plain array that they were made of, for lines of every habit.
#include <QtTest>

#include "kernel/random.h"
#include "tape/measure.h"
#include "tape/packed_edges.h"
#include "tape/tape.h"

using namespace bramix::tape;
using bramix::kernel::Random;
using namespace std::chrono_literals;

namespace {

std::vector<Edge> line(const QString& habit)
{
    std::vector<Edge> out;
    Random random(11);
    std::int64_t t = 5'000'000;
    for (std::size_t i = 0; i < PackedEdges::kEdges; ++i) {
        Edge e;
        e.state = static_cast<State>(i & 1);
        if (habit == "toggles") {
            t += 250'000;
            e.code = i & 1 ? 0x104 : 0x108;
            e.actor = 3;
        } else if (habit == "serial") {  // bits of 104.16 µs, written by two places
            t += 104'160'000 * (1 + static_cast<std::int64_t>(random.below(8)));
            e.code = random.below(2) == 0 ? 0x2F0 : 0x31A;
            e.actor = 0;
        } else if (habit == "clocked") {  // any number of clocks
            t += 62'500 * static_cast<std::int64_t>(1 + random.below(100'000));
            e.code = static_cast<std::uint32_t>(random.below(40) * 2);
            e.actor = 1;
        } else if (habit == "wild") {
            t += static_cast<std::int64_t>(random.below(1'000'000'000'000ULL));
            e.code = static_cast<std::uint32_t>(random.below(1U << 17U));
            e.actor = static_cast<std::uint16_t>(random.below(300));
            e.state = static_cast<State>(random.below(5));
        } else {  // at one instant
            e.code = UINT32_MAX;
            e.actor = UINT16_MAX;
        }
        e.at = Time(Duration(t));
        out.push_back(e);
    }
    return out;
}

}  // namespace

class PackedEdgesTest : public QObject {
    Q_OBJECT

private slots:
    void whatIsPackedComesBack_data()
    {
        QTest::addColumn<std::size_t>("mostBytes");
        QTest::newRow("toggles") << std::size_t{900};
        QTest::newRow("serial") << std::size_t{2048 + 1200};
        QTest::newRow("clocked") << std::size_t{2048 * 5};
        QTest::newRow("wild") << std::size_t{2048 * 28};
        QTest::newRow("at once") << std::size_t{900};
    }

    void whatIsPackedComesBack()
    {
        QFETCH(std::size_t, mostBytes);
        const std::vector<Edge> edges = line(QTest::currentDataTag());
        const PackedEdges packed(edges, edges[0].at - Duration(1000), 1);
        QVERIFY2(packed.bytes() <= mostBytes, qPrintable(QString::number(packed.bytes())));
        std::array<Edge, PackedEdges::kBlock> block;
        Widths truth;
        Time before = edges[0].at - Duration(1000);
        State state = 1;
        for (std::size_t b = 0; b < PackedEdges::kEdges / PackedEdges::kBlock; ++b) {
            packed.block(b, block);
            for (std::size_t i = 0; i < PackedEdges::kBlock; ++i) {
                const Edge& e = edges[b * PackedEdges::kBlock + i];
                QVERIFY(block[i] == e);
                if (state <= 1) {
                    truth.shortest[state] = std::min(truth.shortest[state], e.at - before);
                    truth.longest[state] = std::max(truth.longest[state], e.at - before);
                }
                before = e.at;
                state = e.state;
            }
        }
        QCOMPARE(packed.firstAt(), edges.front().at);
        QCOMPARE(packed.lastAt(), edges.back().at);
        QCOMPARE(packed.last(), edges.back().state);
        QVERIFY(packed.widths().shortest == truth.shortest && packed.widths().longest == truth.longest);
        QCOMPARE(packed.blockOf(edges[0].at - Duration(1)), std::size_t{0});
        if (edges.front().at != edges.back().at) {
            QCOMPARE(packed.blockOf(edges[700].at), std::size_t{700 / PackedEdges::kBlock});
            QCOMPARE(packed.blockOf(edges.back().at + Duration(5)), PackedEdges::kEdges / PackedEdges::kBlock - 1);
        }
    }

    // One short high among a hundred thousand, and one long low.
    void theOddPulseIsFound()
    {
        Tape tape;
        const ChannelId c = tape.channel("a");
        std::int64_t t = 0;
        std::int64_t shortAt = 0, longAt = 0;
        for (int i = 0; i < 200'000; ++i) {
            const bool high = (i & 1) == 0;
            tape.record(c, {Time(Duration(t)), 0, 0, static_cast<State>(high ? 1 : 0)});
            std::int64_t length = 1'000'000;
            if (i == 150'002) {
                length = 300'000;
                shortAt = t;
            } else if (i == 170'001) {
                length = 9'000'000;
                longAt = t;
            }
            t += length;
        }
        const std::size_t odd = tape.findPulse(c, Time{}, 1, 500ns, Duration::max());
        QVERIFY(odd > 0 && odd < tape.count(c));
        QCOMPARE(tape.edge(c, odd - 1).at, Time(Duration(shortAt)));
        const std::size_t longer = tape.findPulse(c, Time{}, 0, Duration::min(), 5us);
        QCOMPARE(tape.edge(c, longer - 1).at, Time(Duration(longAt)));
        QCOMPARE(tape.findPulse(c, Time(Duration(t)), 1, 500ns, Duration::max()), tape.count(c));
        QCOMPARE(tape.findPulse(c, Time{}, 1, 100ns, Duration::max()), tape.count(c));
    }

    // A square wave of 1 kHz and 30 per cent with every tenth period 20 µs longer; then what looks like 9600 baud.
    void pulsesAreMeasured()
    {
        Tape tape;
        const ChannelId c = tape.channel("pwm");
        std::int64_t t = 0;
        for (int i = 0; i < 100; ++i) {
            tape.record(c, {Time(Duration(t)), 0, 0, 1});
            tape.record(c, {Time(Duration(t + 300'000'000)), 0, 0, 0});
            t += i % 10 == 9 ? 1'020'000'000 : 1'000'000'000;
        }
        const PulseMeasures m = measurePulses(tape, c, Time{}, Time(Duration(t)));
        QCOMPARE(m.rises, std::size_t{100});
        QCOMPARE(m.falls, std::size_t{100});
        QCOMPARE(m.period.count, std::size_t{99});
        QVERIFY(std::fabs(m.period.least - 1e-3) < 1e-15 && std::fabs(m.period.most - 1.02e-3) < 1e-15);
        QVERIFY(std::fabs(m.period.mean - (99e-3 + 9 * 20e-6) / 99) < 1e-12);
        const double mean = 9.0 / 99 * 20e-6, variance = (9.0 * (20e-6 - mean) * (20e-6 - mean) + 90.0 * mean * mean) / 99;
        QVERIFY(std::fabs(m.period.deviation - std::sqrt(variance)) < 1e-12);
        QVERIFY(std::fabs(m.high.mean - 300e-6) < 1e-15);
        QVERIFY(m.duty && std::fabs(*m.duty - 99 * 300e-6 / (99e-3 + 9 * 20e-6)) < 1e-9);
        QCOMPARE(m.histogram.front(), 90U);
        QCOMPARE(m.histogram.back(), 9U);
        // Text at 9600 baud: "Lock", each character with start and stop bit.
        const ChannelId u = tape.channel("uart");
        tape.record(u, {Time(Duration(1)), 0, 0, 1});
        std::int64_t at = 1'000'000'000;
        const std::int64_t bit = 1'000'000'000'000 / 9600;
        int level = 1;
        for (const char ch : {'L', 'o', 'c', 'k'})
            for (int b = 0; b < 10; ++b) {
                const int next = b == 0 ? 0 : b == 9 ? 1 : ch >> (b - 1) & 1;
                if (next != level)
                    tape.record(u, {Time(Duration(at)), 0, 0, static_cast<State>(next)});
                level = next;
                at += bit;
            }
        const PulseMeasures s = measurePulses(tape, u, Time(Duration(2)), Time(Duration(at)));
        QVERIFY(s.baud && std::fabs(*s.baud - 9600) < 1);
        QVERIFY(!m.baud);
    }
};

QTEST_GUILESS_MAIN(PackedEdgesTest)
#include "packed_edges_test.moc"
