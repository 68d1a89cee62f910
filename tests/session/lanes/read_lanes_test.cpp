// Lanes that read: what a window shows is what a listener heard from the beginning; interrupts to the cycle; and what a search finds.
#include <QtTest>

#include "chip/avr/chip.h"
#include "bench/catalogue.h"
#include "bench/edit.h"
#include "debug/compiled.h"
#include "session/live/live_session.h"
#include "session/recording/edges_export.h"
#include "session/lanes/read_lanes.h"
#include "session/lanes/tape_search.h"

using namespace bramix;
using namespace bramix::session;
using namespace std::chrono_literals;

namespace {

constexpr std::int64_t kCyclePicos = 62'500;  // of 16 MHz

// PB2 is toggled by Timer1 every 1000 cycles; PD0 and PD1 count up; one short pulse on PB3 in between.
const char* const kTicking = R"(
#include <avr/interrupt.h>
#include <avr/io.h>
ISR(TIMER1_COMPA_vect, ISR_NAKED) { asm volatile("sbi %0, 2\n reti" ::"I"(_SFR_IO_ADDR(PINB))); }
int main(void)
{
    DDRB = 0x0C;
    DDRC = 0x03;
    TCCR1B = (1 << WGM12) | (1 << CS10);
    OCR1A = 999;
    TIMSK1 = 1 << OCIE1A;
    sei();
    for (unsigned char n = 0;; n++) {
        PORTC = n & 3;
        PORTB |= 8;
        if (n != 5)
            __builtin_avr_delay_cycles(400);
        PORTB &= ~8;
        __builtin_avr_delay_cycles(4000);
    }
}
)";

}  // namespace

class ReadLanesTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    QTemporaryDir folder_;

    std::unique_ptr<Session> open(const bench::Document& document, const std::string& folder)
    {
        SessionOptions options;
        options.folder = folder;
        options.historyBytes = 64U << 20U;
        auto session = Session::open(document, catalogue_, options);
        if (!session)
            qFatal("%s", session.error().text().c_str());
        return std::move(*session);
    }
    std::unique_ptr<Session> example(const std::string& name)
    {
        const std::string folder = bench::shareFolder() + "/benches/" + name;
        return open(*bench::loadDocument(folder + "/bench.toml"), folder);
    }
    // A board with this firmware.
    bench::Document board(const char* code)
    {
        const QString source = folder_.filePath("t.c"), elf = folder_.filePath("t.elf");
        QFile out(source);
        if (!out.open(QIODevice::WriteOnly))
            qFatal("cannot write");
        out.write(code);
        out.close();
        QProcess gcc;
        gcc.start("avr-gcc", {"-mmcu=atmega328p", "-Os", "-gdwarf-4", "-DF_CPU=16000000UL", "-I" BRAMIX_TEST_SOURCES "/parts/drivers", "-o", elf, source});
        if (!gcc.waitForFinished(60'000) || gcc.exitCode() != 0)
            qFatal("%s", gcc.readAllStandardError().constData());
        bench::Document d;
        bench::addPart(d, *catalogue_.find("briar-328"), {0, 0});
        d.parts[0].id = "mcu";
        d.parts[0].firmware = elf.toStdString();
        return d;
    }
    std::unique_ptr<Session> ticking() { return open(board(kTicking), folder_.path().toStdString()); }
    // A character display on four lines.
    std::unique_ptr<Session> panel()
    {
        bench::Document d = board("#include \"driver.h\"\n#include \"lcd.h\"\n"
                                  "static void nibble(uint8_t rs, uint8_t bits) { if (rs) HIGH(B, 0); else LOW(B, 0); PORTD = (uint8_t)((PORTD & 0x0F) | bits); HIGH(B, 1); _delay_us(0.5); LOW(B, 1); _delay_us(1); }\n"
                                  "int main(void) { begin(); DDRB = 3; DDRD |= 0xF0; lcd_begin(); lcd_text(0, \"Withy Lock 3\"); lcd_text(1, \"level 1.42 m\"); end(); }\n");
        bench::addPart(d, *catalogue_.find("character-display"), {40, 0});
        d.parts[1].id = "panel";
        for (const auto& [from, to] : std::vector<std::pair<const char*, const char*>>{{"GND", "GND"}, {"GND", "RW"}, {"GND", "K"}, {"GND", "VO"}, {"5V", "VCC"}, {"PB0", "RS"}, {"PB1", "E"}, {"PD4", "D4"}, {"PD5", "D5"}, {"PD6", "D6"}, {"PD7", "D7"}})
            d.wires.push_back({{"mcu", from}, {"panel", to}, "slate", {}, {}, {}});
        return open(d, folder_.path().toStdString());
    }
    ReadLane read(Session& session, const std::string& lane, Time from, Time to)
    {
        LaneReader reader;
        Lookback lookback(session, catalogue_);
        std::vector<ReadLane> out;
        reader.read(session, lookback, {lane}, {from, to, 200}, out);
        return out.empty() ? ReadLane{} : out[0];
    }
    static std::optional<TapeHit> find(Session& session, const char* words, Time from, bool forward = true, const char* lane = "mcu.PB3", const std::vector<std::string>& reads = {})
    {
        const auto hit = searchTape(session, {words, lane, reads, from, forward});
        if (!hit)
            qFatal("%s", hit.error().text().c_str());
        return *hit;
    }

private slots:
    void initTestCase()
    {
        if (!test::haveCompiler())
            QSKIP("avr-gcc is not installed");
        catalogue_ = std::move(*bench::Catalogue::loadInstalled());
    }

    void lanesAreTexts()
    {
        QCOMPARE(parseLane("mcu.PB3")->kind, LaneSpec::Kind::pin);
        QCOMPARE(parseLane("volts mcu.PC0")->pins[0], (bench::PinRef{"mcu", "PC0"}));
        QCOMPARE(parseLane("value a.1 b.2 c.3")->pins.size(), std::size_t{3});
        QCOMPARE(parseLane("interrupts mcu")->chip, std::string("mcu"));
        QCOMPARE(parseLane("i2c:SDA=a.4,SCL=a.5")->pins[1], (bench::PinRef{"a", "5"}));
        for (const char* wrong : {"", "volts", "volts a", "value", "interrupts", "i2c:SDA=a.4", "morse:a.1", "what is this"})
            QVERIFY2(!parseLane(wrong), wrong);
    }

    // A window in the middle of the run, read from the tape, says what a decoder that has listened from power-up says there.
    void aWindowReadsLikeAListener()
    {
        auto session = example("tide-clock");
        const std::vector<std::string> usual = [&] {
            session->advance(Time(60ms));
            return usualReadLanes(*session);
        }();
        session = example("tide-clock");
        QVERIFY(!usual.empty() && usual[0].starts_with("i2c:"));
        const auto spec = *parseLane(usual[0]);
        auto decoder = std::move(*tape::makeDecoder("i2c", {}));
        std::vector<tape::Decoded> heard;
        decoder->out = [&](const tape::Decoded& item) { heard.push_back(item); };
        std::vector<std::optional<bench::NetId>> nets;
        for (const bench::PinRef& pin : spec.pins)
            nets.emplace_back(session->world().circuit().netOf(*session->world().pin(pin)));
        session->decode(*decoder, nets);
        session->advance(Time(60ms));
        QVERIFY(heard.size() > 200);
        for (const auto& [from, to] : std::vector<std::pair<Duration, Duration>>{{20ms, 24ms}, {41ms, 41500us}, {0ms, 10ms}}) {
            const ReadLane lane = read(*session, usual[0], Time(from), Time(to));
            QVERIFY(lane.trouble.empty() && !lane.crowded);
            std::vector<tape::Decoded> wanted;
            for (const tape::Decoded& item : heard)
                if (item.to >= Time(from) && item.from <= Time(to))  // to the end of what began there
                    wanted.push_back(item);
            QVERIFY(lane.items == wanted);
        }
        QVERIFY(read(*session, usual[0], Time(), Time(20ms)).items.empty());  // nothing is said before 21 ms
        const auto all = readAll(*session, usual[0], Time(), Time(60ms), 50);
        QCOMPARE(all->size(), std::size_t{50});
        QVERIFY(!read(*session, "i2c:SDA=none.SDA,SCL=none.SCL", Time(), Time(1ms)).trouble.empty());
    }

    // Vector, JMP (3 cycles), SBI (2), RETI (4): nine cycles from the entry to the end, and 1000 from one to the next.
    void interruptsAreThereToTheCycle()
    {
        auto session = ticking();
        session->advance(Time(20ms));
        const ReadLane lane = read(*session, "interrupts mcu", Time(10ms), Time(11ms));
        QVERIFY(lane.items.size() == 16 || lane.items.size() == 17);  // one may lie on the edge
        for (std::size_t i = 0; i < lane.items.size(); ++i) {
            QCOMPARE(lane.items[i].text, std::string("TIMER1_COMPA"));
            QCOMPARE((lane.items[i].to - lane.items[i].from).count(), 9 * kCyclePicos);
            if (i > 0)
                QVERIFY(std::abs((lane.items[i].from - lane.items[i - 1].from).count() - 1000 * kCyclePicos) <= 4 * kCyclePicos);  // a longer instruction is finished first
        }
        // Going back and on another way keeps them whole.
        QVERIFY(session->goTo(Time(15ms)).has_value());
        QVERIFY(session->setControl("mcu", "RESET", 0).has_value());
        session->advance(Time(16ms));
        QVERIFY(session->setControl("mcu", "RESET", 1).has_value());
        session->advance(Time(30ms));
        const ReadLane after = read(*session, "interrupts mcu", Time(14ms), Time(18ms));
        QVERIFY(std::any_of(after.items.begin(), after.items.end(), [](const tape::Decoded& d) { return d.what == "reset"; }));
        for (const tape::Decoded& d : after.items)
            QVERIFY(d.what == "reset" || d.to - d.from == Duration(9 * kCyclePicos) || d.to >= Time(15ms));
        QVERIFY(std::none_of(after.items.begin(), after.items.end(), [](const tape::Decoded& d) { return d.what != "reset" && d.from > Time(15100us) && d.from < Time(16ms); }));
    }

    void pinsMakeANumber()
    {
        auto session = ticking();
        session->advance(Time(5ms));
        const ReadLane lane = read(*session, "value mcu.PC0 mcu.PC1", Time(1ms), Time(4ms));
        QVERIFY(lane.items.size() > 8);
        for (std::size_t i = 2; i < lane.items.size(); ++i)
            QCOMPARE(lane.items[i].value, (lane.items[i - 1].value + 1) % 4);
        QCOMPARE(lane.items[1].text.size(), std::size_t{1});
    }

    void aSearchFindsItsPlace()
    {
        auto session = ticking();
        session->advance(Time(20ms));
        const tape::Tape& tape = session->tape();
        const tape::ChannelId pb3 = session->channelOf({"mcu", "PB3"});
        // Edges, forward and back.
        const auto rise = find(*session, "rise", Time(3ms));
        QVERIFY(rise && rise->at > Time(3ms));
        QCOMPARE(tape.edge(pb3, tape.after(pb3, rise->at) - 1).state, tape::State{1});
        const auto fall = find(*session, "fall", rise->at, false);
        QVERIFY(fall && fall->at < rise->at && tape.stateAt(pb3, fall->at) == 0 && tape.after(pb3, rise->at) - tape.after(pb3, fall->at) == 1);
        // The one pulse without its delay: after the sixth rise.
        const auto odd = find(*session, "high < 10us", Time());
        QVERIFY(odd);
        QCOMPARE(tape.after(pb3, odd->at), std::size_t{12});  // the state at power-up, five whole pulses, and this rise
        QVERIFY(find(*session, "< 10us", Time(20ms), false)->at == odd->at);
        QVERIFY(!find(*session, "high < 10us", odd->at));  // there is no other
        QVERIFY(!find(*session, "low > 10ms", odd->at));
        const auto interrupt = find(*session, "timer1_compa", Time(7ms));
        QVERIFY(interrupt && interrupt->at - Time(7ms) < Duration(1005 * kCyclePicos));
        QVERIFY(!searchTape(*session, {"rise", "", {}, Time(), true}));
        QVERIFY(!searchTape(*session, {"< nonsense", "mcu.PB3", {}, Time(), true}));
        QVERIFY(!searchTape(*session, {"\"\"", "mcu.PB3", {}, Time(), true}));
    }

    // Words and bytes, on the wire and in what decoders read; and each byte knows the instruction that wrote it.
    void serialBytesKnowTheirCode()
    {
        auto session = example("bell-rope");
        session->advance(Time(60ms));
        const SerialLog& log = session->serialLog();
        QVERIFY(log.end() > 10);
        for (std::uint64_t i = log.first(); i < log.end(); ++i) {
            const SerialByte& b = log[i];
            QVERIFY(b.fromChip && b.code != UINT32_MAX);
            const auto& flash = chip::avr::chipOf(*session->world().chips()[0].chip).cpu().flash();
            QCOMPARE(flash[b.code / 2] & 0xFE0F, 0x9200);  // STS
            QCOMPARE(flash[b.code / 2 + 1], std::uint16_t{0x00C6});  // UDR0
        }
        const auto word = find(*session, "tower", Time());
        QVERIFY(word && word->what == "mcu.uart0");
        const std::uint64_t at = log.after(word->at) - 1;
        QCOMPARE(log[at].byte, std::uint8_t{'t'});
        QVERIFY(find(*session, "74 6F 77", Time())->at == word->at);  // "tow"
        QVERIFY(find(*session, "tower", Time(60ms), false)->at == word->at);
        QVERIFY(!find(*session, "weir", Time()));
        // On a line of which no log is kept: the decoder's own words, within a character of where the log has it.
        const auto read = find(*session, "ready", Time(), true, "", {"uart:mcu.PD1"});
        const auto heard = find(*session, "0x72", Time(), true, "", {"uart:mcu.PD1"});
        QVERIFY(read && heard && heard->at <= read->at);
    }

    // What a bus reads is found in either direction, held against everything that it says.
    void busesAreSearchedBothWays()
    {
        auto session = example("tide-clock");
        session->advance(Time(110ms));
        const std::string bus = "i2c:SDA=mcu.PC4,SCL=mcu.PC5";
        const auto all = readAll(*session, bus, Time(), Time(110ms), SIZE_MAX);
        QVERIFY(all && all->size() > 1000);
        const auto nearest = [&](const char* words, Time from, bool forward) {
            std::optional<Time> best;
            for (const tape::Decoded& item : *all)
                if (item.text.find(words) != std::string::npos && (forward ? item.from > from : item.from < from) && (!best || (forward ? item.from < *best : item.from > *best)))
                    best = item.from;
            return best;
        };
        for (const char* words : {"0x68 write", "0x27 write", "SECONDS", "'h'"})
            for (const Time from : {Time(1ms), Time(25ms), Time(33ms), Time(60ms), Time(105ms)})
                for (const bool forward : {true, false}) {
                    const auto wanted = nearest(words, from, forward);
                    const auto hit = find(*session, words, from, forward, "", {bus});
                    QVERIFY2(hit.has_value() == wanted.has_value() && (!hit || (hit->at == *wanted && !hit->more)), qPrintable(QString("%1 from %2 ms %3").arg(words).arg(from.time_since_epoch() / 1ms).arg(forward ? "on" : "back")));
                }
    }

    void edgesGoOutAsCsv()
    {
        auto session = ticking();
        session->advance(Time(3ms));
        QTemporaryDir folder;
        const std::string file = folder.filePath("edges.csv").toStdString();
        QVERIFY(writeEdges(*session, file, {{"mcu", "PB2"}, {"mcu", "PB3"}}, Time(1ms), Time(2ms)));
        const QStringList rows = QString::fromStdString(*kernel::readFile(file, 1U << 20U)).split('\n', Qt::SkipEmptyParts);
        QCOMPARE(rows[0], QString("time_s,pin,level,cause"));
        QVERIFY(rows[1].startsWith("0.001000000000,mcu.PB2,"));
        const tape::ChannelId pb2 = session->channelOf({"mcu", "PB2"}), pb3 = session->channelOf({"mcu", "PB3"});
        const std::size_t edges = session->tape().after(pb2, Time(2ms)) - session->tape().after(pb2, Time(1ms)) + session->tape().after(pb3, Time(2ms)) - session->tape().after(pb3, Time(1ms));
        QCOMPARE(rows.size(), static_cast<qsizetype>(edges + 3));
        QString before;
        for (qsizetype i = 3; i < rows.size(); ++i) {
            const QString time = rows[i].section(',', 0, 0);
            QVERIFY(time >= before);
            before = time;
            QVERIFY(rows[i].section(',', 1, 1) != "mcu.PB2" || rows[i].contains("t.c:"));
        }
    }

    // The bus of a character display, heard on its wires, is what the display shows.
    void aDisplaysBusIsRead()
    {
        auto session = panel();
        const std::string lane = "hd44780:RS=panel.RS,E=panel.E,D4=panel.D4,D5=panel.D5,D6=panel.D6,D7=panel.D7";
        session->advance(Time(1s));
        const auto items = readAll(*session, lane, Time(), Time(1s), 100'000);
        QVERIFY2(items.has_value(), items ? "" : items.error().text().c_str());
        // Played into a memory of two lines, as the data sheet says, it gives what the display itself shows.
        std::array<std::string, 2> rows{std::string(40, ' '), std::string(40, ' ')};
        std::size_t address = 0;
        bool twoLines = false;
        for (const tape::Decoded& d : *items) {
            if (d.what == "instruction") {
                QVERIFY2(d.good, d.text.c_str());
                twoLines = twoLines || d.text == "4 lines of bus, 2 of text";
                if (d.value == 1)
                    rows = {std::string(40, ' '), std::string(40, ' ')};
                if (d.value == 1 || d.value == 2)
                    address = 0;
                else if ((d.value & 0x80) != 0)
                    address = d.value & 0x7F;
            } else if (d.what == "data") {
                rows[address >= 0x40 ? 1 : 0][address % 0x40 % 40] = static_cast<char>(d.value);
                ++address;
            }
        }
        QVERIFY(twoLines);
        std::string face;
        face = session->world().part("panel")->face();
        QCOMPARE(QString::fromStdString(rows[0].substr(0, 16)), QString::fromStdString(face).section('\n', 0, 0));
        QCOMPARE(QString::fromStdString(rows[1].substr(0, 16)), QString::fromStdString(face).section('\n', 1, 1));
    }
};

QTEST_GUILESS_MAIN(ReadLanesTest)
#include "read_lanes_test.moc"
