// Whatever a file or a line of words holds, cut, doubled, flipped, with numbers that make no sense: it is taken, or refused with one line that says why. Nothing
// crashes, hangs or takes all memory. Each row is a seed: one that fails shows it again.
#include <QtTest>

#include <filesystem>
#include <fstream>

#include "bench/follow.h"
#include "bench/sweep.h"
#include "chip/families.h"
#include "debug/expression.h"
#include "kernel/random.h"
#include "session/debugger/debugger.h"
#include "session/debugger/edge_triggers.h"
#include "session/gdb/gdb_server.h"
#include "session/lanes/read_lanes.h"
#include "session/recording/recording.h"
#include "session/lanes/tape_search.h"

using namespace bramix;
using namespace bramix::session;
using namespace std::chrono_literals;
using kernel::Random;
using kernel::Time;

namespace {

std::string contentsOf(const std::string& file)
{
    std::ifstream in(file, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

void write(const std::string& file, const std::string& bytes)
{
    std::ofstream(file, std::ios::binary).write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
}

std::size_t below(Random& random, std::size_t n) { return n == 0 ? 0 : static_cast<std::size_t>(random.below(n)); }

// Something that stands in a file of numbers and words, and something else in its place.
void spoilWords(std::string& text, Random& random)
{
    static const std::array<std::string, 20> kOthers{"-1", "0", "1e308", "-1e308", "nan", "inf", "99999999999999999999", "\"\"", "[]", "{}", "true", "\xC3\x28", "\"\\u0000\"", "mcu.PB3", "nobody.1", "[[part]]", "=", ".", "4294967296", "0x7FFFFFFFFFFFFFFF"};
    std::vector<std::pair<std::size_t, std::size_t>> words;
    for (std::size_t i = 0; i < text.size();) {
        std::size_t end = i;
        while (end < text.size() && (std::isalnum(static_cast<unsigned char>(text[end])) != 0 || text[end] == '.' || text[end] == '-' || text[end] == '_'))
            ++end;
        if (end > i)
            words.emplace_back(i, end - i);
        i = std::max(end, i + 1);
    }
    if (words.empty())
        return;
    const auto [at, length] = words[below(random, words.size())];
    if (below(random, 3) == 0) {
        const auto [from, size] = words[below(random, words.size())];
        text.replace(at, length, text.substr(from, size));
    } else {
        text.replace(at, length, kOthers[below(random, kOthers.size())]);
    }
}

std::string spoilt(std::string bytes, Random& random, bool words)
{
    for (std::size_t n = 1 + below(random, 4); n > 0 && !bytes.empty(); --n) {
        if (words && below(random, 3) != 0) {
            spoilWords(bytes, random);
            continue;
        }
        const std::size_t at = below(random, bytes.size()), length = 1 + below(random, std::min<std::size_t>(bytes.size() - at, 200));
        switch (below(random, 7)) {
        case 0: bytes[at] = static_cast<char>(bytes[at] ^ 1 << below(random, 8)); break;
        case 1: bytes[at] = static_cast<char>(random.below(256)); break;
        case 2: bytes.resize(at); break;
        case 3: bytes.erase(at, length); break;
        case 4: bytes.insert(at, bytes.substr(below(random, bytes.size()), length)); break;
        case 5:  // a number of four bytes
            for (std::size_t i = 0; i < 4 && at + i < bytes.size(); ++i)
                bytes[at + i] = static_cast<char>(below(random, 2) == 0 ? 0xFF : random.below(256));
            break;
        default: std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), length, below(random, 2) == 0 ? '\0' : '\xFF');
        }
    }
    return bytes;
}

}  // namespace

class BrokenInputTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;
    std::map<std::string, int> given_, taken_;  // of each kind of input: how many there were, and what was not refused

    static void seeds(int count)
    {
        QTest::addColumn<int>("seed");
        for (int seed = 1; seed <= count * (qEnvironmentVariableIsSet("BRAMIX_MORE_SEEDS") ? qEnvironmentVariableIntValue("BRAMIX_MORE_SEEDS") : 1); ++seed)
            QTest::newRow(qPrintable(QString::number(seed))) << seed;
    }
    // What is said of something that is refused: one line that says something.
    template <class Error>
    static void isSaid(const Error& error)
    {
        const std::string text = error.text();
        QVERIFY(text.size() > 5);
        QVERIFY2(text.find('\n') == std::string::npos, text.c_str());
    }
    static std::vector<std::string> examples()
    {
        std::vector<std::string> out;
        for (const auto& entry : std::filesystem::directory_iterator(bench::shareFolder() + "/benches"))
            if (std::filesystem::exists(entry.path() / "bench.toml"))
                out.push_back(entry.path().string());
        std::sort(out.begin(), out.end());
        return out;
    }
    [[nodiscard]] std::string path(const char* name) const { return folder_.filePath(name).toStdString(); }

private slots:
    void initTestCase()
    {
        catalogue_ = std::move(*bench::Catalogue::loadInstalled());
        QVERIFY(examples().size() > 5);
        std::filesystem::create_directories(path("benches"));
        // Firmware beside the benches, so that nothing is written where they are installed.
        for (const std::string& example : examples())
            std::filesystem::copy(example, path("benches") + "/" + std::filesystem::path(example).filename().string(), std::filesystem::copy_options::recursive);
    }

    void benches_data() { seeds(150); }

    void benches()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "bench");
        ++given_["benches"];
        const auto all = examples();
        const std::string example = all[below(random, all.size())];
        const std::string text = spoilt(contentsOf(example + "/bench.toml"), random, true);
        const auto document = bench::parseDocument("bench.toml", text);
        if (!document)
            return isSaid(document.error());
        // Written and read again it is the same.
        const auto again = bench::parseDocument("again", bench::writeDocument(*document));
        QVERIFY2(again.has_value(), again ? "" : again.error().text().c_str());
        QVERIFY(bench::writeDocument(*again) == bench::writeDocument(*document));
        if (const auto fits = bench::checkDocument(*document, catalogue_, "bench.toml"); !fits)
            return isSaid(fits.error());
        SessionOptions options;
        options.folder = path("benches") + "/" + std::filesystem::path(example).filename().string();
        options.historyBytes = 1U << 20U;
        auto session = Session::open(*document, catalogue_, options);
        if (!session)
            return isSaid(session.error());
        ++taken_["benches"];
        (*session)->advance(Time(2ms));
        for (const bench::Finding& f : (*session)->findings())
            QVERIFY(!f.message.empty() && f.message.find('\n') == std::string::npos);
    }

    void elfFiles_data() { seeds(200); }

    // Headers, sections and debug information alike; what can be loaded runs, and is asked for all that it says of itself.
    void elfFiles()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "elf");
        ++given_["firmware"];
        static const std::vector<std::string> kFiles{"withy-lock/firmware/withy-lock.elf", "frost-alarm/firmware/frost.elf", "tide-clock/firmware/tide-clock.elf"};
        const std::string original = path("benches") + "/" + kFiles[below(random, kFiles.size())];
        std::string bytes = contentsOf(original);
        QVERIFY2(bytes.size() > 1000, original.c_str());
        bytes = spoilt(std::move(bytes), random, false);
        const std::string file = path("spoilt.elf");
        write(file, bytes);
        const debug::FrameTable frames = debug::FrameTable::fromElf(file);
        debug::Symbols symbols = debug::Symbols::fromElf(file);
        for (std::uint32_t at = 0; at < 0x2000; at += 2) {
            (void)symbols.at(at);
            (void)symbols.functionAt(at);
        }
        const auto firmware = chip::readElf("spoilt.elf", std::vector<std::uint8_t>(bytes.begin(), bytes.end()), *chip::findDevice("atmega328p"));
        if (!firmware)
            return isSaid(firmware.error());
        const auto document = bench::parseDocument("bench", "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"" + file + "\"\n");
        auto session = Session::open(*document, catalogue_, {.folder = folder_.path().toStdString(), .historyBytes = 1U << 20U});
        if (!session)
            return isSaid(session.error());
        ++taken_["firmware"];
        (*session)->advance(Time(3ms));
        Debugger debugger(**session);
        const auto& unit = (*session)->world().chips()[0];
        const ChipTarget target(unit);
        Program& program = (*session)->program("mcu");
        const auto stack = debugger.frames();
        QVERIFY(!stack.empty());
        debug::Evaluator evaluator(program.symbols, target, &stack[0]);
        for (const debug::Variable& v : program.symbols.variables())
            if (const auto value = evaluator.read(v); value)
                (void)evaluator.format(*value, debug::Radix::decimal);
            else
                isSaid(value.error());
    }

    void hexFiles_data() { seeds(100); }

    void hexFiles()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "hex");
        std::vector<std::uint8_t> image;
        for (int i = 0; i < 700; ++i)
            image.push_back(static_cast<std::uint8_t>(random.below(256)));
        const std::string text = spoilt(chip::writeIntelHex(image), random, true);
        const auto read = chip::readIntelHex("spoilt.hex", std::vector<std::uint8_t>(text.begin(), text.end()), *chip::findDevice("atmega328p"));
        // Its sums guard each line: what is read is what was written, or a part of it.
        if (!read)
            return isSaid(read.error());
        QVERIFY(read->flash.size() <= 32768);
    }

    void captures_data() { seeds(150); }

    void captures()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "vcd");
        ++given_["captures"];
        std::string text = "$date today $end\n$timescale 10 ns $end\n$scope module gate $end\n$var wire 1 ! open $end\n$var wire 1 \" shut $end\n$var wire 8 # count [7:0] $end\n$upscope $end\n$enddefinitions $end\n#0\n$dumpvars\n0!\n1\"\nb0 #\n$end\n";
        for (int i = 1; i < 60; ++i)
            text += "#" + std::to_string(i * 37) + "\n" + (i % 2 != 0 ? "1!\n" : "0!\n") + (i % 5 == 0 ? "x\"\n" : "") + "b1010101 #\n";
        const auto read = tape::parseVcd("capture.vcd", spoilt(text, random, true));
        if (!read)
            return isSaid(read.error());
        ++taken_["captures"];
        for (tape::ChannelId c = 0; c < (*read)->tape.channelCount(); ++c)
            (void)(*read)->tape.columns(c, Time{}, std::max((*read)->end, Time(1ns)), 100);
    }

    void recordings_data() { seeds(40); }

    void recordings()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "recording");
        static const std::string kWhole = [this] {
            const auto document = bench::loadDocument(path("benches") + "/withy-lock/bench.toml");
            auto session = Session::open(*document, catalogue_, {.folder = path("benches") + "/withy-lock"});
            (*session)->advance(Time(80ms));
            return (*session)->saveRecording(path("whole.bramix-run")) ? contentsOf(path("whole.bramix-run")) : std::string();
        }();
        QVERIFY(kWhole.size() > 10'000);
        const std::string bytes = spoilt(kWhole, random, false);
        write(path("spoilt.bramix-run"), bytes);
        const auto read = readRecording(path("spoilt.bramix-run"));
        QVERIFY(!read || bytes == kWhole);  // its sum tells
        if (!read)
            isSaid(read.error());
    }

    // A checksum says that nothing was damaged on the way, not that what is in it makes sense.
    void recordingsWithARightChecksum_data() { seeds(60); }

    void recordingsWithARightChecksum()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "recordings inside");
        static const std::string good = [this] {
            const std::string folder = path("benches") + "/bell-rope";
            auto s = std::move(*Session::open(*bench::loadDocument(folder + "/bench.toml"), catalogue_, {.folder = folder}));
            s->advance(Time(50ms));
            const std::string file = path("good.bramix-run");
            if (!s->saveRecording(file))
                qFatal("no recording");
            return contentsOf(file);
        }();
        constexpr std::size_t kHead = 19 + 8 + 4;  // the name, the length, the checksum
        std::string inside = good.substr(kHead);
        for (int i = 0; i < 1 + seed % 4; ++i) {
            const std::size_t at = below(random, seed % 2 == 0 ? std::min<std::size_t>(inside.size(), 4000) : inside.size());
            inside[at] = static_cast<char>(seed % 3 == 0 ? 0xFF : random.below(256));
        }
        std::uint32_t sum = 0xFFFFFFFFU;
        for (const char c : inside) {
            sum ^= static_cast<std::uint8_t>(c);
            for (int k = 0; k < 8; ++k)
                sum = (sum & 1U) != 0 ? 0xEDB88320U ^ (sum >> 1U) : sum >> 1U;
        }
        sum ^= 0xFFFFFFFFU;
        std::string whole = good.substr(0, 19 + 8);
        whole.append(reinterpret_cast<const char*>(&sum), sizeof sum);
        const std::string file = path("inside.bramix-run");
        write(file, whole + inside);
        auto recording = readRecording(file);
        if (!recording)
            return isSaid(recording.error());
        if (const auto unpacked = unpackBench(*recording, path("inside")); !unpacked)
            return isSaid(unpacked.error());
    }

    // Whatever a client says, the server answers or is silent, and stays.
    void aDebuggersPackets_data() { seeds(60); }

    void aDebuggersPackets()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "packets");
        const std::string folder = path("benches") + "/bell-rope";
        auto s = std::move(*Session::open(*bench::loadDocument(folder + "/bench.toml"), catalogue_, {.folder = folder, .historyBytes = 1U << 20U}));
        Debugger debugger(*s);
        GdbServer server(*s, debugger);
        server.begin();
        static const std::vector<std::string> kWords{"qRcmd,", "qRcmd,70696e20", "qRcmd,20", "qRcmd,73657420", "qRcmd,736574206d63752e52455345542020", "m", "m0,ffffffff", "mffffffff,ffffffff", "M800100,4:", "X800100,4:", "Z0,", "Z2,800100,ffffffff", "z9", "vCont;", "vCont;x", "vFlashErase:",
                                                     "vFlashWrite:0:}", "vFlashDone", "G", "P", "P99=00", "p", "qXfer:features:read:target.xml:ffffffff,ffffffff", "qXfer:features:read:", "qXfer:memory-map:read::", "H", "T", "?", "b", "bs", "bc", "D", "QStartNoAckMode"};
        for (int i = 0; i < 40; ++i) {
            std::string body = kWords[below(random, kWords.size())];
            if (below(random, 3) == 0)
                for (std::size_t n = below(random, 6); n-- > 0;)
                    body += static_cast<char>(33 + random.below(90));
            unsigned sum = 0;
            for (const char c : body)
                sum += static_cast<unsigned char>(c);
            static constexpr char kHex[] = "0123456789abcdef";
            (void)server.take("$" + body + "#" + kHex[sum >> 4U & 15U] + kHex[sum & 15U]);
            if (server.wants() == GdbServer::Wants::detach || server.wants() == GdbServer::Wants::kill)
                server.begin();
            if (server.wants() == GdbServer::Wants::run)
                (void)server.take("\x03");
        }
        // Much of nothing takes as long as it is.
        std::string garbage(2'000'000, '+');
        for (std::size_t k = 0; k < garbage.size(); k += 7)
            garbage[k] = static_cast<char>(random.below(256));
        std::erase(garbage, '-');
        std::erase(garbage, '$');
        QVERIFY(server.take(garbage).size() < 1'000);
        QVERIFY(!server.take("$?#3f").empty());
    }

    void curves_data() { seeds(60); }

    void curves()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "curve");
        const std::string text = spoilt("time_s,level\n0,1.5\n0.5,2\n1,2.25\n2.5,-3\n4,1e-3\n", random, true);
        if (const auto curve = bench::parseCurve("level.csv", text); !curve)
            isSaid(curve.error());
        else
            for (const auto& [time, value] : *curve)
                QVERIFY(std::isfinite(time) && std::isfinite(value));
        if (const auto trace = bench::parseTrace(spoilt("volts mcu.PC0 mean", random, true)); !trace)
            isSaid(trace.error());
    }

    void words_data() { seeds(250); }

    // What a person types: lanes, searches, stops, expressions, quantities, pins.
    void words()
    {
        QFETCH(int, seed);
        Random random(static_cast<std::uint64_t>(seed), "words");
        static const std::unique_ptr<Session> kLock = [this] {
            const auto document = bench::loadDocument(path("benches") + "/withy-lock/bench.toml");
            auto session = Session::open(*document, catalogue_, {.folder = path("benches") + "/withy-lock", .historyBytes = 8U << 20U});
            (*session)->advance(Time(100ms));
            return std::move(*session);
        }();
        static const std::vector<std::string> kSamples{
            "i2c:SDA=mcu.PC4,SCL=mcu.PC5", "uart:mcu.PD1,baud=9600,parity=even", "volts mcu.PC0", "value mcu.PD4 mcu.PD5", "functions mcu", "variable mcu gates[0].cm", "variable mcu sum in mean", "group Motor",
            "high < 5us", "> 2ms", "48 65 6C", "\"ready\"", "by lock.c:42", "finding stop", "TIMER1", "pulse mcu.PB3 high < 5us", "pattern mcu.PD4=1 mcu.PD5=0", "sequence rise mcu.PB0, fall mcu.PB1, rise mcu.PB2 within 2ms",
            "reads uart:mcu.PD1 \"nack\"", "change gates[0].cm", "lock.c:41", "rise mcu.PB3", "write ticks", "access 0x0104:2", "gates[1].cm * (3 + ticks) >> 2 == -1 && !*(&ticks)", "((ticks))", "r24:r25", "@0x100", "PORTB & 0x20", "1.5 kHz", "4k7", "12us", "mcu.PB3"};
        const std::string text = spoilt(kSamples[below(random, kSamples.size())], random, true);
        if (const auto lane = parseLane(text); !lane)
            isSaid(lane.error());
        else if (lane->kind == LaneSpec::Kind::decoded) {
            if (const auto read = readAll(*kLock, text, Time{}, Time(50ms), 1000); !read)
                isSaid(read.error());
        }
        for (const bool forward : {true, false})
            if (const auto hit = searchTape(*kLock, {text, "mcu.PB3", {"uart:mcu.PD1"}, Time(40ms), forward}); !hit)
                isSaid(hit.error());
        if (const auto trigger = parseTrigger(text, [](const std::string& pin) { return bench::parsePinRef(pin); }); !trigger)
            isSaid(trigger.error());
        Debugger debugger(*kLock);
        bench::StopItem stop;
        stop.at = text;
        stop.when = spoilt("ticks > 3", random, true);
        stop.say = spoilt("{ticks} and {gates[0].cm}", random, true);
        debugger.setStops({stop});
        QCOMPARE(debugger.stops().size(), std::size_t{1});
        const ChipTarget target(kLock->world().chips()[0]);
        debug::Evaluator evaluator(kLock->program("mcu").symbols, target, nullptr);
        if (const auto value = evaluator.evaluate(text); value)
            (void)evaluator.format(*value, debug::Radix::decimal);
        else
            isSaid(value.error());
        if (const auto number = kernel::parseQuantity(text, kernel::Unit::second); number)
            QVERIFY(!std::isnan(*number));
        (void)bench::parsePinRef(text);
        (void)debugger.advance(kLock->world().now() + 100us);
    }

    // Spoilt, but not past all use: what lies behind the readers has been reached.
    void cleanupTestCase()
    {
        for (const auto& [kind, given] : given_)
            QVERIFY2(given < 100 || taken_[kind] > given / 20, qPrintable(QString("%1 of %2 %3").arg(taken_[kind]).arg(given).arg(kind.c_str())));
    }
};

QTEST_GUILESS_MAIN(BrokenInputTest)
#include "broken_input_test.moc"
