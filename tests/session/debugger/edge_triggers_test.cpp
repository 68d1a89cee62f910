// Triggers on lines: pulses, patterns, sequences and what decoders read, alone and as stops of a running bench.
#include <QtTest>

#include "session/debugger/edge_triggers.h"
#include "session/debugger/debugger.h"

using namespace bramix;
using namespace bramix::session;
using bench::NetState;
using kernel::Duration;
using kernel::Time;
using namespace std::chrono_literals;

namespace {

const std::vector<std::string> kPins{"a.1", "a.2", "a.3"};

kernel::Result<bench::PinRef> pinOf(const std::string& name)
{
    if (std::find(kPins.begin(), kPins.end(), name) == kPins.end())
        return kernel::fail(name, "is no pin of this bench");
    return bench::parsePinRef(name);
}

// Edges of pins 1 to 3 as "1+ 2- 3+", a microsecond apart unless "@5" sets the time in microseconds; gives the instants at which the trigger has come.
QStringList comes(const std::string& trigger, const QString& edges)
{
    const auto made = parseTrigger(trigger, pinOf);
    if (!made || *made == nullptr)
        qFatal("%s", made ? "no trigger" : made.error().text().c_str());
    EdgeTrigger& t = **made;
    t.begin(std::vector<NetState>(t.pins().size(), NetState::low), Time{});
    QStringList out;
    int us = 0;
    for (const QString& word : edges.split(' ')) {
        if (word.startsWith('@')) {
            us = word.mid(1).toInt();
            continue;
        }
        const std::string pin = "a." + word.left(1).toStdString();
        for (std::size_t i = 0; i < t.pins().size(); ++i)
            if (t.pins()[i].text() == pin) {
                if (t.edge(i, word.endsWith('+') ? NetState::high : NetState::low, Time(std::chrono::microseconds(us))))
                    out << QString::number(us);
                break;
            }
        ++us;
    }
    return out;
}

}  // namespace

class EdgeTriggersTest : public QObject {
    Q_OBJECT

private slots:
    void theyComeWhereTheyShould_data()
    {
        QTest::addColumn<QString>("trigger");
        QTest::addColumn<QString>("edges");
        QTest::addColumn<QStringList>("at");
        const auto row = [](const char* trigger, const char* edges, const QStringList& at) { QTest::newRow(trigger) << trigger << edges << at; };
        row("pulse a.1 high < 5us", "1+ @4 1- @20 1+ @26 1- @30 1+ @34 1-", {"4", "34"});
        row("pulse a.1 low > 8us", "@10 1+ @12 1- @25 1+ @26 1- @30 1+", {"25"});
        row("pulse a.1 < 3us", "1+ @10 1- @12 1+ @14 1-", {"12", "14"});
        row("pattern a.1=1 a.2=0 a.3=1", "1+ 3+ 2+ 2- 1- 1+", {"1", "3", "5"});
        row("sequence rise a.1, fall a.2, rise a.3", "2+ 1+ 2- 3+ 3- 3+ 1- 1+ 2+ 3- 3+ 2- 3- 3+", {"3", "13"});
        row("sequence rise a.1, rise a.2 within 5us", "1+ @10 2+ @20 1+ @24 2- 2+", {"25"});
        row("sequence rise a.1, fall a.1, rise a.2", "1+ 1- 2+ 2- 1+ 2+ 1- 2- 2+", {"2", "8"});
    }

    void theyComeWhereTheyShould()
    {
        QFETCH(QString, trigger);
        QFETCH(QString, edges);
        QFETCH(QStringList, at);
        QCOMPARE(comes(trigger.toStdString(), edges), at);
    }

    void whatIsWrongIsSaid()
    {
        for (const char* wrong : {"pulse", "pulse a.1", "pulse a.1 high", "pulse a.9 < 5us", "pulse a.1 < soon", "pattern", "pattern a.1", "pattern a.1=2", "sequence rise a.1", "sequence a.1, a.2", "sequence rise a.1, fall a.2 within never",
                                  "reads", "reads i2c:SDA=a.1,SCL=a.2", "reads a.1 \"x\"", "reads i2c:SDA=a.1,SCL=a.9 \"x\""}) {
            const auto made = parseTrigger(wrong, pinOf);
            QVERIFY2(!made && !made.error().text().empty(), wrong);
        }
        const auto other = parseTrigger("rise a.1", pinOf);
        QVERIFY(other && *other == nullptr);
    }

    // On the tide clock: the first byte that its display does not acknowledge never comes, the first address does, at its last bit.
    void aBusStopsTheBench()
    {
        const bench::Catalogue catalogue = *bench::Catalogue::loadInstalled();
        const std::string folder = bench::shareFolder() + "/benches/tide-clock";
        SessionOptions options;
        options.folder = folder;
        options.historyBytes = 64U << 20U;
        auto session = std::move(*Session::open(*bench::loadDocument(folder + "/bench.toml"), catalogue, options));
        Debugger debugger(*session);
        bench::StopItem stop;
        stop.at = "reads i2c:SDA=mcu.PC4,SCL=mcu.PC5 \"0x27 write, ack\"";
        bench::StopItem spoken;
        spoken.at = "pulse mcu.PC5 low > 1us";
        spoken.say = "slow";
        debugger.setStops({stop, spoken});
        debugger.begin();
        QVERIFY(debugger.advance(Time(100ms)));
        QVERIFY2(debugger.report().text.find("0x27 write, ack") != std::string::npos, debugger.report().text.c_str());
        // Nine bits of some 2.5 µs after the start at 21.049 ms.
        QVERIFY2(session->world().now() > Time(21'070us) && session->world().now() < Time(21'080us), qPrintable(QString::number(kernel::seconds(session->world().now()), 'f', 9)));
        // What only speaks has left its marks.
        const auto marks = debugger.takeMarks();
        QVERIFY(!marks.empty() && marks[0].second == "slow" && marks[0].first > Time(21ms));
        QCOMPARE(marks.size(), debugger.takeLog().size());
    }
};

QTEST_GUILESS_MAIN(EdgeTriggersTest)
#include "edge_triggers_test.moc"
