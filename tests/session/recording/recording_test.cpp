// A run saved in one file and opened again: everything on it is there, and it runs on as it ran.
#include <QtTest>

#include <filesystem>

#include "session/keeper_bench.h"
#include "bench/edit.h"
#include "session/recording/recording.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Time;

namespace {

// Says where the gates stand, over and over; remembers in its EEPROM how often it was started.
const char* const kTalker = R"(#include <avr/io.h>
#include <avr/eeprom.h>
#include <avr/interrupt.h>
#include <stdint.h>
uint8_t EEMEM starts = 41;
volatile uint16_t ticks;
ISR(TIMER1_COMPA_vect) { ticks++; PORTB ^= 1; }
int main(void)
{
    eeprom_update_byte(&starts, eeprom_read_byte(&starts) + 1);
    DDRB = 3;
    UBRR0 = 8;
    UCSR0B = 1 << TXEN0;
    OCR1A = 159;
    TCCR1B = (1 << WGM12) | (1 << CS10);
    TIMSK1 = 1 << OCIE1A;
    sei();
    for (;;) {
        while (!(UCSR0A & (1 << UDRE0))) {}
        UDR0 = PIND & 4 ? 'o' : 'c';
        PORTB ^= 2;
    }
}
)";

}  // namespace

class RecordingTest : public QObject {
    Q_OBJECT

private:
    KeeperBench bench_;
    QTemporaryDir out_;

    [[nodiscard]] std::string file(const char* name) const { return out_.filePath(name).toStdString(); }

    std::unique_ptr<Session> reopen(const std::string& from)
    {
        auto recording = readRecording(from);
        if (!recording)
            qFatal("%s", recording.error().text().c_str());
        const std::string folder = file("unpacked");
        const auto bench = unpackBench(*recording, folder);
        if (!bench)
            qFatal("%s", bench.error().text().c_str());
        SessionOptions options;
        options.folder = folder;
        options.historyBytes = 64U << 20U;
        options.seed = recording->seed;
        auto session = Session::open(*bench::loadDocument(*bench), bench_.catalogue, options);
        if (!session)
            qFatal("%s", session.error().text().c_str());
        (*session)->adopt(std::move(*recording));
        return std::move(*session);
    }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QVERIFY(bench_.build({"-gdwarf-4", "-Os"}, kTalker));
    }

    void everythingIsThereAgainAndRunsOnTheSame()
    {
        const char* const gate = "[[part]]\nid = \"gate\"\nkind = \"slide-switch\"\n[[wire]]\nends = [\"mcu.PD2\", \"gate.C\"]\n[[wire]]\nends = [\"gate.A\", \"mcu.GND\"]\n[[wire]]\nends = [\"gate.B\", \"mcu.5V\"]\n";
        const auto s = bench_.open(gate);
        QVERIFY(s != nullptr);
        s->setProbes({{"mcu", "PB0"}});
        s->advance(Time(20ms));
        QVERIFY2(s->setControl("gate", "position", 1), "the switch");
        s->poke(0, debug::Space::data, 0x25, 3);
        s->advance(Time(60ms));
        QVERIFY(s->tape().count(s->channelOf({"mcu", "PB0"})) > 4096);  // packed chunks, and one that is open
        const auto at60 = stateOf(*s);
        const auto saved = s->saveRecording(file("run.bramix-run"), {{Time(5ms), "the gate is shut"}});
        QVERIFY2(saved, saved ? "" : saved.error().text().c_str());

        // The same run is the same file, to the byte.
        QVERIFY(s->saveRecording(file("again.bramix-run"), {{Time(5ms), "the gate is shut"}}).has_value());
        QFile one(QString::fromStdString(file("run.bramix-run"))), two(QString::fromStdString(file("again.bramix-run")));
        QVERIFY(one.open(QIODevice::ReadOnly) && two.open(QIODevice::ReadOnly) && one.readAll() == two.readAll());

        const auto r = reopen(file("run.bramix-run"));
        QCOMPARE(r->world().now(), Time{});
        QCOMPARE(r->latest(), s->latest());
        QCOMPARE(r->inputs().size(), std::size_t{2});
        for (tape::ChannelId c = 0; c < s->tape().channelCount(); ++c) {
            const tape::ChannelId other = r->tape().find(s->tape().name(c));
            QVERIFY(other != UINT32_MAX);
            QCOMPARE(r->tape().count(other), s->tape().count(c));
            for (std::size_t i = 0; i < s->tape().count(c); ++i)
                if (!(r->tape().edge(other, i) == s->tape().edge(c, i)))
                    QFAIL(qPrintable(QString("edge %1 of %2").arg(i).arg(s->tape().name(c).c_str())));
        }
        QCOMPARE(r->serialLog().end() - r->serialLog().first(), s->serialLog().end() - s->serialLog().first());
        for (std::uint64_t i = 0; i < s->serialLog().end(); ++i)
            QVERIFY(r->serialLog()[r->serialLog().first() + i].byte == s->serialLog()[i].byte && r->serialLog()[r->serialLog().first() + i].at == s->serialLog()[i].at);
        QCOMPARE(r->findings().size(), s->findings().size());
        QCOMPARE(r->waveform({"mcu", "PB0"})->size(), s->waveform({"mcu", "PB0"})->size());
        // What did an edge: from the tape alone.
        const tape::ChannelId pb0 = r->channelOf({"mcu", "PB0"});
        QVERIFY(QString::fromStdString(r->place("mcu", r->tape().edge(pb0, 5000).code).brief()).startsWith("keeper.c:"));
        // To its end, and it is the same board there, bit for bit; with the inputs that it had.
        QVERIFY(r->goTo(Time(60ms)).has_value());
        QVERIFY(stateOf(*r) == at60);
        QCOMPARE(r->tape().count(pb0), s->tape().count(s->channelOf({"mcu", "PB0"})));
        // And on: both take the same course.
        s->advance(Time(70ms));
        r->advance(Time(70ms));
        QVERIFY(stateOf(*r) == stateOf(*s));
        QCOMPARE(r->tape().count(pb0), s->tape().count(s->channelOf({"mcu", "PB0"})));
    }

    void oneMadeAcrossAChangeCanOnlyBeLookedAt()
    {
        const auto s = bench_.open();
        s->advance(Time(5ms));
        bench::Document changed = s->document();
        bench::addPart(changed, *bench_.catalogue.find("led"), {40, 0});
        QVERIFY(s->edit(changed).has_value());
        s->advance(Time(8ms));
        QVERIFY(s->saveRecording(file("changed.bramix-run")).has_value());
        const auto r = reopen(file("changed.bramix-run"));
        const std::size_t edges = r->tape().count(r->channelOf({"mcu", "PB0"}));
        QVERIFY(edges > 100);
        QVERIFY(!r->goTo(Time(4ms)).has_value());
        QCOMPARE(r->tape().count(r->channelOf({"mcu", "PB0"})), edges);
        // Run, it is a new run.
        r->advance(Time(1ms));
        QVERIFY(r->tape().count(r->channelOf({"mcu", "PB0"})) < edges / 2);
        QCOMPARE(r->latest(), r->world().now());
    }

    void whatIsNoWholeRecordingSaysSo()
    {
        const auto s = bench_.open();
        s->advance(Time(2ms));
        QVERIFY(s->saveRecording(file("good.bramix-run")).has_value());
        QFile good(QString::fromStdString(file("good.bramix-run")));
        QVERIFY(good.open(QIODevice::ReadOnly));
        const QByteArray bytes = good.readAll();
        const auto trouble = [&](const QByteArray& content) {
            QFile bad(QString::fromStdString(file("bad.bramix-run")));
            if (!bad.open(QIODevice::WriteOnly))
                return QString();
            bad.write(content);
            bad.close();
            const auto r = readRecording(file("bad.bramix-run"));
            return r ? QString("taken") : QString::fromStdString(r.error().text());
        };
        QCOMPARE(trouble(bytes), QString("taken"));
        QByteArray flipped = bytes;
        flipped[bytes.size() / 2] = static_cast<char>(flipped[bytes.size() / 2] ^ 4);
        QVERIFY(trouble(flipped).contains("damaged"));
        QVERIFY(trouble(bytes.left(bytes.size() - 7)).contains("not whole"));
        QVERIFY(trouble(bytes + "x").contains("not whole"));
        QVERIFY(trouble("bramix = 1\n").contains("no recording"));
        QVERIFY(trouble({}).contains("no recording"));
        QVERIFY(trouble(QByteArray(bytes).replace("recording 3", "recording 2")).contains("another version"));
        QVERIFY(!readRecording(file("nowhere")).has_value());
        QVERIFY(!s->saveRecording("/nowhere/at/all.bramix-run").has_value());
        // What was there stays until the new one is whole.
        QVERIFY(std::filesystem::exists(file("good.bramix-run")) && !std::filesystem::exists(file("good.bramix-run.new")));
    }
};

QTEST_GUILESS_MAIN(RecordingTest)
#include "recording_test.moc"
