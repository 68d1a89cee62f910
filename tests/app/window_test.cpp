// The real window, by mouse and keyboard alone: from an empty bench to running firmware, and back from a saved file.
#include <QStandardPaths>
#include <QtTest>

#include <QFileDialog>
#include <QFileInfo>
#include <QLineEdit>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QTemporaryDir>

#include "app/application.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

namespace {

// What a person does, one verb a line.
class Hands {
public:
    explicit Hands(MainWindow& window) : window_(window) {}

    void key(Qt::Key key, Qt::KeyboardModifiers modifiers = Qt::NoModifier) { QTest::keyClick(focus(), key, modifiers); }
    void type(const QString& text) { QTest::keyClicks(focus(), text); }
    [[nodiscard]] QWidget* focus() const { return window_.focusWidget() != nullptr ? window_.focusWidget() : &window_; }

    void addPart(const QString& name, QPointF at)
    {
        QTest::mouseMove(&window_.benchView(), at.toPoint());
        window_.benchView().setFocus();
        key(Qt::Key_Slash);
        QVERIFY(window_.pickList().isVisible());
        type(name);
        key(Qt::Key_Return);
        QVERIFY(!window_.pickList().isVisible());
    }

    [[nodiscard]] QPoint pin(const char* text) const
    {
        const auto at = window_.benchView().pinInWidget(*bench::parsePinRef(text));
        return at ? at->toPoint() : QPoint(-1, -1);
    }

    void wireByDrag(const char* from, const char* to)
    {
        BenchView* v = &window_.benchView();
        QTest::mousePress(v, Qt::LeftButton, {}, pin(from));
        QTest::mouseMove(v, (pin(from) + pin(to)) / 2);
        QTest::mouseMove(v, pin(to));
        QTest::mouseRelease(v, Qt::LeftButton, {}, pin(to));
    }

    void wireByClicks(const char* from, QPoint bend, const char* to)
    {
        BenchView* v = &window_.benchView();
        QTest::mouseClick(v, Qt::LeftButton, {}, pin(from));
        QTest::mouseMove(v, bend);
        QTest::mouseClick(v, Qt::LeftButton, {}, bend);
        QTest::mouseMove(v, pin(to));
        QTest::mouseClick(v, Qt::LeftButton, {}, pin(to));
    }

    // Types a path into the file dialog that comes up next, and Enter; again where the dialog, which reads its folder meanwhile, took the row that it had
    // come to instead. The list that offers itself while one types is left out: it takes the keys that come after.
    static void answerFileDialog(const QString& path)
    {
        auto* look = new QTimer(qApp);
        look->setInterval(100);
        QObject::connect(look, &QTimer::timeout, qApp, [look, path, looks = 0]() mutable {
            constexpr int kMostLooks = 100;
            if (++looks > kMostLooks) {  // a test that waits for ever tells nothing
                look->deleteLater();
                while (QWidget* box = QApplication::activeModalWidget())
                    if (!box->close())
                        break;
                QFAIL("no file dialog came, or it did not take its answer");
            }
            auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget());
            if (dialog == nullptr)
                return;
            auto* line = dialog->findChild<QLineEdit*>("fileNameEdit");
            QVERIFY(line != nullptr);
            line->setCompleter(nullptr);
            line->selectAll();
            QTest::keyClicks(line, path);
            if (line->text() != path)
                return;
            QTest::keyClick(line, Qt::Key_Return);
            if (!dialog->isVisible())
                look->deleteLater();
        });
        look->start();
    }

    // A window manager gives the focus back when a dialog goes; without one it is taken.
    void backToTheWindow()
    {
        window_.activateWindow();
        QVERIFY(QTest::qWaitForWindowActive(&window_));
        window_.benchView().setFocus();
    }

    // Clicks in the middle of a part's body.
    void clickPart(const char* id, QPointF offset)
    {
        const auto at = window_.benchView().toWidget(toUnits(window_.editor().document().part(id)->at) + offset).toPoint();
        QTest::mouseMove(&window_.benchView(), at);
        QTest::mouseClick(&window_.benchView(), Qt::LeftButton, {}, at);
    }

    void clickButton(const QString& text)
    {
        for (QPushButton* button : window_.findChildren<QPushButton*>())
            if (button->text() == text && button->isVisible()) {
                QTest::mouseClick(button, Qt::LeftButton);
                return;
            }
        QFAIL(qPrintable("no button " + text));
    }

    void netFlag(const char* at, const QString& name)
    {
        QTest::mouseMove(&window_.benchView(), pin(at));
        window_.benchView().setFocus();
        key(Qt::Key_F);
        auto* line = window_.benchView().findChild<QLineEdit*>("netFlag");
        QVERIFY(line != nullptr);
        QTest::keyClicks(line, name);
        QTest::keyClick(line, Qt::Key_Return);
        QCoreApplication::sendPostedEvents(nullptr, QEvent::DeferredDelete);
    }

private:
    MainWindow& window_;
};

}  // namespace

class WindowTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;

    [[nodiscard]] static QString example(const char* name) { return QString::fromStdString(bench::shareFolder()) + "/benches/" + name; }

    static double brightness(MainWindow& window, const std::string& part)
    {
        for (const auto& light : window.editor().picture().lights)
            if (light.part == part)
                return light.brightness;
        return -1;
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void buildsABenchFromNothingRunsItSavesAndReopensIt()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        Hands hands(window);
        QTest::qWait(30);

        hands.addPart("briar 328", {460, 330});
        hands.addPart("led", {300, 60});
        hands.addPart("resis", {430, 90});
        hands.addPart("push", {120, 380});
        const bench::Document& d = window.editor().document();
        QCOMPARE(d.parts.size(), 4U);
        QCOMPARE(d.parts[0].id, "mcu");
        QCOMPARE(d.parts[1].id, "led1");

        hands.wireByDrag("led1.A", "r1.1");
        hands.wireByClicks("r1.2", hands.pin("r1.2") + QPoint(40, 30), "mcu.PB0");
        hands.wireByDrag("key1.2", "mcu.PD4");
        hands.netFlag("led1.K", "GND");
        hands.netFlag("key1.1", "GND");
        QCOMPARE(d.wires.size(), 3U);
        QVERIFY(!d.wires[1].via.empty());
        QCOMPARE(d.nets.size(), 1U);
        // The board's own ground came into the net by its name.
        QCOMPARE(d.nets[0].pins[0].text(), "mcu.GND");

        // Undo everything, and do it again.
        const bench::Document built = d;
        const std::string text = bench::writeDocument(built);
        for (int i = 0; i < 20; ++i)
            hands.key(Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(d.parts.empty());
        for (int i = 0; i < 20; ++i)
            hands.key(Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
        QCOMPARE(bench::writeDocument(d), text);

        hands.clickPart("mcu", {30, 180});
        QVERIFY(window.editor().selection() == (bench::Selection{{"mcu"}, {}}));
        Hands::answerFileDialog(example("bell-rope/firmware/bell-rope.elf"));
        hands.clickButton("Load firmware…");
        QVERIFY(d.part("mcu")->firmware.ends_with("bell-rope.elf"));
        hands.backToTheWindow();
        hands.key(Qt::Key_Space);
        QTRY_VERIFY(window.editor().picture().running);
        auto* tabs = window.findChild<QTabBar*>("lowerTabs");
        QTest::mouseClick(tabs, Qt::LeftButton, {}, tabs->tabRect(1).center());
        QTRY_VERIFY(window.serialView().text().contains("Bell tower ready"));
        QTRY_COMPARE(window.editor().picture().uarts[0].format, "8N1");
        QVERIFY(brightness(window, "led1") < 0.1);

        // The button by mouse: on its cap, as long as it is held.
        const QPointF cap = window.benchView().toWidget(toUnits({d.part("key1")->at.x + 2, d.part("key1")->at.y + 2}));
        QTest::mousePress(&window.benchView(), Qt::LeftButton, {}, cap.toPoint());
        QTRY_VERIFY(brightness(window, "led1") > 0.3);
        QTRY_VERIFY(window.serialView().text().contains("stroke 1"));
        QTest::mouseRelease(&window.benchView(), Qt::LeftButton, {}, cap.toPoint());
        QTRY_VERIFY(brightness(window, "led1") < 0.1);

        // Typed into the serial line.
        auto* line = window.findChild<QLineEdit*>("serialLine");
        QVERIFY(line != nullptr);
        line->setFocus();
        QTest::keyClicks(line, "0");
        QTest::keyClick(line, Qt::Key_Return);
        QTRY_VERIFY(window.serialView().text().contains("count from 1"));

        // A value is changed while it runs: the lamp grows dim, and the count goes on.
        hands.clickPart("r1", {32, 0});
        auto* resistance = window.findChild<QLineEdit*>("setting-resistance");
        QVERIFY(resistance != nullptr);
        resistance->setFocus();
        resistance->selectAll();
        QTest::keyClicks(resistance, "10k");
        QTest::keyClick(resistance, Qt::Key_Return);
        QCOMPARE(d.part("r1")->set.at("resistance"), "10k");
        QVERIFY(window.editor().picture().running);
        window.benchView().setFocus();
        QTest::mousePress(&window.benchView(), Qt::LeftButton, {}, cap.toPoint());
        QTRY_VERIFY(brightness(window, "led1") > 0.05);
        QTest::qWait(60);
        QVERIFY(brightness(window, "led1") < 0.35);
        QTRY_VERIFY(window.serialView().text().count("stroke 1") == 2);
        QTest::mouseRelease(&window.benchView(), Qt::LeftButton, {}, cap.toPoint());

        window.benchView().setFocus();
        hands.key(Qt::Key_Space);
        QTRY_VERIFY(!window.editor().picture().running);
        const auto cycles = window.editor().picture().chips[0].cycles;
        hands.key(Qt::Key_Period, Qt::ShiftModifier);
        QTRY_VERIFY(window.editor().picture().chips[0].cycles > cycles);
        QVERIFY(window.editor().picture().chips[0].cycles <= cycles + 10);

        const QString file = folder_.filePath("tower.toml");
        Hands::answerFileDialog(file);
        hands.key(Qt::Key_S, Qt::ControlModifier);
        QVERIFY(window.editor().isSaved());
        QVERIFY(QFileInfo::exists(file));
        hands.backToTheWindow();
        hands.key(Qt::Key_R, Qt::ControlModifier);
        QTRY_COMPARE(window.editor().picture().now, kernel::Time{});

        MainWindow again(catalogue_);
        again.neverAsk();
        again.show();
        QVERIFY(QTest::qWaitForWindowExposed(&again));
        Hands(again).backToTheWindow();
        Hands::answerFileDialog(file);
        QTest::keyClick(&again.benchView(), Qt::Key_O, Qt::ControlModifier);
        QCOMPARE(bench::writeDocument(again.editor().document()), bench::writeDocument(d));
        Hands(again).backToTheWindow();
        QTest::keyClick(&again.benchView(), Qt::Key_Space);
        QTRY_VERIFY(again.editor().picture().now > kernel::Time(std::chrono::milliseconds(20)));
        QTRY_VERIFY(again.serialView().text().contains("Bell tower ready"));
    }

    void theWindowStaysFluidWhileAPinTogglesEveryFourCycles()
    {
        // An endless loop that writes PINB every four cycles: 4 million edges a second.
        const QString hex = folder_.filePath("toggle.hex");
        QFile out(hex);
        QVERIFY(out.open(QIODevice::WriteOnly));
        out.write(":08000000209A189AFECFFFFFC1\n:00000001FF\n");  // sbi DDRB,0 ; sbi PINB,0 ; rjmp .-4
        out.close();
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        window.open(example("bell-rope/bench.toml"));
        window.editor().loadFirmware("mcu", hex);
        window.editor().session().setFullSpeed(true);
        window.editor().run();
        QTRY_VERIFY(window.editor().picture().now > kernel::Time(std::chrono::milliseconds(50)));
        // Frames go on coming, none is missed for long, and commands answer.
        int frames = 0;
        qint64 longest = 0;
        QElapsedTimer since;
        connect(&window.editor(), &Editor::pictureChanged, this, [&] {
            if (frames++ > 0)
                longest = std::max(longest, since.elapsed());
            since.restart();
        });
        QElapsedTimer all;
        all.start();
        QTRY_VERIFY_WITH_TIMEOUT(frames >= 60, 60'000);
        qInfo("%.0f frames a second, the longest wait %lld ms", 1000.0 * frames / static_cast<double>(all.elapsed()), static_cast<long long>(longest));
        const auto pin = window.editor().picture().pins.at({"mcu", "PB0"});
        QVERIFY(pin.busy);
        QVERIFY(std::abs(pin.duty - 0.5) < 0.05);
        window.editor().pause();
        QTRY_VERIFY(!window.editor().picture().running);
    }

    void aFirmwareFileThatChangesOnDiskIsLoadedByItself()
    {
        const QString file = folder_.filePath("changing.elf");
        QVERIFY(QFile::copy(example("bell-rope/firmware/bell-rope.elf"), file));
        QFile(file).setPermissions(QFile::ReadOwner | QFile::WriteOwner);
        MainWindow window(catalogue_);
        window.neverAsk();
        window.open(example("bell-rope/bench.toml"));
        window.editor().loadFirmware("mcu", file);
        window.editor().run();
        QTRY_VERIFY(window.serialView().text().contains("Bell tower ready"));
        QFile other(example("withy-lock/firmware/withy-lock.elf"));
        QVERIFY(other.open(QIODevice::ReadOnly));
        const QByteArray bytes = other.readAll();
        QFile target(file);
        QVERIFY(target.open(QIODevice::WriteOnly | QIODevice::Truncate));
        target.write(bytes);
        target.close();
        QTRY_VERIFY_WITH_TIMEOUT(window.serialView().text().contains("Withy Lock"), 8000);
    }

    void anUnusableFirmwareIsRefusedInOneLineAndTheEarlierOneStays()
    {
        const QString file = folder_.filePath("broken.elf");
        QFile out(file);
        QVERIFY(out.open(QIODevice::WriteOnly));
        out.write("\x7f" "ELF but nothing more");
        out.close();
        MainWindow window(catalogue_);
        window.neverAsk();
        window.open(example("bell-rope/bench.toml"));
        QStringList errors;
        connect(&window.editor(), &Editor::message, this, [&](const QString& text, bool error) {
            if (error)
                errors << text;
        });
        const bench::Document before = window.editor().document();
        window.editor().loadFirmware("mcu", file);
        QCOMPARE(errors.size(), 1);
        QVERIFY(errors[0].startsWith(file + ": ELF header"));
        QVERIFY(window.editor().document() == before);
        window.editor().run();
        QTRY_VERIFY(window.serialView().text().contains("Bell tower ready"));
    }

    void workThatWasNotSavedComesBackAfterAKill()
    {
        const QString file = folder_.filePath("kept.toml");
        QVERIFY(QFile::copy(example("bell-rope/bench.toml"), file));
        QFile(file).setPermissions(QFile::ReadOwner | QFile::WriteOwner);
        {
            MainWindow window(catalogue_);
            window.neverAsk();
            window.open(file);
            window.editor().discardRecovery();
            const QDateTime begun = QDateTime::currentDateTime();
            window.editor().change("title", [](bench::Document& d) { d.title = "Half done"; });
            // Within two seconds it is kept; a second window on the bench is not offered what the first one still has.
            const QDir kept(QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation) + "/recovery");
            QTRY_VERIFY_WITH_TIMEOUT([&] {
                for (const QFileInfo& info : kept.entryInfoList({"*.toml"}, QDir::Files)) {
                    QFile in(info.filePath());
                    if (info.lastModified() >= begun && in.open(QIODevice::ReadOnly) && in.readAll().contains("Half done"))
                        return true;
                }
                return false;
            }(), 2500);
            MainWindow second(catalogue_);
            second.neverAsk();
            second.open(file);
            QVERIFY(!second.editor().hasRecovery());
        }  // gone without saving
        MainWindow window(catalogue_);
        window.neverAsk();
        window.open(file);
        QCOMPARE(window.editor().document().title, "Bell rope");
        QVERIFY(window.editor().hasRecovery());
        window.editor().restoreRecovery();
        QCOMPARE(window.editor().document().title, "Half done");
        QVERIFY(window.editor().save());
        QVERIFY(!window.editor().hasRecovery());
    }

    void marksOnTheTapeMeasureTheTimeBetweenEdges()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        window.open(example("withy-lock/bench.toml"));
        window.tapeView().follow(std::chrono::milliseconds(400));
        window.editor().run();
        QTRY_VERIFY(window.editor().picture().now > kernel::Time(std::chrono::milliseconds(420)));
        window.editor().pause();
        window.editor().session().settle();
        QTest::qWait(40);
        QTest::mouseClick(&window.tapeView(), Qt::LeftButton, {}, QPoint(400, 60));
        QTest::mouseClick(&window.tapeView(), Qt::LeftButton, Qt::ShiftModifier, QPoint(700, 60));
        QVERIFY(window.tapeView().betweenMarks().has_value());
        const double expected = 0.4 * 300 / (window.tapeView().width() - 150 - 26);
        QVERIFY(std::abs(kernel::seconds(*window.tapeView().betweenMarks()) - expected) < 1e-6);
    }

    // A bus has a lane of its own, read where bytes can be told apart.
    void aBusIsReadOnTheTape()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        window.open(example("tide-clock/bench.toml"));
        window.editor().session().setFullSpeed(true);
        window.editor().run();
        QTRY_VERIFY(window.editor().picture().now > kernel::Time(std::chrono::milliseconds(100)));
        window.editor().pause();
        // The display is woken: 0x3 to the port behind 0x27, its backlight on, the enable line up and down (HD44780 in 4 bits, PCF8574).
        window.editor().session().goTo(kernel::Time(std::chrono::milliseconds(23)));
        window.tapeView().follow(std::chrono::milliseconds(3));
        window.editor().session().settle();
        QTRY_VERIFY(!window.editor().picture().reads.empty() && !window.editor().picture().reads[0].items.empty() && window.editor().picture().now < kernel::Time(std::chrono::milliseconds(24)));
        QStringList told;
        for (const tape::Decoded& item : window.editor().picture().reads[0].items)
            told << QString::fromStdString(item.text);
        QCOMPARE(told.mid(0, 5).join("; "), QString("start; 0x27 write, ack; 0x3c, ack; 0x38, ack; stop"));
        for (const tape::Decoded& item : window.editor().picture().reads[0].items)
            QVERIFY2(item.good, item.text.c_str());
        window.editor().session().goTo(window.editor().picture().latest);
        window.tapeView().follow(std::chrono::minutes(1));
        QTRY_VERIFY(window.editor().picture().reads[0].crowded || window.editor().picture().reads[0].items.size() > 1000);
    }

    void thePresentIsDraggedBackAndForwardAgain()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        window.open(example("withy-lock/bench.toml"));
        TapeView& tape = window.tapeView();
        tape.follow(std::chrono::milliseconds(400));
        window.editor().run();
        QTRY_VERIFY(window.editor().picture().now > kernel::Time(std::chrono::milliseconds(900)));
        window.editor().pause();
        window.editor().session().settle();
        QTest::qWait(40);
        const kernel::Time latest = window.editor().picture().now;
        const int right = tape.width() - 26, middle = 150 + (right - 150) / 2;
        QTest::mousePress(&tape, Qt::LeftButton, {}, QPoint(right, 10));
        for (int x = right; x >= middle; x -= 40)
            QTest::mouseMove(&tape, QPoint(x, 10));
        QTest::mouseMove(&tape, QPoint(middle, 10));
        const auto off = [&](kernel::Time wanted) { return std::abs(kernel::seconds(window.editor().picture().now - wanted)); };
        QTRY_VERIFY2(off(latest - std::chrono::milliseconds(200)) < 2e-3, qPrintable(QString::number(kernel::seconds(window.editor().picture().now))));
        QVERIFY(window.editor().picture().debug.inPast);
        QCOMPARE(window.editor().picture().latest, latest);
        QTest::mouseMove(&tape, QPoint(right + 20, 10));
        QTest::mouseRelease(&tape, Qt::LeftButton, {}, QPoint(right + 20, 10));
        QTRY_COMPARE(window.editor().picture().now, latest);
        QVERIFY(!window.editor().picture().debug.inPast);
    }

    void partsTurnDuplicateAndGoByKeysAndWiresGoWithThem()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        Hands hands(window);
        window.open(example("bell-rope/bench.toml"));
        QTest::qWait(20);
        const bench::Document& d = window.editor().document();
        window.editor().select({{"r1", "bell"}, {}});
        window.benchView().setFocus();
        hands.key(Qt::Key_D, Qt::ControlModifier);
        QCOMPARE(d.parts.size(), 6U);
        QCOMPARE(d.wires.size(), 4U);  // the one between the two was copied too
        hands.key(Qt::Key_R);
        QCOMPARE(d.parts[4].turn, 1);
        hands.key(Qt::Key_Delete);
        QCOMPARE(d.parts.size(), 4U);
        QCOMPARE(d.wires.size(), 3U);
        // A part dragged by the mouse takes its wires along.
        const QPoint grip = window.benchView().toWidget(toUnits({d.part("mcu")->at.x + 3, d.part("mcu")->at.y + 9})).toPoint();
        const auto before = d.part("mcu")->at;
        QTest::mousePress(&window.benchView(), Qt::LeftButton, {}, grip);
        QTest::mouseMove(&window.benchView(), grip + QPoint(0, 20));
        QTest::mouseMove(&window.benchView(), grip + QPoint(0, static_cast<int>(2 * kStep * window.benchView().zoom())));
        QTest::mouseRelease(&window.benchView(), Qt::LeftButton, {}, grip + QPoint(0, static_cast<int>(2 * kStep * window.benchView().zoom())));
        QCOMPARE(d.part("mcu")->at.y, before.y + 2);
        for (const auto& path : bench::wirePaths(d, catalogue_))
            for (std::size_t i = 1; i < path.size(); ++i)
                QVERIFY(path[i].x == path[i - 1].x || path[i].y == path[i - 1].y);
        hands.key(Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(d.part("mcu")->at.y, before.y);  // one drag is one step
    }
};

QTEST_MAIN(WindowTest)
#include "window_test.moc"
