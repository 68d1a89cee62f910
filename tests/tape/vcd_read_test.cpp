// Dumps read: those that Bramix writes come back as they were; others by the standard's own forms; wrong ones in one line; mangled ones do no harm.
#include <QtTest>

#include <QTemporaryDir>

#include "kernel/random.h"
#include "tape/vcd.h"
#include "tape/vcd_read.h"

using namespace bramix::tape;
using bramix::kernel::Random;

namespace {

const char* const kDump = "$date today $end\n$timescale 10 ns $end\n$scope module gate $end\n$var wire 1 ! open $end\n$var reg 4 \" level [3:0] $end\n$var real 64 # volts $end\n$scope module inner $end\n$var wire 1 $ clk $end\n$upscope $end\n$upscope $end\n"
                          "$enddefinitions $end\n$dumpvars\n0!\nbx \"\nr0.5 #\nz$\n$end\n#10\n1!\nb1010 \"\n#15 r2.5 #\nb1 \"\n1$\n#20\n0!\nbz \"\n";

// Edges of a signal as "ns:state".
QStringList edges(const Capture& capture, const char* name)
{
    QStringList out;
    const ChannelId id = capture.tape.find(name);
    for (std::size_t i = 0; id != UINT32_MAX && i < capture.tape.count(id); ++i)
        out << QString("%1:%2").arg(capture.tape.edge(id, i).at.time_since_epoch().count() / 1000).arg(capture.tape.edge(id, i).state);
    return out;
}

}  // namespace

class VcdReadTest : public QObject {
    Q_OBJECT

private slots:
    void theStandardsFormsAreRead()
    {
        const auto capture = parseVcd("dump", kDump);
        QVERIFY2(capture.has_value(), capture ? "" : capture.error().text().c_str());
        const Capture& c = **capture;
        QCOMPARE(c.names.size(), std::size_t{6});
        QCOMPARE(edges(c, "gate.open"), (QStringList{"0:0", "100:1", "200:0"}));
        QCOMPARE(edges(c, "gate.inner.clk"), (QStringList{"150:1"}));
        // 1010, then 0001, then all z; x before.
        QCOMPARE(edges(c, "gate.level[3]"), (QStringList{"0:3", "100:1", "150:0", "200:2"}));
        QCOMPARE(edges(c, "gate.level[0]"), (QStringList{"0:3", "100:0", "150:1", "200:2"}));
        QCOMPARE(c.end.time_since_epoch().count(), std::int64_t{200'000});
    }

    void whatBramixWritesComesBack()
    {
        QTemporaryDir folder;
        const std::string file = folder.filePath("t.vcd").toStdString();
        Random random(3);
        Tape tape;
        const ChannelId a = tape.channel("mcu.PB0"), b = tape.channel("mcu.PB1");
        auto writer = std::move(*VcdWriter::create(file, {"mcu.PB0", "mcu.PB1"}, {2, 2}));
        std::int64_t t = 0;
        std::array<State, 2> last{2, 2};
        for (int i = 0; i < 5000; ++i) {
            t += static_cast<std::int64_t>(random.below(1'000'000));
            const auto which = static_cast<std::size_t>(random.below(2));
            const auto state = static_cast<State>(random.below(3));
            writer->change(which, Time(Duration(t)), state);
            if (last[which] != state)
                tape.record(which == 0 ? a : b, {Time(Duration(t)), 0, 0, state});
            last[which] = state;
        }
        QVERIFY(writer->finish(Time(Duration(t))));
        const auto capture = readVcd(file);
        QVERIFY(capture.has_value());
        for (const auto& [id, name] : {std::pair(a, "mcu.PB0"), std::pair(b, "mcu.PB1")}) {
            const ChannelId read = (*capture)->tape.find(name);
            QCOMPARE((*capture)->tape.count(read), tape.count(id));
            for (std::size_t i = 0; i < tape.count(id); ++i)
                QVERIFY((*capture)->tape.edge(read, i).at == tape.edge(id, i).at && (*capture)->tape.edge(read, i).state == tape.edge(id, i).state);
        }
    }

    void whatIsWrongIsToldByItsLine_data()
    {
        QTest::addColumn<QString>("text");
        QTest::addColumn<QString>("says");
        QTest::newRow("nothing") << "" << "no signals";
        QTest::newRow("a code that nobody declared") << "$var wire 1 ! a $end\n#1\n1?\n" << "d:3: \"1?\"";
        QTest::newRow("time that goes back") << "$var wire 1 ! a $end\n#5\n1!\n#4\n0!\n" << "d:4: time #4";
        QTest::newRow("no time") << "$var wire 1 ! a $end\n#soon\n" << "d:2: \"#soon\"";
        QTest::newRow("a timescale") << "$timescale 1 week $end" << "d:1: timescale \"1week\"";
        QTest::newRow("a variable") << "$var wire $end" << "d:1: $var";
    }

    void whatIsWrongIsToldByItsLine()
    {
        QFETCH(QString, text);
        QFETCH(QString, says);
        const auto capture = parseVcd("d", text.toStdString());
        QVERIFY(!capture);
        QVERIFY2(QString::fromStdString(capture.error().text()).contains(says), capture.error().text().c_str());
    }

    void mangledDumpsDoNoHarm()
    {
        Random random(8);
        int read = 0;
        for (int round = 0; round < 3000; ++round) {
            std::string text = kDump;
            for (int n = static_cast<int>(random.below(6)); n >= 0; --n) {
                const std::size_t at = random.below(text.size());
                switch (random.below(3)) {
                case 0: text[at] = static_cast<char>(random.below(256)); break;
                case 1: text.erase(at, random.below(20)); break;
                default: text.insert(at, text.substr(random.below(text.size()), random.below(20)));
                }
                if (text.empty())
                    text = "x";
            }
            read += parseVcd("d", text).has_value() ? 1 : 0;
        }
        QVERIFY(read > 100);
    }
};

QTEST_GUILESS_MAIN(VcdReadTest)
#include "vcd_read_test.moc"
