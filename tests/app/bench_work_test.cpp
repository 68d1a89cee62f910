// Work on the sheet by hand: keys and knobs on parts, probes, copy and paste, lining up, another kind, typed scales.
#include <QClipboard>
#include <QLineEdit>
#include <QtTest>

#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class BenchWorkTest : public QObject {
    Q_OBJECT

private:
    std::unique_ptr<bench::Catalogue> catalogue_;
    std::unique_ptr<MainWindow> window_;

    Editor& editor() { return window_->editor(); }
    BenchView& view() { return window_->benchView(); }
    double control(const char* name)
    {
        const auto found = editor().picture().controls.find(name);
        return found == editor().picture().controls.end() ? -1 : found->second;
    }
    QPoint onPart(const char* id, double x, double y) { return view().toWidget(toUnits(editor().document().part(id)->at) + QPointF(x, y)).toPoint(); }
    void add(const char* kind, bench::GridPoint at)
    {
        editor().change("add", [&](bench::Document& d) { bench::addPart(d, *catalogue_->find(kind), at); });
        view().fitAll();
        editor().session().settle();
    }

private slots:
    void initTestCase() { catalogue_ = std::make_unique<bench::Catalogue>(*bench::Catalogue::loadInstalled()); }
    void init()
    {
        window_ = std::make_unique<MainWindow>(*catalogue_);
        window_->neverAsk();
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        view().setFocus();
    }

    void keysAndKnobsOnPartsAreWorkedByTheMouse()
    {
        add("keypad", {4, 4});
        add("rotary-encoder", {24, 4});
        add("dip-switch", {40, 6});
        editor().run();
        // The key 5: second column, second row.
        QTest::mousePress(&view(), Qt::LeftButton, {}, onPart("keys1", 18 + 28 + 12, 6 + 28 + 12));
        QTRY_COMPARE(control("keys1.5"), 1.0);
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, onPart("keys1", 18 + 28 + 12, 6 + 28 + 12));
        QTRY_COMPARE(control("keys1.5"), 0.0);
        // The wheel over the knob: a detent each, and the file keeps where it stands.
        const QPointF knob = onPart("knob1", 48, 12);
        for (int i = 0; i < 3; ++i) {
            QWheelEvent wheel(knob, view().mapToGlobal(knob), {}, {0, 120}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
            QApplication::sendEvent(&view(), &wheel);
            editor().session().settle();
            QTest::qWait(40);
        }
        QTRY_COMPARE(control("knob1.turn"), 3.0);
        QCOMPARE(editor().document().part("knob1")->controls.at("turn"), 3.0);
        // A switch stays where it is put.
        QTest::mouseClick(&view(), Qt::LeftButton, {}, onPart("dip1", 2 * 16, 30));
        QTRY_COMPARE(control("dip1.3"), 1.0);
        QTest::mouseClick(&view(), Qt::LeftButton, {}, onPart("dip1", 2 * 16, 30));
        QTRY_COMPARE(control("dip1.3"), 0.0);
        QVERIFY(editor().document().part("dip1")->controls.empty());
    }

    void aProbeTellsTheLastWhile()
    {
        QVERIFY(editor().openFile(QString::fromStdString(bench::shareFolder()) + "/benches/frost-alarm/bench.toml"));
        view().fitAll();
        editor().session().settle();
        const bench::PinRef pin{"mcu", "PD6"};
        QTest::mouseMove(&view(), view().pinInWidget(pin)->toPoint());
        QTest::keyClick(&view(), Qt::Key_P);
        QCOMPARE(editor().probes(), std::vector<bench::PinRef>{pin});
        editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(editor().picture().now > kernel::Time(std::chrono::milliseconds(150)), 20'000);
        QTRY_VERIFY(editor().picture().probes.contains(pin) && editor().picture().probes.at(pin).most > 4.5);
        // A pulse width: its mean is its duty of five volts, its root mean square the root of that.
        const tape::WaveMeasures m = editor().picture().probes.at(pin);
        QVERIFY2(m.least < 0.3 && std::fabs(m.rms * m.rms / 5 - m.mean) < 0.1, qPrintable(QString("%1 %2").arg(m.rms).arg(m.mean)));
        QVERIFY(!window_->grab().isNull());
        editor().nextProbeSpan();
        QCOMPARE(editor().probeSpan(), kernel::Duration(std::chrono::seconds(1)));
        editor().toggleProbe(pin);
        QVERIFY(editor().probes().empty());
    }

    void copiesGoToAnotherBench()
    {
        add("resistor", {4, 4});
        add("led", {12, 4});
        editor().change("wire", [&](bench::Document& d) { bench::addWire(d, *catalogue_, {"r1", "2"}, {"led1", "A"}, {}); });
        editor().select({{"r1", "led1"}, {}});
        view().setFocus();
        QTest::keySequence(window_.get(), QKeySequence::Copy);
        QVERIFY(QGuiApplication::clipboard()->text().contains("[[wire]]"));
        editor().newBench();
        QVERIFY(editor().document().parts.empty());
        QTest::keySequence(window_.get(), QKeySequence::Paste);
        QCOMPARE(editor().document().parts.size(), std::size_t{2});
        QCOMPARE(editor().document().wires.size(), std::size_t{1});
        QCOMPARE(editor().selection().parts.size(), std::size_t{2});
        QTest::keySequence(window_.get(), QKeySequence::Cut);
        QVERIFY(editor().document().parts.empty());
        QGuiApplication::clipboard()->setText("nothing of the kind");
        QTest::keySequence(window_.get(), QKeySequence::Paste);
        QVERIFY(editor().document().parts.empty());
    }

    void partsLineUpAndChangeTheirKind()
    {
        add("resistor", {4, 4});
        add("resistor", {9, 8});
        editor().select({{"r1", "r2"}, {}});
        view().setFocus();
        QTest::keyClick(window_.get(), Qt::Key_Left, Qt::AltModifier);
        QCOMPARE(editor().document().part("r2")->at.x, 4);
        editor().select({{"r2"}, {}});
        QTest::keyClick(window_.get(), Qt::Key_R, Qt::ShiftModifier);
        QVERIFY(window_->pickList().isVisible());
        QTest::keyClicks(window_->pickList().line(), "inductor");
        QTest::keyClick(window_->pickList().line(), Qt::Key_Return);
        QCOMPARE(editor().document().part("r2")->kind, "inductor");
        editor().undo();
        QCOMPARE(editor().document().part("r2")->kind, "resistor");
    }

    // What is plugged in moves with its board, by the mouse.
    void aBreadboardTakesItsPartsAlong()
    {
        add("breadboard-half", {4, 4});
        add("resistor", {8, 8});
        const QPoint grip = onPart("board1", 200, 8.5 * 16);  // the trough
        QTest::mousePress(&view(), Qt::LeftButton, {}, grip);
        const auto step = static_cast<int>(kStep * view().zoom());
        QTest::mouseMove(&view(), grip + QPoint(2 * step, 0));
        QTest::mouseMove(&view(), grip + QPoint(4 * step, 0));
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, grip + QPoint(4 * step, 0));
        QVERIFY(editor().document().part("board1")->at.x > 5);
        QCOMPARE(editor().document().part("r1")->at.x - editor().document().part("board1")->at.x, 4);
    }

    void theOscilloscopesScalesAreTyped()
    {
        QVERIFY(editor().openFile(QString::fromStdString(bench::shareFolder()) + "/benches/frost-alarm/bench.toml"));
        ScopeView& scope = window_->scope();
        window_->showScope();
        scope.toggle({"mcu", "PD6"});
        auto* level = scope.findChild<QLineEdit*>("scopeLevel");
        auto* span = scope.findChild<QLineEdit*>("scopeSpan");
        QVERIFY(level != nullptr && span != nullptr);
        const auto type = [](QLineEdit* edit, const char* text) {
            edit->setText(text);
            emit edit->editingFinished();
        };
        type(span, "200us");
        QCOMPARE(span->text(), "200 µs");
        type(level, "1.2V");
        QCOMPARE(level->text(), "1.2 V");
        type(level, "high");
        QVERIFY(level->toolTip().contains("high"));
        scope.setScale(0, -1, 6);
        QCOMPARE(scope.scale(0), (std::pair{-1.0, 6.0}));
        scope.setScale(0, 3, 3);  // no scale at all
        QCOMPARE(scope.scale(0), (std::pair{-1.0, 6.0}));
    }
};

QTEST_MAIN(BenchWorkTest)
#include "bench_work_test.moc"
