// The editor and the views around the bench: files, selection, drawer, finding things, colours, keys and wheel.
#include <QtTest>

#include <QListWidget>
#include <QMimeData>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QSlider>
#include <QStandardPaths>
#include <QTemporaryDir>
#include <QToolButton>

#include "app/application.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class EditorTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;

    static QString example(const char* name) { return QString::fromStdString(bench::shareFolder()) + "/benches/" + name; }

    std::unique_ptr<MainWindow> openLock() { return openFile(example("withy-lock/bench.toml")); }

    // A copy, since what its chip keeps in EEPROM is written beside it.
    std::unique_ptr<MainWindow> openExample(const QString& name)
    {
        const QDir from(example(qPrintable(name)));
        const QString to = folder_.filePath(name);
        QDir().mkpath(to + "/firmware");
        QFile::copy(from.filePath("bench.toml"), to + "/bench.toml");
        for (const QString& elf : QDir(from.filePath("firmware")).entryList({"*.elf"}))
            QFile::copy(from.filePath("firmware/" + elf), to + "/firmware/" + elf);
        return openFile(to + "/bench.toml");
    }

    std::unique_ptr<MainWindow> openFile(const QString& file)
    {
        auto window = std::make_unique<MainWindow>(catalogue_);
        window->neverAsk();
        window->show();
        (void)QTest::qWaitForWindowExposed(window.get());
        window->open(file);
        QTest::qWait(20);
        return window;
    }

    static QStringList errorsOf(Editor& editor, const std::function<void()>& act)
    {
        QStringList errors;
        const auto connection = connect(&editor, &Editor::message, &editor, [&](const QString& text, bool error) {
            if (error)
                errors << text;
        });
        act();
        disconnect(connection);
        return errors;
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void aBrokenBenchIsRefusedAndTheOpenOneStays()
    {
        auto window = openLock();
        QFile file(folder_.filePath("broken.toml"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"zeppelin\"\n");
        file.close();
        const QStringList errors = errorsOf(window->editor(), [&] { window->open(file.fileName()); });
        QCOMPARE(errors.size(), 1);
        QVERIFY(errors[0].startsWith(file.fileName() + ": line 2: part \"a\" is of kind \"zeppelin\""));
        QCOMPARE(window->editor().document().title, "Withy Lock");
        QCOMPARE(errorsOf(window->editor(), [&] { window->open(folder_.filePath("none.toml")); }).size(), 1);
    }

    // The bench moves to another folder and goes on there: what is drawn afterwards runs.
    void aBenchSavedElsewhereGoesOnAsItIsDrawn()
    {
        const auto window = openExample("bell-rope");
        Editor& editor = window->editor();
        editor.session().settle();
        QDir().mkpath(folder_.filePath("elsewhere"));
        QVERIFY(editor.saveAs(folder_.filePath("elsewhere/bell.toml")));
        editor.change("lamp", [](bench::Document& d) {
            bench::PartItem lamp;
            lamp.id = "later";
            lamp.kind = "led";
            lamp.at = {60, 60};
            d.parts.push_back(lamp);
            d.wires.push_back({.from = {"mcu", "PB1"}, .to = {"later", "A"}, .color = "sky"});
        });
        editor.session().settle();
        QTRY_VERIFY(editor.picture().pins.contains({"later", "A"}));
        QVERIFY(editor.picture().notBuilt.empty());
        QVERIFY(std::none_of(editor.picture().findings.begin(), editor.picture().findings.end(), [](const bench::Finding& f) { return f.rule == "firmware-unreadable"; }));
    }

    void whatSomebodyElseHasSavedIsNotOverwrittenUnasked()
    {
        const auto window = openExample("bell-rope");
        Editor& editor = window->editor();
        QVERIFY(editor.changedOnDisk().isEmpty());
        editor.change("title", [](bench::Document& d) { d.title = "mine"; });
        QVERIFY(editor.changedOnDisk().isEmpty());
        QFile file(editor.file());
        QVERIFY(file.open(QIODevice::ReadOnly));
        QByteArray text = file.readAll();
        file.close();
        text.replace("Bell rope", "theirs");
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text);
        file.close();
        const QString differs = editor.changedOnDisk();
        QVERIFY2(differs.contains("+ title = \"theirs\"") && differs.contains("- title = \"Bell rope\""), qPrintable(differs));
        QCOMPARE(errorsOf(editor, [&] { QVERIFY(!editor.save()); }).size(), 1);
        QVERIFY(file.open(QIODevice::ReadOnly));
        QCOMPARE(file.readAll(), text);
        file.close();
        QVERIFY(editor.save(true));
        QVERIFY(editor.changedOnDisk().isEmpty());
        QVERIFY(file.open(QIODevice::ReadOnly));
        QVERIFY(file.readAll().contains("mine"));
    }

    // Two windows on one bench: neither takes away what the other keeps aside.
    void twoWindowsKeepTheirWorkAsideEachOnItsOwn()
    {
        const QDateTime begun = QDateTime::currentDateTime();
        const auto first = openExample("bell-rope");
        const auto second = openFile(first->editor().file());
        first->editor().change("title", [](bench::Document& d) { d.title = "of the first"; });
        second->editor().change("title", [](bench::Document& d) { d.title = "of the second"; });
        QTest::qWait(2000);  // within two seconds
        const QDir kept(QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation) + "/recovery");
        const auto holds = [&](const char* title) {
            for (const QFileInfo& file : kept.entryInfoList({"*.toml"}, QDir::Files)) {
                QFile in(file.filePath());
                if (file.lastModified() >= begun && in.open(QIODevice::ReadOnly) && in.readAll().contains(title))
                    return true;
            }
            return false;
        };
        QVERIFY(holds("of the first"));
        QVERIFY(holds("of the second"));
        QVERIFY(first->editor().save());
        QVERIFY(!holds("of the first"));
        QVERIFY(holds("of the second"));
        second->editor().discardRecovery();
    }

    void savingElsewhereTakesFirmwarePathsAlong()
    {
        auto window = openLock();
        QVERIFY(QDir(folder_.path()).mkpath("deep/er"));
        const QString file = folder_.filePath("deep/er/lock.toml");
        QVERIFY(window->editor().saveAs(file));
        const QString firmware = QString::fromStdString(window->editor().document().part("mcu")->firmware);
        QVERIFY2(QFileInfo::exists(QDir(QFileInfo(file).path()).absoluteFilePath(firmware)), qPrintable(firmware));
        QVERIFY(window->editor().recentFiles().contains(file));
        // Where it cannot be saved, nothing changes.
        const bench::Document before = window->editor().document();
        QCOMPARE(errorsOf(window->editor(), [&] { QVERIFY(!window->editor().saveAs("/proc/none/lock.toml")); }).size(), 1);
        QVERIFY(window->editor().document() == before);
        QCOMPARE(window->editor().file(), file);
    }

    void theDrawerAddsPartsAndOpensExamples()
    {
        auto window = openLock();
        const auto buttons = window->findChildren<QToolButton*>();
        const auto named = [&](const QString& tip) {
            for (QToolButton* b : buttons)
                if (b->toolTip() == tip)
                    return b;
            return static_cast<QToolButton*>(nullptr);
        };
        QTest::mouseClick(named("Parts"), Qt::LeftButton);
        auto* list = window->findChild<QListWidget*>("drawerParts");
        QVERIFY(list != nullptr && list->isVisible());
        QVERIFY(list->count() >= 8);
        const auto before = window->editor().document().parts.size();
        const auto led = list->findItems("LED", Qt::MatchExactly);
        QCOMPARE(led.size(), 1);
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(led[0]).center());
        QCOMPARE(window->editor().document().parts.size(), before + 1);
        QVERIFY(window->editor().selection().parts.contains("led1"));
        QTest::mouseClick(named("Files"), Qt::LeftButton);
        QPushButton* bell = nullptr;
        for (QPushButton* b : window->findChildren<QPushButton*>("link"))
            if (b->text() == "Bell rope")
                bell = b;
        QVERIFY(bell != nullptr);
        QTest::mouseClick(bell, Qt::LeftButton);
        QCOMPARE(window->editor().document().title, "Bell rope");
    }

    void findAnythingGoesToPartsAndRunsCommands()
    {
        auto window = openLock();
        window->benchView().setFocus();
        QTest::keyClick(window->focusWidget(), Qt::Key_K, Qt::ControlModifier);
        QVERIFY(window->pickList().isVisible());
        QTest::keyClicks(window->pickList().line(), "lower gate");
        QTest::keyClick(window->pickList().line(), Qt::Key_Return);
        QVERIFY(window->editor().selection() == (bench::Selection{{"lower"}, {}}));
        QTest::keyClick(window->focusWidget(), Qt::Key_K, Qt::ControlModifier);
        QTest::keyClicks(window->pickList().line(), "select all");
        QTest::keyClick(window->pickList().line(), Qt::Key_Return);
        QCOMPARE(window->editor().selection().parts.size(), window->editor().document().parts.size());
        QTest::keyClick(window->focusWidget(), Qt::Key_K, Qt::ControlModifier);
        QTest::keyClick(window->pickList().line(), Qt::Key_Escape);
        QVERIFY(!window->pickList().isVisible());
    }

    void aTypedTimeRunsSoFarOrGoesThere()
    {
        auto window = openExample("bell-rope");
        Editor& editor = window->editor();
        editor.session().settle();
        const auto type = [&](const QString& words) {
            window->benchView().setFocus();
            QTest::keyClick(window->focusWidget(), Qt::Key_K, Qt::ControlModifier);
            QTest::keyClicks(window->pickList().line(), words);
            QTest::keyClick(window->pickList().line(), Qt::Key_Return);
        };
        type("12.5 ms");
        QTRY_COMPARE(editor.picture().now, kernel::Time(std::chrono::microseconds(12'500)));
        QTRY_VERIFY(!editor.picture().running);
        type("run for 7us");
        QTRY_COMPARE(editor.picture().now, kernel::Time(std::chrono::microseconds(12'507)));
        QTRY_VERIFY(!editor.picture().running);
        type("go to 3 ms");
        QTRY_COMPARE(editor.picture().now, kernel::Time(std::chrono::milliseconds(3)));
        type("to 20ms");
        QTRY_COMPARE(editor.picture().now, kernel::Time(std::chrono::milliseconds(20)));
        // Also where it runs on while that is typed.
        editor.run();
        QTRY_VERIFY(editor.picture().now > kernel::Time(std::chrono::milliseconds(21)));
        type("to 1.5s");
        QTRY_COMPARE(editor.picture().now, kernel::Time(std::chrono::milliseconds(1'500)));
        // A run after that has no end of its own.
        editor.run();
        QTRY_VERIFY(editor.picture().now > kernel::Time(std::chrono::milliseconds(1'520)));
        editor.pause();
    }

    void aFolderIsItsOnlyBench()
    {
        auto window = openLock();
        const QString folder = folder_.filePath("only");
        QVERIFY(QDir().mkpath(folder));
        QVERIFY(QFile::copy(example("bell-rope/bench.toml"), folder + "/bench.toml"));
        window->takeFile(folder);
        QCOMPARE(window->editor().document().title, "Bell rope");
        // Of two, neither is taken.
        QVERIFY(QFile::copy(folder + "/bench.toml", folder + "/second.toml"));
        window->open(example("withy-lock/bench.toml"));
        window->takeFile(folder);
        QCOMPARE(window->editor().document().title, "Withy Lock");
    }

    // What the tape shows where nobody has chosen: what is wired now, and what was.
    void lanesFollowTheWiringWhereNobodyHasChosen()
    {
        auto window = openExample("bell-rope");
        Editor& editor = window->editor();
        QVERIFY(editor.document().lanes.empty());
        const auto shown = [&](const char* pin) { return std::find(editor.lanes().begin(), editor.lanes().end(), bench::PinRef{"mcu", pin}) != editor.lanes().end(); };
        const std::size_t before = editor.lanes().size();
        QVERIFY(!shown("PC5"));
        const auto was = editor.lanes();
        editor.change("wire", [](bench::Document& d) { d.wires.push_back({.from = {"mcu", "PC5"}, .to = {"mcu", "PC4"}, .color = "sky"}); });
        QVERIFY(shown("PC5"));
        QVERIFY(shown("PC4"));
        for (const bench::PinRef& pin : was)
            QVERIFY(std::find(editor.lanes().begin(), editor.lanes().end(), pin) != editor.lanes().end());
        QCOMPARE(editor.lanes().size(), before + 2);
    }

    void wiresAreSelectedRecolouredAndRemovedByHand()
    {
        auto window = openLock();
        BenchView& view = window->benchView();
        const auto& d = window->editor().document();
        // In the middle of the long leg of the third wire: r1.2 to PB2.
        const QPoint on = view.toWidget(toUnits({16, 13})).toPoint();
        QTest::mouseMove(&view, on);
        QTest::mouseClick(&view, Qt::LeftButton, {}, on);
        QVERIFY(window->editor().selection() == (bench::Selection{{}, {3}}));
        QCOMPARE(d.wires[3].color, "rust");
        QTest::keyClick(&view, Qt::Key_C);
        QCOMPARE(d.wires[3].color, "amber");
        const auto count = d.wires.size();
        QTest::keyClick(&view, Qt::Key_Delete);
        QCOMPARE(d.wires.size(), count - 1);
        QTest::keyClick(&view, Qt::Key_Z, Qt::ControlModifier);
        QTest::keyClick(&view, Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(d.wires.size(), count);
        QCOMPARE(d.wires[3].color, "rust");
        QVERIFY(window->editor().isSaved());
    }

    void theWheelZoomsAboutThePointer()
    {
        auto window = openLock();
        BenchView& view = window->benchView();
        const QPointF pointer(300, 200);
        const QPointF before = view.toSheet(pointer);
        QWheelEvent wheel(pointer, view.mapToGlobal(pointer), {}, {0, 240}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
        const double zoom = view.zoom();
        QCoreApplication::sendEvent(&view, &wheel);
        QVERIFY(view.zoom() > zoom * 1.2);
        QVERIFY((view.toSheet(pointer) - before).manhattanLength() < 0.01);
        QTest::keyClick(&view, Qt::Key_Home);
        QVERIFY(std::abs(view.zoom() - zoom) < 0.01);
    }

    void aBandSelectsWhatLiesInIt()
    {
        auto window = openLock();
        BenchView& view = window->benchView();
        const QPoint from = view.toWidget(toUnits({4, 0})).toPoint();
        const QPoint to = view.toWidget(toUnits({17, 6})).toPoint();
        QTest::mousePress(&view, Qt::LeftButton, {}, from);
        QTest::mouseMove(&view, (from + to) / 2);
        QTest::mouseMove(&view, to);
        QTest::mouseRelease(&view, Qt::LeftButton, {}, to);
        QVERIFY(window->editor().selection().parts == (std::set<std::string>{"moving", "stop"}));
    }

    void keysAndFacesWorkTheLiveControls()
    {
        auto window = openLock();
        Editor& editor = window->editor();
        BenchView& view = window->benchView();
        editor.run();
        view.setFocus();
        const auto control = [&](const char* name) { return editor.picture().controls.at(name); };
        QTest::keyPress(&view, Qt::Key_K);
        QTRY_COMPARE(control("keeper.pressed"), 1.0);
        QTest::keyRelease(&view, Qt::Key_K);
        QTRY_COMPARE(control("keeper.pressed"), 0.0);
        const auto* upper = editor.document().part("upper");
        const QPoint knob = view.toWidget(toUnits(upper->at) + QPointF(32, 19)).toPoint();
        QTest::mouseClick(&view, Qt::LeftButton, {}, knob);
        QTRY_COMPARE(control("upper.position"), 1.0);
        QTRY_COMPARE(editor.picture().pins.at({"upper", "C"}).state, circuit::NetState::high);  // open: the pull-up holds it
        editor.select({{"upper"}, {}});
        auto* button = window->findChild<QPushButton*>("control-position");
        QVERIFY(button != nullptr);
        QTest::mouseClick(button, Qt::LeftButton);
        QTRY_COMPARE(control("upper.position"), 0.0);
        QTRY_COMPARE(button->text(), "position: A");
        // The board's reset button, held.
        const auto* mcu = editor.document().part("mcu");
        const QPoint reset = view.toWidget(toUnits(mcu->at) + QPointF(343, 96)).toPoint();
        QTest::mousePress(&view, Qt::LeftButton, {}, reset);
        QTRY_VERIFY(editor.picture().chips[0].inReset);
        QTest::mouseRelease(&view, Qt::LeftButton, {}, reset);
        QTRY_VERIFY(!editor.picture().chips[0].inReset);
    }

    void lanesAreChosenInTheInspector()
    {
        auto window = openLock();
        const auto before = window->editor().lanes();
        QVERIFY(!before.empty());
        window->editor().toggleLane({"mcu", "PB5"});
        QCOMPARE(window->editor().lanes().size(), before.size() + 1);
        window->editor().toggleLane({"mcu", "PB5"});
        QVERIFY(window->editor().lanes() == before);
    }

    void aWrongValueIsRefusedInTheInspector()
    {
        auto window = openLock();
        window->editor().select({{"r1"}, {}});
        auto* line = window->findChild<QLineEdit*>("setting-resistance");
        QVERIFY(line != nullptr);
        line->setFocus();
        line->selectAll();
        const QStringList errors = errorsOf(window->editor(), [&] {
            QTest::keyClicks(line, "a lot");
            QTest::keyClick(line, Qt::Key_Return);
        });
        QCOMPARE(errors, QStringList{"cannot read \"a lot\": expected a resistance, such as 330 or 4k7"});
        QCOMPARE(line->text(), "330");
        auto* name = window->findChild<QLineEdit*>("part-id");
        name->setFocus();
        name->selectAll();
        QVERIFY(!errorsOf(window->editor(), [&] {
            QTest::keyClicks(name, "mcu");
            QTest::keyClick(name, Qt::Key_Return);
        }).isEmpty());
        name->setText("series");
        QTest::keyClick(name, Qt::Key_Return);
        QVERIFY(window->editor().document().part("series") != nullptr);
        QCOMPARE(window->editor().document().wires[0].to.part, "series");
    }

    void aDialTurnsWhileTheBenchRuns()
    {
        auto window = openExample("cheese-cave");
        Editor& editor = window->editor();
        editor.run();
        editor.select({{"probe"}, {}});
        auto* dial = window->findChild<QSlider*>("control-volts");
        QVERIFY(dial != nullptr);
        QTRY_COMPARE(dial->value(), 200);  // 3 V of 15
        QTest::mouseClick(dial, Qt::LeftButton, {}, QPoint(dial->width() - 4, dial->height() / 2));
        QTRY_VERIFY(editor.picture().controls.at("probe.volts") > 3.5);
        QTRY_COMPARE(editor.picture().pins.at({"mcu", "PB2"}).volts > 3.5, true);
    }

    void fusesAreSettingsOfTheChip()
    {
        auto window = openExample("cheese-cave");
        Editor& editor = window->editor();
        editor.select({{"mcu"}, {}});
        auto* line = window->findChild<QLineEdit*>("setting-CKDIV8");
        QVERIFY(line != nullptr);
        QCOMPARE(line->text(), "0");
        line->setFocus();
        line->selectAll();
        const QStringList errors = errorsOf(editor, [&] {
            QTest::keyClicks(line, "2");
            QTest::keyClick(line, Qt::Key_Return);
        });
        QCOMPARE(errors, QStringList{"CKDIV8: expected 0 (programmed) or 1 (unprogrammed)"});
        line->setFocus();
        line->selectAll();
        QTest::keyClicks(line, "1");
        QTest::keyClick(line, Qt::Key_Return);
        QCOMPARE(QString::fromStdString(editor.document().part("mcu")->set.at("CKDIV8")), "1");
    }

    void firmwareDroppedOnTheBenchIsLoadedIntoTheBoard()
    {
        auto window = openLock();
        QMimeData data;
        data.setUrls({QUrl::fromLocalFile(example("bell-rope/firmware/bell-rope.elf"))});
        const QPointF at(200, 200);
        QDragEnterEvent enter(at.toPoint(), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QCoreApplication::sendEvent(&window->benchView(), &enter);
        QVERIFY(enter.isAccepted());
        QDropEvent drop(at, Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
        QCoreApplication::sendEvent(&window->benchView(), &drop);
        QTRY_VERIFY(!window->editor().picture().chips.empty() && window->editor().picture().chips[0].firmwareFile.ends_with("bell-rope.elf"));
        window->editor().run();
        QTRY_VERIFY(window->serialView().text().contains("Bell tower ready"));
    }

    void aFaultStopsTheRunAndSaysWhere()
    {
        auto window = openLock();
        QFile file(folder_.filePath("fault.bin"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(QByteArray::fromHex("00000100"));
        file.close();
        window->editor().loadFirmware("mcu", file.fileName());
        window->editor().run();
        QTRY_VERIFY(window->editor().picture().stopped.starts_with("mcu: undefined instruction 0x0001"));
        QVERIFY(!window->editor().picture().running);
        window->editor().undo();  // back to the firmware that was there
        window->editor().restart();
        QTRY_VERIFY(window->editor().picture().stopped.empty());
    }

    void everyKindHasADrawing()
    {
        PartArt art;
        for (const auto& [id, kind] : catalogue_.kinds()) {
            if (!kind.listed)
                continue;
            const QImage image = art.thumbnail(kind, {60, 60}, 1).toImage();
            int drawn = 0;
            for (int y = 0; y < image.height(); ++y)
                for (int x = 0; x < image.width(); ++x)
                    drawn += image.pixelColor(x, y).alpha() > 40 ? 1 : 0;
            QVERIFY2(drawn > 60, id.c_str());
            // Every pin lies on or beside the body that is drawn.
            for (const bench::PinKind& pin : kind.pins)
                QVERIFY2(art.bodyBox(kind).adjusted(-9, -9, 9, 9).contains(toUnits(pin.at)), (id + "." + pin.name).c_str());
        }
        // Bands of 4k7: yellow, violet, red.
        const auto bands = resistorBands(4700);
        QCOMPARE(bands[0], resistorBands(44)[0]);
        QCOMPARE(bands[1], resistorBands(47)[1]);
        QCOMPARE(bands[2], resistorBands(2200)[2]);
    }
};

QTEST_MAIN(EditorTest)
#include "editor_test.moc"
