// Why edges came, on firmware whose source says it.
#include <QtTest>

#include "session/lanes/edge_story.h"
#include "session/keeper_bench.h"
#include "session/lanes/tape_search.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Time;

namespace {

const char* const kLamps = R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <util/delay.h>
__attribute__((noinline)) void lamp(uint8_t on)
{
    if (on)
        PORTB |= 2; /* on */
    else
        PORTB &= ~2; /* off */
}
__attribute__((noinline)) void keeper(void)
{
    lamp(1); /* from keeper */
    _delay_us(200);
    lamp(0);
    _delay_us(100);
}
ISR(TIMER0_OVF_vect) { PORTB ^= 4; /* tick */ }
int main(void)
{
    DDRB = 6;
    TIMSK0 = 1;
    TCCR0B = 3;
    sei();
    for (;;)
        keeper(); /* from main */
}
)";

}  // namespace

class EdgeStoryTest : public QObject {
    Q_OBJECT

private:
    KeeperBench bench_;

    static QString joined(const EdgeStory& story)
    {
        QStringList out;
        for (const std::string& line : story.lines)
            out << QString::fromStdString(line);
        return out.join(" | ");
    }
    static Time edgeOf(const Session& s, const char* pin, tape::State state, std::size_t from)
    {
        const tape::ChannelId c = s.channelOf({"mcu", pin});
        for (std::size_t i = from; i < s.tape().count(c); ++i)
            if (s.tape().edge(c, i).state == state)
                return s.tape().edge(c, i).at;
        return {};
    }
    static QString at(const char* text) { return QString("keeper.c:%1").arg(lineOf(kLamps, text)); }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QVERIFY(bench_.build({"-gdwarf-4", "-Os", "-DF_CPU=16000000UL"}, kLamps));
    }

    void codeHasItsLineAndItsCallers()
    {
        const auto s = bench_.open();
        s->advance(Time(20ms));
        Lookback look(*s, bench_.catalogue);
        const auto before = stateOf(*s);
        const EdgeStory rise = storyOf(*s, look, {"mcu", "PB1"}, edgeOf(*s, "PB1", 1, 9));
        QCOMPARE(QString::fromStdString(rise.place), at("/* on */"));
        QVERIFY2(joined(rise).contains("by mcu: lamp, " + at("/* on */")) && joined(rise).contains("called from keeper, " + at("/* from keeper */")) && joined(rise).contains("called from main, " + at("/* from main */")), qPrintable(joined(rise)));
        const EdgeStory fall = storyOf(*s, look, {"mcu", "PB1"}, edgeOf(*s, "PB1", 0, 9));
        QCOMPARE(QString::fromStdString(fall.place), at("/* off */"));
        const EdgeStory tick = storyOf(*s, look, {"mcu", "PB2"}, edgeOf(*s, "PB2", 1, 3));
        QVERIFY2(joined(tick).contains("interrupt TIMER0_OVF in"), qPrintable(joined(tick)));
        QVERIFY(stateOf(*s) == before);
        QCOMPARE(joined(storyOf(*s, look, {"mcu", "PB1"}, Time(12345us) + 1ns)), QString("no edge there"));
    }

    void aPartHasWhatMovedIt()
    {
        const auto s = bench_.open("[[part]]\nid = \"bell\"\nkind = \"push-button\"\n[[wire]]\nends = [\"bell.1\", \"mcu.PC2\"]\n[[wire]]\nends = [\"bell.2\", \"mcu.5V\"]\n[[part]]\nid = \"pull\"\nkind = \"resistor\"\nset = { resistance = \"10k\" }\n"
                                   "[[wire]]\nends = [\"pull.1\", \"mcu.PC2\"]\n[[wire]]\nends = [\"pull.2\", \"mcu.GND\"]\n");
        QVERIFY(s != nullptr);
        s->advance(Time(5ms));
        QVERIFY(s->setControl("bell", "pressed", 1).has_value());
        s->advance(Time(20ms));
        Lookback look(*s, bench_.catalogue);
        const EdgeStory story = storyOf(*s, look, {"mcu", "PC2"}, edgeOf(*s, "PC2", 1, 0));
        QVERIFY2(joined(story).startsWith("by bell") && joined(story).contains("its contact touches") && joined(story).contains("bell.pressed was set to 1"), qPrintable(joined(story)));
        QVERIFY(story.place.empty());
    }

    // What a part puts on a bus, it says as the decoder reads it, which knows nothing of parts.
    void aPartSaysWhyInItsOwnWords()
    {
        const std::string file = bench::shareFolder() + "/benches/tide-clock/bench.toml";
        const auto document = bench::loadDocument(file);
        QVERIFY(document.has_value());
        auto s = session::Session::open(*document, bench_.catalogue, {.folder = std::filesystem::path(file).parent_path().string(), .historyBytes = 64U << 20U});
        QVERIFY(s.has_value());
        (*s)->advance(Time(45ms));
        Lookback look(**s, bench_.catalogue);
        const auto read = readAll(**s, "i2c:SDA=mcu.PC4,SCL=mcu.PC5", Time{}, Time(45ms), SIZE_MAX);
        QVERIFY(read.has_value());
        const tape::ChannelId data = (*s)->channelOf({"mcu", "PC4"});
        int acknowledged = 0, sent = 0;
        bool reads = false;
        for (std::size_t i = 0; i < read->size(); ++i) {
            const tape::Decoded& item = (*read)[i];
            if (item.what == "address")
                reads = item.text.find("read") != std::string::npos;
            if ((item.what != "address" && item.what != "byte") || (acknowledged >= 12 && !reads))
                continue;
            for (std::size_t e = (*s)->tape().after(data, item.from); e < (*s)->tape().count(data) && (*s)->tape().edge(data, e).at < item.to; ++e) {
                const tape::Edge edge = (*s)->tape().edge(data, e);
                if (edge.code != UINT32_MAX || (*s)->document().parts[edge.actor].id == "mcu")
                    continue;
                const QString told = joined(storyOf(**s, look, {"mcu", "PC4"}, edge.at));
                const QString number = QString("0x%1").arg(item.value, 2, 16, QChar('0')).toUpper().replace("0X", "0x");
                QVERIFY2(told.contains(number), qPrintable(told + " in " + item.text.c_str()));
                acknowledged += told.contains("acknowledges") ? 1 : 0;
                sent += told.contains("it sends") ? 1 : 0;
            }
        }
        QVERIFY2(acknowledged >= 12 && sent >= 8, qPrintable(QString("%1 %2").arg(acknowledged).arg(sent)));
    }

    // A timer's output moves while whatever code runs; a port's bit moves by the code. At 16 MHz with OCR1A = 99 and no prescaler the pin toggles every 6.25 µs.
    void aPeripheralIsToldFromTheCodeThatRanMeanwhile()
    {
        KeeperBench timer;
        QVERIFY(timer.build({"-gdwarf-4", "-Os", "-DF_CPU=16000000UL"}, "#include <avr/io.h>\nint main(void)\n{\n    DDRB = 0x22;\n    OCR1A = 99;\n    TCCR1A = 0x40;\n    TCCR1B = 0x09;\n    for (;;)\n        PINB = 0x20; /* the other pin */\n}\n"));
        const auto s = timer.open();
        s->advance(Time(2ms));
        Lookback look(*s, bench_.catalogue);
        const auto told = [&](const char* pin) { return joined(storyOf(*s, look, {"mcu", pin}, edgeOf(*s, pin, 1, 50))); };
        QVERIFY2(told("PB1").startsWith("by mcu: its OC1A | its compare register set by main, keeper.c:5 | while it ran main, "), qPrintable(told("PB1")));
        QVERIFY2(told("PB5").startsWith("by mcu: main, keeper.c:9"), qPrintable(told("PB5")));
    }

    // 'A' is 0x41: a start bit, then 1 0 0 0 0 0 1 0, least first, and a stop bit.
    void aSerialLineNamesItsBits()
    {
        const auto s = bench_.open();
        s->advance(Time(5ms));
        s->send(0, "A");
        s->advance(Time(10ms));
        Lookback look(*s, bench_.catalogue);
        const tape::ChannelId line = s->channelOf({"mcu", "PD0"});
        QStringList told;
        for (std::size_t i = s->tape().after(line, Time(5ms) - 1ns); i < s->tape().count(line); ++i)
            told << joined(storyOf(*s, look, {"mcu", "PD0"}, s->tape().edge(line, i).at));
        const QStringList expected{"the start bit of 0x41, 'A'", "bit 0 of 0x41", "bit 1 of 0x41", "bit 6 of 0x41", "bit 7 of 0x41", "the stop bit of 0x41"};
        QVERIFY2(told.size() >= 6, qPrintable(told.join("\n")));
        for (qsizetype i = 0; i < expected.size(); ++i)
            QVERIFY2(told[told.size() - 6 + i].contains(expected[i]), qPrintable(told.join("\n")));
    }

    // How often each line ran is known by the tape's own edges: each call of lamp(1) is a rise, each lamp(0) a fall.
    void aLineHasItsEdges()
    {
        const auto s = bench_.open();
        s->advance(Time(400ms));
        const tape::ChannelId c = s->channelOf({"mcu", "PB1"});
        std::size_t rises = 0;
        for (std::size_t i = 0; i < s->tape().count(c); ++i)
            rises += s->tape().edge(c, i).state == 1 ? 1 : 0;
        QVERIFY(s->tape().count(c) > 2100);  // a packed chunk
        const auto made = edgesMadeBy(*s, codeOfLine(*s, at("/* on */").toStdString()), SIZE_MAX);
        QCOMPARE(made.size(), std::size_t{1});
        QCOMPARE(made[0].count, rises);
        const auto both = edgesMadeBy(*s, codeOfLine(*s, "lamp"), SIZE_MAX);
        QVERIFY(both.size() == 1 && both[0].count >= 2 * rises - 1);
        QVERIFY(codeOfLine(*s, "keeper.c:9999").empty() && codeOfLine(*s, "nobody").empty());
        // Searched for, forward and back, one after the other.
        const auto first = searchTape(*s, {"by " + at("/* on */").toStdString(), {}, {}, Time{}, true});
        QVERIFY(first && *first && (*first)->at == edgeOf(*s, "PB1", 1, 0));
        const auto second = searchTape(*s, {"by " + at("/* on */").toStdString(), {}, {}, (*first)->at, true});
        QVERIFY(second && *second && (*second)->at > (*first)->at);
        const auto back = searchTape(*s, {"by " + at("/* on */").toStdString(), {}, {}, (*second)->at, false});
        QVERIFY(back && *back && (*back)->at == (*first)->at);
        QVERIFY(!searchTape(*s, {"by nobody", {}, {}, Time{}, true}));
    }
};

QTEST_GUILESS_MAIN(EdgeStoryTest)
#include "edge_story_test.moc"
