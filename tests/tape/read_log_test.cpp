// What a log of read items gives back, finds and forgets, against the plain row of items that it was given.
#include <QtTest>

#include "kernel/random.h"
#include "tape/read_log.h"

using namespace bramix::tape;
using bramix::kernel::Random;

namespace {

// Items as a bus with transfers makes them, as a line of pulses does, and of every kind and order.
std::vector<Decoded> items(const QString& habit, std::size_t count, std::uint64_t seed)
{
    std::vector<Decoded> out;
    Random random(seed, "items");
    std::int64_t t = 1'000'000;
    const auto at = [](std::int64_t ps) { return Time(Duration(ps)); };
    while (out.size() < count) {
        if (habit == "bus") {
            out.push_back({at(t), at(t), "start", 0, "start"});
            const std::int64_t begin = t;
            for (int i = 0; i < 5; ++i, t += 25'000'000) {
                const std::uint64_t value = random.below(256);
                out.push_back({at(t), at(t + 22'500'000), i == 0 ? "address" : "byte", value, QString("0x%1, ack").arg(value, 2, 16, QChar('0')).toStdString()});
            }
            // Known at the end, and begun before the others.
            out.push_back({at(begin), at(t), "command", 4, "COMMAND 4", true, true});
            if (random.below(50) == 0)
                out.push_back({at(t), at(t + 1'000'000), "incomplete", 3, "3 of 9 bits", false});
            t += 62'500 * static_cast<std::int64_t>(random.below(1000));
        } else if (habit == "pulses") {
            out.push_back({at(t), at(t + 2'500'000), "period", 2500, "400 kHz, 25.00 %"});
            t += 2'500'000;
        } else {
            const auto from = t + static_cast<std::int64_t>(random.below(1'000'000'000)) - 500'000'000;
            std::string text;
            for (std::uint64_t i = random.below(40); i > 0; --i)
                text += static_cast<char>('a' + random.below(26));
            out.push_back({at(std::max<std::int64_t>(from, 0)), at(std::max<std::int64_t>(from, 0) + static_cast<std::int64_t>(random.below(3'000'000'000))), random.below(2) == 0 ? "byte" : "step", random.below(2) == 0 ? random.below(4) : ~random.below(1000), text, random.below(9) != 0, random.below(5) == 0});
            t += static_cast<std::int64_t>(random.below(2'000'000));
        }
    }
    out.resize(count);
    return out;
}

}  // namespace

class ReadLogTest : public QObject {
    Q_OBJECT

private:
    static void same(const ReadLog& log, const std::vector<Decoded>& truth)
    {
        QCOMPARE(log.end(), static_cast<std::uint64_t>(truth.size()));
        for (std::uint64_t i = log.first(); i < log.end(); ++i)
            QVERIFY2(log.item(i) == truth[i], qPrintable(QString::number(i)));
    }

private slots:
    void whatIsAddedComesBack_data()
    {
        QTest::addColumn<double>("mostBytes");  // an item
        QTest::newRow("bus") << 7.5;
        QTest::newRow("pulses") << 2.5;
        QTest::newRow("wild") << 60.0;
    }

    void whatIsAddedComesBack()
    {
        QFETCH(double, mostBytes);
        const auto truth = items(QTest::currentDataTag(), 40'001, 3);
        ReadLog log;
        for (const Decoded& d : truth)
            log.add(d);
        same(log, truth);
        QCOMPARE(log.chunks(), std::size_t{9});
        ReadLog whole;
        for (std::size_t i = 0; i <= 8 * ReadLog::kChunkItems; ++i)
            whole.add(truth[i]);
        QVERIFY2(static_cast<double>(whole.bytes()) / (8 * ReadLog::kChunkItems) < mostBytes, qPrintable(QString::number(static_cast<double>(whole.bytes()) / (8 * ReadLog::kChunkItems))));
    }

    void whatOverlapsLiesAround_data() { whatIsAddedComesBack_data(); }

    void whatOverlapsLiesAround()
    {
        const auto truth = items(QTest::currentDataTag(), 30'000, 4);
        ReadLog log;
        for (const Decoded& d : truth)
            log.add(d);
        Random random(5, "windows");
        for (int n = 0; n < 300; ++n) {
            const Decoded& d = truth[random.below(truth.size())];
            const Time from = d.from - Duration(static_cast<std::int64_t>(random.below(10'000'000))), to = from + Duration(static_cast<std::int64_t>(random.below(1'000'000'000)));
            const auto [begin, end] = log.around(from, to);
            std::vector<Time> stands;
            for (std::size_t i = 0; i < truth.size(); ++i) {
                const bool inside = truth[i].from <= to && truth[i].to >= from;
                QVERIFY(!inside || (i >= begin && i < end));
                if (inside && !truth[i].good)
                    stands.push_back(truth[i].from);
            }
            QVERIFY(log.outstanding(from, to, SIZE_MAX) == stands);
            std::size_t i = 0, visited = 0;
            QVERIFY(log.visit(from, to, [&](const Decoded& d) {
                while (i < truth.size() && !(truth[i].from <= to && truth[i].to >= from))
                    ++i;
                visited += i < truth.size() && truth[i] == d ? 1 : 0;
                ++i;
                return true;
            }));
            QCOMPARE(visited, static_cast<std::size_t>(std::count_if(truth.begin(), truth.end(), [&](const Decoded& t) { return t.from <= to && t.to >= from; })));
            // A few are told, and one of each chunk that has some: nothing is kept back.
            QCOMPARE(log.outstanding(from, to, 1).empty(), stands.empty());
        }
        // Not the whole of it: a short window is a few chunks.
        if (QByteArray(QTest::currentDataTag()) != "wild") {
            const auto [begin, end] = log.around(truth[14000].from, truth[14000].from);
            QVERIFY(end - begin <= 2 * ReadLog::kChunkItems);
        }
    }

    void rowsAreFoundBothWays_data() { whatIsAddedComesBack_data(); }

    // Held against looking at every item.
    void rowsAreFoundBothWays()
    {
        const auto truth = items(QTest::currentDataTag(), 9'000, 6);
        ReadLog log;
        for (const Decoded& d : truth)
            log.add(d);
        Random random(7, "rows");
        const ReadLog::Classify codes = [](const ReadLog::Word& w) { return w.meaning || w.what == "start" ? -1 : static_cast<int>(w.value & 0xFF); };
        const auto code = [&](const Decoded& d) { return codes({d.what, d.value, d.text, d.good, d.meaning}); };
        int found = 0;
        for (int n = 0; n < 400; ++n) {
            // Bytes that stand somewhere, or that do not; here and there over the edge of a chunk.
            std::vector<int> row;
            const std::size_t length = 1 + random.below(3);
            for (std::size_t i = n % 4 == 0 ? 4095 - random.below(3) : random.below(truth.size()); i < truth.size() && row.size() < length; ++i)
                if (code(truth[i]) >= 0)
                    row.push_back(n % 5 == 4 ? static_cast<int>(random.below(256)) : code(truth[i]));
            if (row.size() < length)
                continue;
            const Time from = truth[random.below(truth.size())].from;
            for (const bool forward : {true, false}) {
                std::optional<Time> nearest;
                for (std::size_t i = 0; i < truth.size(); ++i) {
                    if (code(truth[i]) != row[0] || (forward ? truth[i].from <= from : truth[i].from >= from))
                        continue;
                    std::size_t have = 1;
                    for (std::size_t j = i + 1; j < truth.size() && have < length; ++j)
                        if (const int c = code(truth[j]); c >= 0) {
                            if (c != row[have])
                                break;
                            ++have;
                        }
                    if (have == length && (!nearest || (forward ? truth[i].from < *nearest : truth[i].from > *nearest)))
                        nearest = truth[i].from;
                }
                const auto hit = log.find(from, forward, row, codes);
                QCOMPARE(hit.has_value(), nearest.has_value());
                QVERIFY(!hit || (hit->at == *nearest && truth[hit->number].from == hit->at && code(truth[hit->number]) == row[0]));
                found += hit ? 1 : 0;
            }
        }
        QVERIFY(found > 300);
    }

    // Forgotten at the front, dropped at the end, gone on with.
    void itIsCutAndGoesOn_data() { whatIsAddedComesBack_data(); }

    void itIsCutAndGoesOn()
    {
        const QString habit = QTest::currentDataTag();
        auto truth = items(habit, 60'000, 8);
        ReadLog log;
        for (const Decoded& d : truth)
            log.add(d);
        Random random(9, "cuts");
        for (int n = 0; n < 12; ++n) {
            if (n == 4 || n == 7) {
                log.forgetOldest();
                QCOMPARE(log.first(), static_cast<std::uint64_t>(ReadLog::kChunkItems * (n == 4 ? 1 : 2)));
                for (std::size_t i = 0; i < log.first(); ++i)
                    QVERIFY(truth[i].from <= log.forgottenTo());
            }
            const std::size_t keep = log.first() + random.below(log.end() - log.first());
            truth.resize(keep);
            log.dropFrom(keep);
            same(log, truth);
            for (const Decoded& d : items(habit, 1 + random.below(18000), 10 + static_cast<std::uint64_t>(n))) {
                truth.push_back(d);
                log.add(d);
            }
            same(log, truth);
            const auto [begin, end] = log.around(truth.back().from, truth.back().to);
            QVERIFY(begin < truth.size() && end == truth.size());
        }
        log.dropFrom(0);
        QCOMPARE(log.first(), log.end());
        log.clear();
        QVERIFY(log.end() == 0 && log.bytes() == 0 && !log.find(Time{}, true, {1}, [](const auto&) { return 1; }));
    }
};

QTEST_GUILESS_MAIN(ReadLogTest)
#include "read_log_test.moc"
