// Everything that a person may do to a session, in random order: run, go back and on, turn, press, send, rewire, measure, look into the past, ask why, search,
// watch. Whatever was done, what is left is the run that its own log of inputs tells: done again from power-up by a fresh session it gives the same state,
// bit for bit, and the same tape. Rough hands rewire, write memory, move the program counter and begin anew too: there, nothing breaks.
#include <QtTest>

#include <filesystem>

#include "bench/document.h"
#include "kernel/random.h"
#include "session/lanes/edge_story.h"
#include "session/profile/function_times.h"
#include "session/lanes/heard_lane.h"
#include "session/keeper_bench.h"
#include "session/lanes/read_lanes.h"
#include "session/recording/recording.h"
#include "session/lanes/tape_search.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Duration;
using kernel::Time;

class RandomHandsTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    bench::Document document_;
    std::string folder_;
    QTemporaryDir recordings_;

    [[nodiscard]] std::unique_ptr<Session> open() const
    {
        SessionOptions options;
        options.folder = folder_;
        options.historyBytes = 16U << 20U;
        options.readEdges = 5'000;
        auto s = Session::open(document_, catalogue_, options);
        return s ? std::move(*s) : nullptr;
    }
    static std::string lines(const EdgeStory& story)
    {
        std::string out;
        for (const std::string& l : story.lines)
            out += l + "\n";
        return out;
    }

private slots:
    void initTestCase()
    {
        catalogue_ = std::move(*bench::Catalogue::loadInstalled());
        const std::string file = bench::shareFolder() + "/benches/withy-lock/bench.toml";
        folder_ = std::filesystem::path(file).parent_path().string();
        auto document = bench::loadDocument(file);
        QVERIFY(document.has_value());
        document_ = std::move(*document);
    }

    void whatIsLeftIsWhatTheLogTells_data()
    {
        QTest::addColumn<int>("seed");
        QTest::addColumn<bool>("rough");
        for (int seed = 1; seed <= 20; ++seed)
            QTest::newRow(qPrintable(QString::number(seed))) << seed << false;
        for (int seed = 1; seed <= 20; ++seed)
            QTest::newRow(qPrintable(QString("rough %1").arg(seed))) << seed << true;
    }

    void whatIsLeftIsWhatTheLogTells()
    {
        QFETCH(int, seed);
        QFETCH(bool, rough);
        kernel::Random random(static_cast<std::uint64_t>(seed), "hands");
        const auto below = [&](std::int64_t n) { return static_cast<std::int64_t>(random.below(static_cast<std::uint64_t>(std::max<std::int64_t>(n, 1)))); };
        auto s = open();
        QVERIFY(s != nullptr);
        Lookback look(*s, catalogue_);
        LaneReader reader;
        const auto within = [&] { return Time(Duration(below((s->latest() - Time{}).count() + 1))); };
        // What can be asked for: each pin that a wire ends at, each lane that has something to read.
        std::vector<bench::PinRef> pins;
        for (const bench::WireItem& w : document_.wires)
            for (const bench::PinRef& end : {w.from, w.to})
                if (!end.part.empty() && !end.pin.empty())
                    pins.push_back(end);
        const std::vector<std::string> lanes{"i2c:SDA=mcu.PC4,SCL=mcu.PC5", "uart:mcu.PD1", "servo:mcu.PD6", "interrupts mcu", "functions mcu", "variable mcu ticks", "variable mcu nothing", "volts mcu.PC0", "value mcu.PB0 mcu.PB1", "capture none", "nonsense"};
        struct Dial {
            const char *part, *control;
            double most;
        };
        const std::vector<Dial> dials{{"keeper", "pressed", 1}, {"upper", "position", 1}, {"lower", "position", 1}, {"level", "level", 1}};
        for (int step = 0; step < 90; ++step) {
            switch (below(rough ? 18 : 12)) {
            case 0: case 1: case 2: s->advance(s->world().now() + Duration(below(30'000'000'000))); break;
            case 3: {
                const Dial& d = dials[static_cast<std::size_t>(below(static_cast<std::int64_t>(dials.size())))];
                const auto ok = s->setControl(d.part, d.control, static_cast<double>(below(2)) * d.most);
                QVERIFY2(ok.has_value() || ok.error().text().find("control") != std::string::npos, ok ? "" : ok.error().text().c_str());
                break;
            }
            case 4: s->send(0, std::string(1, static_cast<char>('a' + below(26)))); break;
            case 5: {
                const Time t = within();
                if (s->travel(t).has_value())
                    QVERIFY(s->world().now() >= t);
                break;
            }
            case 6: s->setProbes({pins[static_cast<std::size_t>(below(static_cast<std::int64_t>(pins.size())))]}); break;
            case 7: {
                const Time from = within(), to = from + Duration(below(20'000'000'000) + 1);
                std::vector<std::string> some;
                for (const std::string& lane : lanes)
                    if (below(2) == 0)
                        some.push_back(lane);
                const auto before = stateOf(*s);
                std::vector<ReadLane> read;
                reader.read(*s, look, some, {from, to, 200}, read);
                for (int i = 0; i < 3; ++i)
                    (void)look.work(2ms);
                read.clear();
                reader.read(*s, look, some, {from, to, 200}, read);
                s->alsoWatch(some);
                QCOMPARE(read.size(), some.size());
                QVERIFY(stateOf(*s) == before);  // looking changes nothing
                break;
            }
            case 8: {
                const bench::PinRef& pin = pins[static_cast<std::size_t>(below(static_cast<std::int64_t>(pins.size())))];
                const tape::ChannelId c = s->channelOf(pin);
                const std::size_t count = c == UINT32_MAX ? 0 : s->tape().after(c, s->world().now());
                if (count == 0)
                    break;
                const auto before = stateOf(*s);
                const tape::Edge e = s->tape().edge(c, static_cast<std::size_t>(below(static_cast<std::int64_t>(count))));
                QVERIFY(!lines(storyOf(*s, look, pin, e.at)).empty());
                QVERIFY(stateOf(*s) == before);
                break;
            }
            case 9: {
                static const std::array kWords{"edge", "rise", "< 5us", "high > 2ms", "27", "ready", "TIMER", "finding stop", "by main", "by nobody", "", "> "};
                TapeQuery query;
                query.words = kWords[static_cast<std::size_t>(below(static_cast<std::int64_t>(kWords.size())))];
                query.lane = pins[static_cast<std::size_t>(below(static_cast<std::int64_t>(pins.size())))].text();
                query.reads = {lanes[0], lanes[1]};
                query.from = within();
                query.forward = below(2) == 0;
                if (const auto hit = searchTape(*s, query); hit && *hit && !(*hit)->more)
                    QVERIFY2(query.forward ? (*hit)->at > query.from : (*hit)->at < query.from, query.words.c_str());
                break;
            }
            case 10: (void)s->findings(); (void)usualReadLanes(*s); s->setTapeBytes(std::size_t{64} << 20U); break;
            case 11: (void)s->goTo(within()); break;
            // Rough ones: what is done to wiring, firmware and memory is not done again below.
            case 12: {
                bench::Document d = s->document();
                if (below(2) == 0 && !d.wires.empty())
                    d.wires.erase(d.wires.begin() + below(static_cast<std::int64_t>(d.wires.size())));
                else
                    d = document_;
                (void)s->edit(d);
                break;
            }
            case 13:
                if (below(4) == 0)
                    QVERIFY(s->restart().has_value());
                break;
            case 14: (void)s->replacePart("stop"); break;
            case 15: s->poke(0, below(2) == 0 ? debug::Space::data : debug::Space::eeprom, static_cast<std::uint32_t>(below(0x900)), static_cast<std::uint8_t>(below(256))); break;
            case 16:
                if (below(4) == 0)
                    s->setRegister(0, *s->world().chips()[0].chip->device().registerOf(chip::CoreRole::programCounter), 2 * below(0x400));
                break;
            default: {
                const std::string file = recordings_.filePath("run.bramix-run").toStdString();
                QVERIFY(s->saveRecording(file).has_value());
                auto recording = readRecording(file);
                QVERIFY2(recording.has_value(), recording ? "" : recording.error().text().c_str());
                auto opened = Session::open(s->document(), catalogue_, s->options());
                QVERIFY(opened.has_value());
                const Time latest = recording->latest;
                (*opened)->adopt(std::move(*recording));
                QVERIFY((*opened)->latest() == latest && (*opened)->findings().size() < 1000);
                (void)(*opened)->travel(Time(Duration(below((latest - Time{}).count() + 1))));
                break;
            }
            }
            // What is kept of lanes is what the tape says, whatever has been done.
            if (step % 9 == 8) {
                while (s->watchLines()) {}
                for (const std::string& lane : lanes)
                    if (const LaneLog* log = s->laneLog(lane); log != nullptr)
                        QVERIFY2(itemsOf(*log) == heardUpTo(*s, lane, log->at()), qPrintable(QString("%1, step %2").arg(lane.c_str()).arg(step)));
            }
            QVERIFY(s->world().now() <= s->latest() && s->earliest() <= s->world().now());
        }
        if (rough)
            return;
        // To the end of what has ever been run, where every input has been given.
        QVERIFY(s->travel(s->latest()).has_value());
        const auto fresh = open();
        for (const Input& input : s->inputs()) {
            if (input.at > s->world().now())
                break;
            fresh->advance(input.at);
            if (input.kind == Input::Kind::control) {
                const std::size_t point = input.target.rfind('.');
                QVERIFY(fresh->setControl(input.target.substr(0, point), input.target.substr(point + 1), input.value).has_value());
            } else {
                QCOMPARE(static_cast<int>(input.kind), static_cast<int>(Input::Kind::send));
                fresh->send(0, input.text);
            }
        }
        fresh->advance(s->world().now());
        QVERIFY(stateOf(*fresh) == stateOf(*s));
        const auto had = s->functionTimes().columns("mcu", Time{}, s->latest(), 300, s->behind()), truth = fresh->functionTimes().columns("mcu", Time{}, s->latest(), 300, false);
        QCOMPARE(had.parts.size(), truth.parts.size());
        for (std::size_t i = 0; i < had.parts.size(); ++i)
            QVERIFY(had.parts[i].column == truth.parts[i].column && (*had.names)[had.parts[i].id] == (*truth.names)[truth.parts[i].id] && had.parts[i].time == truth.parts[i].time);
        for (const bench::PinRef& pin : pins) {
            const tape::ChannelId a = s->channelOf(pin), b = fresh->channelOf(pin);
            const std::size_t count = s->tape().after(a, s->world().now());
            QVERIFY2(count == fresh->tape().after(b, s->world().now()), pin.text().c_str());
            for (std::size_t i = 0; i < count; ++i)
                QVERIFY2(s->tape().edge(a, i) == fresh->tape().edge(b, i), qPrintable(QString("%1, edge %2").arg(pin.text().c_str()).arg(i)));
        }
    }
};

QTEST_GUILESS_MAIN(RandomHandsTest)
#include "random_hands_test.moc"
