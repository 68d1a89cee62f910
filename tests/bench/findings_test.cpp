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
        row("supply-short", "v.V", {"v supply-5v", "w supply-3v3"}, {"v.V w.V"}, {"v supply-5v", "w supply-5v"}, {"v.V w.V"});
        const Strings elco{"v supply-5v", "g ground", "c electrolytic", "r resistor set = { resistance = \"100\" }"};
        row("reversed-polarity", "c", elco, {"v.V r.1", "r.2 c.2", "c.1 g.V"}, elco, {"v.V r.1", "r.2 c.1", "c.2 g.V"});
        row("capacitor-over-voltage", "c", {"b battery set = { voltage = \"12V\" }", "g ground", "c capacitor set = { voltage = \"6V\" }"}, {"b.+ c.1", "b.- g.V", "c.2 g.V"},
            {"b battery set = { voltage = \"12V\" }", "g ground", "c capacitor set = { voltage = \"25V\" }"}, {"b.+ c.1", "b.- g.V", "c.2 g.V"});
        const Strings coil{"v supply-5v", "g ground", "l inductor set = { inductance = \"100m\", winding = \"60\" }", "k push-button set = { bounce = \"off\" }", "d diode"};
        row("coil-without-diode", "l", coil, {"v.V l.1", "l.2 k.1", "k.2 g.V"}, coil, {"v.V l.1", "l.2 k.1", "k.2 g.V", "d.A l.2", "d.K l.1"});
        const Strings amp{"v supply-5v", "g ground", "a op-amp", "r resistor set = { resistance = \"10k\" }"};
        row("no-supply", "a", amp, {"v.V a.+", "a.- a.OUT", "r.1 a.OUT", "r.2 g.V", "a.V- g.V"}, amp, {"v.V a.+", "a.- a.OUT", "r.1 a.OUT", "r.2 g.V", "a.V- g.V", "a.V+ v.V"});
        const Strings twelve{"b battery set = { voltage = \"12V\", inner = \"10\" }", "m briar-328", "r resistor set = { resistance = \"4k7\" }", "s resistor set = { resistance = \"2k2\" }"};
        row("pin-over-voltage", "m.PC0", twelve, {"b.+ r.1", "r.2 m.PC0", "b.- m.GND"}, twelve, {"b.+ r.1", "r.2 m.PC0", "b.- m.GND", "s.1 m.PC0", "s.2 m.GND"});
        const Strings meter{"v supply-5v", "g ground", "meter1 multimeter", "r resistor set = { resistance = \"1k\" }"};
        row("meter-short", "meter1", meter, {"v.V meter1.+", "meter1.COM g.V"}, meter, {"v.V meter1.+", "meter1.COM r.1", "r.2 g.V"}, 1);
        row("bus-without-pull-up", "m.PC4", {"m briar-328", "n briar-328", "v supply-5v", "r resistor"}, {"m.PC4 n.PC4", "m.PC5 n.PC5"}, {"m briar-328", "n briar-328", "v supply-5v", "r resistor", "s resistor"},
            {"m.PC4 n.PC4", "m.PC5 n.PC5", "r.1 m.PC4", "r.2 v.V", "s.1 m.PC5", "s.2 v.V"});
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
