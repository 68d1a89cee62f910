// Every decoder on lines that say nothing sensible: edges at random, slow and fast, at the very same instant, with lines that start anywhere. What it says lies in what
// it has heard, is in order, and a copy made in the midst of it goes on as the first one does.
#include <QtTest>

#include <cmath>

#include "kernel/random.h"
#include "tape/decode.h"

using namespace bramix::tape;

class BrokenLinesTest : public QObject {
    Q_OBJECT

private slots:
    void randomEdges_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<unsigned>("seed");
        QVERIFY(decoderKinds().size() >= 10);
        for (const DecoderKind& kind : decoderKinds())
            for (unsigned seed = 1; seed <= 12; ++seed)
                QTest::addRow("%s %u", kind.name.c_str(), seed) << QString::fromStdString(kind.name) << seed;
    }
    void randomEdges()
    {
        QFETCH(QString, kind);
        QFETCH(unsigned, seed);
        const auto known = std::find_if(decoderKinds().begin(), decoderKinds().end(), [&](const DecoderKind& k) { return k.name == kind.toStdString(); });
        auto made = makeDecoder(known->name, {});
        QVERIFY2(made.has_value(), made ? "" : made.error().text().c_str());
        std::unique_ptr<Decoder> decoder = std::move(*made), copy;
        std::vector<Decoded> said, copySaid;
        Time now{}, lastFrom{};
        std::size_t saidBefore = 0;
        bool inOrder = true, within = true;
        decoder->out = [&](const Decoded& d) {
            // A character is given out in the middle of its stop bit, of ten.
            within = within && d.from <= d.to && d.from >= Time{} && d.to - now <= (d.to - d.from) / 18;
            inOrder = inOrder && d.to >= lastFrom && (d.what != "baud" || d.value <= 100'000'000);
            lastFrom = d.from;
            said.push_back(d);
        };
        bramix::kernel::Random random(seed);
        std::vector<bool> levels(known->roles.size(), true);
        // The usual lengths of protocols, so that a frame comes together now and then, and anything between a picosecond and ten milliseconds.
        constexpr std::array<double, 12> kUsual{350e-9, 800e-9, 1.25e-6, 2.5e-6, 8.68e-6, 26e-6, 50e-6, 70e-6, 104.17e-6, 480e-6, 1.5e-3, 18e-3};
        const double usual = kUsual[random.below(kUsual.size())];
        for (int i = 0; i < 6000; ++i) {
            double seconds = 0;
            switch (random.below(4)) {
            case 0: seconds = usual; break;
            case 1: seconds = usual * static_cast<double>(1 + random.below(12)); break;
            case 2: seconds = random.below(20) == 0 ? 0 : kUsual[random.below(kUsual.size())]; break;
            default: seconds = std::pow(10.0, -12 + 10.0 * static_cast<double>(random.below(1000)) / 1000); break;
            }
            now += Duration(static_cast<std::int64_t>(seconds * 1e12));
            const std::size_t role = random.below(levels.size());
            levels[role] = !levels[role];
            decoder->edge(role, levels[role], now);
            if (copy != nullptr)
                copy->edge(role, levels[role], now);
            if (i == 3000) {
                copy = decoder->copy();
                copy->out = [&](const Decoded& d) { copySaid.push_back(d); };
                saidBefore = said.size();
            }
        }
        now += std::chrono::seconds(1);
        decoder->finish(now);
        copy->finish(now);
        QVERIFY(within);
        QVERIFY(inOrder);
        QCOMPARE(copySaid, std::vector<Decoded>(said.begin() + static_cast<std::ptrdiff_t>(saidBefore), said.end()));
        for (const Decoded& d : said) {
            QVERIFY(!d.what.empty());
            QVERIFY2(d.text.size() < 400, d.text.c_str());
            QVERIFY2(d.text.find("nan") == std::string::npos && d.text.find("inf") == std::string::npos, d.text.c_str());
            QVERIFY2(QString::fromUtf8(d.text.data(), static_cast<qsizetype>(d.text.size())).toUtf8() == QByteArray(d.text.data(), static_cast<qsizetype>(d.text.size())), "its text is not UTF-8");
        }
    }
};

QTEST_GUILESS_MAIN(BrokenLinesTest)
#include "broken_lines_test.moc"
