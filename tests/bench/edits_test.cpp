// A thousand random edits and back again, and bench files that somebody has mangled.
#include <QtTest>

#include "bench/edit.h"
#include "bench/history.h"
#include "bench/world.h"
#include "kernel/random.h"

using namespace bramix;
using namespace bramix::bench;

namespace {

const Catalogue& catalogue()
{
    static const Catalogue loaded = *Catalogue::loadInstalled();
    return loaded;
}

}  // namespace

class EditsTest : public QObject {
    Q_OBJECT

private slots:
    // A ribbon is a name on its wires: made, copied under another name, kept in the file, and taken apart.
    void wiresAreTiedIntoRibbons()
    {
        Document d = *parseDocument("t", "bramix = 1\n[[part]]\nid = \"a\"\nkind = \"74hc595\"\nat = [0, 0]\n[[part]]\nid = \"b\"\nkind = \"seven-segment\"\nat = [30, 0]\n[[part]]\nid = \"c\"\nkind = \"resistor\"\nat = [60, 0]\n");
        for (const auto& [from, to] : std::vector<std::pair<PinRef, PinRef>>{{{"a", "QA"}, {"b", "a"}}, {{"b", "b"}, {"a", "QB"}}, {{"a", "QC"}, {"b", "c"}}, {{"c", "1"}, {"a", "QD"}}})
            d.wires.push_back({from, to, "slate", {}, {}, {}});
        QVERIFY(!toggleRibbon(d, {}) && !toggleRibbon(d, {0}) && !toggleRibbon(d, {0, 3}) && !toggleRibbon(d, {0, 9}));
        QVERIFY(toggleRibbon(d, {0, 1, 3}));
        QCOMPARE(d.wires[0].ribbon, "ribbon1");
        QCOMPARE(d.wires[1].ribbon, "ribbon1");
        QVERIFY(d.wires[2].ribbon.empty() && d.wires[3].ribbon.empty());
        QVERIFY(*parseDocument("t", writeDocument(d)) == d);
        const Selection copies = duplicate(d, {{"a", "b"}, {}}, {0, 40});
        QCOMPARE(copies.wires.size(), std::size_t{3});
        QCOMPARE(d.wires[4].ribbon, "ribbon2");
        QCOMPARE(d.wires[5].ribbon, "ribbon2");
        QVERIFY(d.wires[6].ribbon.empty());
        const auto pasted = paste(d, catalogue(), copyText(d, {{"a", "b"}, {}}), {0, 90});
        QVERIFY(pasted && d.wires[*pasted->wires.begin()].ribbon == "ribbon3");
        QVERIFY(toggleRibbon(d, {0, 1, 2}) && d.wires[2].ribbon == "ribbon4" && d.wires[0].ribbon == "ribbon4");
        QVERIFY(toggleRibbon(d, {0, 1, 2}) && d.wires[0].ribbon.empty());
    }

    // A copy's net flags join the nets of that name that are there, and no others.
    void copiesJoinNetsOfTheirName()
    {
        Document d = *parseDocument("t", "bramix = 1\n[[part]]\nid = \"r1\"\nkind = \"resistor\"\nat = [0, 0]\n[[part]]\nid = \"r2\"\nkind = \"resistor\"\nat = [9, 0]\n"
                                            "[[net]]\nname = \"SDA\"\npins = [\"r1.1\"]\n[[net]]\nname = \"GND\"\npins = [\"r1.2\", \"r2.2\"]\n");
        const auto pasted = paste(d, catalogue(), copyText(d, {{"r1"}, {}}), {0, 30});
        QVERIFY(pasted && pasted->parts.size() == 1);
        const std::string copy = *pasted->parts.begin();
        QCOMPARE(d.nets.size(), std::size_t{2});
        QCOMPARE(netFlagOf(d, {copy, "1"}), "SDA");
        QCOMPARE(netFlagOf(d, {copy, "2"}), "GND");
        QCOMPARE(d.nets[0].pins.size(), std::size_t{2});
        QCOMPARE(d.nets[1].pins.size(), std::size_t{3});
        // Into a bench without them they come along.
        Document other;
        QVERIFY(paste(other, catalogue(), copyText(d, {{"r1"}, {}}), {0, 0}).has_value());
        QCOMPARE(other.nets.size(), std::size_t{2});
    }

    // Another kind with fewer pins takes over what it can: by name or by number, and nothing where a wired pin has no partner.
    void anotherKindTakesOverThePins()
    {
        Document d = *parseDocument("t", "bramix = 1\n[[part]]\nid = \"p\"\nkind = \"potentiometer\"\nat = [0, 0]\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nat = [9, 0]\n[[wire]]\nends = [\"p.A\", \"r.1\"]\ncolor = \"ink\"\n");
        Document first = d;
        QVERIFY(replaceKind(first, catalogue(), "p", "resistor"));
        QCOMPARE(first.part("p")->kind, "resistor");
        QCOMPARE(first.wires[0].from.text(), "p.1");
        d.wires.push_back({{"p", "B"}, {"r", "2"}, "ink", {}, {}, {}});
        QVERIFY(!replaceKind(d, catalogue(), "p", "resistor"));
        QCOMPARE(d.part("p")->kind, "potentiometer");
    }

    void aPinsNameHasAPartAndAPin()
    {
        QCOMPARE(parsePinRef("mcu.PB5")->text(), "mcu.PB5");
        for (const char* wrong : {"", ".", "mcu", "mcu.", ".PB5"})
            QVERIFY2(!parsePinRef(wrong), wrong);
    }

    // Each step back and each step forward gives the very file that stood there.
    void aThousandEditsGoBackAndForth()
    {
        kernel::Random random(7, "edits");
        const auto below = [&](std::size_t n) { return static_cast<std::size_t>(random.below(n)); };
        std::vector<const PartKind*> kinds;
        for (const auto& [id, kind] : catalogue().kinds())
            if (kind.listed && !kind.plugs && !kind.pins.empty())
                kinds.push_back(&kind);
        Document d;
        History history;
        std::vector<std::string> files{writeDocument(d)};
        int changed = 0;
        while (changed < 1000) {
            const Document before = d;
            const auto somePart = [&] { return d.parts[below(d.parts.size())].id; };
            const auto somePin = [&]() -> PinRef {
                const PartItem& part = d.parts[below(d.parts.size())];
                const PartKind* kind = catalogue().find(part.kind);
                return {part.id, kind->pins[below(kind->pins.size())].name};
            };
            const GridPoint by{static_cast<int>(below(9)) - 4, static_cast<int>(below(9)) - 4};
            switch (d.parts.size() < 3 ? 0 : below(12)) {
            case 0: addPart(d, *kinds[below(kinds.size())], {static_cast<int>(below(90)), static_cast<int>(below(60))}); break;
            case 1: moveParts(d, catalogue(), {somePart(), somePart()}, by); break;
            case 2: turnParts(d, catalogue(), {somePart()}); break;
            case 3: duplicate(d, {{somePart(), somePart()}, {}}, by); break;
            case 4: remove(d, {{somePart()}, {}}); break;
            case 5: case 6: case 7: addWire(d, catalogue(), somePin(), somePin(), {}); break;
            case 8: setNetFlag(d, catalogue(), somePin(), below(3) == 0 ? "" : below(2) == 0 ? "GND" : "BUS"); break;
            case 9: renamePart(d, somePart(), "renamed" + std::to_string(below(500))); break;
            case 10: align(d, catalogue(), {somePart(), somePart(), somePart()}, static_cast<Edge>(below(6))); break;
            default: (void)paste(d, catalogue(), copyText(d, {{somePart(), somePart()}, {}}), by); break;
            }
            if (d.parts.size() > 120)
                remove(d, {{somePart(), somePart(), somePart(), somePart()}, {}});
            const auto good = checkDocument(d, catalogue(), "t");
            QVERIFY2(good.has_value(), good ? "" : good.error().text().c_str());
            if (d == before)
                continue;
            history.record(before, "edit");
            files.push_back(writeDocument(d));
            // The file says it all.
            QVERIFY(writeDocument(*parseDocument("t", files.back())) == files.back());
            ++changed;
        }
        for (int i = changed - 1; i >= 0; --i) {
            history.undo(d);
            QVERIFY2(writeDocument(d) == files[static_cast<std::size_t>(i)], qPrintable(QString::number(i)));
        }
        QVERIFY(!history.canUndo());
        for (int i = 1; i <= changed; ++i) {
            history.redo(d);
            QVERIFY(writeDocument(d) == files[static_cast<std::size_t>(i)]);
        }
    }

    // Never a crash, never a hang: a document, or one line that says what is wrong.
    void mangledFilesAreRefusedOrRead()
    {
        QFile file(QString::fromStdString(shareFolder()) + "/benches/withy-lock/bench.toml");
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray good = file.readAll();
        kernel::Random random(3, "mangle");
        int read = 0, refused = 0;
        for (int round = 0; round < 3000; ++round) {
            QByteArray text = good;
            for (std::uint64_t n = 1 + random.below(4); n > 0; --n) {
                const auto at = static_cast<qsizetype>(random.below(static_cast<std::uint64_t>(text.size())));
                switch (random.below(5)) {
                case 0: text[at] = static_cast<char>(random.below(256)); break;
                case 1: text.remove(at, static_cast<qsizetype>(random.below(40))); break;
                case 2: text.insert(at, text.mid(static_cast<qsizetype>(random.below(static_cast<std::uint64_t>(text.size()))), 30)); break;
                case 3: text.insert(at, "99999999999999999999"); break;
                default: text.truncate(at + 1); break;
                }
            }
            const auto document = parseDocument("mangled.toml", std::string_view(text.constData(), static_cast<std::size_t>(text.size())));
            const std::string trouble = !document ? document.error().text() : checkDocument(*document, catalogue(), "mangled.toml") ? "" : checkDocument(*document, catalogue(), "mangled.toml").error().text();
            if (!trouble.empty()) {
                QVERIFY2(trouble.find('\n') == std::string::npos && trouble.starts_with("mangled.toml"), trouble.c_str());
                ++refused;
                continue;
            }
            ++read;
            (void)World::build(*document, catalogue(), {}, nullptr);
            (void)writeDocument(*document);
        }
        QVERIFY2(read > 100 && refused > 100, qPrintable(QString("%1 %2").arg(read).arg(refused)));
    }
};

QTEST_GUILESS_MAIN(EditsTest)
#include "edits_test.moc"
