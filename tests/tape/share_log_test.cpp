// Columns of shares against adding up the plain row of stretches that was given.
#include <QtTest>

#include <map>

#include "kernel/archive.h"
#include "kernel/random.h"
#include "tape/share_log.h"

using namespace bramix::tape;
using bramix::kernel::Random;

namespace {

using Stretch = ShareLog::Stretch;

std::vector<Stretch> stretches(std::size_t count, std::uint64_t seed)
{
    std::vector<Stretch> out;
    Random random(seed, "shares");
    Time t{};
    while (out.size() < count) {
        if (random.below(40) == 0)
            t += Duration(static_cast<std::int64_t>(random.below(3'000'000'000)));
        Stretch s;
        s.from = t;
        t += Duration(random.below(20) == 0 ? 1 + static_cast<std::int64_t>(random.below(9'000'000'000)) : 500'000'000);
        s.to = t;
        // Cycles of a clock that changes in the middle.
        std::int64_t left = (s.to - s.from).count() / (out.size() < count / 2 ? 1000 : 2000) + 1;
        std::uint16_t id = 0;
        for (std::uint64_t i = random.below(5); left > 0; i -= i > 0 ? 1 : 0) {
            id = static_cast<std::uint16_t>(id + 1 + random.below(random.below(6) == 0 ? 300 : 4));
            const std::int64_t part = i == 0 ? left : 1 + static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>(left)));
            s.shares.push_back({id, part});
            left -= part;
        }
        out.push_back(std::move(s));
    }
    return out;
}

using Sums = std::map<std::pair<std::uint32_t, std::uint16_t>, double>;

Sums plainly(const std::vector<Stretch>& all, Time from, Time to, std::size_t columns)
{
    Sums out;
    const double width = static_cast<double>((to - from).count()) / static_cast<double>(columns);
    for (const Stretch& s : all) {
        double sum = 0;
        for (const auto& share : s.shares)
            sum += static_cast<double>(share.amount);
        const double a = static_cast<double>((s.from - from).count()), b = static_cast<double>((s.to - from).count());
        for (auto c = static_cast<std::int64_t>(std::max(0.0, a / width)); c < static_cast<std::int64_t>(columns) && static_cast<double>(c) * width < b; ++c)
            if (const double part = std::min(b, static_cast<double>(c + 1) * width) - std::max(a, static_cast<double>(c) * width); part > 0)
                for (const auto& share : s.shares)
                    out[{static_cast<std::uint32_t>(c), share.id}] += part * static_cast<double>(share.amount) / sum;
    }
    return out;
}

// The greatest difference, in picoseconds. Each stretch may be rounded by one.
double differs(const std::vector<ShareLog::Part>& parts, Sums sums)
{
    double most = 0;
    for (const auto& p : parts)
        sums[{p.column, p.id}] -= static_cast<double>(p.time.count());
    for (const auto& [key, left] : sums)
        most = std::max(most, std::fabs(left));
    return most;
}

}  // namespace

class ShareLogTest : public QObject {
    Q_OBJECT

private slots:
    void columnsAddUpWhatWasGiven()
    {
        const std::vector<Stretch> all = stretches(5000, 1);
        ShareLog log;
        for (const Stretch& s : all)
            log.add(s);
        log.add(all[3000]);  // told again
        QCOMPARE(log.count(), std::uint64_t{5000});
        QVERIFY(log.begin() == all.front().from && log.end() == all.back().to);
        Random random(2, "windows");
        for (int i = 0; i < 300; ++i) {
            const std::int64_t whole = (log.end() - Time{}).count();
            const Time from(Duration(static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>(whole)))) - Duration(whole / 10));
            const Time to = from + Duration(1 + static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>(i % 3 == 0 ? whole : 20'000'000'000))));
            const std::size_t columns = 1 + random.below(900);
            const auto parts = log.columns(from, to, columns, {});
            QVERIFY(std::is_sorted(parts.begin(), parts.end(), [](const auto& a, const auto& b) { return std::pair(a.column, a.id) < std::pair(b.column, b.id); }));
            const double off = differs(parts, plainly(all, from, to, columns));
            QVERIFY2(off < 6000, qPrintable(QString("window %1: %2 ps").arg(i).arg(off)));  // roundings of up to five thousand stretches
        }
        // One that is not complete counts where it lies.
        const Stretch open{log.end(), log.end() + Duration(1000), {{7, 10}}};
        const auto parts = log.columns(log.end() - Duration(1), open.to, 1, {open});
        QVERIFY(std::any_of(parts.begin(), parts.end(), [](const auto& p) { return p.id == 7 && p.time == Duration(1000); }));
    }

    void whatIsDroppedCanBeGivenAnew()
    {
        const std::vector<Stretch> all = stretches(1000, 3);
        Random random(4, "drops");
        for (int i = 0; i < 40; ++i) {
            ShareLog log;
            for (const Stretch& s : all)
                log.add(s);
            const std::size_t at = random.below(all.size());
            const Time t = all[at].from + Duration(static_cast<std::int64_t>(random.below(400'000'000)));
            log.dropAfter(t);
            std::vector<Stretch> kept;
            for (const Stretch& s : all)
                if (s.to <= t)
                    kept.push_back(s);
            QVERIFY(kept.empty() ? log.empty() : log.end() == kept.back().to);
            QVERIFY(differs(log.columns(Time{}, all.back().to, 50, {}), plainly(kept, Time{}, all.back().to, 50)) < 2000);
            for (const Stretch& s : all)
                log.add(s);
            QVERIFY(differs(log.columns(Time{}, all.back().to, 333, {}), plainly(all, Time{}, all.back().to, 333)) < 2000);
        }
    }

    void beyondItsBoundTheOldestAreSumsAndThenForgotten()
    {
        const std::vector<Stretch> all = stretches(40'000, 5);
        ShareLog log;
        log.setBound(300'000);
        for (const Stretch& s : all) {
            log.add(s);
            QVERIFY(log.bytes() <= 300'000);
        }
        QVERIFY(log.begin() > all.front().from);
        // All that is known is there still, only not when exactly within some tens of stretches.
        std::vector<Stretch> known;
        for (const Stretch& s : all)
            if (s.from >= log.begin())
                known.push_back(s);
        QVERIFY(known.size() > 10'000);
        const auto sums = plainly(known, log.begin(), log.end(), 1);
        QVERIFY(differs(log.columns(log.begin(), log.end(), 1, {}), sums) < 50'000);
        const auto parts = log.columns(log.begin(), log.end(), 20, {});
        double all20 = 0;
        for (const auto& p : parts)
            all20 += static_cast<double>(p.time.count());
        double all1 = 0;
        for (const auto& [key, time] : sums)
            all1 += time;
        QVERIFY(std::fabs(all20 - all1) < 100'000);
    }

    void aRecordingHasItWhole()
    {
        ShareLog log;
        for (const Stretch& s : stretches(700, 6))
            log.add(s);
        bramix::kernel::SaveArchive save;
        save(log);
        const auto snapshot = save.take();
        bramix::kernel::LoadArchive load(snapshot);
        ShareLog read;
        load(read);
        QVERIFY(load.atEnd());
        const Stretch next{log.end(), log.end() + Duration(500'000'000), {{1, 1}}};
        for (ShareLog* l : {&log, &read})
            l->add(next);
        const auto a = log.columns(Time{}, log.end(), 500, {}), b = read.columns(Time{}, log.end(), 500, {});
        QCOMPARE(a.size(), b.size());
        for (std::size_t i = 0; i < a.size(); ++i)
            QVERIFY(a[i].column == b[i].column && a[i].id == b[i].id && a[i].time == b[i].time);
    }
};

QTEST_APPLESS_MAIN(ShareLogTest)
#include "share_log_test.moc"
