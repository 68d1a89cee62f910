// Debugging by mouse and keys in the real window: stops, steps, going back, values, bits, building.
#include <QtTest>

#include <QLineEdit>
#include <QMenu>
#include <QPushButton>

#include <sys/stat.h>

#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "debug/compiled.h"

using namespace bramix;
using namespace bramix::app;
using namespace bramix::test;

class CodeTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;
    std::unique_ptr<MainWindow> window_;

    const session::DebugPicture& debug() { return window_->editor().picture().debug; }
    CodePanel& code() { return window_->code(); }
    void key(int k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(code().view() != nullptr ? static_cast<QWidget*>(code().view()) : window_.get(), static_cast<Qt::Key>(k), m); }
    // A click into the margin beside a line.
    void clickMargin(int line, int x)
    {
        CodeView* view = code().view();
        view->reveal(line);
        const int position = static_cast<int>(view->SendScintilla(QsciScintillaBase::SCI_POSITIONFROMLINE, line - 1));
        const int y = static_cast<int>(view->SendScintilla(QsciScintillaBase::SCI_POINTYFROMPOSITION, 0UL, static_cast<long>(position)));
        QTest::mouseClick(view->viewport(), Qt::LeftButton, Qt::NoModifier, QPoint(x, y + 6));
    }
    int placeNow() { return debug().frames.empty() ? 0 : debug().frames[0].line; }
    void write(const QString& name, const QString& text)
    {
        QFile file(folder_.filePath(name));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text.toUtf8());
    }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QStandardPaths::setTestModeEnabled(true);
        qApp->setStyleSheet(theme::styleSheet());
        catalogue_ = std::move(*bench::Catalogue::loadInstalled());
        write("keeper.c", kKeeper);
        write("Makefile", "keeper.elf: keeper.c\n\tavr-gcc -mmcu=atmega328p -gdwarf-4 -Os -o $@ keeper.c\n");
        write("bench.toml", "bramix = 1\ntitle = \"Keeper\"\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nfirmware = \"keeper.elf\"\n");
        QProcess make;
        make.setWorkingDirectory(folder_.path());
        make.start("make", {});
        QVERIFY(make.waitForFinished(60'000) && make.exitCode() == 0);
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->open(folder_.filePath("bench.toml"));
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        QTest::keyClick(window_.get(), Qt::Key_2, Qt::ControlModifier);
        QVERIFY(code().isVisible());
        QTRY_VERIFY(code().tabs().count() >= 2);
        QCOMPARE(code().tabs().tabText(0), QString("keeper.c"));
        QTRY_VERIFY(code().view() != nullptr);
        code().openPlace("keeper.c", 1);
        QVERIFY(code().view()->text().contains("ladder(rungs - 1)"));
    }

    void aClickInTheMarginStopsThere()
    {
        const int line = lineOf(kKeeper, "gates[0].open ^= 1");
        clickMargin(line, 10);
        QCOMPARE(window_->editor().document().stops.size(), std::size_t{1});
        QCOMPARE(window_->editor().document().stops[0].at, QString("keeper.c:%1").arg(line).toStdString());
        key(Qt::Key_Space);
        QTRY_COMPARE(placeNow(), line);
        QTRY_VERIFY(debug().standing);
        QVERIFY(QString::fromStdString(debug().reason).contains("stop at keeper.c"));
        // And again, round the loop.
        const auto before = window_->editor().picture().now;
        key(Qt::Key_Space);
        QTRY_VERIFY(window_->editor().picture().now > before && debug().standing);
        QCOMPARE(placeNow(), line);
    }

    void keysStepForwardAndBack()
    {
        const auto there = window_->editor().picture().now;
        key(Qt::Key_Period, Qt::AltModifier);
        QTRY_VERIFY(window_->editor().picture().now > there && debug().standing);
        const int next = placeNow();
        QVERIFY(next != lineOf(kKeeper, "gates[0].open ^= 1"));
        key(Qt::Key_Comma, Qt::AltModifier);
        QTRY_COMPARE(placeNow(), lineOf(kKeeper, "gates[0].open ^= 1"));
        QTRY_VERIFY(debug().inPast);
        const std::uint32_t pc = debug().registers.pc;
        key(Qt::Key_Period, Qt::ShiftModifier);
        QTRY_VERIFY(debug().registers.pc != pc);
        key(Qt::Key_Comma, Qt::ShiftModifier);
        QTRY_COMPARE(debug().registers.pc, pc);
    }

    void theEditorIsNotTypedIntoByAccident()
    {
        const QString text = code().view()->text();
        key(Qt::Key_X);
        key(Qt::Key_Period);
        QTRY_VERIFY(debug().standing);
        QCOMPARE(code().view()->text(), text);
    }

    void valuesAreWatchedAndSet()
    {
        QLineEdit& field = code().variables().field();
        QTest::keyClicks(&field, "level * 2");
        QTest::keyClick(&field, Qt::Key_Return);
        QTRY_COMPARE(debug().watches.size(), std::size_t{1});
        QTRY_COMPARE(QString::fromStdString(debug().watches[0].value), QString("4.5"));
        window_->editor().session().assign("level", "10");
        QTRY_COMPARE(QString::fromStdString(debug().watches[0].value), QString("20"));
        QTreeWidget& tree = code().variables().tree();
        QTRY_COMPARE(tree.topLevelItem(0)->child(0)->text(1), QString("20"));
        QVERIFY(window_->editor().document().watches[0].expression == "level * 2");
    }

    void aBitIsTurnedOverByAClick()
    {
        code().showPane(&code().chip());
        ChipSheet& sheet = code().chip().sheet();
        sheet.showGroup("Port B");
        QTRY_VERIFY(!sheet.bitRect("PORTB", 6).isNull());
        QTest::qWait(50);
        const std::uint8_t before = debug().io[0x25];
        QTest::mouseClick(&sheet, Qt::LeftButton, Qt::NoModifier, sheet.bitRect("PORTB", 6).center());
        QTRY_COMPARE(int{debug().io[0x25]}, before ^ 0x40);
        sheet.showGroup({});
    }

    // A description of one's own, dropped on the window: its names stand in the chip pane and mean something in expressions; undone, the chip's own are back.
    void registersOfOnesOwnAreShown()
    {
        write("own.svd", "<?xml version='1.0'?><device><name>Q</name><width>8</width><size>8</size><peripherals><peripheral><name>QUAY</name><baseAddress>0x20</baseAddress><registers>"
                         "<register><name>BOLLARDS</name><addressOffset>4</addressOffset><fields><field><name>LIT</name><bitRange>[2:1]</bitRange>"
                         "<enumeratedValues><enumeratedValue><name>BOTH</name><description>both lamps</description><value>3</value></enumeratedValue></enumeratedValues></field></fields></register>"
                         "</registers></peripheral></peripherals></device>");
        code().showPane(&code().chip());
        ChipSheet& sheet = code().chip().sheet();
        QVERIFY(sheet.groups().contains("Port B"));
        window_->takeFile(folder_.filePath("own.svd"));
        QTRY_COMPARE(sheet.groups(), QStringList{"QUAY"});
        QCOMPARE(window_->editor().document().part("mcu")->registers, std::string("own.svd"));
        sheet.showGroup("QUAY");
        QVERIFY(!sheet.bitRect("BOLLARDS", 2).isNull());
        // DDRB, which the firmware has set.
        QTRY_COMPARE(int{debug().io[0x24]}, 0xFF);
        QLineEdit& field = code().variables().field();
        QTest::keyClicks(&field, "BOLLARDS + 1");
        QTest::keyClick(&field, Qt::Key_Return);
        QTRY_VERIFY(!debug().watches.empty() && QString::fromStdString(debug().watches.back().value) == "256");
        // What cannot be read changes nothing, and says why.
        write("own.xml", "<device><peripherals>");
        QSignalSpy said(&window_->editor(), &Editor::message);
        window_->editor().describeRegisters("mcu", folder_.filePath("own.xml"));
        QVERIFY(!said.isEmpty() && said.last()[1].toBool() && said.last()[0].toString().contains("own.xml"));
        QCOMPARE(window_->editor().document().part("mcu")->registers, std::string("own.svd"));
        window_->editor().undo();  // the watch
        window_->editor().undo();
        QTRY_VERIFY(sheet.groups().contains("Port B"));
        sheet.showGroup({});
    }

    void aStopInWordsIsTypedAndWhatIsWrongWithOneIsShown()
    {
        QLineEdit& field = code().stops().field();
        QTest::keyClicks(&field, "interrupt TIMER1_COMPA");
        QTest::keyClick(&field, Qt::Key_Return);
        QTest::keyClicks(&field, "change chamber");
        QTest::keyClick(&field, Qt::Key_Return);
        QTRY_COMPARE(debug().stops.size(), std::size_t{3});
        QVERIFY(debug().stops[1].problem.empty());
        QVERIFY(!debug().stops[2].problem.empty());
        key(Qt::Key_Space);
        QTRY_VERIFY(debug().standing && QString::fromStdString(debug().reason).contains("TIMER1_COMPA"));
        QTRY_COMPARE(QString::fromStdString(debug().frames[0].interrupt), QString("TIMER1_COMPA"));
        // They are part of the bench file.
        QVERIFY(window_->editor().save());
        QFile file(folder_.filePath("bench.toml"));
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QString text = file.readAll();
        QVERIFY(text.contains("[[stop]]") && text.contains("change chamber") && text.contains("[[watch]]"));
        window_->editor().change("no stops", [](bench::Document& d) { d.stops.clear(); });
        QTRY_VERIFY(debug().stops.empty());
    }

    void theStackIsFollowed()
    {
        bench::StopItem stop;
        stop.at = "mean";
        stop.when = "count == 2";
        window_->editor().session().runTo(stop);
        QTRY_VERIFY(debug().standing && debug().frames.size() >= 3);
        QTRY_COMPARE(QString::fromStdString(debug().frames[1].interrupt), QString("TIMER1_COMPA"));
        auto* crumbs = code().findChild<QLabel*>("crumbs");
        QTRY_VERIFY(crumbs->text().contains("TIMER1_COMPA interrupt"));
        emit crumbs->linkActivated("1");
        QTRY_COMPARE(debug().frame, std::size_t{1});
        emit crumbs->linkActivated("0");
        QTRY_COMPARE(debug().frame, std::size_t{0});
    }

    void slowRunGoesOnByItself()
    {
        const auto from = window_->editor().picture().now;
        code().slowRun(true);
        QTRY_VERIFY(debug().slow);
        QTRY_VERIFY_WITH_TIMEOUT(window_->editor().picture().now > from, 3000);
        const auto then = window_->editor().picture().now;
        QTRY_VERIFY_WITH_TIMEOUT(window_->editor().picture().now > then, 3000);
        key(Qt::Key_Space);
        QTRY_VERIFY(!debug().slow);
    }

    void cyclesAreCountedByFunction()
    {
        code().showPane(&code().timing());
        QTest::mouseClick(&code().timing().count(), Qt::LeftButton);
        QTRY_VERIFY(debug().counts.on);
        const auto cycles = [&] { return window_->editor().picture().chips[0].cycles; };
        const std::int64_t from = cycles();
        window_->editor().run();
        QTRY_VERIFY(cycles() > from + 100'000);
        window_->editor().pause();
        window_->editor().session().settle();
        QTest::qWait(40);
        const session::CountPicture& c = debug().counts;
        QCOMPARE(c.total, cycles() - from);
        std::int64_t sum = c.asleep + c.entries;
        for (const auto& f : c.functions)
            sum += f.cycles;
        QCOMPARE(sum, c.total);
        bool timed = false;
        for (const session::InterruptPicture& i : debug().interrupts) {
            QVERIFY(i.timed <= i.count && static_cast<double>(i.longest) >= i.meanLength);
            timed = timed || (i.timed > 0 && i.share > 0 && i.share < 1 && i.longest >= 4);  // a RETI alone takes four
        }
        QVERIFY(timed);
        QVERIFY(!c.stackDepth.empty() && *std::max_element(c.stackDepth.begin(), c.stackDepth.end()) >= 2);
        QVERIFY(c.stackWidth * static_cast<std::int64_t>(c.stackDepth.size()) >= 100'000);
        QTest::mouseClick(&code().timing().count(), Qt::LeftButton);
        QTRY_VERIFY(!debug().counts.on);
    }

    // Ctrl and a click on a name: functions, globals, the local of the function in which it stands; a name without a home is said.
    void aClickWithCtrlGoesToTheDefinition()
    {
        const auto click = [&](const char* line, const char* name) {
            const int row = lineOf(kKeeper, line) - 1;
            code().openPlace("keeper.c", row + 1);
            CodeView* view = code().view();
            view->setCursorPosition(row, 0);
            view->ensureCursorVisible();
            QTest::qWait(20);
            const int column = static_cast<int>(view->text(row).indexOf(name)) + 1;
            const long position = view->positionFromLineIndex(row, column);
            const QPoint at(static_cast<int>(view->SendScintilla(QsciScintillaBase::SCI_POINTXFROMPOSITION, 0UL, position)), static_cast<int>(view->SendScintilla(QsciScintillaBase::SCI_POINTYFROMPOSITION, 0UL, position)) + 4);
            QTest::mouseClick(view->viewport(), Qt::LeftButton, Qt::ControlModifier, at);
            return code().view()->lineAtCursor();
        };
        QVERIFY(code().isVisible());
        QCOMPARE(click("gates[1].cm = ladder(3)", "ladder"), lineOf(kKeeper, "uint16_t ladder"));
        QCOMPARE(click("gates[1].speed = 5", "gates"), lineOf(kKeeper, "struct gate gates[2]"));
        QCOMPARE(click("return sum / count", "sum"), lineOf(kKeeper, "uint16_t sum = 0"));
        QCOMPARE(click("return below + rungs", "rungs"), lineOf(kKeeper, "uint16_t ladder"));
        QSignalSpy said(&window_->editor(), &Editor::message);
        QCOMPARE(click("DDRB = 0xFF", "DDRB"), lineOf(kKeeper, "DDRB = 0xFF"));
        QCOMPARE(said.count(), 1);
    }

    // A finding that firmware is to blame for leads to its line.
    void aFindingOpensItsCode()
    {
        window_->showCode(false);
        auto* drawer = window_->findChild<Drawer*>();
        QVERIFY(drawer != nullptr);
        const int line = lineOf(kKeeper, "gates[1].speed = 5");
        emit drawer->codeChosen("mcu", QString("keeper.c:%1").arg(line));
        QVERIFY(code().isVisible());
        QTRY_COMPARE(code().view()->lineAtCursor(), line);
        QCOMPARE(code().tabs().tabText(code().tabs().currentIndex()), QString("keeper.c"));
        // And so does anything that is found by name.
        bool found = false;
        for (const auto& [name, show] : code().findable())
            if (name == "ladder") {
                show();
                found = true;
            }
        QVERIFY(found);
        QCOMPARE(code().view()->lineAtCursor(), lineOf(kKeeper, "uint16_t ladder(uint8_t rungs)"));
    }

    void gdbComesInAndGoesAgain()
    {
        if (QStandardPaths::findExecutable("avr-gdb").isEmpty())
            QSKIP("avr-gdb is not installed");
        window_->gdb().open();
        QVERIFY(window_->gdb().port() > 0);
        write("script.gdb", QString("set pagination off\ntarget remote 127.0.0.1:%1\ntbreak mean if count == 2\ncontinue\nprint level\nreverse-stepi\nstepi\ndetach\n").arg(window_->gdb().port()));
        QProcess p;
        p.setProcessChannelMode(QProcess::MergedChannels);
        p.start("avr-gdb", {"-q", "-nx", "-batch", "-x", folder_.filePath("script.gdb"), folder_.filePath("keeper.elf")});
        QTRY_COMPARE_WITH_TIMEOUT(p.state(), QProcess::NotRunning, 20'000);
        const QString said = p.readAllStandardOutput();
        QVERIFY2(said.contains("Temporary breakpoint 1, mean") && said.contains("$1 = 10"), qPrintable(said));
        window_->gdb().close();
        // The window has its hands free again.
        const auto now = window_->editor().picture().now;
        key(Qt::Key_Period, Qt::ShiftModifier);
        QTRY_VERIFY(window_->editor().picture().now > now);
    }

    // Wiring may change while cycles are counted: counting goes on.
    void countingGoesOnOverAnEdit()
    {
        window_->editor().session().countCycles(true);
        window_->editor().change("led", [](bench::Document& d) {
            bench::PartItem led;
            led.id = "lamp";
            led.kind = "led";
            led.at = {60, 10};
            d.parts.push_back(led);
        });
        window_->editor().session().settle();
        const std::int64_t from = window_->editor().picture().debug.counts.total;
        window_->editor().run();
        QTRY_VERIFY(debug().counts.total > from + 100'000);
        window_->editor().pause();
        window_->editor().session().countCycles(false);
        window_->editor().undo();
        window_->editor().session().settle();
    }

    void sourcesAreFoundWhereTheyLie()
    {
        QTemporaryDir other;
        QDir(folder_.path()).mkpath("deep/gate");
        write("deep/gate/sluice.c", "int sluice;\n");
        QFile elsewhere(other.filePath("weir.c"));
        QVERIFY(elsewhere.open(QIODevice::WriteOnly));
        elsewhere.close();
        Sources sources;
        sources.setFolders({folder_.path()});
        // The tail of a name from another machine; a bare name in a folder below; nothing.
        QCOMPARE(sources.find("/home/keeper/work/keeper.c"), QFileInfo(folder_.filePath("keeper.c")).canonicalFilePath());
        QCOMPARE(QFileInfo(sources.find("../src/gate/sluice.c")).canonicalFilePath(), QFileInfo(folder_.filePath("deep/gate/sluice.c")).canonicalFilePath());
        QVERIFY(sources.find("/nowhere/weir.c").isEmpty());
        // Said once, it is known, and so is what lies beside it, the next time too.
        sources.remember("/nowhere/weir.c", elsewhere.fileName());
        QCOMPARE(sources.find("/nowhere/weir.c"), elsewhere.fileName());
        Sources next;
        next.setFolders({folder_.path()});
        QCOMPARE(next.find("/nowhere/weir.c"), QFileInfo(elsewhere).canonicalFilePath());
    }

    // A bench from somebody else runs nothing unasked: what it would run is shown, and waits.
    void aStrangersCommandWaitsToBeAllowed()
    {
        QFile makefile(folder_.filePath("Makefile"));
        QVERIFY(makefile.open(QIODevice::Append));
        makefile.write("# another word\n");
        makefile.close();
        QSignalSpy built(&code().buildPane(), &BuildPane::built);
        code().build();
        auto* consent = code().findChild<QWidget*>("buildConsent");
        QVERIFY(consent != nullptr && consent->isVisible());
        QVERIFY(!code().buildPane().isBuilding());
        const auto shown = code().buildPane().output().findItems("# another word", Qt::MatchContains);
        QVERIFY(!shown.isEmpty() || code().buildPane().output().count() > 3);
        QTest::qWait(200);
        QCOMPARE(built.size(), 0);
        QTest::mouseClick(code().findChild<QPushButton*>("buildAllow"), Qt::LeftButton);
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 1, 30'000);
        QVERIFY(built[0][0].toBool());
        QVERIFY(!consent->isVisible());
        // Once allowed, it stays so as long as it is the same.
        code().build();
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 2, 30'000);
    }

    // A pipe has no end, and nobody writes to it: it is told, and the window goes on.
    void aMakefileThatIsAPipeIsNotWaitedFor()
    {
        const QString makefile = folder_.filePath("Makefile"), away = folder_.filePath("Makefile.away");
        QVERIFY(QFile::rename(makefile, away));
        QVERIFY(::mkfifo(makefile.toLocal8Bit().constData(), 0600) == 0);
        QSignalSpy built(&code().buildPane(), &BuildPane::built);
        code().build();
        auto* consent = code().findChild<QWidget*>("buildConsent");
        QVERIFY(consent != nullptr && consent->isVisible());
        QVERIFY(!code().buildPane().output().findItems("is a pipe; expected a file", Qt::MatchContains).isEmpty());
        QTest::mouseClick(code().findChild<QPushButton*>("buildRefuse"), Qt::LeftButton);
        QVERIFY(!consent->isVisible());
        QCOMPARE(built.size(), 0);
        QVERIFY(QFile::remove(makefile));
        QVERIFY(QFile::rename(away, makefile));
    }

    void editBuildAndRunAgain()
    {
        QSignalSpy built(&code().buildPane(), &BuildPane::built);
        BuildPane::allowIn(folder_.path());
        code().openPlace("keeper.c", lineOf(kKeeper, "float level"));
        CodeView* view = code().view();
        key(Qt::Key_Return);
        QVERIFY(view->isEditing());
        view->setCursorPosition(lineOf(kKeeper, "float level") - 1, 0);
        QTest::keyClicks(view, "int broken = ;");
        QVERIFY(code().hasUnsaved());
        QTest::keyClick(view, Qt::Key_B, Qt::ControlModifier);
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 1, 30'000);
        QCOMPARE(built[0][0].toBool(), false);
        QCOMPARE(code().buildPane().errors(), 1);
        // The error leads to its line.
        QListWidget& output = code().buildPane().output();
        for (int i = 0; i < output.count(); ++i)
            if (output.item(i)->text().contains("error:")) {
                const QRect at = output.visualItemRect(output.item(i));
                QTest::mouseClick(output.viewport(), Qt::LeftButton, Qt::NoModifier, at.center());
                break;
            }
        QCOMPARE(code().view()->lineAtCursor(), lineOf(kKeeper, "float level"));
        view->undo();
        while (view->isUndoAvailable())
            view->undo();
        view->setCursorPosition(lineOf(kKeeper, "float level") - 1, 14);
        view->replaceSelectedText(QString());
        view->setText(view->text().replace("2.25f", "3.75f"));
        QTest::keyClick(view, Qt::Key_B, Qt::ControlModifier);
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 2, 30'000);
        QVERIFY(built[1][0].toBool());
        bench::StopItem stop;
        stop.at = "main";
        window_->editor().session().runTo(stop);
        QTRY_VERIFY(debug().standing && !debug().watches.empty() && debug().watches[0].value == "7.5");
    }

    // What can build this bench is found and offered; one that is chosen is the bench's from then on.
    void waysToBuildAreOffered()
    {
        const auto ways = [&] {
            QStringList out;
            for (const auto& [text, command] : code().buildPane().ways())
                out << command;
            return out;
        };
        const QString straight = "avr-gcc -mmcu=atmega328p -Os -gdwarf-4 -Wall -o keeper.elf keeper.c";
        QVERIFY2(ways().contains("make") && ways().contains(straight), qPrintable(ways().join('\n')));
        QSignalSpy built(&code().buildPane(), &BuildPane::built);
        BuildPane::allowIn(folder_.path());
        // Chosen from the menu, by mouse.
        const auto choose = [&](const QString& text) {
            QTest::mouseClick(code().findChild<QPushButton*>("buildHow"), Qt::LeftButton);
            auto* menu = code().findChild<QMenu*>("buildWays");
            QVERIFY(menu != nullptr);
            for (QAction* action : menu->actions())
                if (action->text().contains(text)) {
                    QTest::mouseClick(menu, Qt::LeftButton, {}, menu->actionGeometry(action).center());
                    QTRY_VERIFY(code().findChild<QMenu*>("buildWays") == nullptr);
                    return;
                }
            QFAIL(qPrintable("not offered: " + text));
        };
        choose("avr-gcc alone");
        QCOMPARE(QString::fromStdString(window_->editor().document().build), straight);
        code().build();
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 1, 30'000);
        QVERIFY(built[0][0].toBool());
        // What is not there is named with its package.
        const QByteArray path = qgetenv("PATH");
        qputenv("PATH", "/nowhere");
        const auto missing = code().buildPane().ways();
        qputenv("PATH", path);
        QVERIFY(std::any_of(missing.begin(), missing.end(), [](const auto& w) { return w.second.isEmpty() && w.first.contains("apt install gcc-avr avr-libc"); }));
        // And one's own.
        choose("of your own");
        auto* line = code().findChild<QLineEdit*>("buildCommand");
        QVERIFY(line->isVisible());
        line->selectAll();
        QTest::keyClicks(line, "false");
        QTest::keyClick(line, Qt::Key_Return);
        QVERIFY(!line->isVisible());
        code().build();
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 2, 30'000);
        QVERIFY(!built[1][0].toBool());
        choose("What lies beside");
        QVERIFY(window_->editor().document().build.empty());
    }

    void cmakeBuildsToo()
    {
        QVERIFY(QFile::rename(folder_.filePath("Makefile"), folder_.filePath("Makefile.away")));
        write("CMakeLists.txt", "cmake_minimum_required(VERSION 3.20)\nset(CMAKE_SYSTEM_NAME Generic)\nset(CMAKE_C_COMPILER avr-gcc)\nset(CMAKE_TRY_COMPILE_TARGET_TYPE STATIC_LIBRARY)\n"
                                "project(keeper C)\nadd_compile_options(-mmcu=atmega328p -gdwarf-4 -Os)\nadd_link_options(-mmcu=atmega328p)\n"
                                "add_executable(keeper.elf keeper.c)\nset_target_properties(keeper.elf PROPERTIES RUNTIME_OUTPUT_DIRECTORY ${CMAKE_SOURCE_DIR})\n");
        QVERIFY(QFile::remove(folder_.filePath("keeper.elf")));
        QSignalSpy built(&code().buildPane(), &BuildPane::built);
        BuildPane::allowIn(folder_.path());
        code().build();
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 1, 60'000);
        QVERIFY(built[0][0].toBool());
        QVERIFY(QFileInfo::exists(folder_.filePath("keeper.elf")));
        QVERIFY(QFile::rename(folder_.filePath("Makefile.away"), folder_.filePath("Makefile")));
    }
};

QTEST_MAIN(CodeTest)
#include "code_test.moc"
