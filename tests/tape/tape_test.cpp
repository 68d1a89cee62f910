// The tape and its export. The dump is read back by a small reader written from IEEE 1364, clause 18.
#include <QtTest>

#include <QTemporaryDir>

#include "kernel/random.h"
#include "tape/tape.h"
#include "tape/vcd.h"

using namespace bramix::tape;
using bramix::kernel::Random;

namespace {

Time at(std::int64_t ps) { return Time(Duration(ps)); }

// Changes by scoped name: "mcu.PB5" to (time, value).
struct Dump {
    std::map<QString, std::vector<std::pair<qint64, char>>> changes;
    QString timescale;
    bool ended = false;
};

Dump readDump(const QString& file)
{
    Dump dump;
    QFile in(file);
    if (!in.open(QIODevice::ReadOnly))
        return dump;
    std::map<QString, QString> names;
    QStringList scopes;
    qint64 now = 0;
    const QStringList tokens = QString::fromLatin1(in.readAll()).split(QRegularExpression("\\s+"), Qt::SkipEmptyParts);
    for (qsizetype i = 0; i < tokens.size(); ++i) {
        const QString& t = tokens[i];
        const auto toEnd = [&] {
            QStringList words;
            while (tokens[++i] != "$end")
                words << tokens[i];
            return words;
        };
        if (t == "$timescale")
            dump.timescale = toEnd().join(" ");
        else if (t == "$scope")
            scopes << toEnd()[1];
        else if (t == "$upscope")
            toEnd(), scopes.removeLast();
        else if (t == "$var") {
            const QStringList words = toEnd();
            names[words[2]] = scopes.join(".") + "." + words[3];
        } else if (t == "$version" || t == "$enddefinitions")
            toEnd();
        else if (t.startsWith('#'))
            now = t.mid(1).toLongLong();
        else if (!t.startsWith('$'))
            dump.changes[names.at(t.mid(1))].emplace_back(now, t[0].toLatin1());
    }
    dump.ended = true;
    return dump;
}

}  // namespace

class TapeTest : public QObject {
    Q_OBJECT

private slots:
    void findsStatesAndEdgesAtAnyTime()
    {
        Tape tape;
        const ChannelId c = tape.channel("mcu.PB2");
        QCOMPARE(tape.channel("mcu.PB2"), c);
        QCOMPARE(tape.find("none"), UINT32_MAX);
        std::vector<std::pair<std::int64_t, State>> truth;
        Random random(3);
        std::int64_t t = 10;
        for (int i = 0; i < 9000; ++i) {
            const auto state = static_cast<State>(random.below(3));
            tape.record(c, {at(t), static_cast<std::uint32_t>(i), 0, state});
            truth.emplace_back(t, state);
            t += static_cast<std::int64_t>(random.below(5));
        }
        QCOMPARE(tape.count(c), 9000U);
        QCOMPARE(tape.stateAt(c, at(5)), 2);
        for (int probe = 0; probe < 500; ++probe) {
            const auto when = static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>(t)));
            std::size_t after = 0;
            State state = 2;
            while (after < truth.size() && truth[after].first <= when)
                state = truth[after++].second;
            QCOMPARE(tape.after(c, at(when)), after);
            QCOMPARE(tape.stateAt(c, at(when)), state);
        }
        // Columns count each edge once, whatever their width.
        for (const std::size_t n : {1U, 7U, 100U, 1000U}) {
            std::size_t sum = 0;
            for (const Column& column : tape.columns(c, at(0), at(t), n))
                sum += column.edges;
            QCOMPARE(sum, 9000U);
        }
    }

    // Times and code that do not recur, so that they take their room.
    void forgetsTheOldestWhenItsBoundIsReached()
    {
        constexpr std::size_t kBound = 300'000;
        Tape tape(kBound);
        const ChannelId fast = tape.channel("fast");
        const ChannelId slow = tape.channel("slow");
        Random random(5);
        tape.record(slow, {at(1), 0, 0, 1});
        std::int64_t t = 0;
        for (std::size_t i = 0; i < 100 * Tape::kChunkEdges; ++i)
            tape.record(fast, {at(t += 1 + static_cast<std::int64_t>(random.below(1'000'000))), static_cast<std::uint32_t>(random.below(100'000)), 0, static_cast<State>(i & 1)});
        QVERIFY(tape.bytes() <= kBound + 40'000);
        QVERIFY(tape.count(fast) < 60 * Tape::kChunkEdges && tape.count(fast) > 2 * Tape::kChunkEdges);
        QCOMPARE(tape.stateAt(slow, at(100)), 1);
        QVERIFY(tape.knownFrom() > at(0));
        QCOMPARE(tape.edge(fast, tape.count(fast) - 1).at, at(t));
        // What is left is whole: the state before the first edge left is that of the last one gone.
        QCOMPARE(tape.stateAt(fast, tape.edge(fast, 0).at - Duration(1)), static_cast<State>(1 - tape.edge(fast, 0).state));
    }

    // Cut anywhere, in packed chunks too, and written on from there: as if the rest had never been.
    void timeGoesOnFromWhereItWasCut()
    {
        Random random(9);
        const auto edge = [&](std::size_t i) { return Edge{at(static_cast<std::int64_t>(i) * 10), static_cast<std::uint32_t>(i % 7), 0, static_cast<State>(i & 1)}; };
        for (const std::size_t keep : {std::size_t{0}, std::size_t{1}, Tape::kChunkEdges - 1, Tape::kChunkEdges, Tape::kChunkEdges + 1, 3 * Tape::kChunkEdges, 3 * Tape::kChunkEdges + 777, 5 * Tape::kChunkEdges}) {
            Tape tape;
            const ChannelId c = tape.channel("a");
            for (std::size_t i = 0; i < 5 * Tape::kChunkEdges; ++i)
                tape.record(c, edge(i));
            QCOMPARE(tape.edge(c, 4000).at, edge(4000).at);
            tape.dropAfter(keep == 0 ? at(-1) : edge(keep - 1).at);
            QCOMPARE(tape.count(c), keep);
            for (std::size_t i = 0; i < 3 * Tape::kChunkEdges; ++i)
                tape.record(c, {at(static_cast<std::int64_t>(keep * 10 + i * 3)), 99, 1, static_cast<State>(i % 3)});
            QCOMPARE(tape.count(c), keep + 3 * Tape::kChunkEdges);
            for (int probe = 0; probe < 300; ++probe) {
                const std::size_t i = random.below(tape.count(c));
                QVERIFY(tape.edge(c, i) == (i < keep ? edge(i) : Edge{at(static_cast<std::int64_t>(keep * 10 + (i - keep) * 3)), 99, 1, static_cast<State>((i - keep) % 3)}));
            }
        }
    }

    void theDumpReadsBackAsItWasWritten()
    {
        QTemporaryDir folder;
        const QString file = folder.filePath("lock.vcd");
        std::vector<std::string> names{"mcu.PB5", "GND"};
        for (int i = 0; i < 120; ++i)  // more than one character of identifier
            names.push_back("part" + std::to_string(i) + ".1");
        auto writer = VcdWriter::create(file.toStdString(), names, std::vector<State>(names.size(), 2));
        QVERIFY(writer.has_value());
        std::map<QString, std::vector<std::pair<qint64, char>>> expected;
        const auto full = [&](std::size_t i) { return QString::fromStdString(i == 1 ? "nets.GND" : names[i]); };
        for (std::size_t i = 0; i < names.size(); ++i)
            expected[full(i)].emplace_back(0, 'z');
        Random random(1);
        std::int64_t t = 0;
        constexpr char kValues[] = {'0', '1', 'z', 'x', 'x'};
        for (int i = 0; i < 5000; ++i) {
            t += static_cast<std::int64_t>(random.below(3) * 62'500);
            const std::size_t signal = random.below(names.size());
            const auto state = static_cast<State>(random.below(5));
            (*writer)->change(signal, at(t), state);
            if (expected[full(signal)].back().second != kValues[state])
                expected[full(signal)].emplace_back(t, kValues[state]);
        }
        QVERIFY((*writer)->finish(at(t + 1)));
        const Dump dump = readDump(file);
        QCOMPARE(dump.timescale, "1 ps");
        QVERIFY(dump.changes == expected);
        const auto refused = VcdWriter::create("/proc/none.vcd", names, std::vector<State>(names.size(), 2));
        QVERIFY(!refused);
        QVERIFY(refused.error().text().starts_with("/proc/none.vcd: cannot be written"));
    }

    void aSmallerBoundForgetsTheOldestAtOnce()
    {
        Tape tape;
        const ChannelId c = tape.channel("a");
        for (int i = 0; i < 100'000; ++i)
            tape.record(c, {Time(Duration(i * 1000LL)), static_cast<std::uint32_t>(i % 700), 0, static_cast<State>(i % 2)});
        const std::size_t before = tape.bytes();
        tape.setBound(before / 2);
        QVERIFY(tape.bytes() <= before / 2 && tape.count(c) < 60'000 && tape.count(c) > 20'000);
        QCOMPARE(tape.edge(c, tape.count(c) - 1).at, Time(Duration(99'999'000LL)));
        QCOMPARE(tape.edge(c, 0).at, tape.knownFrom() + Duration(1000));
        // It goes on.
        tape.record(c, {Time(Duration(200'000'000LL)), 0, 0, 1});
        QCOMPARE(tape.edge(c, tape.count(c) - 1).state, State{1});
    }
};

QTEST_APPLESS_MAIN(TapeTest)
#include "tape_test.moc"
