// Wiring list, bill of materials, and what edits do to a bench: copy and paste, align, distribute, another kind in a part's place, breadboards.
#include <QtTest>

#include "bench/edit.h"
#include "bench/lists.h"
#include "bench/pin_functions.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

const Catalogue& catalogue()
{
    static const Catalogue loaded = *Catalogue::loadInstalled();
    return loaded;
}

const char* const kBench = R"(bramix = 1
title = "Weir lamp"
[[part]]
id = "mcu"
kind = "briar-328"
at = [20, 20]
[[part]]
id = "r1"
kind = "resistor"
at = [2, 2]
set = { resistance = "330" }
[[part]]
id = "r2"
kind = "resistor"
at = [4, 9]
set = { resistance = "330" }
[[part]]
id = "r3"
kind = "resistor"
at = [7, 12]
set = { resistance = "10k" }
[[part]]
id = "lamp"
kind = "led"
label = "weir, upper"
at = [10, 2]
[[wire]]
ends = ["mcu.PB1", "r1.1"]
color = "amber"
[[wire]]
ends = ["r1.2", "lamp.A"]
color = "amber"
via = [[8, 1]]
[[net]]
name = "GND"
pins = ["mcu.GND", "lamp.K"]
)";

Document weir() { return *parseDocument("t", kBench); }

}  // namespace

class ListsTest : public QObject {
    Q_OBJECT

private slots:
    void theWiringListHasEveryWireAndFlag()
    {
        const QString list = QString::fromStdString(wiringList(weir(), catalogue()));
        const QStringList lines = list.split("\r\n", Qt::SkipEmptyParts);
        QCOMPARE(lines.size(), 4);
        QVERIFY2(lines[1].startsWith("1,mcu.PB1,,") && lines[1].endsWith("r1.1,,either end,amber,"), qPrintable(lines[1]));
        QVERIFY2(lines[2].contains("lamp.A,\"weir, upper\",anode (+),amber,"), qPrintable(lines[2]));
        QVERIFY2(lines[3].endsWith(",,GND") && lines[3].contains("mcu.GND") && lines[3].contains("lamp.K"), qPrintable(lines[3]));
    }

    void theBillCountsWhatIsAlike()
    {
        const QStringList lines = QString::fromStdString(billOfMaterials(weir(), catalogue())).split("\r\n", Qt::SkipEmptyParts);
        QCOMPARE(lines.size(), 5);
        QVERIFY2(lines[2].startsWith("2,Resistor,") && lines[2].contains("330") && lines[2].endsWith("r1 r2"), qPrintable(lines[2]));
        QVERIFY2(lines[3].startsWith("1,Resistor,") && lines[3].contains("10k"), qPrintable(lines[3]));
    }

    // Into another bench, and into its own, where ids must not meet.
    void whatIsCopiedComesBackWhole()
    {
        const Document from = weir();
        const std::string text = copyText(from, {{"r1", "lamp"}, {}});
        Document other;
        const auto pasted = paste(other, catalogue(), text, {30, 40});
        QVERIFY(pasted);
        QCOMPARE(pasted->parts, (std::set<std::string>{"r1", "lamp"}));
        QCOMPARE(other.wires.size(), std::size_t{1});  // the wire to the board stays behind
        QCOMPARE(other.part("lamp")->at.x - other.part("r1")->at.x, 8);
        QCOMPARE(other.wires[0].via[0].x - other.part("r1")->at.x, 6);
        QCOMPARE(std::min(bodyRect(*other.part("r1"), *catalogue().find("resistor")).top, bodyRect(*other.part("lamp"), *catalogue().find("led")).top), 40);
        Document same = from;
        const auto again = paste(same, catalogue(), text, {1, 50});
        QVERIFY(again && !again->parts.contains("r1"));
        QCOMPARE(same.parts.size(), from.parts.size() + 2);
        QCOMPARE(same.part(*again->parts.begin()) != nullptr, true);
        QVERIFY(checkDocument(same, catalogue(), "t"));
        QVERIFY(!paste(same, catalogue(), "a shopping list", {0, 0}));
    }

    void partsLineUp()
    {
        Document d = weir();
        const std::set<std::string> parts{"r1", "r2", "r3"};
        align(d, catalogue(), parts, Edge::left);
        QCOMPARE(d.part("r2")->at.x, 2);
        QCOMPARE(d.part("r3")->at.x, 2);
        QCOMPARE(d.part("r3")->at.y, 12);
        align(d, catalogue(), parts, Edge::bottom);
        QCOMPARE(d.part("r1")->at.y, d.part("r3")->at.y);
        d = weir();
        distribute(d, catalogue(), parts, false);
        QCOMPARE(d.part("r2")->at.y, 7);  // between 2 and 12
        QCOMPARE(d.part("r1")->at.y, 2);
    }

    void anotherKindKeepsTheWires()
    {
        Document d = weir();
        QVERIFY(replaceKind(d, catalogue(), "r1", "inductor"));
        QCOMPARE(d.part("r1")->kind, "inductor");
        QVERIFY(d.part("r1")->set.empty());
        QCOMPARE(d.wires[0].to.text(), "r1.1");
        QVERIFY(replaceKind(d, catalogue(), "lamp", "diode"));
        QCOMPARE(d.wires[1].to.text(), "lamp.A");
        QVERIFY(!replaceKind(d, catalogue(), "mcu", "ground"));  // too few pins for its wires
        QCOMPARE(d.part("mcu")->kind, "briar-328");
        QVERIFY(checkDocument(d, catalogue(), "t"));
    }

    void aLeadKnowsWhatServesIt()
    {
        const auto serves = [&](const char* kind, const char* pin, const char* about) {
            const PartKind* k = catalogue().find(kind);
            return servingFunction(about, functionsFor(*k, *k->pin(pin)));
        };
        QCOMPARE(serves("ssd1306-i2c", "SDA", "ADC4 SDA PCINT12"), "SDA");
        QCOMPARE(serves("potentiometer", "W", "ADC4 SDA PCINT12"), "ADC4");
        QCOMPARE(serves("servo", "SIG", "OC1A PCINT1"), "OC1A");
        QCOMPARE(serves("push-button", "1", "INT0 PCINT18"), "INT0");
        QCOMPARE(serves("push-button", "1", "OC1A PCINT1"), "PCINT1");
        QCOMPARE(serves("mcp3008", "DIN", "MOSI OC2A PCINT3"), "MOSI");
        QCOMPARE(serves("servo", "SIG", "ICP1 CLKO PCINT0"), "");
        QCOMPARE(serves("led", "A", "OC1A PCINT1"), "");
    }

    // Where dials stand is kept in the file, and holds at power-up.
    void controlsAreKept()
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\nat = [0, 0]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [0, 9]\n[[part]]\nid = \"p\"\nkind = \"potentiometer\"\nat = [9, 0]\n"
                                 "controls = { position = 0.25 }\n[[wire]]\nends = [\"v.V\", \"p.B\"]\n[[wire]]\nends = [\"g.V\", \"p.A\"]\n";
        const Document d = *parseDocument("t", text);
        QCOMPARE(d.part("p")->controls.at("position"), 0.25);
        QVERIFY(*parseDocument("t", writeDocument(d)) == d);
        QVERIFY(checkDocument(d, catalogue(), "t"));
        const auto world = *World::build(d, catalogue(), {}, nullptr);
        QCOMPARE(world->control("p", "position"), 0.25);
        QVERIFY(std::fabs(world->circuit().voltage(world->circuit().netOf(*world->pin({"p", "W"}))).value - 1.25) < 1e-3);
        Document wrong = d;
        wrong.part("p")->controls["position"] = 1.5;
        QCOMPARE(checkDocument(wrong, catalogue(), "t").error().what, "p.position stands at 1.5; expected 0 to 1");
        wrong.part("p")->controls = {{"volume", 1}};
        QCOMPARE(checkDocument(wrong, catalogue(), "t").error().what, "part \"p\" has no live control \"volume\"; it has position");
    }

    // Leads in one strip conduct, across the trough they do not; rails are whole, or split.
    void aBreadboardJoinsWhatStandsOnIt()
    {
        const auto world = [](const std::string& rails) {
            const std::string text = "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"bb\"\nkind = \"breadboard-half\"\nat = [0, 0]\nset = { rails = \"" + rails +
                                     "\" }\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\nat = [-9, 0]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [-9, 9]\n"
                                     "[[part]]\nid = \"r\"\nkind = \"resistor\"\nat = [3, 4]\nset = { resistance = \"1k\" }\n[[part]]\nid = \"s\"\nkind = \"resistor\"\nat = [7, 6]\nset = { resistance = \"1k\" }\n"
                                     "[[wire]]\nends = [\"v.V\", \"bb.T+1\"]\n[[wire]]\nends = [\"bb.T+25\", \"bb.a4\"]\n[[wire]]\nends = [\"g.V\", \"bb.a12\"]\n";
            return std::move(*World::build(*parseDocument("t", text), catalogue(), {}, nullptr));
        };
        const auto volts = [](const World& w, const char* part, const char* pin) { return w.circuit().voltage(w.circuit().netOf(*w.pin({part, pin}))).value; };
        const auto whole = world("whole");
        QVERIFY(std::fabs(volts(*whole, "r", "2") - 2.5) < 1e-6);  // r from column 4 to 8, s from 8 to 12
        QVERIFY(whole->circuit().netOf(*whole->pin({"r", "2"})) == whole->circuit().netOf(*whole->pin({"s", "1"})));
        QVERIFY(whole->circuit().netOf(*whole->pin({"bb", "e4"})) != whole->circuit().netOf(*whole->pin({"bb", "f4"})));
        const auto split = world("split");
        QVERIFY(std::fabs(volts(*split, "r", "2")) < 1e-6);  // the right half of the rail has nothing

        Document d = *parseDocument("t", "bramix = 1\n[[part]]\nid = \"bb\"\nkind = \"breadboard-half\"\nat = [0, 0]\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nat = [3, 4]\n[[part]]\nid = \"q\"\nkind = \"resistor\"\nat = [90, 4]\n");
        moveParts(d, catalogue(), {"bb"}, {5, 6});
        QCOMPARE(d.part("r")->at, (GridPoint{8, 10}));
        QCOMPARE(d.part("q")->at, (GridPoint{90, 4}));
    }
};

QTEST_GUILESS_MAIN(ListsTest)
#include "lists_test.moc"
