// Decoders against waveforms built bit by bit from the protocols' own tables, random round trips, and faults put in on purpose.
#include <QtTest>

#include <cmath>
#include <optional>

#include "kernel/random.h"
#include "tape/decode.h"

using namespace bramix::tape;
using namespace std::chrono_literals;

namespace {

// A line's levels as a list of "so long at this level".
struct Line {
    Decoder& decoder;
    std::size_t role = 0;
    Time now{};
    std::optional<bool> last{};

    void level(bool high)
    {
        if (last != high)
            decoder.edge(role, high, now);
        last = high;
    }
    void hold(bool high, Duration length)
    {
        level(high);
        now += length;
    }
};

struct Heard {
    std::unique_ptr<Decoder> decoder;
    std::vector<Decoded> items;

    explicit Heard(const std::string& kind, const std::map<std::string, std::string>& options = {})
    {
        auto made = makeDecoder(kind, options);
        if (!made)
            qFatal("%s", made.error().text().c_str());
        decoder = std::move(*made);
        decoder->out = [this](const Decoded& d) { items.push_back(d); };
    }
    [[nodiscard]] std::vector<std::uint64_t> values(const std::string& what) const
    {
        std::vector<std::uint64_t> out;
        for (const Decoded& d : items)
            if (d.what == what && d.good)
                out.push_back(d.value);
        return out;
    }
    [[nodiscard]] int bad() const
    {
        return static_cast<int>(std::count_if(items.begin(), items.end(), [](const Decoded& d) { return !d.good; }));
    }
};

// 8 bits unless said otherwise, parity as asked, drawn as a UART draws it.
void character(Line& line, unsigned byte, Duration bit, unsigned bits = 8, int parity = 0, int stops = 1, bool spoilParity = false, bool spoilStop = false)
{
    line.hold(false, bit);
    int ones = 0;
    for (unsigned i = 0; i < bits; ++i) {
        ones += static_cast<int>(byte >> i & 1U);
        line.hold((byte >> i & 1U) != 0, bit);
    }
    if (parity != 0)
        line.hold(((ones % 2 != 0) != (parity == 2)) != spoilParity, bit);
    line.hold(!spoilStop, bit * stops);
    line.level(true);
}

struct TwoWire {
    Decoder& decoder;
    Time now{};
    Duration quarter = 2500ns;

    void sda(bool high) { decoder.edge(0, high, now += quarter); }
    void scl(bool high) { decoder.edge(1, high, now += quarter); }
    void start()
    {
        sda(true);
        scl(true);
        sda(false);
        scl(false);
    }
    void stop()
    {
        sda(false);
        scl(true);
        sda(true);
    }
    void bit(bool high)
    {
        sda(high);
        scl(true);
        scl(false);
    }
    void byte(unsigned b, bool ack)
    {
        for (int i = 7; i >= 0; --i)
            bit((b >> i & 1) != 0);
        bit(!ack);
    }
};

}  // namespace

class DecodeTest : public QObject {
    Q_OBJECT

private slots:
    // E is let go until firmware makes it an output: from there its first pulse counts, however it came to be low.
    void aDisplaysFirstPulseCountsAfterEWasUndriven()
    {
        for (const bool driven : {true, false}) {
            Heard h("hd44780");
            std::vector<Line> lines;
            for (std::size_t role = 0; role < 6; ++role)
                lines.push_back({*h.decoder, role});  // RS, E, D4 to D7
            Time now{};
            const auto put = [&](std::size_t role, bool high) {
                lines[role].now = now;
                lines[role].level(high);
            };
            if (driven)
                put(1, true);  // held up by something before the firmware runs
            now += 1ms;
            for (const std::size_t role : {0U, 1U, 2U, 3U, 4U, 5U})
                put(role, false);
            // Eight-bit mode three times, then four: 3, 3, 3, 2.
            for (const unsigned half : {3U, 3U, 3U, 2U}) {
                now += 5ms;
                for (unsigned bit = 0; bit < 4; ++bit)
                    put(2 + bit, (half >> bit & 1U) != 0);
                now += 1us;
                put(1, true);
                now += 1us;
                put(1, false);
            }
            h.decoder->finish(now + 1ms);
            QCOMPARE(h.values("instruction"), (std::vector<std::uint64_t>{0x30, 0x30, 0x30, 0x20}));
        }
    }

    void uartRoundTrips_data()
    {
        QTest::addColumn<int>("bits");
        QTest::addColumn<QString>("parity");
        QTest::addColumn<int>("stops");
        for (const int bits : {5, 7, 8, 9})
            for (const char* parity : {"none", "even", "odd"})
                for (const int stops : {1, 2})
                    QTest::addRow("%d%s%d", bits, parity, stops) << bits << QString(parity) << stops;
    }

    void uartRoundTrips()
    {
        QFETCH(int, bits);
        QFETCH(QString, parity);
        QFETCH(int, stops);
        Heard heard("uart", {{"baud", "9600"}, {"bits", std::to_string(bits)}, {"parity", parity.toStdString()}, {"stop", std::to_string(stops)}});
        bramix::kernel::Random random(static_cast<std::uint64_t>(bits * 10 + stops));
        Line line{*heard.decoder};
        line.now = Time(1ms);
        std::vector<std::uint64_t> sent;
        const int kind = parity == "even" ? 1 : parity == "odd" ? 2 : 0;
        for (int i = 0; i < 200; ++i) {
            sent.push_back(random.below(1U << bits));
            character(line, static_cast<unsigned>(sent.back()), 104us, static_cast<unsigned>(bits), kind, stops);
            line.now += Duration(1000 * static_cast<std::int64_t>(random.below(300'000)));  // up to 300 us of rest
        }
        heard.decoder->finish(line.now + 1ms);
        QVERIFY(heard.values("byte") == sent);
        QCOMPARE(heard.bad(), 0);
    }

    void uartTellsWhatIsWrong()
    {
        Heard heard("uart", {{"baud", "9600"}, {"parity", "even"}});
        Line line{*heard.decoder};
        line.now = Time(1ms);
        character(line, 'A', 104us, 8, 1);
        character(line, 'B', 104us, 8, 1, 1, true);
        line.now += 500us;
        character(line, 'C', 104us, 8, 1, 1, false, true);
        line.now += 2ms;
        line.hold(false, 20us);  // a spike
        line.hold(true, 2ms);
        line.hold(false, 3ms);  // a break
        line.hold(true, 2ms);
        heard.decoder->finish(line.now);
        std::vector<std::string> told;
        for (const Decoded& d : heard.items)
            told.push_back(d.good ? "good " + d.text : d.text);
        QCOMPARE(told.size(), std::size_t{5});
        QCOMPARE(told[0], std::string("good A"));
        QCOMPARE(told[1], std::string("parity"));
        QCOMPARE(told[2], std::string("no stop bit"));
        QCOMPARE(told[3], std::string("shorter than half a bit"));
        QCOMPARE(told[4], std::string("break"));
    }

    void uartFindsItsBaud_data()
    {
        QTest::addColumn<double>("baud");
        for (const double baud : {300.0, 9600.0, 57600.0, 115200.0, 123456.0 * 1.5, 1e6})
            QTest::addRow("%g", baud) << baud;
    }

    void uartFindsItsBaud()
    {
        QFETCH(double, baud);
        Heard heard("uart");
        Line line{*heard.decoder};
        line.now = Time(1ms);
        const Duration bit(static_cast<std::int64_t>(1e12 / (baud * 1.01)));  // a clock one per cent fast
        std::vector<std::uint64_t> sent;
        for (const char c : std::string("the eel ladder is open\n")) {
            sent.push_back(static_cast<unsigned char>(c));
            character(line, static_cast<unsigned char>(c), bit);
        }
        heard.decoder->finish(line.now + 20 * bit);
        QVERIFY(std::abs(static_cast<double>(heard.values("baud").at(0)) / baud - 1) < 0.02);
        QVERIFY(heard.values("byte") == sent);
    }

    // From the moment its start bit begins to the end of its stop bit.
    // Switched on six microseconds before its first start bit: that high is no bit.
    void uartFindsItsBaudAfterASwitchOn()
    {
        std::vector<Decoded> items;
        auto decoder = std::move(*makeDecoder("uart", {}));
        decoder->out = [&](const Decoded& d) { items.push_back(d); };
        std::int64_t at = 1'050'500'000;
        decoder->edge(0, true, Time(Duration(at)));
        at += 6'312'500;
        bool level = true;
        for (const char c : std::string("Bell tower ready"))
            for (int bit = 0; bit < 10; ++bit, at += 104'000'000) {
                const bool next = bit == 0 ? false : bit == 9 ? true : (c >> (bit - 1) & 1) != 0;
                if (next != level)
                    decoder->edge(0, level = next, Time(Duration(at)));
            }
        decoder->finish(Time(Duration(at + 1'000'000'000)));
        std::string said;
        for (const Decoded& d : items)
            if (d.what == "byte") {
                QVERIFY(d.good);
                said += static_cast<char>(d.value);
            }
        QCOMPARE(said, std::string("Bell tower ready"));
    }

    void uartPlacesWhatItSays()
    {
        Heard heard("uart", {{"baud", "10000"}});
        Line line{*heard.decoder};
        line.now = Time(5ms);
        character(line, 0x55, 100us);
        heard.decoder->finish(Time(10ms));
        QCOMPARE(heard.items.at(0).from, Time(5ms));
        QCOMPARE(heard.items.at(0).to, Time(6ms));
    }

    void twoWireTransfersRoundTrip()
    {
        Heard heard("i2c");
        TwoWire bus{*heard.decoder};
        bramix::kernel::Random random(3);
        std::vector<std::string> expected;
        for (int transfer = 0; transfer < 50; ++transfer) {
            bus.now += 50us;
            const auto address = static_cast<unsigned>(random.below(128));
            const bool read = random.below(2) != 0;
            bus.start();
            expected.emplace_back("start");
            const auto name = [](unsigned a) { return QString("0x%1").arg(a, 2, 16, QChar('0')).toStdString(); };
            bus.byte(address << 1U | (read ? 1U : 0U), true);
            expected.push_back(name(address) + (read ? " read, ack" : " write, ack"));
            for (std::uint64_t n = random.below(4); n-- > 0;) {
                const auto b = static_cast<unsigned>(random.below(256));
                const bool ack = random.below(3) != 0;
                bus.byte(b, ack);
                expected.push_back(name(b) + (ack ? ", ack" : read ? ", last" : ", nack"));
            }
            if (random.below(3) == 0) {
                bus.start();
                expected.emplace_back("restart");
                bus.byte(address << 1U, false);
                expected.push_back(name(address) + " write, nack");
            }
            bus.stop();
            expected.emplace_back("stop");
        }
        std::vector<std::string> told;
        for (const Decoded& d : heard.items)
            told.push_back(d.text);
        QVERIFY(told == expected);
        QCOMPARE(heard.bad(), 0);
    }

    // UM10204, 3.1.9: a target that is not ready holds the clock low; here for 200 us before an answer, where a bit takes 10.
    void aClockThatIsHeldIsTold()
    {
        Heard heard("i2c");
        TwoWire bus{*heard.decoder};
        bus.start();
        bus.byte(0x78, true);
        for (int i = 7; i >= 0; --i)
            bus.bit((0x5A >> i & 1) != 0);
        bus.now += 200us;
        bus.bit(false);
        bus.stop();
        QCOMPARE(heard.values("stretch").size(), std::size_t{1});
        QVERIFY(heard.values("stretch")[0] >= 200'000 && heard.values("stretch")[0] < 210'000);  // nanoseconds
        QCOMPARE(heard.values("byte"), std::vector<std::uint64_t>{0x5A});
        QCOMPARE(heard.bad(), 0);
    }

    void aTransferThatBreaksOffIsTold()
    {
        Heard heard("i2c");
        TwoWire bus{*heard.decoder};
        bus.start();
        for (const bool b : {true, false, true})
            bus.bit(b);
        bus.stop();
        QCOMPARE(heard.bad(), 1);
        QCOMPARE(heard.items[1].text, std::string("3 of 9 bits"));
    }

    void spiInEveryMode_data()
    {
        QTest::addColumn<int>("mode");
        QTest::addColumn<QString>("order");
        for (int mode = 0; mode < 4; ++mode)
            for (const char* order : {"msb", "lsb"})
                QTest::addRow("mode %d %s", mode, order) << mode << QString(order);
    }

    // CPOL: the clock rests high. CPHA: data change at the leading edge and are read at the trailing one.
    void spiInEveryMode()
    {
        QFETCH(int, mode);
        QFETCH(QString, order);
        Heard heard("spi", {{"mode", std::to_string(mode)}, {"order", order.toStdString()}});
        const bool rest = mode >= 2, second = mode % 2 == 1;
        Time now{};
        const auto set = [&](std::size_t role, bool high) { heard.decoder->edge(role, high, now += 100ns); };
        bramix::kernel::Random random(static_cast<std::uint64_t>(mode));
        std::vector<std::uint64_t> sent;
        std::vector<std::string> texts;
        set(3, true);
        set(0, rest);
        for (int word = 0; word < 40; ++word) {
            set(3, false);
            const auto out = static_cast<unsigned>(random.below(256)), in = static_cast<unsigned>(random.below(256));
            sent.push_back(out);
            texts.push_back("select");
            texts.push_back(QString("0x%1 out, 0x%2 in").arg(out, 2, 16, QChar('0')).arg(in, 2, 16, QChar('0')).toStdString());
            for (int i = 0; i < 8; ++i) {
                const int bit = order == "msb" ? 7 - i : i;
                if (second)
                    set(0, !rest);
                set(1, (out >> bit & 1) != 0);
                set(2, (in >> bit & 1) != 0);
                if (!second)
                    set(0, !rest);
                else
                    set(0, rest);
                if (!second)
                    set(0, rest);
            }
            set(3, true);
            texts.push_back("release");
            // What goes on while it is not selected is somebody else's.
            for (int i = 0; i < 5; ++i) {
                set(0, !rest);
                set(0, rest);
            }
        }
        QVERIFY(heard.values("byte") == sent);
        std::vector<std::string> told;
        for (const Decoded& d : heard.items)
            told.push_back(d.text);
        QVERIFY(told == texts);

        set(3, false);
        for (int i = 0; i < 3; ++i) {
            set(0, !rest);
            set(0, rest);
        }
        set(3, true);
        QCOMPARE(heard.items[heard.items.size() - 2].text, std::string("3 of 8 bits"));  // and then the release
        QCOMPARE(heard.bad(), 1);
    }

    void oneWireResetsAndBytes()
    {
        Heard heard("1-wire");
        Line line{*heard.decoder};
        line.hold(true, 1ms);
        const auto byte = [&](unsigned b) {
            for (int i = 0; i < 8; ++i) {
                const bool one = (b >> i & 1) != 0;
                line.hold(false, one ? 6us : 60us);
                line.hold(true, one ? 64us : 10us);
            }
        };
        line.hold(false, 480us);
        line.hold(true, 30us);
        line.hold(false, 120us);
        line.hold(true, 330us);
        byte(0xCC);
        byte(0x44);
        line.hold(false, 500us);  // nobody answers
        line.hold(true, 500us);
        byte(0xBE);
        std::vector<std::string> told;
        for (const Decoded& d : heard.items)
            told.push_back(d.text);
        QVERIFY((told == std::vector<std::string>{"reset", "present", "0xcc", "0x44", "reset", "0xbe"}));
    }

    void pixelsHaveTheirColours()
    {
        Heard heard("ws2812");
        Line line{*heard.decoder};
        const auto colour = [&](std::uint32_t rgb, Duration spoilt = 0us) {
            const std::uint32_t grb = (rgb >> 8U & 0xFFU) << 16U | (rgb >> 16U & 0xFFU) << 8U | (rgb & 0xFFU);
            for (int i = 23; i >= 0; --i) {
                const bool one = (grb >> i & 1U) != 0;
                line.hold(true, (one ? 800ns : 400ns) + (i == 10 ? spoilt : 0us));
                line.hold(false, one ? 450ns : 850ns);
            }
        };
        colour(0xFF8000);
        colour(0x010203);
        line.now += 300us;
        colour(0x00FF00, 3us);
        line.now += 300us;
        heard.decoder->finish(line.now);
        QCOMPARE(heard.items.size(), std::size_t{5});
        QCOMPARE(heard.items[0].text, std::string("#ff8000"));
        QCOMPARE(heard.items[1].value, std::uint64_t{0x010203});
        QCOMPARE(heard.items[2].text, std::string("2 lights"));
        QVERIFY(!heard.items[3].good);
        QCOMPARE(heard.items[4].text, std::string("1 lights"));
    }

    void clockedPixelsHaveColourAndBrightness()
    {
        Heard heard("apa102");
        Time now{};
        const auto word = [&](std::uint32_t w) {
            for (int i = 31; i >= 0; --i) {
                heard.decoder->edge(1, (w >> i & 1U) != 0, now += 200ns);
                heard.decoder->edge(0, true, now += 200ns);
                heard.decoder->edge(0, false, now += 200ns);
            }
        };
        word(0);
        word(0xFF102030);  // all of 31, blue 10, green 20, red 30
        word(0xE1FF0000);
        word(0xFFFFFFFF);
        QCOMPARE(heard.items.size(), std::size_t{4});
        QCOMPARE(heard.items[1].text, std::string("#302010 at 31 of 31"));
        QCOMPARE(heard.items[2].text, std::string("#0000ff at 1 of 31"));
    }

    void pulsesAreMeasured()
    {
        Heard pwm("pwm");
        Line line{*pwm.decoder};
        for (int i = 0; i < 4; ++i) {
            line.hold(true, 250us);
            line.hold(false, 750us);
        }
        QCOMPARE(pwm.items.size(), std::size_t{3});
        QCOMPARE(pwm.items[0].text, std::string("1 kHz, 25.00 %"));
        QCOMPARE(pwm.items[0].value, std::uint64_t{2500});

        Heard servo("servo");
        Line signal{*servo.decoder};
        for (const Duration width : {Duration(1000us), Duration(1500us), Duration(4000us)}) {
            signal.hold(true, width);
            signal.hold(false, 18ms);
        }
        servo.decoder->edge(0, true, signal.now);
        QCOMPARE(servo.items[0].text, std::string("1 ms, -45.0 degrees from the middle"));
        QCOMPARE(servo.items[1].value, std::uint64_t{1500});
        QVERIFY(!servo.items[2].good);
    }

    void quadratureCounts()
    {
        Heard heard("quadrature");
        Time now{};
        int phase = 0;
        const auto turn = [&](int by) {
            static constexpr bool kA[] = {false, true, true, false}, kB[] = {false, false, true, true};
            for (int i = 0; i < std::abs(by); ++i) {
                const int next = (phase + (by > 0 ? 1 : 3)) % 4;
                now += 1ms;
                if (kA[next] != kA[phase])
                    heard.decoder->edge(0, kA[next], now);
                if (kB[next] != kB[phase])
                    heard.decoder->edge(1, kB[next], now);
                phase = next;
            }
        };
        turn(9);
        QCOMPARE(heard.items.back().value, std::uint64_t{9});
        turn(-14);
        QCOMPARE(static_cast<std::int64_t>(heard.items.back().value), std::int64_t{-5});
        QCOMPARE(heard.bad(), 0);
    }

    void humidityFramesAreChecked()
    {
        const auto frame = [](Heard& heard, std::array<unsigned, 5> bytes) {
            Line line{*heard.decoder};
            line.hold(true, 2ms);
            line.hold(false, 1ms);
            line.hold(true, 30us);
            line.hold(false, 80us);
            line.hold(true, 80us);
            for (const unsigned b : bytes)
                for (int i = 7; i >= 0; --i) {
                    line.hold(false, 50us);
                    line.hold(true, (b >> i & 1U) != 0 ? 70us : 26us);
                }
            line.hold(false, 50us);
            line.hold(true, 5ms);
            heard.decoder->finish(line.now);
        };
        // The data sheet's example: 65.2 %, 35.1 degrees.
        Heard fine("dht");
        frame(fine, {0x02, 0x8C, 0x01, 0x5F, 0xEE});
        QCOMPARE(fine.items.back().text, std::string("65.2 %, 35.1 °C"));
        Heard below("dht");
        frame(below, {0x02, 0x8C, 0x80, 0x65, 0x73});
        QCOMPARE(below.items.back().text, std::string("65.2 %, -10.1 °C"));
        Heard coarse("dht", {{"type", "11"}});
        frame(coarse, {53, 0, 24, 4, 81});
        QCOMPARE(coarse.items.back().text, std::string("53.0 %, 24.4 °C"));
        Heard wrong("dht");
        frame(wrong, {0x02, 0x8C, 0x01, 0x5F, 0xEF});
        QVERIFY(!wrong.items.back().good);
        QCOMPARE(wrong.items.back().text, std::string("checksum 0xef, expected 0xee"));
    }

    // Whatever the lines do, it ends, and what it says lies in the past.
    void noiseDoesNoHarm()
    {
        for (const DecoderKind& kind : decoderKinds()) {
            Heard heard(kind.name);
            bramix::kernel::Random random(9);
            Time now{};
            for (int i = 0; i < 20'000; ++i) {
                now += Duration(static_cast<std::int64_t>(random.below(i % 1000 < 500 ? 2'000'000 : 200'000'000)));
                heard.decoder->edge(random.below(kind.roles.size()), random.below(2) != 0, now);
            }
            heard.decoder->finish(now);
            for (const Decoded& d : heard.items)
                QVERIFY2(d.from <= d.to && d.from <= now, kind.name.c_str());
        }
    }

    void specificationsAreRead()
    {
        const auto uart = parseDecoderSpec("uart:mcu.PD1,baud=9600");
        QVERIFY(uart && uart->lines[0] == "mcu.PD1" && uart->options.at("baud") == "9600");
        const auto bus = parseDecoderSpec("i2c:SCL=mcu.PC5,mcu.PC4");
        QVERIFY(bus && bus->lines[0] == "mcu.PC4" && bus->lines[1] == "mcu.PC5");
        QVERIFY(parseDecoderSpec("spi:SCK=a.1,MOSI=a.2").has_value());
        for (const auto& [text, told] : std::map<std::string, std::string>{{"uart", "expected a decoder and its lines"}, {"morse:a.b", "is no decoder; expected uart, i2c"}, {"i2c:a.b", "does not say which line is SCL"},
                                                                           {"uart:a.b,c.d", "more lines than uart"}, {"uart:a.b,speed=3", "has no option \"speed\"; it has baud"}, {"uart:a.b,baud=fast", "expected auto or a rate"},
                                                                           {"uart:a.b,,", "empty place"}, {"spi:a.b,c.d,mode=7", "expected 0 to 3"}}) {
            const auto spec = parseDecoderSpec(text);
            QVERIFY2(!spec && spec.error().text().find(told) != std::string::npos, spec ? text.c_str() : spec.error().text().c_str());
        }
    }
};

QTEST_GUILESS_MAIN(DecodeTest)
#include "decode_test.moc"
