// A value over time against the plain row of its changes.
#include <QtTest>

#include "kernel/random.h"
#include "tape/value_log.h"

using namespace bramix::tape;
using bramix::kernel::Random;

namespace {

struct Change {
    Time at{};
    double value = 0;
};

std::vector<Change> changes(std::size_t count, std::uint64_t seed)
{
    std::vector<Change> out;
    Random random(seed, "values");
    Time t(Duration(5'000'000));
    double value = 0;
    while (out.size() < count) {
        value += static_cast<double>(random.below(201)) - 100;
        out.push_back({t, value});
        t += Duration(1 + static_cast<std::int64_t>(random.below(random.below(50) == 0 ? 900'000'000 : 9'000'000)));
    }
    return out;
}

}  // namespace

class ValueLogTest : public QObject {
    Q_OBJECT

private slots:
    void columnsHaveLeastAndMost_data()
    {
        QTest::addColumn<int>("count");
        QTest::newRow("each is kept") << 5000;
        QTest::newRow("most are put together") << 60'000;
    }
    void columnsHaveLeastAndMost()
    {
        QFETCH(int, count);
        constexpr std::size_t kMost = 6000;
        const auto truth = changes(static_cast<std::size_t>(count), 1);
        ValueLog log(kMost);
        for (const Change& c : truth) {
            log.change(c.at, c.value, 0);
            QVERIFY(log.entries().size() <= kMost);
        }
        std::uint64_t told = 0;
        for (const auto& e : log.entries())
            told += e.changes;
        QCOMPARE(told, static_cast<std::uint64_t>(count));
        const bool exact = log.entries().size() == truth.size();
        Random random(2, "windows");
        const Time end = truth.back().at + Duration(1000);
        for (int i = 0; i < 200; ++i) {
            const Time from(Duration(static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>((end - Time{}).count())))) - Duration(3'000'000));
            const Time to = from + Duration(1 + static_cast<std::int64_t>(random.below(20'000'000'000)));
            const std::size_t width = 1 + random.below(300);
            const auto columns = log.columns(from, to, width, end);
            QCOMPARE(columns.size(), width);
            for (std::size_t c = 0; c < width; ++c) {
                const auto edge = [&](std::size_t n) { return from + Duration(static_cast<std::int64_t>(static_cast<__int128>((to - from).count()) * static_cast<std::int64_t>(n) / static_cast<std::int64_t>(width))); };
                const Time a = edge(c), b = edge(c + 1);
                auto next = std::partition_point(truth.begin(), truth.end(), [a](const Change& x) { return x.at <= a; });
                double least = 1e300, most = -1e300;
                if (next != truth.begin()) {
                    least = most = std::prev(next)->value;
                }
                for (auto x = next; x != truth.end() && x->at < b; ++x) {
                    least = std::min(least, x->value);
                    most = std::max(most, x->value);
                }
                const bool known = least <= most && a < end;
                QCOMPARE(columns[c].known, known);
                if (!known)
                    continue;
                // Never less than was; exactly that where each change is kept.
                QVERIFY(columns[c].least <= least && columns[c].most >= most);
                if (exact)
                    QVERIFY(columns[c].least == least && columns[c].most == most);
            }
        }
        // Over all, least and most are exact however much was put together.
        const auto whole = log.columns(truth.front().at, end, 1, end);
        const auto [low, high] = std::minmax_element(truth.begin(), truth.end(), [](const Change& x, const Change& y) { return x.value < y.value; });
        QVERIFY(whole[0].least == low->value && whole[0].most == high->value && whole[0].last == truth.back().value && whole[0].first == truth.front().value);
    }

    // However often it had to be put together, it is about as fine at its beginning as at its end, and what came alone stands alone.
    void itIsAsFineAtTheBeginningAsAtTheEnd()
    {
        ValueLog log(4000);
        Random random(5, "fine");
        Time t{};
        for (int i = 0; i < 500'000; ++i) {
            t += Duration(1 + static_cast<std::int64_t>(random.below(2'000'000)));
            log.change(t, i, 0);
            if (i % 50'000 == 0)
                t += Duration(50'000'000'000);
        }
        QVERIFY(log.entries().size() <= 4000 && log.entries().size() > 1000);
        const Time half = Time(t.time_since_epoch() / 2);
        const auto early = static_cast<double>(log.between(Time{}, half).second), late = static_cast<double>(log.entries().size()) - early;
        QVERIFY2(early > late / 2 && late > early / 2, qPrintable(QString("%1 %2").arg(early).arg(late)));
        // The changes after which it stood for a while.
        for (int i = 50'001; i < 500'000; i += 50'000) {
            const auto entry = std::find_if(log.entries().begin(), log.entries().end(), [i](const auto& e) { return e.last == i - 1; });
            QVERIFY(entry != log.entries().end() && entry->changes == 1 && entry->first == i - 1);
        }
        for (std::size_t i = 0; i + 1 < log.entries().size(); ++i)
            QVERIFY(log.entries()[i].changes == 1 || log.entries()[i + 1].from - log.entries()[i].from <= log.grain());
    }

    // Where there was no value none is told; what is put together with one that was tells that one.
    void forSomeOfTheTimeThereIsNone()
    {
        ValueLog log(100);
        const auto at = [](std::int64_t n) { return Time(Duration(n * 1000)); };
        log.end(at(0));
        log.change(at(10), 5, 5);
        log.change(at(20), 7, 7);
        log.end(at(30));
        log.change(at(80), 6, 6);
        auto columns = log.columns(at(0), at(100), 10, at(100));
        for (std::size_t c = 0; c < 10; ++c)
            QCOMPARE(columns[c].known, c == 1 || c == 2 || c >= 8);
        QVERIFY(columns[1].most == 5 && columns[2].least == 7);
        QVERIFY(!log.entries()[3].any && log.entries()[2].any);
        for (std::int64_t i = 90; i < 1000; i += 10) {
            log.end(at(i));
            log.change(at(i + 5), static_cast<double>(i), 0);
        }
        QVERIFY(log.entries().size() <= 100);
        columns = log.columns(at(0), at(1000), 1, at(1000));
        QVERIFY(columns[0].known && columns[0].first == 5 && columns[0].least == 5 && columns[0].most == 990 && columns[0].last == 990);
        columns = log.columns(at(32), at(78), 3, at(1000));
        QVERIFY(!columns[1].known);
    }

    void aChangeIsTakenBackOrTakesAnothersPlace()
    {
        ValueLog log;
        QVERIFY(!log.takeBack());
        log.change(Time(Duration(10)), 1, 1);
        log.change(Time(Duration(10)), 2, 2);
        QCOMPARE(log.entries().size(), std::size_t{1});
        QVERIFY(log.entries()[0].first == 2 && log.entries()[0].raw == 2);
        log.change(Time(Duration(20)), 3, 3);
        QVERIFY(log.takeBack());
        QCOMPARE(log.entries().size(), std::size_t{1});
        log.change(Time(Duration(30)), 4, 4);
        const auto counts = log.changes(Time(Duration(0)), Time(Duration(40)), 4);
        QVERIFY((counts == std::vector<std::uint32_t>{0, 1, 0, 1}));
    }
};

QTEST_APPLESS_MAIN(ValueLogTest)
#include "value_log_test.moc"
