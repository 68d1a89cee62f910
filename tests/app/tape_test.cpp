// The tape by mouse and keys in the real window: lanes that read, measuring, searching, bookmarks.
#include <QtTest>

#include <QDragEnterEvent>
#include <QDropEvent>
#include <QListWidget>
#include <QMenu>
#include <QMimeData>

#include "app/application.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;
using namespace std::chrono_literals;

class TapeTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;

    TapeView& tape() { return window_->tapeView(); }
    const session::Picture& picture() { return window_->editor().picture(); }
    void open(const char* name)
    {
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->open(QString::fromStdString(bench::shareFolder()) + "/benches/" + name + "/bench.toml");
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
    }
    void runTo(kernel::Time t)
    {
        window_->editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(picture().now > t, 20'000);
        window_->editor().pause();
        QTRY_VERIFY(!picture().running);
    }
    const session::ReadLane* lane(const std::string& text)
    {
        for (const session::ReadLane& l : picture().reads)
            if (l.text == text)
                return &l;
        return nullptr;
    }
    double xOf(kernel::Time t) { return 150 + (tape().width() - 176.0) * static_cast<double>((t - picture().tapeFrom).count()) / static_cast<double>((picture().tapeTo - picture().tapeFrom).count()); }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }
    void cleanup() { window_.reset(); }

    // From the menu on the lanes' names: typed, chosen, moved, taken off, and kept in the bench.
    void lanesAreAddedByHand()
    {
        open("bell-rope");
        runTo(kernel::Time(100ms));
        const auto pins = window_->editor().lanes();
        emit tape().lanesWanted(QPoint(150, 60));
        QVERIFY(window_->pickList().isVisible());
        QTest::keyClicks(window_->pickList().line(), "uart:mcu.PD1");
        QTest::keyClick(window_->pickList().line(), Qt::Key_Return);
        QTRY_VERIFY(lane("uart:mcu.PD1") != nullptr);
        tape().follow(60ms);
        tape().goTo(kernel::Time(20ms));
        QTRY_VERIFY(lane("uart:mcu.PD1")->items.size() > 17);
        std::string said;
        for (const tape::Decoded& d : lane("uart:mcu.PD1")->items)
            said += static_cast<char>(d.value);
        QVERIFY2(said.find("Bell tower ready") != std::string::npos, said.c_str());
        // Offered by what stands on the bench.
        const auto offers = tape().offers("interrupts");
        QVERIFY(!offers.empty());
        QCOMPARE(offers[0].title, QString("interrupts mcu"));
        const std::string volts = "volts " + pins[0].text();
        window_->editor().toggleRead(volts);
        // What was before it was asked for, is found.
        const auto known = [&] { return lane(volts) == nullptr || lane(volts)->wave.empty() ? 0 : std::count_if(lane(volts)->wave.begin(), lane(volts)->wave.end(), [](const tape::WaveColumn& c) { return c.known; }); };
        QTRY_VERIFY(known() > 0 && static_cast<double>(known()) > 0.8 * static_cast<double>(lane(volts)->wave.size()));  // a sixth of the window lies before power-up
        runTo(picture().now + 20ms);
        tape().follow(10ms);
        QTRY_VERIFY(lane(volts) != nullptr && !lane(volts)->wave.empty() && std::any_of(lane(volts)->wave.begin(), lane(volts)->wave.end(), [](const tape::WaveColumn& c) { return c.known; }));
        const std::vector<std::string>& kept = window_->editor().document().lanes;
        QVERIFY(kept.size() >= pins.size() + 2);
        QCOMPARE(kept[0], pins[0].text());
        QVERIFY(std::find(kept.begin(), kept.end(), "uart:mcu.PD1") != kept.end());
        window_->editor().moveLane(volts, -1);
        QVERIFY(std::find(kept.begin(), kept.end(), volts) < std::find(kept.begin(), kept.end(), "uart:mcu.PD1"));
        window_->editor().toggleRead(volts);
        QTRY_VERIFY(lane(volts) == nullptr);
        // Undone step by step, the usual ones come back.
        for (int i = 0; i < 6; ++i)
            window_->editor().undo();
        QVERIFY(window_->editor().document().lanes.empty());
        QVERIFY(window_->editor().lanes() == pins);
    }

    // Lanes that somebody has chosen stay through rewiring, whatever the wires do meanwhile: a board's pin, and a part's lead.
    void chosenLanesOutliveTheirWires()
    {
        open("bell-rope");
        Editor& editor = window_->editor();
        const bench::WireItem wire = editor.document().wires.front();
        const bench::PinRef lead = wire.from.part == "mcu" ? wire.to : wire.from, board = wire.from.part == "mcu" ? wire.from : wire.to;
        if (std::find(editor.lanes().begin(), editor.lanes().end(), lead) == editor.lanes().end())
            editor.toggleLane(lead);
        if (std::find(editor.lanes().begin(), editor.lanes().end(), board) == editor.lanes().end())
            editor.toggleLane(board);
        const auto chosen = editor.lanes();
        QVERIFY(!editor.document().lanes.empty());
        runTo(kernel::Time(20ms));
        const auto shown = [&](const bench::PinRef& pin) {
            return std::any_of(picture().lanes.begin(), picture().lanes.end(), [&](const session::LanePicture& l) { return l.name == pin.text(); });
        };
        QTRY_VERIFY(shown(lead) && shown(board));
        editor.change("unwired", [&](bench::Document& d) { std::erase_if(d.wires, [&](const bench::WireItem& w) { return w.from == lead || w.to == lead; }); });
        runTo(picture().now + 20ms);
        QVERIFY(editor.lanes() == chosen);
        QTRY_VERIFY(shown(lead) && shown(board));
        editor.change("wired again", [&](bench::Document& d) { d.wires.push_back(wire); });
        runTo(picture().now + 20ms);
        QVERIFY(editor.lanes() == chosen);
        QTRY_VERIFY(shown(lead) && shown(board));
    }

    // The menu of a lane by keys alone.
    void lanesAreWorkedByKeys()
    {
        open("bell-rope");
        runTo(kernel::Time(20ms));
        const auto pins = window_->editor().lanes();
        QVERIFY(pins.size() >= 2);
        tape().setFocus();
        QTest::keyClick(&tape(), Qt::Key_Down);
        QCOMPARE(tape().chosen(), pins[0].text());
        QTest::keyClick(&tape(), Qt::Key_Down);
        QCOMPARE(tape().chosen(), pins[1].text());
        QTest::keyClick(&tape(), Qt::Key_Up, Qt::AltModifier);
        const std::vector<std::string>& kept = window_->editor().document().lanes;
        QVERIFY(std::find(kept.begin(), kept.end(), pins[1].text()) < std::find(kept.begin(), kept.end(), pins[0].text()));
        QTest::keyClick(&tape(), Qt::Key_Down);
        QCOMPARE(tape().chosen(), pins[0].text());
        QTest::keyClick(&tape(), Qt::Key_Delete);
        QVERIFY(std::find(window_->editor().lanes().begin(), window_->editor().lanes().end(), pins[0]) == window_->editor().lanes().end());
        window_->editor().undo();
        QVERIFY(std::find(window_->editor().lanes().begin(), window_->editor().lanes().end(), pins[0]) != window_->editor().lanes().end());
        tape().choose(pins[1].text());
        QTest::keyClick(&tape(), Qt::Key_Menu);
        auto* menu = tape().findChild<QMenu*>("laneMenu");
        QVERIFY(menu != nullptr);
        for (const QAction* a : menu->actions())
            QVERIFY2(a->isSeparator() || !a->text().contains(" \u2026"), qPrintable(a->text()));
        menu->close();
    }

    // A serial line's bits: the first byte by its marks, from edge to edge by the arrow keys.
    void edgesAreWalkedAndMeasured()
    {
        open("bell-rope");
        runTo(kernel::Time(60ms));
        window_->editor().toggleLane({"mcu", "PD1"});
        tape().goTo(kernel::Time(8ms));
        tape().choose("mcu.PD1");
        tape().setMarks(kernel::Time(100us), std::nullopt);
        tape().setFocus();
        std::vector<kernel::Time> at;
        for (int i = 0; i < 6; ++i) {
            const auto before = tape().firstMark();
            QTest::keyClick(&tape(), Qt::Key_Right);
            QTRY_VERIFY(tape().firstMark() != before);
            at.push_back(*tape().firstMark());
        }
        // 'B' is 0x42: 0 | 0 1 0 0 0 0 1 0 | 1, so that edges lie 2, 1, 4, 1, 1 bits apart (start and first 0; 1; four 0; 1; 0 and on).
        const double bit = 104e-6;
        const std::array<int, 4> bits{2, 1, 4, 1};
        const std::size_t start = kernel::seconds(at[1] - at[0]) < bit / 2 ? 1 : 0;  // the line goes high when it is switched on
        for (std::size_t i = 0; i + start + 1 < at.size() && i < bits.size(); ++i)
            QVERIFY2(std::fabs(kernel::seconds(at[start + i + 1] - at[start + i]) / bit - bits[i]) < 0.05, qPrintable(QString("%1: %2").arg(i).arg(kernel::seconds(at[start + i + 1] - at[start + i]))));
        QTest::keyClick(&tape(), Qt::Key_Left);
        QTRY_COMPARE(*tape().firstMark(), at[at.size() - 2]);
        tape().setMarks(at[start], at[start] + 15ms);
        QTRY_VERIFY(picture().measured && picture().measured->baud);
        QVERIFY(std::fabs(*picture().measured->baud - 9615) < 15);
    }

    void aSearchIsTyped()
    {
        open("bell-rope");
        runTo(kernel::Time(60ms));
        QTest::keyClick(window_.get(), Qt::Key_F, Qt::ControlModifier);
        QVERIFY(tape().searchLine().hasFocus());
        tape().goTo(kernel::Time(1us));
        QTest::keyClicks(&tape().searchLine(), "ready");
        QTest::keyClick(&tape().searchLine(), Qt::Key_Return);
        QTRY_VERIFY(tape().firstMark() && *tape().firstMark() > kernel::Time(11ms) && *tape().firstMark() < kernel::Time(14ms));
        QSignalSpy said(&window_->editor(), &Editor::message);
        tape().searchLine().clear();
        QTest::keyClicks(&tape().searchLine(), "rise");
        QTest::keyClick(&tape().searchLine(), Qt::Key_Return);
        QTRY_COMPARE(said.count(), 1);  // of which lane?
        QVERIFY(said[0][0].toString().contains("choose"));
    }

    // Through more edges than one piece of a search takes: it goes on by itself to the end, and Esc stops it where it is.
    void aLongSearchGoesOnByItself()
    {
        open("hand-bells");
        window_->editor().session().setFullSpeed(true);
        runTo(kernel::Time(3s));
        tape().goTo(kernel::Time(1us));
        QSignalSpy said(&window_->editor(), &Editor::message);
        tape().search("no light is of this colour", true);
        QVERIFY(tape().searching());
        QTRY_VERIFY_WITH_TIMEOUT(!tape().searching(), 30'000);
        QVERIFY(said.count() > 0 && said.last()[0].toString().contains("does not come"));
        QCOMPARE(*tape().firstMark(), kernel::Time(1us));
        said.clear();
        tape().search("no light is of this colour", true);
        tape().searchLine().setFocus();
        QTest::keyClick(&tape().searchLine(), Qt::Key_Escape);
        QVERIFY(!tape().searching() && tape().firstMark());
        window_->editor().session().settle();
        QTest::qWait(50);
        QCOMPARE(said.count(), 0);
    }

    void bookmarksAndEventsStandOnTheRuler()
    {
        open("bell-rope");
        runTo(kernel::Time(30ms));
        window_->editor().setControl("rope", "pressed", 1);
        runTo(picture().now + 60ms);
        tape().follow(2s);
        QTRY_VERIFY(std::any_of(picture().events.begin(), picture().events.end(), [](const session::TapeEvent& e) { return e.kind == session::TapeEvent::Kind::input && e.text == "rope.pressed set to 1"; }));
        tape().setMarks(kernel::Time(12'345us), std::nullopt);
        tape().setFocus();
        QTest::keyClick(&tape(), Qt::Key_M);
        auto* naming = tape().findChild<QLineEdit*>("bookmarkName");
        QVERIFY(naming->isVisible());
        QTest::keyClicks(naming, "first word");
        QTest::keyClick(naming, Qt::Key_Return);
        QCOMPARE(window_->editor().document().bookmarks.size(), std::size_t{1});
        QCOMPARE(window_->editor().document().bookmarks[0].at, std::string("0.012345000000s"));
        const auto again = bench::parseDocument("t", bench::writeDocument(window_->editor().document()));
        QVERIFY(again && again->bookmarks == window_->editor().document().bookmarks);
        // A click on it goes there.
        tape().setMarks(std::nullopt, std::nullopt);
        tape().follow(2s);
        QTRY_VERIFY(picture().tapeTo == picture().now);
        QTest::qWait(60);
        QTest::mouseClick(&tape(), Qt::LeftButton, {}, QPoint(static_cast<int>(xOf(kernel::Time(12'345us))) + 8, 8));
        QVERIFY(tape().firstMark() == kernel::Time(12'345us));
    }

    // The table beside the tape: what its window shows, filtered, and out as CSV.
    void whatIsReadStandsInATable()
    {
        open("tide-clock");
        runTo(kernel::Time(60ms));
        QTest::keyClick(window_.get(), Qt::Key_T, Qt::ControlModifier);
        DecodeTable& table = window_->decodeTable();
        QVERIFY(table.isVisible());
        tape().follow(1ms);
        tape().goTo(kernel::Time(21'400us));
        QTRY_COMPARE(table.rows().rowCount(), 6);  // start, address, to whom, two bytes, stop
        QCOMPARE(table.rows().data(table.rows().index(1, 3), Qt::DisplayRole).toString(), QString("0x27 write, ack"));
        QCOMPARE(table.rows().data(table.rows().index(2, 3), Qt::DisplayRole).toString(), QString("on the sea wall written"));
        QTest::keyClicks(&table.filterLine(), "0x3C");
        QCOMPARE(table.rows().rowCount(), 1);
        QTemporaryDir folder;
        QVERIFY(table.saveCsv(folder.filePath("t.csv")));
        QFile csv(folder.filePath("t.csv"));
        QVERIFY(csv.open(QIODevice::ReadOnly));
        const QStringList rows = QString::fromUtf8(csv.readAll()).split('\n', Qt::SkipEmptyParts);
        QCOMPARE(rows.size(), qsizetype{2});
        QVERIFY2(rows[1].startsWith("0.0210") && rows[1].contains("\"i2c\",byte,") && rows[1].endsWith("\"0x3c, ack\""), qPrintable(rows[1]));
    }

    // What was captured of the real board lies beside the run, moved so that an edge of both agrees.
    void aCaptureLiesBesideTheRun()
    {
        open("bell-rope");
        runTo(kernel::Time(60ms));
        QTemporaryDir folder;
        // The run's own serial line, written out; read in again it has the same edges, and moved by 5 ms they are 5 ms later.
        const std::string file = folder.filePath("real.vcd").toStdString();
        bool done = false;
        window_->editor().session().writeEdges(file, {{"mcu", "PD1"}}, kernel::Time{}, kernel::Time(50ms), [&](const std::string& trouble) { done = trouble.empty(); });
        window_->editor().session().settle();
        QVERIFY(done);
        QVERIFY(tape().readCapture(QString::fromStdString(file)));
        tape().follow(1ms);
        tape().goTo(kernel::Time(1500us));
        const std::string name = "capture mcu.PD1";
        QTRY_VERIFY(lane(name) != nullptr && lane(name)->edges.size() > 3);
        window_->editor().toggleLane({"mcu", "PD1"});
        QTRY_VERIFY(!picture().lanes.empty() && picture().lanes.back().name == "mcu.PD1" && !picture().lanes.back().edges.empty());
        std::vector<kernel::Time> own;
        for (const auto& edge : picture().lanes.back().edges)
            own.push_back(edge.at);
        QVERIFY(lane(name)->edges == own);
        tape().setMarks(own[0], own[0] + 5ms);
        tape().alignCapture();
        tape().goTo(kernel::Time(6500us));
        QTRY_VERIFY(lane(name)->edges.size() > 3 && lane(name)->edges[0] == own[0] + 5ms);
        // Both are the bench's: opened again, it lies there as it lay.
        const QString kept = folder.filePath("bench.toml");
        QVERIFY(window_->editor().saveAs(kept));
        window_->editor().newBench();
        window_->open(kept);
        runTo(kernel::Time(60ms));
        tape().follow(1ms);
        tape().goTo(kernel::Time(6500us));
        QTRY_VERIFY(lane(name) != nullptr && lane(name)->edges.size() > 3 && lane(name)->edges[0] == own[0] + 5ms);
        QSignalSpy said(&window_->editor(), &Editor::message);
        QVERIFY(!tape().readCapture(folder.filePath("none.vcd")));
        QCOMPARE(said.count(), 1);
    }

    // A bench from a stranger names a capture: one beside it is read, one elsewhere is not, however it is spelt.
    void aStrangersCaptureStaysInItsFolder()
    {
        open("bell-rope");
        QTemporaryDir top;
        QDir(top.path()).mkpath("bench");
        const std::string dump = "$timescale 1 ns $end\n$var wire 1 ! a $end\n$enddefinitions $end\n#0\n0!\n#5\n1!\n";
        QVERIFY(bench::saveText(top.filePath("secret.vcd").toStdString(), dump));
        QVERIFY(bench::saveText(top.filePath("bench/own.vcd").toStdString(), dump));
        QVERIFY(QFile::link(top.filePath("secret.vcd"), top.filePath("bench/link.vcd")));
        const auto opened = [&](const QString& capture) {
            QSignalSpy said(&window_->editor(), &Editor::message);
            const QString file = top.filePath("bench/bench.toml");
            if (!bench::saveText(file.toStdString(), "bramix = 1\ntitle = \"t\"\ncapture = \"" + capture.toStdString() + "\"\n"))
                return QString("not written");
            window_->open(file);
            QString all;
            for (const auto& one : said)
                all += one[0].toString() + "\n";
            return all;
        };
        QVERIFY2(!opened("own.vcd").contains("outside"), "its own");
        for (const QString& name : {QString("../secret.vcd"), QString("link.vcd"), top.filePath("secret.vcd")})
            QVERIFY2(opened(name).contains("lies outside the folder of the bench"), qPrintable(name));
        QVERIFY(!opened("missing.vcd").isEmpty());
    }

    // A line read at half of its rate makes no sense, and that is told once; read rightly, nothing is.
    void whatBreaksItsProtocolIsAFinding()
    {
        open("bell-rope");
        runTo(kernel::Time(60ms));
        const auto told = [&](const char* where) {
            return std::count_if(picture().findings.begin(), picture().findings.end(), [&](const bench::Finding& f) { return f.rule == "line-error" && f.where == where && f.message.find("uart") != std::string::npos; });
        };
        tape().follow(40ms);
        tape().goTo(kernel::Time(20ms));
        window_->editor().toggleRead("uart:mcu.PD1,baud=9600");
        QTRY_VERIFY(lane("uart:mcu.PD1,baud=9600") != nullptr && !lane("uart:mcu.PD1,baud=9600")->items.empty());
        QCOMPARE(told("mcu.PD1"), 0);
        window_->editor().toggleRead("uart:mcu.PD1,baud=19200");
        QTRY_COMPARE(told("mcu.PD1"), 1);
        // Muted like any other.
        window_->editor().change("mute", [](bench::Document& d) { d.part("mcu")->mute["line-error"] = "as intended"; });
        QTRY_VERIFY(std::any_of(picture().findings.begin(), picture().findings.end(), [](const bench::Finding& f) { return f.rule == "line-error" && f.muted == "as intended"; }));
    }

    // A variable out of the list of variables, dropped on the tape; functions beside it; all in groups, which fold.
    void theProgramIsOnTheTape()
    {
        open("withy-lock");
        runTo(kernel::Time(100ms));
        tape().follow(10ms);
        tape().goTo(kernel::Time(50ms));
        QMimeData what;
        what.setData(kLanesMime, "variable mcu ticks\nfunctions mcu\nmcu.PB5\n");
        QDragEnterEvent enter(QPoint(400, 60), Qt::CopyAction, &what, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(&tape(), &enter);
        QVERIFY(enter.isAccepted());
        QDropEvent drop(QPointF(400, 60), Qt::CopyAction, &what, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(&tape(), &drop);
        QVERIFY(window_->editor().lanes().back() == (bench::PinRef{"mcu", "PB5"}));
        QTRY_VERIFY(lane("variable mcu ticks") != nullptr && lane("variable mcu ticks")->knownTo >= kernel::Time(55ms) && lane("functions mcu")->items.size() > 5);
        // One tick a millisecond: the values in the window follow each other.
        const auto& items = lane("variable mcu ticks")->items;
        QVERIFY(items.size() >= 9);
        for (std::size_t i = 1; i < items.size(); ++i)
            QCOMPARE(std::stoi(items[i].text), std::stoi(items[i - 1].text) + 1);
        QVERIFY(std::any_of(lane("functions mcu")->items.begin(), lane("functions mcu")->items.end(), [](const tape::Decoded& d) { return d.what == "function" && d.text == "main"; }));
        QVERIFY(std::any_of(lane("functions mcu")->items.begin(), lane("functions mcu")->items.end(), [](const tape::Decoded& d) { return d.what == "interrupt" && d.text.starts_with("TIMER"); }));
        // A heading over both; folded, they are out of the way, and in the bench file all of it stands.
        window_->editor().groupFrom("variable mcu ticks", "Inside");
        const auto& order = window_->editor().document().lanes;
        const auto heading = std::find(order.begin(), order.end(), "group Inside");
        QVERIFY(heading != order.end() && std::next(heading) != order.end() && *std::next(heading) == "variable mcu ticks");
        QTest::qWait(60);
        QTest::keyClick(&tape(), Qt::Key_Escape);
        const QImage open = tape().grab().toImage();
        window_->editor().changeGroup("group Inside", "folded Inside");
        QTest::qWait(60);
        QVERIFY(tape().grab().toImage() != open);
        const auto again = bench::parseDocument("t", bench::writeDocument(window_->editor().document()));
        QVERIFY(again && again->lanes == window_->editor().document().lanes);
        // Up over the lane before it, and a second of the same name is refused.
        window_->editor().moveLane("folded Inside", -1);
        QSignalSpy said(&window_->editor(), &Editor::message);
        window_->editor().groupFrom("functions mcu", "Inside");
        QCOMPARE(said.count(), 1);
        window_->editor().changeGroup("folded Inside", {});
        QVERIFY(std::none_of(order.begin(), order.end(), [](const std::string& l) { return l.find("Inside") != std::string::npos; }));
    }

    // In a long window each column says who had how much of it; between the marks likewise.
    void longWindowsShowShares()
    {
        open("frost-alarm");
        window_->editor().addLanes({}, {"functions mcu"});
        window_->editor().session().setFullSpeed(true);
        runTo(kernel::Time(6s));
        tape().showSpan(kernel::Time{}, kernel::Time(5s));
        QTRY_VERIFY(lane("functions mcu") != nullptr && !lane("functions mcu")->shares.empty());
        const session::ReadLane functions = *lane("functions mcu");
        QVERIFY(functions.trouble.empty() && functions.items.empty());
        std::map<std::uint32_t, double> sums;
        for (const auto& s : functions.shares)
            sums[s.column] += static_cast<double>(s.part);
        QVERIFY(sums.size() > 900);
        for (const auto& [column, sum] : sums)
            QVERIFY2(std::fabs(sum - 1) < 1e-3, qPrintable(QString("%1: %2").arg(column).arg(sum)));
        const auto named = [&](const std::string& name) { return std::find_if(functions.functions.begin(), functions.functions.end(), [&](const auto& f) { return f.name == name; }); };
        QVERIFY(named("main") != functions.functions.end());
        QVERIFY(std::any_of(functions.functions.begin(), functions.functions.end(), [](const auto& f) { return f.kind == session::FunctionShare::Kind::interrupt && f.name.starts_with("TIMER"); }));
        QVERIFY(functions.functions.back().kind == session::FunctionShare::Kind::asleep || functions.functions.back().kind == session::FunctionShare::Kind::inReset);  // on top, so that what runs stands on the ground
        tape().choose("functions mcu");
        tape().setMarks(kernel::Time(1s), kernel::Time(4s));
        QTRY_VERIFY(!picture().measuredFunctions.empty());
        double whole = 0;
        for (const auto& f : picture().measuredFunctions)
            whole += f.seconds;
        QVERIFY2(std::fabs(whole - 3) < 1e-6, qPrintable(QString::number(whole)));
        // Under the pointer stands who it was; no other lane of these has anything to say.
        window_->editor().setLanes({});
        QTRY_VERIFY(picture().lanes.empty());
        QTest::keyClick(&tape(), Qt::Key_Escape);
        QTest::qWait(50);
        const QImage without = tape().grab().toImage();
        QTest::mouseMove(&tape(), QPoint(600, 0));
        for (int y = 30; y < tape().height(); y += 12) {
            QMouseEvent move(QEvent::MouseMove, QPointF(600, y), tape().mapToGlobal(QPointF(600, y)), Qt::NoButton, Qt::NoButton, Qt::NoModifier);
            QApplication::sendEvent(&tape(), &move);
            if (tape().grab().toImage() != without)
                break;
        }
        QVERIFY(tape().grab().toImage() != without);
        // Nearer, the calls themselves.
        tape().showSpan(kernel::Time(2s), kernel::Time(2s) + 20ms);
        QTRY_VERIFY(lane("functions mcu") != nullptr && lane("functions mcu")->items.size() > 5 && lane("functions mcu")->shares.empty());
    }

    // A click on an edge says who did it, a click on what it says leads to the code; and back from the code to all of its edges.
    void anEdgeLeadsToItsCauseAndBack()
    {
        open("withy-lock");
        runTo(kernel::Time(100ms));
        const auto& pins = window_->editor().lanes();
        const auto row = static_cast<std::size_t>(std::find(pins.begin(), pins.end(), bench::PinRef{"mcu", "PB2"}) - pins.begin());
        QVERIFY(row < pins.size());
        tape().follow(40ms);
        tape().goTo(kernel::Time(10ms));
        tape().setMarks(std::nullopt, std::nullopt);
        QTRY_VERIFY(row < picture().lanes.size() && !picture().lanes[row].edges.empty());
        const auto edge = std::find_if(picture().lanes[row].edges.begin(), picture().lanes[row].edges.end(), [](const auto& e) { return e.cause.find("lock.c") != std::string::npos; });
        QVERIFY(edge != picture().lanes[row].edges.end());
        const kernel::Time at = edge->at;
        QTest::qWait(60);
        const double lower = 24 + std::clamp(std::floor((tape().height() - 24) / (static_cast<double>(pins.size() + picture().reads.size() + picture().serialLanes.size()) + 0.2)), 15.0, 34.0) * (static_cast<double>(row) + 0.5);
        QTest::mouseClick(&tape(), Qt::LeftButton, {}, QPoint(static_cast<int>(xOf(at)), static_cast<int>(lower)));
        QVERIFY(tape().firstMark() == at);
        QSignalSpy wanted(&tape(), &TapeView::codeWanted);
        QTRY_VERIFY(tape().storyPlace().isValid());
        QTest::mouseClick(&tape(), Qt::LeftButton, {}, tape().storyPlace().center().toPoint());
        QCOMPARE(wanted.count(), 1);
        QVERIFY(wanted[0][1].toString().startsWith("lock.c:"));
        QVERIFY(window_->code().isVisible());
        QSignalSpy said(&window_->editor(), &Editor::message);
        emit window_->code().edgesWanted(wanted[0][1].toString());
        QTRY_VERIFY(said.count() > 0 && tape().firstMark().has_value());
        QVERIFY2(said[0][0].toString().contains("has made"), qPrintable(said[0][0].toString()));
    }

    // The whole run in a file, and the window opens it: everything lies on the tape, nothing has been run.
    void aRecordingIsOpenedWithoutRunning()
    {
        open("bell-rope");
        runTo(kernel::Time(60ms));
        const kernel::Time latest = picture().latest;
        QTemporaryDir folder;
        std::atomic<bool> done = false;
        std::string trouble;
        window_->editor().session().saveRecording(folder.filePath("run.bramix-run").toStdString(), [&](std::string t) {
            trouble = std::move(t);
            done = true;
        });
        QTRY_VERIFY(done);
        QVERIFY2(trouble.empty(), trouble.c_str());
        window_->editor().newBench();
        window_->open(folder.filePath("run.bramix-run"));
        QTRY_VERIFY(picture().latest == latest && picture().now == kernel::Time{});
        QVERIFY(!tape().following());
        window_->editor().toggleRead("uart:mcu.PD1");
        tape().showSpan(kernel::Time{}, latest);
        QTRY_VERIFY(lane("uart:mcu.PD1") != nullptr && lane("uart:mcu.PD1")->items.size() > 17);
        QCOMPARE(picture().now, kernel::Time{});
        // All that was printed is there; then what was by an instant of it.
        QTRY_VERIFY(window_->serialView().text().contains("Bell tower ready"));
        window_->editor().session().goTo(kernel::Time(100us));
        QTRY_VERIFY(picture().now >= kernel::Time(100us) && !window_->serialView().text().contains("Bell"));
        // To any instant of it.
        window_->editor().session().goTo(kernel::Time(30ms));
        QTRY_VERIFY(picture().now >= kernel::Time(30ms) && window_->serialView().text().contains("Bell"));
        QCOMPARE(picture().latest, latest);
        QSignalSpy said(&window_->editor(), &Editor::message);
        QFile bad(folder.filePath("bad.bramix-run"));
        QVERIFY(bad.open(QIODevice::WriteOnly));
        bad.write("nothing of the kind");
        bad.close();
        window_->open(bad.fileName());
        QVERIFY(said.count() == 1 && said[0][0].toString().contains("no recording"));
    }

    void thePictureIsSaved()
    {
        open("bell-rope");
        runTo(kernel::Time(20ms));
        QTemporaryDir folder;
        QVERIFY(tape().savePicture(folder.filePath("t.png")));
        QVERIFY(QImage(folder.filePath("t.png")).width() == tape().width() * 2);
        QVERIFY(tape().savePicture(folder.filePath("t.svg")));
        QFile svg(folder.filePath("t.svg"));
        QVERIFY(svg.open(QIODevice::ReadOnly) && svg.readAll().contains("serial out"));
    }
};

QTEST_MAIN(TapeTest)
#include "tape_test.moc"
