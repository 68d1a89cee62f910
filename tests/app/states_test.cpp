// The states that a finished picture never shows: each kind's settings, empty views, strips that tell of trouble, and the questions that wait for an answer, in
// both looks. Each word can be read and none is cut.
#include "application.h"
#include "legibility.h"

#include <QDialog>
#include <QPushButton>
#include <QSettings>
#include <QTreeWidget>

#include "app/code/code_panel.h"
#include "app/shell/main_window.h"
#include "app/shell/theme.h"

using namespace bramix;
using namespace bramix::app;

class StatesTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    QTemporaryDir folder_;
    std::unique_ptr<test::Legibility> eyes_;
    std::unique_ptr<MainWindow> window_;

    void begin()
    {
        QFETCH(bool, dark);
        QDir(QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation) + "/recovery").removeRecursively();
        eyes_ = std::make_unique<test::Legibility>(dark ? "dark" : "light");
        theme::setLook(dark ? theme::Look::dark : theme::Look::light);
    }

    void openWindow(const QString& file = {})
    {
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        if (!file.isEmpty())
            window_->open(file);
        QTest::qWait(60);
    }

    // A copy of an example that may be changed.
    QString copyOf(const QString& example)
    {
        const QString from = QString::fromStdString(bench::shareFolder()) + "/benches/" + example, to = folder_.filePath(example);
        QDir(to).removeRecursively();
        QDirIterator files(from, QDir::Files, QDirIterator::Subdirectories);
        while (files.hasNext()) {
            const QString file = files.next(), copy = to + file.mid(from.size());
            QDir().mkpath(QFileInfo(copy).path());
            QFile::copy(file, copy);
            QFile::setPermissions(copy, QFile::ReadOwner | QFile::WriteOwner);
        }
        return to + "/bench.toml";
    }

    void look(const QString& name, bool kept = true)
    {
        QTest::qWait(20);
        eyes_->words(name, window_.get());
        eyes_->legible(name, window_.get());
        if (kept)
            eyes_->keep(name, window_.get());
    }

    void command(const char* id)
    {
        const auto& all = window_->commands();
        const auto found = std::find_if(all.begin(), all.end(), [&](const Command& c) { return c.id == id; });
        QVERIFY2(found != all.end(), id);
        found->run();
    }

    void asks(const QString& name, const char* id)
    {
        eyes_->dialog(name, [&] { command(id); });
    }

    void end()
    {
        window_->neverAsk();
        window_.reset();
        QVERIFY2(eyes_->faults().isEmpty(), qPrintable(QString("%1 things seen:\n").arg(eyes_->opened()) + eyes_->faults().join('\n')));
    }

    static void looks()
    {
        QTest::addColumn<bool>("dark");
        QTest::newRow("light") << false;
        QTest::newRow("dark") << true;
    }

private slots:
    void initTestCase()
    {
        test::prepareApplication(catalogue_);
        QVERIFY(folder_.isValid());
    }
    void cleanup()
    {
        if (window_ != nullptr)
            window_->neverAsk();
        window_.reset();
        theme::setLook(theme::Look::light);
    }

    void settingsOfEachKind_data() { looks(); }
    void settingsOfEachKind()
    {
        begin();
        openWindow();
        window_->neverAsk();
        int seen = 0;
        for (const auto& [id, kind] : catalogue_.kinds()) {
            if (!kind.listed)
                continue;
            window_->editor().newBench();
            window_->editor().change("part", [&](bench::Document& d) { bench::addPart(d, kind, {10, 10}); });
            window_->editor().select({{window_->editor().document().parts[0].id}, {}});
            look("kind " + QString::fromStdString(id), false);
            eyes_->dropDowns("kind " + QString::fromStdString(id), window_.get());
            ++seen;
        }
        QVERIFY(seen > 80);
        end();
    }

    // Kept settings may hold anything: by another version, or by hand.
    void settingsOfAnySortAreTaken()
    {
        const QStringList keys{"look/theme", "look/text", "run/fullSpeed", "tape/megabytes", "autosave/seconds", "benches/folder", "ports/gdb", "ports/serial", "recent", "tour/seen", "build/allowed", "sourceFolders"};
        const QList<QVariant> values{"", "nonsense", -1, 1e308, 999999999999LL, QByteArray("\0\xff", 2), QStringList{"/nowhere/at/all", "", "/dev/zero"}, true};
        for (const QVariant& value : values) {
            QSettings settings;
            for (const QString& key : keys)
                settings.setValue(key, value);
            settings.sync();
            openWindow();
            window_->neverAsk();
            window_->showStart();
            window_->openMenu();
            QTest::qWait(30);
            if (QWidget* menu = QApplication::activePopupWidget())
                menu->close();
            window_->openSettings();
            QTest::qWait(30);
            if (auto* dialog = window_->findChild<QDialog*>("settings"))
                dialog->reject();
            command("newEmpty");
            window_->editor().change("board", [&](bench::Document& d) { bench::addPart(d, *catalogue_.find("briar-328"), {4, 4}); });
            window_->editor().toggleRun();
            QTRY_VERIFY(window_->editor().picture().now > kernel::Time(std::chrono::milliseconds(1)));
            window_.reset();
        }
        QSettings().clear();
    }

    void emptyViews_data() { looks(); }
    void emptyViews()
    {
        begin();
        openWindow();
        window_->neverAsk();
        command("newEmpty");
        look("empty bench");
        window_->showSerial();
        look("empty serial");
        window_->showScope();
        look("empty oscilloscope");
        window_->showSweep();
        look("empty sweep");
        window_->showTape();
        window_->showTable(true);
        look("empty table");
        window_->showTable(false);
        window_->showFindings();
        look("no findings");
        window_->showCode(true);
        CodePanel& code = window_->code();
        for (const auto& [name, pane] : std::initializer_list<std::pair<const char*, QWidget*>>{{"variables", &code.variables()}, {"stops", &code.stops()}, {"build", &code.buildPane()}, {"chip", &code.chip()}, {"memory", &code.memory()}, {"timing", &code.timing()}}) {
            code.showPane(pane);
            look(QString("no code, ") + name);
        }
        // A board without firmware.
        window_->editor().change("board", [&](bench::Document& d) { bench::addPart(d, *catalogue_.find("briar-328"), {4, 4}); });
        for (QWidget* pane : {static_cast<QWidget*>(&code.variables()), static_cast<QWidget*>(&code.chip()), static_cast<QWidget*>(&code.memory())}) {
            code.showPane(pane);
            look("a board without firmware, " + pane->objectName());
        }
        auto* nothing = window_->findChild<QLabel*>("codeNothing");
        QVERIFY(nothing != nullptr && nothing->isVisible() && nothing->text().contains("No firmware is loaded"));
        window_->showCode(false);
        window_->openFindAnything();
        window_->pickList().line()->setText("nothing is called so");
        look("nothing found");
        QTest::keyClick(window_->pickList().line(), Qt::Key_Escape);
        window_->openGuide();
        for (QLineEdit* line : window_->guide().findChildren<QLineEdit*>())
            line->setText("nothing is called so");
        look("guide, nothing found");
        end();
    }

    void trouble_data() { looks(); }
    void trouble()
    {
        begin();
        // The firmware is not there.
        QString file = copyOf("bell-rope");
        QDir(QFileInfo(file).path() + "/firmware").removeRecursively();
        openWindow(file);
        look("firmware missing");
        window_->showFindings();
        look("firmware missing, findings");
        window_->neverAsk();
        window_.reset();

        // No bench at all.
        QFile broken(folder_.filePath("broken.toml"));
        QVERIFY(broken.open(QIODevice::WriteOnly));
        broken.write("bramix = 1\n[[part]]\nkind = \"no such thing\"\n");
        broken.close();
        openWindow(broken.fileName());
        look("a bench that cannot be read");
        window_->neverAsk();
        window_.reset();

        // Work that was kept aside, and a build command that nobody has allowed.
        file = copyOf("bell-rope");
        openWindow(file);
        window_->editor().change("title", [](bench::Document& d) { d.title = "Another rope"; });
        QTest::qWait(2200);
        const QDir kept(QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation) + "/recovery");
        QCOMPARE(kept.entryList({"*.toml"}, QDir::Files).size(), 1);
        const QString aside = kept.filePath(kept.entryList({"*.toml"}, QDir::Files).first());
        QFile::copy(aside, folder_.filePath("aside"));
        window_->neverAsk();
        window_.reset();
        QVERIFY(QFile::exists(folder_.filePath("aside")));
        QFile::remove(aside);
        QVERIFY(QFile::copy(folder_.filePath("aside"), aside));
        QFile::remove(folder_.filePath("aside"));
        openWindow(file);
        auto* strip = window_->findChild<QWidget*>("recovery");
        QVERIFY(strip != nullptr);
        QTRY_VERIFY(strip->isVisible());
        look("work kept aside");
        strip->findChildren<QPushButton*>().last()->click();
        window_->showCode(true);
        window_->code().showPane(&window_->code().buildPane());
        command("build");
        auto* consent = window_->findChild<QWidget*>("buildConsent");
        QVERIFY(consent != nullptr);
        QTRY_VERIFY(consent->isVisible());
        look("may this be built");
        window_->findChild<QPushButton*>("buildRefuse")->click();
        look("not built");

        // A bench that cannot be built as it is drawn: two parts that want the same net at two voltages are told, a missing file of contents stands.
        window_->showCode(false);
        window_->editor().change("card", [&](bench::Document& d) {
            bench::addPart(d, *catalogue_.find("sd-card"), {30, 30});
            d.parts.back().set["image"] = "../../etc/passwd";
        });
        QTRY_VERIFY(!window_->editor().picture().notBuilt.empty());
        look("cannot be built");
        end();
    }

    void questions_data() { looks(); }
    void questions()
    {
        begin();
        const QString file = copyOf("bell-rope");
        openWindow(file);
        asks("open", "open");
        asks("save as", "saveAs");
        asks("export", "export");
        asks("save recording", "saveRecording");
        asks("about", "about");
        window_->editor().select({{"mcu"}, {}});
        asks("firmware", "firmware");
        window_->editor().change("title", [](bench::Document& d) { d.title = "Another rope"; });
        QFile changed(file);
        QVERIFY(changed.open(QIODevice::Append));
        changed.write("\n# by another program\n[[wire]]\nfrom = \"mcu.D7\"\nto = \"mcu.D8\"\n");
        changed.close();
        asks("changed on disk", "save");
        asks("not saved", "open");
        eyes_->dialog("closing", [&] { window_->close(); });
        QVERIFY(window_->isVisible());
        // A stop's condition.
        window_->showCode(true);
        CodePanel& code = window_->code();
        code.showPane(&code.stops());
        bench::StopItem stop;
        stop.at = "main";
        window_->editor().change("stop", [&](bench::Document& d) { d.stops.push_back(stop); });
        auto* stops = window_->findChild<QTreeWidget*>("stops");
        QVERIFY(stops != nullptr);
        QTRY_VERIFY(stops->topLevelItemCount() > 0);
        for (int row = 0; row < 3; ++row)
            eyes_->dialog(QString("of a stop %1").arg(row), [&] {
                QTimer::singleShot(40, window_.get(), [row] {
                    if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
                        menu->setActiveAction(menu->actions().at(row));
                        QTest::keyClick(menu, Qt::Key_Return);
                    }
                });
                emit stops->customContextMenuRequested(stops->visualItemRect(stops->topLevelItem(0)).center());
            });
        end();
    }
};

QTEST_MAIN(StatesTest)
#include "states_test.moc"
