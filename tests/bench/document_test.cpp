// The bench file: what it keeps, what it refuses and with which words, and what edits do to it.
#include <QtTest>

#include <QDir>
#include <QTemporaryDir>

#include "bench/example_bench.h"
#include "bench/edit.h"
#include "bench/history.h"
#include "kernel/random.h"

using namespace bramix;
using namespace bramix::bench;
using bramix::test::kBench;

class DocumentTest : public QObject {
    Q_OBJECT

private:
    Catalogue catalogue_;

    static std::string error(const char* text)
    {
        const auto d = parseDocument("gate.toml", text);
        return d ? "no error" : d.error().text();
    }

    std::string checkError(const char* text)
    {
        const auto d = parseDocument("gate.toml", text);
        if (!d)
            return d.error().text();
        const auto ok = checkDocument(*d, catalogue_, "gate.toml");
        return ok ? "no error" : ok.error().text();
    }

private slots:
    // Many wires find their ways piece by piece; what comes of it is what comes of doing it at once.
    void waysOfManyWiresAreFoundInPieces()
    {
        std::string text = "bramix = 1\ntitle = \"t\"\n";
        for (int i = 0; i < 60; ++i)
            text += "[[part]]\nid = \"r" + std::to_string(i) + "\"\nkind = \"resistor\"\nat = [" + std::to_string(i % 10 * 8) + ", " + std::to_string(i / 10 * 6) + "]\n";
        for (int i = 0; i + 11 < 60; ++i)
            text += "[[wire]]\nends = [\"r" + std::to_string(i) + ".2\", \"r" + std::to_string(i + 11) + ".1\"]\ncolor = \"ink\"\n";
        const auto d = parseDocument("t", text);
        QVERIFY2(d.has_value(), d ? "" : d.error().text().c_str());
        WirePaths whole, pieces;
        const auto expected = whole.update(*d, catalogue_);
        QCOMPARE(whole.waiting(), std::size_t{0});
        QCOMPARE(expected, wirePaths(*d, catalogue_));
        auto found = pieces.update(*d, catalogue_, std::chrono::milliseconds(-1));
        QCOMPARE(pieces.waiting(), d->wires.size() - 1);
        for (std::size_t i = 0; i < d->wires.size(); ++i) {
            QCOMPARE(found[i].front(), *pinPlace(*d, catalogue_, d->wires[i].from));
            QCOMPARE(found[i].back(), *pinPlace(*d, catalogue_, d->wires[i].to));
            for (std::size_t k = 1; k < found[i].size(); ++k)
                QVERIFY(found[i][k].x == found[i][k - 1].x || found[i][k].y == found[i][k - 1].y);
        }
        int calls = 0;
        do {
            found = pieces.update(*d, catalogue_, std::chrono::milliseconds(0));
            ++calls;
        } while (pieces.waiting() > 0 && calls < 1000);
        QVERIFY(calls > 1);
        QCOMPARE(found, expected);
    }

    void initTestCase()
    {
        auto catalogue = Catalogue::loadInstalled();
        QVERIFY2(catalogue, catalogue ? "" : catalogue.error().text().c_str());
        catalogue_ = std::move(*catalogue);
    }

    void keepsEverythingAndWritesTheSameTextAgain()
    {
        std::vector<std::string> warnings;
        const auto d = parseDocument("gate.toml", kBench, &warnings);
        QVERIFY2(d, d ? "" : d.error().text().c_str());
        QCOMPARE(warnings.size(), 2U);
        QVERIFY2(std::count(warnings.begin(), warnings.end(), "gate.toml: line 22, column 9: part \"r1\" has \"maker\", which this version does not know; it is kept") == 1, warnings[0].c_str());
        QCOMPARE(d->parts[1].set.at("resistance"), "4k7");
        QCOMPARE(d->wires[0].via.size(), 2U);
        const std::string text = writeDocument(*d);
        QVERIFY(text.starts_with("# The lock, first form.\n# Keep it simple.\n\nbramix = 1\n"));
        QVERIFY(text.find("# the board\n[[part]]\nid = \"mcu\"") != std::string::npos);
        QVERIFY(text.find("maker = ") != std::string::npos);
        QVERIFY(text.find("weather = ") != std::string::npos);
        const auto again = parseDocument("gate.toml", text);
        QVERIFY2(again, again ? "" : again.error().text().c_str());
        QVERIFY(*again == *d);
        QCOMPARE(writeDocument(*again), text);
    }

    void errorsNameLineAndColumn()
    {
        QCOMPARE(error("title = \"no format\"\n"), "gate.toml: has no \"bramix = 1\"; expected a bench");
        QCOMPARE(error("bramix = 2\n"), "gate.toml: line 1, column 10: is of format 2; this version reads format 1; use a newer Bramix");
        QVERIFY(error("bramix = 1\ntitle = \"open\n").starts_with("gate.toml: line 2, column "));
        QCOMPARE(error("bramix = 1\n[[part]]\nid = \"a\"\n"), "gate.toml: line 2, column 1: has no \"kind\"; expected a text");
        QCOMPARE(error("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\nat = [1]\n"), "gate.toml: line 5, column 6: \"at\" is not a place; expected [x, y] in whole grid steps");
        QCOMPARE(error("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\nturn = 7\n"), "gate.toml: line 5, column 8: \"turn\" is out of range; expected a whole number from 0 to 3");
        QCOMPARE(error("bramix = 1\n[[wire]]\nends = [\"a.1\"]\n"), "gate.toml: line 2, column 1: a wire has 1 ends; expected 2");
        QCOMPARE(error("bramix = 1\n[[wire]]\nends = [\"a.1\", \"b\"]\n"), "gate.toml: line 2, column 1: \"b\" is not a pin; expected \"part.pin\"");
        QCOMPARE(error("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\n[[part]]\nid = \"a\"\nkind = \"led\"\n"), "gate.toml: line 5: a second part \"a\"; expected ids that differ");
        QCOMPARE(error("bramix = 1\nparts = 3\npart = 4\n"), "gate.toml: line 3, column 8: \"part\" is not a list of tables; expected [[part]]");
        QVERIFY(error(std::string(300, '[').insert(0, "bramix = ").c_str()).find("nested") != std::string::npos);
    }

    void whatDoesNotFitTogetherIsTold()
    {
        QCOMPARE(checkError("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"lamp\"\n"),
                 "gate.toml: line 2: part \"a\" is of kind \"lamp\", which the catalogue does not have; bramix-cli list parts shows what it has");
        QCOMPARE(checkError("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\n[[wire]]\nends = [\"a.A\", \"b.1\"]\n"), "gate.toml: line 5: \"b.1\" names a part that is not on the bench");
        QCOMPARE(checkError("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\n[[net]]\nname = \"GND\"\npins = [\"a.C\"]\n"), "gate.toml: line 5: LED \"a\" has no pin \"C\"; it has A, K");
        QCOMPARE(checkError("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\nset = { color = \"plaid\" }\n"),
                 "gate.toml: line 2: a.color is \"plaid\"; expected red, amber, yellow, green, blue, white, infrared");
        QCOMPARE(checkError("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"led\"\nfirmware = \"x.elf\"\n"), "gate.toml: line 2: part \"a\" has firmware, but a LED runs none");
    }

    void framework_pin_numbersAreAcceptedToo()
    {
        QCOMPARE(checkError("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\n[[part]]\nid = \"a\"\nkind = \"led\"\n[[wire]]\nends = [\"a.A\", \"mcu.D13\"]\n[[wire]]\nends = [\"a.K\", \"mcu.A0\"]\n"),
                 "no error");
        QCOMPARE(catalogue_.find("briar-328")->pin("13")->name, "PB5");
    }

    void savingIsAtomic()
    {
        QTemporaryDir folder;
        const std::string file = folder.filePath("gate.toml").toStdString();
        QVERIFY(saveText(file, kBench).has_value());
        QVERIFY(loadDocument(file).has_value());
        // A folder in which nothing can be created: the error says so, nothing is lost.
        const auto failed = saveText("/proc/none/gate.toml", "x");
        QVERIFY(!failed);
        QCOMPARE(failed.error().text(), "/proc/none/gate.toml: cannot be saved: creating a file beside it: No such file or directory; what was there before is untouched");
        QCOMPARE(QDir(folder.path()).entryList(QDir::Files).size(), 1);
    }

    void undoAndRedoComeBackToTheSameText()
    {
        Document d = *parseDocument("gate.toml", kBench);
        History history;
        kernel::Random random(11);
        std::vector<std::string> texts{writeDocument(d)};
        const std::vector<std::string> kinds{"led", "resistor", "push-button", "slide-switch", "ground"};
        for (int i = 0; i < 300; ++i) {
            Document next = d;
            std::set<std::string> some;
            for (const PartItem& p : next.parts)
                if (random.below(4) == 0)
                    some.insert(p.id);
            const auto any = [&]() -> PinRef {
                const PartItem& p = next.parts[random.below(next.parts.size())];
                const auto& pins = catalogue_.find(p.kind)->pins;
                return {p.id, pins[random.below(pins.size())].name};
            };
            switch (next.parts.empty() ? 0 : random.below(8)) {
            case 0:
            case 1: addPart(next, *catalogue_.find(kinds[random.below(kinds.size())]), {static_cast<int>(random.below(60)), static_cast<int>(random.below(40))}); break;
            case 2: moveParts(next, catalogue_, some, {static_cast<int>(random.below(9)) - 4, static_cast<int>(random.below(9)) - 4}); break;
            case 3: turnParts(next, catalogue_, some); break;
            case 4: addWire(next, catalogue_, any(), any(), {}); break;
            case 5: setNetFlag(next, catalogue_, any(), random.below(2) == 0 ? "GND" : "BELL"); break;
            case 6:
                if (next.parts.size() < 60)
                    duplicate(next, {some, {}}, {2, 2});
                break;
            default:
                if (random.below(3) == 0)
                    remove(next, {some, {}});
                break;
            }
            if (next == d)
                continue;
            const auto ok = checkDocument(next, catalogue_, "random");
            QVERIFY2(ok, ok ? "" : ok.error().text().c_str());
            history.record(d, "edit");
            d = next;
            texts.push_back(writeDocument(d));
        }
        QVERIFY(texts.size() > 150);
        for (std::size_t i = texts.size() - 1; i-- > 0;) {
            history.undo(d);
            QCOMPARE(writeDocument(d), texts[i]);
        }
        for (std::size_t i = 1; i < texts.size(); ++i) {
            history.redo(d);
            QCOMPARE(writeDocument(d), texts[i]);
        }
    }

    void editsOfOneKindInARowAreOneStep()
    {
        Document d;
        History history;
        for (int i = 0; i < 5; ++i) {
            history.record(d, "title", "title");
            d.title = std::to_string(i);
        }
        history.undo(d);
        QCOMPARE(d.title, "New bench");
        QVERIFY(!history.canUndo());
    }

    // Where a wire runs along a row of pins it would look as if it joined them: it keeps a step away from their tips.
    void wiresKeepAwayFromOtherPins()
    {
        Document d;
        const std::string board = addPart(d, *catalogue_.find("briar-328"), {8, 10});
        const std::string lamp = addPart(d, *catalogue_.find("led"), {50, 2});
        addWire(d, catalogue_, {board, "PB5"}, {lamp, "A"}, {});
        addWire(d, catalogue_, {board, "PD7"}, {lamp, "K"}, {});
        const PartKind& kind = *catalogue_.find("briar-328");
        const GridRect body = bodyRect(*d.part(board), kind);
        std::set<std::pair<int, int>> tips;
        for (const PinKind& pin : kind.pins) {
            if (pin.name == "PB5" || pin.name == "PD7")
                continue;
            const GridPoint at = pinPlace(*d.part(board), kind, pin);
            tips.insert({at.x, at.y - body.top < body.bottom - at.y ? body.top - 1 : body.bottom + 1});
        }
        for (const auto& path : wirePaths(d, catalogue_))
            for (std::size_t i = 1; i < path.size(); ++i)
                for (GridPoint p = path[i - 1]; !(p == path[i]); p = {p.x + (path[i].x > p.x) - (path[i].x < p.x), p.y + (path[i].y > p.y) - (path[i].y < p.y)})
                    QVERIFY2(!tips.contains({p.x, p.y}), qPrintable(QString("%1 %2").arg(p.x).arg(p.y)));
    }

    void wiresFindTheirWayAroundBodiesAtRightAngles()
    {
        Document d;
        const std::string left = addPart(d, *catalogue_.find("push-button"), {0, 10});
        addPart(d, *catalogue_.find("briar-328"), {8, 6});
        const std::string right = addPart(d, *catalogue_.find("push-button"), {40, 10});
        addWire(d, catalogue_, {left, "2"}, {right, "1"}, {});
        const auto path = wirePaths(d, catalogue_)[0];
        QVERIFY(path.size() >= 4);
        const GridRect board = bodyRect(*d.part("mcu"), *catalogue_.find("briar-328"));
        for (std::size_t i = 1; i < path.size(); ++i) {
            QVERIFY(path[i].x == path[i - 1].x || path[i].y == path[i - 1].y);
            for (int k = 0; k <= 100; ++k)
                QVERIFY(!board.contains({path[i - 1].x + (path[i].x - path[i - 1].x) * k / 100, path[i - 1].y + (path[i].y - path[i - 1].y) * k / 100}));
        }
        // Bends that a person made stay when both ends move, and keep their angles when one does.
        d.wires[0].via = {{6, 12}, {6, 2}, {38, 2}, {38, 12}};
        moveParts(d, catalogue_, {left}, {0, 3});
        QVERIFY(d.wires[0].via[0] == (GridPoint{6, 15}));
        QVERIFY(d.wires[0].via[1] == (GridPoint{6, 2}));
        moveParts(d, catalogue_, {left, "mcu", right}, {1, 1});
        QVERIFY(d.wires[0].via[1] == (GridPoint{7, 3}));
    }

    void coloursFollowTheRole()
    {
        Document d;
        const std::string mcu = addPart(d, *catalogue_.find("briar-328"), {0, 0});
        const std::string led = addPart(d, *catalogue_.find("led"), {30, 0});
        addWire(d, catalogue_, {led, "K"}, {mcu, "GND"}, {});
        addWire(d, catalogue_, {mcu, "5V"}, {led, "A"}, {});
        QCOMPARE(d.wires[0].color, "ink");
        QCOMPARE(d.wires[1].color, "rust");
        QVERIFY(!addWire(d, catalogue_, {led, "A"}, {mcu, "5V"}, {}));
        QVERIFY(!addWire(d, catalogue_, {led, "A"}, {led, "A"}, {}));
    }

    void searchFindsKindsByNameWordAndPurpose()
    {
        QCOMPARE(catalogue_.search("led")[0]->id, "led");
        QCOMPARE(catalogue_.search("lamp")[0]->id, "led");
        QVERIFY(catalogue_.search("avr")[0]->id.starts_with("briar-"));
        QCOMPARE(catalogue_.search("change over")[0]->id, "slide-switch");
        QVERIFY(catalogue_.search("zeppelin").empty());
        for (const PartKind* kind : catalogue_.search(""))
            QVERIFY(!kind->id.starts_with("bare-"));
    }

    void lanesAndACaptureAreKept()
    {
        const std::string text = "bramix = 1\ntitle = \"t\"\nlanes = [\"group Gates\", \"mcu.PB3\", \"folded Inside\", \"variable mcu gates[0].cm\", \"usual\"]\ncapture = \"real.vcd\"\ncapture-at = \"5.1ms\"\n";
        const auto d = parseDocument("t", text);
        QVERIFY2(d, d ? "" : d.error().text().c_str());
        QCOMPARE(d->lanes.size(), std::size_t{5});
        QCOMPARE(d->capture, std::string("real.vcd"));
        QCOMPARE(QString::fromStdString(writeDocument(*d)), QString::fromStdString(text));
        const auto wrong = parseDocument("t", "bramix = 1\ncapture-at = \"soon\"\n");
        QVERIFY(!wrong && wrong.error().text().find("5.1ms") != std::string::npos);
    }
};

QTEST_GUILESS_MAIN(DocumentTest)
#include "document_test.moc"
