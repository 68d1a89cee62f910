// A ribbon on the sheet: its strands, and how a person makes one.
#include <QtTest>

#include "app/application.h"
#include "app/canvas/bench_view.h"
#include "app/canvas/ribbon.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;
using bench::GridPoint;

class RibbonTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    // Four wires down, across and down again: between the fans every strand is five units from the next, in the order of its pins, and each ends on its pins.
    void strandsLieSideBySide()
    {
        std::vector<bench::WireItem> wires(5);
        std::vector<std::vector<GridPoint>> paths;
        for (int i = 0; i < 4; ++i) {
            wires[static_cast<std::size_t>(i)] = {{"a", std::to_string(i)}, {"b", std::to_string(i)}, "slate", {}, "r", {}};
            paths.push_back({{i, 0}, {i, 10 + i}, {20 + i, 10 + i}, {20 + i, 30}});
        }
        // The second was drawn from the other end; the last is no strand.
        std::swap(wires[1].from, wires[1].to);
        std::reverse(paths[1].begin(), paths[1].end());
        wires[4] = {{"a", "9"}, {"b", "9"}, "slate", {}, {}, {}};
        paths.push_back({{9, 0}, {9, 5}});
        const WireLines lines = layWires(wires, paths);
        QCOMPARE(lines.ribbons.size(), std::size_t{1});
        QVERIFY(lines.isStrand(0) && lines.isStrand(3) && !lines.isStrand(4) && !lines.isStrand(9));
        std::vector<std::size_t> order = lines.ribbons[0].wires;
        if (order.front() != 0)
            std::reverse(order.begin(), order.end());
        QVERIFY((order == std::vector<std::size_t>{0, 1, 2, 3}));
        for (std::size_t i = 0; i < 4; ++i) {
            QPolygonF line = lines.lines[i];
            if (i == 1)
                std::reverse(line.begin(), line.end());
            QCOMPARE(line.front(), toUnits({static_cast<int>(i), 0}));
            QCOMPARE(line.back(), toUnits({20 + static_cast<int>(i), 30}));
            QCOMPARE(line.size(), qsizetype{8});  // pin, stub, four points between the fans, stub, pin
            if (i == 0)
                continue;
            QPolygonF before = lines.lines[i - 1];
            if (i == 2)
                std::reverse(before.begin(), before.end());
            QCOMPARE(line[2].x() - before[2].x(), 5.0);
            // Round the first corner, to the right of the way down, the order turns with the way.
            QCOMPARE(std::fabs(line[3].y() - before[3].y()), 5.0);
            QCOMPARE(line[5].x() - before[5].x(), 5.0);
        }
        QCOMPARE(lines.lines[4], QPolygonF() << toUnits({9, 0}) << toUnits({9, 5}));
        wires[0].ribbon = wires[1].ribbon = wires[2].ribbon = {};
        QVERIFY(layWires(wires, paths).ribbons.empty());
    }

    // Select, L; a double click takes the whole ribbon; L again takes it apart; one wire alone is refused in words.
    void aPersonTiesOne()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.resize(1200, 800);
        window.show();
        QVERIFY(QTest::qWaitForWindowActive(&window));
        Editor& editor = window.editor();
        editor.change("add", [&](bench::Document& d) {
            bench::addPart(d, catalogue_.find("74hc595") != nullptr ? *catalogue_.find("74hc595") : *catalogue_.find("resistor"), {4, 4});
            bench::addPart(d, *catalogue_.find("seven-segment"), {40, 12});
            const std::string a = d.parts[0].id, b = d.parts[1].id;
            int i = 0;
            for (const char* pin : {"QB", "QC", "QD", "QE"})
                bench::addWire(d, catalogue_, {a, pin}, {b, std::string(1, static_cast<char>('a' + i++))}, {});
        });
        auto* bench = window.findChild<BenchView*>();
        QVERIFY(bench != nullptr);
        bench->fitAll();
        bench->setFocus();
        QSignalSpy said(&editor, &Editor::message);
        editor.select({{}, {0}});
        QTest::keyClick(bench, Qt::Key_L);
        QCOMPARE(said.count(), 1);
        editor.select({{}, {0, 1, 2, 3}});
        QTest::keyClick(bench, Qt::Key_L);
        for (const bench::WireItem& w : editor.document().wires)
            QCOMPARE(w.ribbon, "ribbon1");
        editor.select({});
        const auto lines = layWires(editor.document().wires, bench::wirePaths(editor.document(), catalogue_));
        const QPolygonF& strand = lines.lines[2];
        QTest::mouseDClick(bench, Qt::LeftButton, {}, bench->toWidget((strand[2] + strand[3]) / 2).toPoint());
        QCOMPARE(editor.selection().wires.size(), std::size_t{4});
        QTest::keyClick(bench, Qt::Key_L);
        for (const bench::WireItem& w : editor.document().wires)
            QVERIFY(w.ribbon.empty());
        editor.undo();
        QCOMPARE(editor.document().wires[3].ribbon, "ribbon1");
    }
};

QTEST_MAIN(RibbonTest)
#include "ribbon_test.moc"
