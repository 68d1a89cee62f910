// A running bench: the parts on it, findings, determinism, saving and restoring, changing it while it runs.
#include <QtTest>

#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "bench/edit.h"
#include "session/live/live_session.h"
#include "session/session.h"

using namespace bramix;
using namespace bramix::session;
using namespace std::chrono_literals;

namespace {

std::string example(const char* name) { return bench::shareFolder() + "/benches/" + name; }

// Hand-assembled images as Intel HEX would be tedious; raw flash does.
std::string image(const QTemporaryDir& folder, const char* name, std::initializer_list<std::uint16_t> words)
{
    const QString path = folder.filePath(QString(name) + ".bin");
    QFile file(path);
    if (file.open(QIODevice::WriteOnly))
        for (const std::uint16_t w : words) {
            file.putChar(static_cast<char>(w));
            file.putChar(static_cast<char>(w >> 8));
        }
    return path.toStdString();
}

}  // namespace

class SessionTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;

    std::unique_ptr<Session> open(const std::string& text, std::uint64_t seed = 1)
    {
        auto document = bench::parseDocument("test.toml", text);
        if (!document) {
            qWarning("%s", document.error().text().c_str());
            return nullptr;
        }
        if (const auto ok = bench::checkDocument(*document, catalogue_, "test.toml"); !ok) {
            qWarning("%s", ok.error().text().c_str());
            return nullptr;
        }
        SessionOptions options;
        options.seed = seed;
        options.folder = example("withy-lock");
        auto session = Session::open(*document, catalogue_, options);
        if (!session)
            qWarning("%s", session.error().text().c_str());
        return session ? std::move(*session) : nullptr;
    }

    std::unique_ptr<Session> openLock(std::uint64_t seed = 1)
    {
        SessionOptions options;
        options.seed = seed;
        options.folder = example("withy-lock");
        return std::move(*Session::open(*bench::loadDocument(example("withy-lock/bench.toml")), catalogue_, options));
    }

    static kernel::Snapshot save(Session& s)
    {
        kernel::SaveArchive ar;
        ar(s.world());
        return ar.take();
    }

    static std::vector<std::string> rules(const Session& s)
    {
        std::vector<std::string> out;
        for (const auto& f : s.world().findings())
            out.push_back(f.rule);
        return out;
    }

    static std::string board(const std::string& firmware) { return "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"" + firmware + "\"\n"; }

private slots:
    void initTestCase()
    {
        auto catalogue = bench::Catalogue::loadInstalled();
        QVERIFY2(catalogue, catalogue ? "" : catalogue.error().text().c_str());
        catalogue_ = std::move(*catalogue);
    }

    void theLockLetsBoatsGo()
    {
        auto s = openLock();
        std::string said;
        s->onSerial = [&](const SerialByte& b) {
            if (b.fromChip)
                said += static_cast<char>(b.byte);
        };
        s->world().runUntil(Time(500ms));
        QVERIFY(s->setControl("keeper", "pressed", 1).has_value());
        s->world().runUntil(Time(600ms));
        QVERIFY(s->setControl("keeper", "pressed", 0).has_value());
        s->world().runUntil(Time(3s));
        QCOMPARE(said, "Withy Lock, boats stop\r\nupper gate closed, lower gate closed\r\nkeeper rings\r\npaddles moving\r\nboats go, passage 1\r\n");
        // One ring, though the contacts bounced.
        const auto keeper = s->channelOf({"keeper", "2"});
        QVERIFY(s->tape().count(keeper) > 6);
        // The edge that lit the go lamp knows the line that did it.
        const auto go = s->channelOf({"mcu", "PB0"});
        const tape::Edge& edge = s->tape().edge(go, s->tape().count(go) - 1);
        QCOMPARE(edge.state, 1);
        QVERIFY2(s->place("mcu", edge.code).full().starts_with("show_lamps() at "), s->place("mcu", edge.code).full().c_str());
        QVERIFY(s->place("mcu", edge.code).brief().starts_with("lock.c:"));
        // The gates move for a second and a half before that.
        const auto moving = s->channelOf({"mcu", "PB1"});
        std::size_t rise = 0;
        while (s->tape().edge(moving, rise).state != 1)
            ++rise;
        const double first = kernel::seconds(s->tape().edge(moving, rise).at);
        QVERIFY(std::abs(kernel::seconds(edge.at) - first - 1.5) < 0.01);
        QVERIFY(s->world().findings().empty());
        // The lamp burns at (5 - Vf) / (330 + 25 + Rs).
        for (const auto& light : s->world().lights())
            if (light.part == "go") {
                const double amps = s->world().circuit().current(light.element).value;
                QVERIFY(amps > 0.007 && amps < 0.009);
            }
    }

    void theSameInputsGiveTheSameRunAndAnotherSeedAnother()
    {
        const auto run = [this](std::uint64_t seed) {
            auto s = openLock(seed);
            s->world().runUntil(Time(100ms));
            (void)s->setControl("keeper", "pressed", 1);
            s->world().runUntil(Time(150ms));
            s->send(0, "?");
            s->world().runUntil(Time(300ms));
            return save(*s);
        };
        QVERIFY(run(1) == run(1));
        QVERIFY(run(1) != run(2));
    }

    void aRestoredWorldGoesOnBitForBit()
    {
        auto s = openLock();
        kernel::Random random(5);
        s->world().runUntil(Time(400ms));
        (void)s->setControl("keeper", "pressed", 1);
        for (int i = 0; i < 12; ++i) {
            // Anywhere: in the middle of bounces, of a byte on the line, asleep.
            const Time middle = s->world().now() + kernel::Duration(static_cast<std::int64_t>(random.below(4'000'000'000)));
            s->world().runUntil(middle);
            const kernel::Snapshot snapshot = save(*s);
            const Time later = middle + 30ms;
            s->world().runUntil(later);
            const kernel::Snapshot straight = save(*s);
            kernel::LoadArchive ar(snapshot);
            ar(s->world());
            QVERIFY(save(*s) == snapshot);
            s->world().runUntil(later);
            QVERIFY2(save(*s) == straight, qPrintable(QString("round %1").arg(i)));
        }
    }

    void aBenchChangesWhileItRunsAndTheFirmwareDoesNotNotice()
    {
        auto s = openLock();
        auto steady = openLock();
        for (Session* x : {s.get(), steady.get()})
            x->world().runUntil(Time(777ms));
        bench::Document d = s->document();
        d.part("r1")->set["resistance"] = "10k";
        bench::PartItem extra;
        extra.id = "spare";
        extra.kind = "led";
        d.parts.push_back(extra);
        QVERIFY(s->edit(d).has_value());
        QCOMPARE(s->world().now(), steady->world().now());
        for (Session* x : {s.get(), steady.get()})
            x->world().runUntil(Time(2s));
        QVERIFY(kernel::saveState(chip::avr::chipOf(*s->world().chips()[0].chip).cpu()) == kernel::saveState(chip::avr::chipOf(*steady->world().chips()[0].chip).cpu()));
        // A bench that cannot be built leaves the old one as it is.
        d.part("r1")->set["resistance"] = "much";
        const auto refused = s->edit(d);
        QVERIFY(!refused);
        QCOMPARE(refused.error().text(), std::string("r1.resistance: cannot read \"much\": expected a resistance, such as 330 or 4k7"));
        s->world().runUntil(Time(2100ms));
        QCOMPARE(s->world().now(), Time(2100ms));
    }

    void aBoardAddedLaterStartsAtThePresent()
    {
        auto s = open("bramix = 1\n");
        s->world().runUntil(Time(1s));
        bench::Document d = s->document();
        bench::addPart(d, *catalogue_.find("briar-328"), {0, 0});
        d.parts[0].firmware = image(folder_, "wait", {0xCFFF});
        QVERIFY(s->edit(d).has_value());
        s->world().runUntil(Time(1002ms));
        // 16 K clocks and 14 for the crystal, then a jump of two cycles until a millisecond is over.
        QVERIFY(chip::avr::chipOf(*s->world().chips()[0].chip).cpu().cycle <= 32'000 + 8);
        QVERIFY(chip::avr::chipOf(*s->world().chips()[0].chip).cpu().instructions <= (32'000 + 8 - 16'398) / 2);
        QVERIFY(chip::avr::chipOf(*s->world().chips()[0].chip).cpu().instructions > 7'700);
    }

    void twoOutputsThatFightAreFoundWithTheirCode()
    {
        // sbi DDRB,0 ; sbi PORTB,0 ; sbi DDRB,1 ; rjmp .-2 with PB0 and PB1 wired together
        const std::string file = image(folder_, "fight", {0x9A20, 0x9A28, 0x9A21, 0xCFFF});
        auto s = open(board(file) + "[[wire]]\nends = [\"mcu.PB0\", \"mcu.PB1\"]\n");
        QVERIFY(s != nullptr);
        s->world().runUntil(Time(3ms));
        QVERIFY(rules(*s) == (std::vector<std::string>{"outputs-fight", "pin-overload"}) || rules(*s) == (std::vector<std::string>{"outputs-fight", "pin-overload", "pin-overload"}));
        const auto f = s->world().findings()[0];
        QCOMPARE(*f.code, 4U);  // the third instruction
        QVERIFY(f.message.find("mcu.PB0") != std::string::npos && f.message.find("mcu.PB1") != std::string::npos);
    }

    void anLedWithoutResistorOverloadsItsPinAndOneWithDoesNot()
    {
        const std::string file = image(folder_, "lamp", {0x9A20, 0x9A28, 0xCFFF});
        const std::string led = "[[part]]\nid = \"led\"\nkind = \"led\"\n[[net]]\nname = \"GND\"\npins = [\"led.K\", \"mcu.GND\"]\n";
        auto bare = open(board(file) + led + "[[wire]]\nends = [\"mcu.PB0\", \"led.A\"]\n");
        bare->world().runUntil(Time(3ms));
        QCOMPARE(rules(*bare), (std::vector<std::string>{"led-without-resistor", "pin-overload"}));
        auto good = open(board(file) + led + "[[part]]\nid = \"r\"\nkind = \"resistor\"\n[[wire]]\nends = [\"mcu.PB0\", \"r.1\"]\n[[wire]]\nends = [\"r.2\", \"led.A\"]\n");
        good->world().runUntil(Time(3ms));
        QVERIFY(rules(*good).empty());
    }

    void aWiredInputThatFloatsIsFoundWhenItIsRead()
    {
        // in r16,PIND ; rjmp .-4
        const std::string file = image(folder_, "float", {0xB109, 0xCFFE});
        const std::string key = "[[part]]\nid = \"key\"\nkind = \"push-button\"\n[[wire]]\nends = [\"key.1\", \"mcu.PD2\"]\n[[net]]\nname = \"GND\"\npins = [\"key.2\", \"mcu.GND\"]\n";
        auto s = open(board(file) + key);
        s->world().runUntil(Time(12ms));  // of what is read and thrown away nobody knows what it is for
        QCOMPARE(rules(*s), std::vector<std::string>{"floating-input"});
        QCOMPARE(s->world().findings()[0].where, "mcu.PD2");
        auto pulled = open(board(file) + key + "[[part]]\nid = \"r\"\nkind = \"resistor\"\nset = { resistance = \"10k\" }\n[[wire]]\nends = [\"r.1\", \"mcu.PD2\"]\n[[wire]]\nends = [\"r.2\", \"mcu.5V\"]\n");
        pulled->world().runUntil(Time(12ms));
        QVERIFY(rules(*pulled).empty());
    }

    void suppliesJoinedAreAShort()
    {
        auto s = open("bramix = 1\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\n[[part]]\nid = \"g\"\nkind = \"ground\"\n[[wire]]\nends = [\"v.V\", \"g.V\"]\n");
        QCOMPARE(rules(*s), std::vector<std::string>{"supply-short"});
    }

    void contactsBounceWithinTheirTimeOrNotAtAll()
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\n[[part]]\nid = \"g\"\nkind = \"ground\"\n[[part]]\nid = \"r\"\nkind = \"resistor\"\n"
                                 "[[part]]\nid = \"key\"\nkind = \"push-button\"\nset = { bounce = \"BOUNCE\" }\n"
                                 "[[wire]]\nends = [\"v.V\", \"r.1\"]\n[[wire]]\nends = [\"r.2\", \"key.1\"]\n[[wire]]\nends = [\"key.2\", \"g.V\"]\n";
        for (const char* bounce : {"5ms", "off"}) {
            std::string with = text;
            with.replace(with.find("BOUNCE"), 6, bounce);
            auto s = open(with);
            QVERIFY(s != nullptr);
            s->world().runUntil(Time(10ms));
            (void)s->setControl("key", "pressed", 1);
            s->world().runUntil(Time(50ms));
            const auto channel = s->channelOf({"key", "1"});
            const std::size_t edges = s->tape().count(channel) - 1;
            if (std::string(bounce) == "off") {
                QCOMPARE(edges, 1U);
            } else {
                QVERIFY(edges >= 5 && edges % 2 == 1);
                QVERIFY(s->tape().edge(channel, edges).at <= Time(15ms));
            }
            QCOMPARE(s->tape().stateAt(channel, Time(50ms)), 0);
        }
    }

    void aSlideSwitchBreaksBeforeItMakes()
    {
        auto s = open("bramix = 1\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\n[[part]]\nid = \"g\"\nkind = \"ground\"\n[[part]]\nid = \"sw\"\nkind = \"slide-switch\"\n"
                      "[[wire]]\nends = [\"v.V\", \"sw.A\"]\n[[wire]]\nends = [\"g.V\", \"sw.B\"]\n");
        const auto channel = s->channelOf({"sw", "C"});
        s->world().runUntil(Time(5ms));
        QCOMPARE(s->tape().stateAt(channel, Time(5ms)), 1);
        (void)s->setControl("sw", "position", 1);
        s->world().runUntil(Time(20ms));
        QCOMPARE(s->tape().stateAt(channel, Time(20ms)), 0);
        QVERIFY(rules(*s).empty());  // never both
    }

    void resetStopsTheFirmwareAndStartsItAgain()
    {
        auto s = openLock();
        std::string said;
        s->onSerial = [&](const SerialByte& b) { said += static_cast<char>(b.byte); };
        s->world().runUntil(Time(100ms));
        said.clear();
        (void)s->setControl("mcu", "RESET", 0);
        s->world().runUntil(Time(200ms));
        const auto cycles = chip::avr::chipOf(*s->world().chips()[0].chip).cpu().cycle;
        s->world().runUntil(Time(300ms));
        QCOMPARE(chip::avr::chipOf(*s->world().chips()[0].chip).cpu().cycle, cycles);
        QVERIFY(said.empty());
        (void)s->setControl("mcu", "RESET", 1);
        s->world().runUntil(Time(400ms));
        QVERIFY(said.starts_with("Withy Lock"));
    }

    void restartKeepsThePositionsOfSwitches()
    {
        auto s = openLock();
        (void)s->setControl("upper", "position", 1);
        s->world().runUntil(Time(100ms));
        QVERIFY(s->restart().has_value());
        QCOMPARE(s->world().now(), Time{});
        QCOMPARE(s->world().control("upper", "position"), 1.0);
        QCOMPARE(s->world().control("lower", "position"), 0.0);
    }

    // A probe that is taken off takes nothing more, and those that stay miss nothing.
    void probesComeAndGoWhileItRuns()
    {
        SessionOptions options;
        options.folder = example("frost-alarm");
        auto s = std::move(*Session::open(*bench::loadDocument(example("frost-alarm/bench.toml")), catalogue_, options));
        const bench::PinRef stays{"mcu", "PD6"};
        s->setProbes({stays});
        for (int i = 0; i < 40; ++i) {
            std::vector<bench::PinRef> pins{stays};
            for (int k = 0; k < i % 4; ++k)
                pins.push_back({"mcu", "PB" + std::to_string((i + k) % 6)});
            s->setProbes(pins);
            s->world().runUntil(s->world().now() + 333us);
        }
        const tape::Waveform* w = s->waveform(stays);
        QVERIFY(w != nullptr);
        QCOMPARE(w->knownTo(), s->world().now());
        QVERIFY(w->knownFrom() < Time(1ms));
        const auto measures = w->measure(Time(1ms), s->world().now());
        QVERIFY(measures && measures->most > 4.5);
        s->setProbes({});
        QVERIFY(s->waveform(stays) == nullptr);
    }

    void aFaultNamesFunctionFileAndLine()
    {
        auto s = openLock();
        s->world().runUntil(Time(200ms));
        auto& cpu = chip::avr::chipOf(*s->world().chips()[0].chip).cpu();
        QVERIFY(s->place("mcu", cpu.pc * 2).line > 0);
        std::vector<std::uint16_t> flash = cpu.flash();
        const std::uint32_t at = cpu.pc;
        flash[at] = 0x0001;
        cpu.loadFlash(flash);
        s->world().runUntil(Time(400ms));
        QVERIFY(s->world().faulted());
        const std::string text = s->faultText();
        QVERIFY2(text.starts_with("mcu: undefined instruction 0x0001, by the instruction at 0x") && text.find("() at ") != std::string::npos && text.find("lock.c:") != std::string::npos, text.c_str());
    }

    void aWrongBaudOnTheBridgeGarbles()
    {
        std::string lock = "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"firmware/withy-lock.elf\"\nset = { baud = \"9600\" }\n";
        auto s = open(lock);
        QVERIFY(s != nullptr);
        std::string said;
        s->onSerial = [&](const SerialByte& b) { said += static_cast<char>(b.byte); };
        s->world().runUntil(Time(100ms));
        QVERIFY(!said.empty());
        QVERIFY(said.find("Withy") == std::string::npos);
    }

    void theLiveSessionRunsPausesAndAnswers()
    {
        LiveSession live(catalogue_);
        live.open(*bench::loadDocument(example("withy-lock/bench.toml")), example("withy-lock"));
        live.settle();
        QVERIFY(live.picture()->powered);
        QVERIFY(!live.picture()->running);
        live.setFullSpeed(true);
        live.run();
        QTRY_VERIFY(live.picture()->now > Time(500ms));
        live.setControl("keeper", "pressed", 1);
        live.settle();
        QCOMPARE(live.picture()->controls.at("keeper.pressed"), 1.0);
        live.pause();
        live.settle();
        const Time now = live.picture()->now;
        QTest::qWait(30);
        QCOMPARE(live.picture()->now, now);
        live.step();
        live.settle();
        QVERIFY(live.picture()->now > now);
        live.restart();
        live.settle();
        QCOMPARE(live.picture()->now, Time{});
        std::string said;
        for (const SerialByte& b : live.takeSerial())
            said += static_cast<char>(b.byte);
        QVERIFY(said.find("Withy Lock") != std::string::npos);
        live.loadFirmware("mcu", "/nowhere.elf");
        live.settle();
        const auto messages = live.takeMessages();
        QCOMPARE(messages.size(), 1U);
        QVERIFY(messages[0].error);
    }
};

QTEST_GUILESS_MAIN(SessionTest)
#include "session_test.moc"
