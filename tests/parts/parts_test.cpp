// Parts on their own: the serial line as sender and receiver, and the settings that parts refuse.
#include <QtTest>

#include "parts/part.h"
#include "parts/serial_line.h"

using namespace bramix;
using namespace bramix::parts;
using kernel::Duration;
using kernel::Time;
using namespace std::chrono_literals;

namespace {

// Two wires, and whatever is put on them.
struct Wires {
    kernel::EventQueue queue;
    circuit::Circuit circuit{queue};
    std::map<std::string, circuit::PinId> pins;
    std::map<std::string, std::string> settings;

    circuit::PinId pin(const std::string& net, const std::string& name)
    {
        if (!nets.contains(net))
            nets[net] = circuit.addNet(net);
        return pins[name] = circuit.addPin(nets[net], name);
    }

    PartContext context(const std::string& id)
    {
        return {.id = id,
                .queue = queue,
                .circuit = circuit,
                .cause = {},
                .seed = 1,
                .pin = [this](std::string_view name) { return pins.at(std::string(name)); },
                .setting = [this](std::string_view name) { return settings[std::string(name)]; },
                .remark = {},
                .files = {}};
    }

    std::unique_ptr<SerialLine> line(const std::string& baud)
    {
        settings["baud"] = baud;
        PartContext c = context("line");
        auto made = makePart("serial-line", c);
        return made ? std::unique_ptr<SerialLine>(static_cast<SerialLine*>(made->release())) : nullptr;
    }

    std::map<std::string, circuit::NetId> nets;
};

std::string errorOf(const char* behaviour, std::map<std::string, std::string> settings)
{
    Wires w;
    for (const char* name : {"1", "2", "A", "K", "C", "B", "V", "R", "T"})
        w.pin(name, name);
    w.settings = std::move(settings);
    PartContext c = w.context("x");
    const auto made = makePart(behaviour, c);
    return made ? "no error" : made.error().text();
}

}  // namespace

class PartsTest : public QObject {
    Q_OBJECT

private slots:
    void wrongSettingsNamePartAndSetting()
    {
        QCOMPARE(errorOf("resistor", {{"resistance", "4k7"}}), "no error");
        QCOMPARE(errorOf("resistor", {{"resistance", "many"}}), "x.resistance: cannot read \"many\": expected a resistance, such as 330 or 4k7");
        QCOMPARE(errorOf("resistor", {{"resistance", "0"}}), "x.resistance: 0 Ω; expected 1 mΩ to 1 TΩ");
        QCOMPARE(errorOf("led", {{"color", "plaid"}}), "x.color: \"plaid\"; expected red, amber, yellow, green, blue, white or infrared");
        QCOMPARE(errorOf("push-button", {{"bounce", "soon"}}), "x.bounce: cannot read \"soon\": expected a time, such as 2s, 350ms or 10us; \"off\" is a value too");
        QCOMPARE(errorOf("push-button", {{"bounce", "2s"}}), "x.bounce: \"2s\"; expected at most 1s, or \"off\"");
        QCOMPARE(errorOf("supply", {{"voltage", "5A"}}), "x.voltage: cannot read \"5A\": expected a voltage, such as 5V or 3.3V");
        QCOMPARE(errorOf("serial-line", {{"baud", "10"}}), "x.baud: \"10\"; expected \"follow\" or a rate from 50 to 4000000");
        QCOMPARE(errorOf("zeppelin", {}), "x: has no behaviour \"zeppelin\"");
        QVERIFY(!knowsBehaviour("zeppelin") && knowsBehaviour("led"));
    }

    void twoLinesUnderstandEachOtherAtOneRate_data()
    {
        QTest::addColumn<QString>("sender");
        QTest::addColumn<QString>("receiver");
        QTest::addColumn<bool>("understood");
        QTest::newRow("9600 and 9600") << "9600" << "9600" << true;
        QTest::newRow("115200 and 115200") << "115200" << "115200" << true;
        QTest::newRow("3 % apart") << "9600" << "9888" << true;
        QTest::newRow("twice as fast") << "19200" << "9600" << false;
        QTest::newRow("half as fast") << "9600" << "19200" << false;
    }
    void twoLinesUnderstandEachOtherAtOneRate()
    {
        QFETCH(QString, sender);
        QFETCH(QString, receiver);
        QFETCH(bool, understood);
        Wires w;
        w.pin("there", "T");
        w.pin("back", "R");
        auto from = w.line(sender.toStdString());
        w.pin("back", "T");
        w.pin("there", "R");
        auto to = w.line(receiver.toStdString());
        w.circuit.seal(nullptr);
        std::string got;
        bool allGood = true;
        std::vector<Time> begun;
        from->sending = [&](std::uint8_t, Time at) { begun.push_back(at); };
        to->received = [&](std::uint8_t byte, bool good, Time) {
            got += static_cast<char>(byte);
            allGood = allGood && good;
        };
        const std::string text = "Withy \x01\xFE\x55\xAA";
        from->send(text);
        w.queue.advanceTo(Time(200ms));
        QCOMPARE(from->unsent(), 0U);
        QCOMPARE(got == text && allGood, understood);
        // Ten bits a character, one after the other.
        QCOMPARE(begun.size(), text.size());
        const auto bit = static_cast<std::int64_t>(1e12 / sender.toDouble() + 0.5);
        for (std::size_t i = 1; i < begun.size(); ++i)
            QCOMPARE((begun[i] - begun[i - 1]).count(), 10 * bit);
    }

    void anUnusedLineLeavesItsPinAlone()
    {
        Wires w;
        const auto tx = w.pin("there", "T");
        w.pin("back", "R");
        auto line = w.line("9600");
        w.circuit.seal(nullptr);
        QCOMPARE(w.circuit.stateOf(w.circuit.netOf(tx)), circuit::NetState::floating);
        line->connect();
        QCOMPARE(w.circuit.stateOf(w.circuit.netOf(tx)), circuit::NetState::high);
    }

    void frameFormatsFollowTheOtherEnd()
    {
        Wires w;
        w.pin("there", "T");
        w.pin("back", "R");
        auto from = w.line("follow");
        w.pin("back", "T");
        w.pin("there", "R");
        auto to = w.line("follow");
        w.circuit.seal(nullptr);
        LineFormat format;
        format.bit = 50us;
        format.dataBits = 7;
        format.parity = LineFormat::Parity::odd;
        format.stopBits = 2;
        from->follow = to->follow = [&] { return format; };
        std::string got;
        int bad = 0;
        to->received = [&](std::uint8_t byte, bool good, Time) {
            got += static_cast<char>(byte);
            bad += good ? 0 : 1;
        };
        from->send("lock");
        w.queue.advanceTo(Time(20ms));
        QCOMPARE(got, "lock");
        QCOMPARE(bad, 0);
        // The other parity: every character is marked.
        to->follow = [&] {
            LineFormat other = format;
            other.parity = LineFormat::Parity::even;
            return other;
        };
        from->send("gate");
        w.queue.advanceTo(Time(40ms));
        QCOMPARE(bad, 4);
        // Switched off at the other end: nothing is heard.
        to->follow = [&] {
            LineFormat off = format;
            off.active = false;
            return off;
        };
        from->send("more");
        w.queue.advanceTo(Time(60ms));
        QCOMPARE(got.size(), 8U);
    }

    void aLineSavedInTheMiddleOfACharacterGoesOn()
    {
        Wires w;
        w.pin("there", "T");
        w.pin("back", "R");
        auto from = w.line("9600");
        w.pin("back", "T");
        w.pin("there", "R");
        auto to = w.line("9600");
        w.circuit.seal(nullptr);
        std::string got;
        to->received = [&](std::uint8_t byte, bool, Time) { got += static_cast<char>(byte); };
        from->send("abc");
        w.queue.advanceTo(Time(1500us));
        kernel::SaveArchive save;
        save(w.queue, w.circuit, *from, *to, w.circuit);
        const kernel::Snapshot snapshot = save.take();
        w.queue.advanceTo(Time(20ms));
        QCOMPARE(got, "abc");
        got.clear();
        kernel::LoadArchive load(snapshot);
        load(w.queue, w.circuit, *from, *to, w.circuit);
        w.queue.advanceTo(Time(20ms));
        QCOMPARE(got, std::string("abc").substr(3 - got.size()));
        QCOMPARE(got.size(), 2U);  // the first was through before the save, or the second was under way
    }
};

QTEST_APPLESS_MAIN(PartsTest)
#include "parts_test.moc"
