// What live controls follow: curves against their own arithmetic, noise and drift against their spreads, files with faults in them, and the past, in
// which the same noise comes again.
#include <QtTest>

#include <cmath>

#include <QTemporaryDir>

#include "bench/document.h"
#include "bench/world.h"
#include "session/session.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;
using kernel::Time;

class FollowTest : public QObject {
    Q_OBJECT

    Catalogue catalogue_;
    QTemporaryDir folder_;

    std::unique_ptr<session::Session> open(const std::string& follow, QString* why = nullptr)
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"sky\"\nkind = \"light-sensor\"\nfollow = { light = " + follow + " }\n";
        auto document = parseDocument("sky.toml", text);
        if (document)
            if (const auto ok = checkDocument(*document, catalogue_, "sky.toml"); !ok)
                document = tl::unexpected(ok.error());
        if (!document) {
            if (why != nullptr)
                *why = QString::fromStdString(document.error().text());
            return nullptr;
        }
        session::SessionOptions options;
        options.folder = folder_.path().toStdString();
        options.historyBytes = 16U << 20U;
        auto s = session::Session::open(*document, catalogue_, options);
        if (!s && why != nullptr)
            *why = QString::fromStdString(s.error().text());
        return s ? std::move(*s) : nullptr;
    }

    static double light(session::Session& s, std::chrono::milliseconds at)
    {
        s.advance(Time(at));
        return s.world().control("sky", "light");
    }

private slots:
    void initTestCase()
    {
        auto loaded = Catalogue::loadInstalled();
        QVERIFY(loaded.has_value());
        catalogue_ = std::move(*loaded);
    }

    void aCurveIsStraightBetweenItsPoints()
    {
        const auto s = open("{ curve = [[1, 100], [3, 500]], every = 0.01 }");
        QVERIFY(s);
        QCOMPARE(light(*s, 500ms), 100.0);
        QVERIFY(std::abs(light(*s, 2000ms) - 300) < 1e-9);
        QVERIFY(std::abs(light(*s, 2505ms) - 400) < 1e-9);  // the step at 2.5 s
        QCOMPARE(light(*s, 4000ms), 500.0);
    }

    void aRepeatedCurveBeginsAgain()
    {
        const auto s = open("{ curve = [[0, 100], [2, 300]], repeat = true, every = 0.01 }");
        QVERIFY(s);
        QVERIFY(std::abs(light(*s, 1000ms) - 200) < 1e-9);
        QVERIFY(std::abs(light(*s, 5000ms) - 200) < 1e-9);
        QVERIFY(std::abs(light(*s, 4500ms + 2000ms) - 150) < 1e-9);
    }

    // 10 000 draws: mean within 5 standard errors, spread within 4 per cent.
    void noiseHasTheSpreadThatIsAskedFor()
    {
        const auto s = open("{ curve = [[0, 400]], noise = 5, every = 0.001 }");
        QVERIFY(s);
        double sum = 0, squares = 0;
        constexpr int kDraws = 10'000;
        for (int i = 1; i <= kDraws; ++i) {
            const double v = light(*s, std::chrono::milliseconds(i)) - 400;
            sum += v;
            squares += v * v;
        }
        QVERIFY(std::abs(sum / kDraws) < 5 * 5 / std::sqrt(kDraws));
        QVERIFY(std::abs(std::sqrt(squares / kDraws) - 5) < 0.2);
    }

    // A random walk: its spread grows with the root of time, and is the given one after a minute. 400 walks of different seeds.
    void driftHasItsSpreadAfterAMinute()
    {
        kernel::EventQueue queue;
        FollowItem item;
        item.drift = 3;
        item.every = 1;
        std::vector<double> last(400);
        std::vector<std::unique_ptr<Follower>> walks;
        for (std::size_t i = 0; i < last.size(); ++i)
            walks.push_back(std::make_unique<Follower>(queue, item, -1e6, 1e6, 0, kernel::Random(i + 1), [&last, i](double v) { last[i] = v; }));
        const auto spread = [&](std::chrono::seconds at) {
            queue.advanceTo(Time(at));
            double squares = 0;
            for (const double v : last)
                squares += v * v;
            return std::sqrt(squares / static_cast<double>(last.size()));
        };
        QVERIFY(std::abs(spread(15s) - 1.5) < 0.25);
        QVERIFY(std::abs(spread(60s) - 3) < 0.45);
    }

    void noiseLiesOnWhatAHandHasSet()
    {
        const auto s = open("{ noise = 1 }");
        QVERIFY(s);
        QVERIFY(s->setControl("sky", "light", 700).has_value());
        QVERIFY(std::abs(light(*s, 1000ms) - 700) < 8);
    }

    void thePastHasTheSameNoise()
    {
        const auto s = open("{ curve = [[0, 100], [2, 900]], noise = 20, drift = 50 }");
        QVERIFY(s);
        std::vector<double> first;
        for (int i = 1; i <= 50; ++i)
            first.push_back(light(*s, std::chrono::milliseconds(37 * i)));
        for (const int i : {49, 3, 20, 21, 0, 35}) {
            QVERIFY(s->goTo(Time(std::chrono::milliseconds(37 * (i + 1)))).has_value());
            QCOMPARE(s->world().control("sky", "light"), first[static_cast<std::size_t>(i)]);
        }
    }

    void aFileGivesTheCurve()
    {
        QFile file(folder_.filePath("day.csv"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write("time s,light lx\r\n0, 10\r\n# noon\r\n2; 510\r\n4\t10\r\n");
        file.close();
        const auto s = open("{ csv = \"day.csv\", every = 0.01 }");
        QVERIFY(s);
        QVERIFY(std::abs(light(*s, 1000ms) - 260) < 1e-9);
        QVERIFY(std::abs(light(*s, 3000ms) - 260) < 1e-9);
    }

    void faultsAreToldByTheirPlace_data()
    {
        QTest::addColumn<QString>("csv");
        QTest::addColumn<QString>("told");
        QTest::newRow("words") << "0,1\nnoon,2\n" << "line 2: \"noon,2\"; expected seconds and a value";
        QTest::newRow("one column") << "a,b\n7\n" << "line 2: \"7\"; expected seconds";
        QTest::newRow("backwards") << "0,1\n2,2\n1,3\n" << "line 3: 1 s does not come after";
        QTest::newRow("nothing") << "time,light\n" << "has no points";
        QTest::newRow("infinite") << "0,1\n1,inf\n" << "line 2:";
    }

    void faultsAreToldByTheirPlace()
    {
        QFETCH(QString, csv);
        QFETCH(QString, told);
        const auto curve = parseCurve("day.csv", csv.toStdString());
        QVERIFY(!curve);
        QVERIFY2(curve.error().text().find(told.toStdString()) != std::string::npos, curve.error().text().c_str());
    }

    void aBenchWithNonsenseIsRefused()
    {
        QString why;
        QVERIFY(open("{ curve = [[1, 2], [1, 3]] }", &why) == nullptr);
        QVERIFY2(why.contains("out of its order"), qPrintable(why));
        QVERIFY(open("{ noise = 1, every = 0 }", &why) == nullptr);
        QVERIFY2(why.contains("\"every\""), qPrintable(why));
        QVERIFY(open("{ csv = \"not-there.csv\" }", &why) == nullptr);
        QVERIFY2(why.contains("not-there.csv"), qPrintable(why));
        QVERIFY(open("{ curve = [[1]] }", &why) == nullptr);
        QVERIFY2(why.contains("pair of numbers"), qPrintable(why));
    }

    void theFileKeepsWhatIsFollowed()
    {
        const std::string text = "bramix = 1\ntitle = \"Sky\"\n\n[[part]]\nid = \"sky\"\nkind = \"light-sensor\"\nat = [0, 0]\nfollow = { light = { curve = [[0, 10], [2.5, 300]], repeat = true, noise = 0.5, drift = 2, every = 0.1 } }\n";
        const auto document = parseDocument("sky.toml", text);
        QVERIFY(document.has_value());
        QCOMPARE(QString::fromStdString(writeDocument(*document)), QString::fromStdString(text));
    }
};

QTEST_GUILESS_MAIN(FollowTest)
#include "follow_test.moc"
