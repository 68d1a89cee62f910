// Each finding: a bench that raises it, and a near twin that must not.
#include <QtTest>

#include "bench/document.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

// Parts as "id kind set", wires as "a.p b.q"; short enough to see what differs between twins.
std::string benchText(const std::vector<std::string>& parts, const std::vector<std::string>& wires)
{
    std::string out = "bramix = 1\ntitle = \"test\"\n";
    int x = 0;
    for (const std::string& p : parts) {
        const std::size_t a = p.find(' '), b = p.find(' ', a + 1);
        out += "[[part]]\nid = \"" + p.substr(0, a) + "\"\nkind = \"" + p.substr(a + 1, b == std::string::npos ? b : b - a - 1) + "\"\nat = [" + std::to_string(x += 8) + ", 0]\n";
        if (b != std::string::npos)
            out += p.substr(b + 1) + "\n";
    }
    for (const std::string& w : wires) {
        const std::size_t a = w.find(' ');
        out += "[[wire]]\nends = [\"" + w.substr(0, a) + "\", \"" + w.substr(a + 1) + "\"]\ncolor = \"ink\"\n";
    }
    return out;
}

std::vector<Finding> findingsOf(const std::string& text, const std::vector<std::pair<std::string, double>>& controls)
{
    static const Catalogue catalogue = *Catalogue::loadInstalled();
    const auto document = parseDocument("test", text);
    if (!document)
        qFatal("%s", document.error().text().c_str());
    if (const auto ok = checkDocument(*document, catalogue, "test"); !ok)
        qFatal("%s", ok.error().text().c_str());
    auto world = World::build(*document, catalogue, {}, nullptr);
    if (!world)
        qFatal("%s", world.error().text().c_str());
    (*world)->runUntil(kernel::Time(50ms));
    for (const auto& [name, value] : controls) {
        const std::size_t point = name.find('.');
        if (const auto ok = (*world)->setControl(name.substr(0, point), name.substr(point + 1), value); !ok)
            qFatal("%s", ok.error().text().c_str());
        (*world)->runUntil((*world)->now() + 200ms);
    }
    (*world)->runUntil((*world)->now() + 3s);
    return (*world)->findings();
}

using Strings = std::vector<std::string>;
using Controls = std::vector<std::pair<std::string, double>>;

}  // namespace

class FindingsTest : public QObject {
    Q_OBJECT

private slots:
    void eachRuleHasABenchThatRaisesItAndATwinThatDoesNot_data()
    {
        QTest::addColumn<QString>("rule");
        QTest::addColumn<QString>("where");
        QTest::addColumn<QString>("bad");
        QTest::addColumn<QString>("good");
        QTest::addColumn<int>("steps");
        const auto row = [](const char* rule, const char* where, const Strings& parts, const Strings& wires, const Strings& goodParts, const Strings& goodWires, int steps = 0) {
            QTest::newRow((std::string(rule) + " " + where).c_str()) << QString(rule) << QString(where) << QString::fromStdString(benchText(parts, wires)) << QString::fromStdString(benchText(goodParts, goodWires)) << steps;
        };
        const Strings ledParts{"v supply-5v", "g ground", "d led", "r resistor set = { resistance = \"330\" }"};
        row("led-without-resistor", "d", ledParts, {"v.V d.A", "d.K g.V"}, ledParts, {"v.V r.1", "r.2 d.A", "d.K g.V"});
        row("part-destroyed", "d", ledParts, {"v.V d.A", "d.K g.V"}, ledParts, {"v.V r.1", "r.2 d.A", "d.K g.V"});
        row("part-over-limit", "d", {"v supply-5v", "g ground", "d led set = { overload = \"warns\" }"}, {"v.V d.A", "d.K g.V"}, ledParts, {"v.V r.1", "r.2 d.A", "d.K g.V"});
        row("part-destroyed", "r", {"v supply-5v", "g ground", "r resistor set = { resistance = \"10\" }"}, {"v.V r.1", "r.2 g.V"}, {"v supply-5v", "g ground", "r resistor set = { resistance = \"10\", power = \"5\" }"}, {"v.V r.1", "r.2 g.V"});
        row("lead-loose", "r.2", ledParts, {"v.V r.1"}, ledParts, {"v.V r.1", "r.2 g.V"});
        row("part-unwired", "d", ledParts, {"v.V r.1", "r.2 g.V"}, ledParts, {"v.V r.1", "r.2 d.A", "d.K g.V"});
        row("part-shorted", "d", ledParts, {"v.V r.1", "r.2 d.A", "d.K d.A"}, ledParts, {"v.V r.1", "r.2 d.A", "d.K g.V"});
        const Strings battery{"b battery", "r resistor set = { resistance = \"1k\", power = \"1\" }", "g ground"};
        row("no-ground", "bench", battery, {"b.+ r.1", "r.2 b.-"}, battery, {"b.+ r.1", "r.2 b.-", "b.- g.V"});
        row("no-ground", "bench", {"v supply-5v", "r resistor", "r2 resistor"}, {"v.V r.1", "r.2 r2.1"}, {"v supply-5v", "r resistor", "g ground"}, {"v.V r.1", "r.2 g.V"});
        row("supply-short", "v.V", {"v supply-5v", "w supply-3v3"}, {"v.V w.V"}, {"v supply-5v", "w supply-5v"}, {"v.V w.V"});
        const Strings elco{"v supply-5v", "g ground", "c electrolytic", "r resistor set = { resistance = \"100\" }"};
        row("reversed-polarity", "c", elco, {"v.V r.1", "r.2 c.2", "c.1 g.V"}, elco, {"v.V r.1", "r.2 c.1", "c.2 g.V"});
        row("capacitor-over-voltage", "c", {"b battery set = { voltage = \"12V\" }", "g ground", "c capacitor set = { voltage = \"6V\" }"}, {"b.+ c.1", "b.- g.V", "c.2 g.V"},
            {"b battery set = { voltage = \"12V\" }", "g ground", "c capacitor set = { voltage = \"25V\" }"}, {"b.+ c.1", "b.- g.V", "c.2 g.V"});
        row("reversed-polarity", "d", ledParts, {"v.V r.1", "r.2 d.K", "d.A g.V"}, ledParts, {"v.V r.1", "r.2 d.A", "d.K g.V"});
        row("supply-short", "b", battery, {"b.+ b.-", "b.- g.V", "b.+ r.1"}, battery, {"b.+ r.1", "r.2 b.-", "b.- g.V"});
        const Strings bench{"s bench-supply", "r resistor set = { resistance = \"1k\" }", "meter1 multimeter"};
        row("supply-short", "s", bench, {"s.V meter1.+", "meter1.COM s.GND"}, bench, {"s.V r.1", "r.2 meter1.+", "meter1.COM s.GND"}, 1);
        const Strings two{"a battery", "b battery set = { voltage = \"4.5V\" }", "d diode", "g ground", "r resistor set = { resistance = \"100\", power = \"2\" }"};
        row("supply-back-fed", "b", two, {"a.+ b.+", "a.- b.-", "a.- g.V"}, two, {"a.+ r.1", "r.2 b.-", "a.- b.-", "b.+ d.A", "d.K a.+", "a.- g.V"});
        const Strings shift{"v supply-5v", "g ground", "u 74hc595", "r resistor"};
        const Strings small{"v supply-5v", "g ground", "r resistor set = { resistance = \"1m\" }"}, large{"v supply-5v", "g ground", "r resistor set = { resistance = \"1M\" }"};
        row("doubtful-unit", "r", small, {"v.V r.1"}, large, {"v.V r.1"});
        const Strings decimal{"v supply-5v", "g ground", "x ssd1306-i2c set = { address = \"60\" }"}, hex{"v supply-5v", "g ground", "x ssd1306-i2c set = { address = \"0x3C\" }"};
        row("doubtful-unit", "x", decimal, {"v.V x.VCC", "g.V x.GND"}, hex, {"v.V x.VCC", "g.V x.GND"});
        row("input-open", "u.OE", shift, {"v.V u.VCC", "g.V u.GND", "v.V u.SRCLR"}, shift, {"v.V u.VCC", "g.V u.GND", "g.V u.OE", "v.V u.SRCLR"});
        row("supply-reversed", "u", shift, {"v.V u.GND", "g.V u.VCC"}, shift, {"v.V u.VCC", "g.V u.GND"});
        row("no-supply", "u", {"u 74hc595", "w 74hc165", "v supply-5v", "g ground"}, {"u.VCC w.VCC", "g.V u.GND", "g.V w.GND"}, {"u 74hc595", "w 74hc165", "v supply-5v", "g ground"}, {"u.VCC w.VCC", "v.V w.VCC", "g.V u.GND", "g.V w.GND"});
        const Strings amplifier{"v supply-5v", "g ground", "a op-amp", "c comparator"};
        row("supply-reversed", "a", amplifier, {"v.V a.V-", "g.V a.V+", "a.+ g.V", "a.- a.OUT"}, amplifier, {"v.V a.V+", "g.V a.V-", "a.+ g.V", "a.- a.OUT"});
        row("supply-reversed", "c", amplifier, {"v.V c.V-", "g.V c.V+", "c.+ g.V", "c.- g.V"}, amplifier, {"v.V c.V+", "g.V c.V-", "c.+ g.V", "c.- g.V"});
        const Strings chip{"m atmega328p", "v supply-5v", "b battery", "g ground"};
        row("supply-too-high", "m", chip, {"b.+ m.VCC", "b.- m.GND", "g.V m.GND"}, chip, {"v.V m.VCC", "g.V m.GND"});
        row("supply-reversed", "m", chip, {"v.V m.GND", "g.V m.VCC"}, chip, {"v.V m.VCC", "g.V m.GND"});
        const Strings onPin{"m briar-328", "d led", "r resistor set = { resistance = \"330\" }"};
        row("reversed-polarity", "d", onPin, {"m.PB1 r.1", "r.2 d.K", "d.A m.GND"}, onPin, {"m.PB1 r.1", "r.2 d.K", "d.A m.5V"});
        const Strings gate{"v supply-5v", "g ground", "q nmos", "r resistor set = { resistance = \"1k\" }", "s resistor set = { resistance = \"10k\" }"};
        row("input-open", "q.G", gate, {"v.V r.1", "r.2 q.D", "q.S g.V"}, gate, {"v.V r.1", "r.2 q.D", "q.S g.V", "s.1 q.G", "s.2 g.V"});
        // What a part on 3.3 V drives is no harm to one on 5 V that listens; the other way round it is.
        const Strings levels{"v supply-5v", "w supply-3v3", "g ground", "u 74hc595", "x 74hc595"};
        row("signal-too-high", "x.SER", levels, {"v.V u.VCC", "w.V x.VCC", "g.V u.GND", "g.V x.GND", "g.V u.OE", "g.V x.OE", "v.V u.SRCLR", "w.V x.SRCLR", "u.QH' x.SER"}, levels,
            {"v.V u.VCC", "w.V x.VCC", "g.V u.GND", "g.V x.GND", "g.V u.OE", "g.V x.OE", "v.V u.SRCLR", "w.V x.SRCLR", "x.QH' u.SER"});
        const Strings coil{"v supply-5v", "g ground", "l inductor set = { inductance = \"100m\", winding = \"60\" }", "k push-button set = { bounce = \"off\" }", "d diode"};
        row("coil-without-diode", "l", coil, {"v.V l.1", "l.2 k.1", "k.2 g.V"}, coil, {"v.V l.1", "l.2 k.1", "k.2 g.V", "d.A l.2", "d.K l.1"});
        const Strings relay{"v supply-5v", "g ground", "k relay", "q npn", "d diode", "r resistor set = { resistance = \"1k\" }"};
        row("coil-without-diode", "k", relay, {"v.V k.1", "k.2 q.C", "q.E g.V", "v.V r.1", "r.2 q.B"}, relay, {"v.V k.1", "k.2 q.C", "q.E g.V", "v.V r.1", "r.2 q.B", "d.A k.2", "d.K k.1"});
        const Strings motor{"v supply-5v", "g ground", "m dc-motor", "k push-button", "d diode"};
        row("coil-without-diode", "m", motor, {"v.V m.+", "m.- k.1", "k.2 g.V"}, motor, {"v.V m.+", "m.- k.1", "k.2 g.V", "d.A m.-", "d.K m.+"});
        const Strings twice{"v supply-5v", "g ground", "a 24c32", "b 24c32", "r resistor", "s resistor"};
        Strings bus{"v.V a.VCC", "v.V b.VCC", "g.V a.GND", "g.V b.GND", "a.SDA b.SDA", "a.SCL b.SCL", "r.1 a.SDA", "r.2 v.V", "s.1 a.SCL", "s.2 v.V", "a.A0 g.V", "a.A1 g.V", "a.A2 g.V", "b.A1 g.V", "b.A2 g.V"};
        Strings same = bus, apart = bus;
        same.emplace_back("b.A0 g.V");
        apart.emplace_back("b.A0 v.V");
        row("bus-address-twice", "b", twice, same, twice, apart);
        row("no-supply", "s", {"v supply-5v", "g ground", "s servo", "r resistor"}, {"s.GND g.V", "s.SIG r.1", "r.2 v.V"}, {"v supply-5v", "g ground", "s servo", "r resistor"}, {"s.GND g.V", "s.VCC v.V", "s.SIG r.1", "r.2 v.V"});
        row("supply-too-high", "f", {"v supply-5v", "g ground", "f w25q32", "r resistor"}, {"v.V f.VCC", "g.V f.GND", "f.CS r.1", "r.2 g.V"}, {"v supply-3v3", "g ground", "f w25q32", "r resistor"}, {"v.V f.VCC", "g.V f.GND", "f.CS r.1", "r.2 g.V"});
        const Strings amp{"v supply-5v", "g ground", "a op-amp", "r resistor set = { resistance = \"10k\" }"};
        row("no-supply", "a", amp, {"v.V a.+", "a.- a.OUT", "r.1 a.OUT", "r.2 g.V", "a.V- g.V"}, amp, {"v.V a.+", "a.- a.OUT", "r.1 a.OUT", "r.2 g.V", "a.V- g.V", "a.V+ v.V"});
        const Strings twelve{"b battery set = { voltage = \"12V\", inner = \"10\" }", "m briar-328", "r resistor set = { resistance = \"4k7\" }", "s resistor set = { resistance = \"2k2\" }"};
        row("pin-over-voltage", "m.PC0", twelve, {"b.+ r.1", "r.2 m.PC0", "b.- m.GND"}, twelve, {"b.+ r.1", "r.2 m.PC0", "b.- m.GND", "s.1 m.PC0", "s.2 m.GND"});
        // Half a bridge that is told to be what it is not: no delay anywhere in the loop.
        const Strings ring{"v supply-5v", "g ground", "b motor-bridge", "q nmos", "r resistor", "s resistor"};
        const Strings bridged{"v.V b.VCC", "v.V b.VM", "g.V b.GND", "v.V b.EN", "b.IN2 g.V", "q.S g.V", "r.1 v.V", "s.1 b.OUT1", "s.2 g.V"};
        Strings inverted = bridged, followed = bridged;
        inverted.insert(inverted.end(), {"b.OUT1 q.G", "q.D b.IN1", "r.2 b.IN1"});
        followed.insert(followed.end(), {"b.OUT1 b.IN1", "q.G g.V", "q.D r.2"});
        row("oscillation", "b.IN1", ring, inverted, ring, followed);
        // A source of a milliohm beside one nanoampere through a hundred megohms: more than the digits of a solver hold apart.
        const Strings faint{"g ground", "p pmos", "q pmos", "r resistor set = { resistance = \"100M\" }", "b battery set = { voltage = \"5\", inner = \"0.001\" }", "c current-source set = { current = \"1n\", compliance = \"1000\" }"};
        Strings plain = faint;
        plain[4] = "b battery set = { voltage = \"5\", inner = \"1\" }";
        const Strings faintly{"p.G q.G", "q.G b.+", "b.+ c.+", "p.D p.S", "p.S q.D", "q.D q.S", "q.S b.-", "r.1 c.-", "g.V r.2"};
        row("no-solution", "p.G", faint, faintly, plain, faintly);
        const Strings meter{"v supply-5v", "g ground", "meter1 multimeter", "r resistor set = { resistance = \"1k\" }"};
        row("meter-short", "meter1", meter, {"v.V meter1.+", "meter1.COM g.V"}, meter, {"v.V meter1.+", "meter1.COM r.1", "r.2 g.V"}, 1);
        row("bus-without-pull-up", "m.PC4", {"m briar-328", "n briar-328", "v supply-5v", "r resistor"}, {"m.PC4 n.PC4", "m.PC5 n.PC5"}, {"m briar-328", "n briar-328", "v supply-5v", "r resistor", "s resistor"},
            {"m.PC4 n.PC4", "m.PC5 n.PC5", "r.1 m.PC4", "r.2 v.V", "s.1 m.PC5", "s.2 v.V"});
        const Strings memory{"m briar-328", "e 24c32", "v supply-5v", "g ground", "r resistor set = { resistance = \"4k7\" }", "s resistor set = { resistance = \"4k7\" }"};
        const Strings bare{"m.PC4 e.SDA", "m.PC5 e.SCL", "v.V e.VCC", "g.V e.GND"};
        Strings pulled = bare;
        pulled.insert(pulled.end(), {"r.1 m.PC4", "r.2 v.V", "s.1 m.PC5", "s.2 v.V"});
        row("bus-without-pull-up", "m.PC5", memory, bare, memory, pulled);
        const Strings registers{"a 74hc595", "b 74hc595", "v supply-5v", "g ground", "r resistor"};
        Strings powered;
        for (const char* id : {"a", "b"})
            for (const char* wire : {"v.V %.VCC", "g.V %.GND", "g.V %.OE", "v.V %.SRCLR", "g.V %.SER", "g.V %.SRCLK", "g.V %.RCLK"})
                powered.push_back(QString(wire).replace('%', id).toStdString());
        Strings tied = powered, loose = powered;
        tied.insert(tied.end(), {"a.QA b.QA", "b.QA r.1", "r.2 g.V"});
        loose.insert(loose.end(), {"a.QA r.1", "r.2 b.QA"});
        row("outputs-joined", "b.QA", registers, tied, registers, loose);
        const Strings flash{"m briar-328", "f w25q32", "w supply-3v3", "g ground", "r resistor set = { resistance = \"1k\" }", "s resistor set = { resistance = \"1k8\" }"};
        row("signal-too-high", "f.CLK", flash, {"w.V f.VCC", "g.V f.GND", "m.PB5 f.CLK"}, flash, {"w.V f.VCC", "g.V f.GND", "m.PB5 r.1", "r.2 f.CLK", "f.CLK s.1", "s.2 g.V"});
        const Strings clock{"m briar-328", "c ds3231", "v supply-5v", "w supply-3v3", "g ground", "r resistor set = { resistance = \"4k7\" }"};
        const Strings low{"w.V c.VCC", "g.V c.GND", "m.PC4 c.SDA", "r.1 c.SDA"};
        Strings high = low, right = low;
        high.emplace_back("r.2 v.V");
        right.emplace_back("r.2 w.V");
        row("signal-too-high", "c.SDA", clock, high, clock, right);
    }

    void eachRuleHasABenchThatRaisesItAndATwinThatDoesNot()
    {
        QFETCH(QString, rule);
        QFETCH(QString, where);
        QFETCH(QString, bad);
        QFETCH(QString, good);
        QFETCH(int, steps);
        const Controls controls = steps == 1 ? Controls{{"meter1.mode", 1}} : Controls{};
        const auto raised = [&](const QString& text) {
            const std::vector<Finding> all = findingsOf(text.toStdString(), controls);
            return std::any_of(all.begin(), all.end(), [&](const Finding& f) { return f.rule == rule.toStdString() && f.where == where.toStdString() && !f.message.empty(); });
        };
        QVERIFY2(raised(bad), "not raised");
        QVERIFY2(!raised(good), "raised by the twin");
    }

    void whatFirmwareDoesHasItsTwinsToo_data()
    {
        QTest::addColumn<QString>("rule");
        QTest::addColumn<QString>("where");
        QTest::addColumn<QString>("bad");
        QTest::addColumn<QString>("good");
        QTest::addColumn<QList<int>>("badCode");
        QTest::addColumn<QList<int>>("goodCode");
        const auto row = [](const char* rule, const char* where, const Strings& parts, const Strings& badWires, const Strings& goodWires, const QList<int>& code, const QList<int>& goodCode) {
            QTest::newRow(rule) << QString(rule) << QString(where) << QString::fromStdString(benchText(parts, badWires)) << QString::fromStdString(benchText(parts, goodWires)) << code << goodCode;
        };
        // Opcodes of the AVR: ldi r16, k = 0xE000 | high nibble << 8 | low nibble; out DDRB = 0xB904, out PORTB = 0xB905, in r16, PINB = 0xB103, rjmp . = 0xCFFF.
        const QList<int> drive{0xE003, 0xB904, 0xE001, 0xB905, 0xCFFF};     // PB0 high, PB1 low
        const QList<int> all{0xEF0F, 0xB90A, 0xB90B, 0xCFFF};               // port D all high
        const QList<int> look{0xB103, 0xCFFE};                              // reads PINB for ever
        const QList<int> pulled{0xE001, 0xB905, 0xB103, 0xCFFE};            // with the pull-up of PB0 on
        const Strings m{"m briar-328", "g ground", "v supply-5v", "r resistor set = { resistance = \"1k\" }", "s resistor set = { resistance = \"1k\" }", "t resistor set = { resistance = \"20\", power = \"2\" }", "k push-button"};
        row("outputs-fight", "m.PB1", m, {"m.PB0 m.PB1"}, {"m.PB0 r.1", "r.2 m.PB1"}, drive, drive);
        row("pin-overload", "m.PB0", m, {"m.PB0 t.1", "t.2 g.V"}, {"m.PB0 r.1", "r.2 g.V"}, drive, drive);
        row("floating-input", "m.PB0", m, {"m.PB0 k.1", "k.2 g.V"}, {"m.PB0 k.1", "k.2 g.V"}, look, pulled);
        row("between-thresholds", "m.PB0", m, {"v.V r.1", "r.2 m.PB0", "m.PB0 s.1", "s.2 g.V"}, {"v.V r.1", "r.2 m.PB0"}, look, look);
        Strings loads = m, together, apart;
        for (int i = 0; i < 8; ++i) {
            loads.push_back("a" + std::to_string(i) + " resistor set = { resistance = \"150\", power = \"2\" }");
            const std::string id = "a" + std::to_string(i);
            together.insert(together.end(), {"m.PD" + std::to_string(i) + " " + id + ".1", id + ".2 g.V"});
            if (i < 4)
                apart.insert(apart.end(), {"m.PD" + std::to_string(i) + " " + id + ".1", id + ".2 g.V"});
        }
        row("port-overload", "m", loads, together, apart, all, all);
        Strings two = m;
        two.insert(two.end(), {"n atmega328p", "w supply-3v3"});
        const Strings supplied{"w.V n.VCC", "g.V n.GND"};
        Strings direct = supplied, divided = supplied;
        direct.emplace_back("m.PB0 n.PD2");
        divided.insert(divided.end(), {"m.PB0 r.1", "r.2 n.PD2", "n.PD2 s.1", "s.2 g.V"});
        row("pin-over-voltage", "n.PD2", two, direct, divided, drive, drive);
        const Strings sagging{"m atmega328p set = { BODLEVEL = \"5\" }", "v bench-supply set = { voltage = \"5V\", limit = \"30m\" }", "g ground", "k push-button set = { bounce = \"off\" }", "r resistor set = { resistance = \"50\", power = \"1\" }",
                              "s resistor set = { resistance = \"1k\" }"};
        row("brown-out", "m: ATmega328P", sagging, {"v.V m.VCC", "v.GND g.V", "g.V m.GND", "v.V r.1", "r.2 k.1", "k.2 g.V"}, {"v.V m.VCC", "v.GND g.V", "g.V m.GND", "v.V s.1", "s.2 k.1", "k.2 g.V"}, look, look);
    }

    void whatFirmwareDoesHasItsTwinsToo()
    {
        QFETCH(QString, rule);
        QFETCH(QString, where);
        QFETCH(QString, bad);
        QFETCH(QString, good);
        QFETCH(QList<int>, badCode);
        QFETCH(QList<int>, goodCode);
        QTemporaryDir folder;
        const auto found = [&](QString text, const QList<int>& code) -> std::optional<Finding> {
            const QString file = folder.filePath("f.bin");
            QFile out(file);
            if (!out.open(QIODevice::WriteOnly))
                qFatal("cannot write");
            for (const int word : code)
                out.write(QByteArray(1, static_cast<char>(word)) + QByteArray(1, static_cast<char>(word >> 8)));
            out.close();
            text.replace("id = \"m\"\n", "id = \"m\"\nfirmware = \"" + file + "\"\n");
            for (const Finding& f : findingsOf(text.toStdString(), text.contains("id = \"k\"") ? Controls{{"k.pressed", 1}, {"k.pressed", 0}} : Controls{}))
                if (f.rule == rule.toStdString() && f.where == where.toStdString())
                    return f;
            return std::nullopt;
        };
        const auto told = found(bad, badCode);
        QVERIFY2(told, "not raised");
        QVERIFY(told->wiring || told->code || rule == "brown-out");
        if (rule == "pin-overload")  // 5 V over 45 ohms, since a few clocks after power-up and still
            QVERIFY2(told->message.find("111 mA") != std::string::npos && told->message.find(" in all so far") != std::string::npos, told->message.c_str());
        const auto twin = found(good, goodCode);
        QVERIFY2(!twin, twin ? twin->message.c_str() : "");
    }

    // What is told of a bench as it lies, before anything runs.
    void whatIsMissingIsTold()
    {
        const auto has = [](const std::string& text, const char* rule, const char* where) {
            const std::vector<Finding> all = findingsOf(text, {});
            return std::any_of(all.begin(), all.end(), [&](const Finding& f) { return f.rule == rule && f.where == where && !f.message.empty(); });
        };
        const std::string elf = shareFolder() + "/benches/bell-rope/firmware/bell-rope.elf";
        const std::string plain = benchText({"m briar-328"}, {});
        const std::string loaded = benchText({"m briar-328 firmware = \"" + elf + "\""}, {});
        const std::string foreign = benchText({"m briar-2560 firmware = \"" + elf + "\""}, {});
        QVERIFY(has(plain, "no-firmware", "m"));
        QVERIFY(!has(loaded, "no-firmware", "m"));
        QVERIFY(has(foreign, "firmware-other-chip", "m"));
        QVERIFY(!has(loaded, "firmware-other-chip", "m"));
        const std::string parts = benchText({"r resistor", "s resistor"}, {"r.1 s.1"});
        QVERIFY(has(parts + "[[net]]\nname = \"SENSE\"\npins = [\"r.2\"]\n", "net-alone", "SENSE"));
        QVERIFY(!has(parts + "[[net]]\nname = \"SENSE\"\npins = [\"r.2\", \"s.2\"]\n", "net-alone", "SENSE"));
    }

    // Two boards that drive one line: each one's instruction is named.
    void aFightNamesBothSides()
    {
        static const Catalogue catalogue = *Catalogue::loadInstalled();
        QTemporaryDir folder;
        const auto image = [&](const char* name, std::initializer_list<int> words) {
            QFile out(folder.filePath(name));
            if (!out.open(QIODevice::WriteOnly))
                qFatal("cannot write");
            for (const int word : words)
                out.write(QByteArray(1, static_cast<char>(word)) + QByteArray(1, static_cast<char>(word >> 8)));
            return out.fileName().toStdString();
        };
        const std::string high = image("high.bin", {0xE001, 0xB905, 0xB904, 0xCFFF});              // PB0 high, at byte address 4
        const std::string low = image("low.bin", {0x0000, 0x0000, 0xE001, 0x0000, 0xB904, 0xCFFF});  // PB0 low, at byte address 8
        const std::string text = benchText({"m briar-328 firmware = \"" + high + "\"", "n briar-328 firmware = \"" + low + "\""}, {"m.PB0 n.PB0"});
        const auto world = *World::build(*parseDocument("x", text), catalogue, {}, nullptr);
        world->runUntil(kernel::Time(10ms));
        const auto all = world->findings();
        const auto fight = std::find_if(all.begin(), all.end(), [](const Finding& f) { return f.rule == "outputs-fight"; });
        QVERIFY(fight != all.end());
        QCOMPARE(fight->chip + " " + std::to_string(*fight->code), "n 8");
        QVERIFY(fight->otherCode.has_value());
        QCOMPARE(fight->otherChip + " " + std::to_string(*fight->otherCode), "m 4");
    }

    // A coil that is switched while it runs kicks; its diode catches it.
    void aCoilKicksWhenItIsSwitchedOff()
    {
        const Strings parts{"b battery set = { voltage = \"12V\", inner = \"0.1\" }", "g ground", "l inductor set = { inductance = \"100m\", winding = \"60\" }", "k push-button set = { bounce = \"off\" }", "d diode"};
        for (const bool guarded : {false, true}) {
            Strings wires{"b.+ l.1", "b.- g.V", "l.2 k.1", "k.2 g.V"};
            if (guarded)
                wires.insert(wires.end(), {"d.A l.2", "d.K l.1"});
            const auto all = findingsOf(benchText(parts, wires), {{"k.pressed", 1}, {"k.pressed", 0}});
            const bool kicks = std::any_of(all.begin(), all.end(), [](const Finding& f) { return f.rule == "coil-without-diode" && !f.wiring; });
            const bool told = std::any_of(all.begin(), all.end(), [](const Finding& f) { return f.rule == "coil-without-diode"; });
            QVERIFY(told != guarded);
            QVERIFY(!(kicks && guarded));
        }
    }

    void aMutedFindingKeepsItsReason()
    {
        const auto all = findingsOf(benchText({"v supply-5v", "g ground", "d led mute = { led-without-resistor = \"a flash of a millisecond\" }"}, {"v.V d.A", "d.K g.V"}), {});
        const auto found = std::find_if(all.begin(), all.end(), [](const Finding& f) { return f.rule == "led-without-resistor"; });
        QVERIFY(found != all.end());
        QCOMPARE(found->muted, "a flash of a millisecond");
        // And it comes back from the file as it went.
        const auto document = parseDocument("x", benchText({"d led mute = { a = \"b\" }"}, {}));
        QCOMPARE(parseDocument("x", writeDocument(*document))->parts[0].mute, document->parts[0].mute);
    }

    void aDestroyedPartConductsNoMoreUntilItIsReplaced()
    {
        static const Catalogue catalogue = *Catalogue::loadInstalled();
        auto world = *World::build(*parseDocument("x", benchText({"v supply-5v", "g ground", "d led"}, {"v.V d.A", "d.K g.V"})), catalogue, {}, nullptr);
        QVERIFY(world->circuit().current(*world->part("d")->mainElement()).value > 0.1);
        world->runUntil(kernel::Time(2s));
        QVERIFY(world->part("d")->dead());
        QCOMPARE(world->circuit().current(*world->part("d")->mainElement()).value, 0.0);
        QVERIFY(world->replacePart("d").has_value());
        QVERIFY(!world->part("d")->dead());
        QVERIFY(world->circuit().current(*world->part("d")->mainElement()).value > 0.1);
    }
};

QTEST_GUILESS_MAIN(FindingsTest)
#include "findings_test.moc"
