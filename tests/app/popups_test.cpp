// Everything that opens: menus, drop-downs, context menus, lists, cards and dialogs, in both looks. Each can be read against its own ground, cuts no word, and lies on
// the screen. With BRAMIX_PICTURES set to a folder each is kept there as a picture.
#include "application.h"
#include "legibility.h"

#include <QAbstractItemView>
#include <QComboBox>
#include <QContextMenuEvent>
#include <QHeaderView>
#include <QLabel>
#include <QListWidget>
#include <QMenu>
#include <QPushButton>
#include <QTabBar>
#include <QTreeWidget>

#include "app/code/code_view.h"
#include "app/shell/main_window.h"
#include "app/shell/settings_dialog.h"
#include "app/shell/theme.h"

using namespace bramix;
using namespace bramix::app;

class PopupsTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;
    std::unique_ptr<test::Legibility> eyes_;

    void clicks(const char* button)
    {
        auto* b = window_->findChild<QPushButton*>(button);
        QVERIFY2(b != nullptr, button);
        QVERIFY2(b->isVisible(), button);
        eyes_->opens(button, [b] { b->click(); });
    }

    void asksForMenu(const QString& name, QWidget* w, QPoint at)
    {
        eyes_->opens(name, [w, at] {
            QContextMenuEvent event(QContextMenuEvent::Mouse, at, w->mapToGlobal(at));
            QApplication::sendEvent(w, &event);
        });
    }

    void pane(const QString& name, const std::function<void()>& show, bool whole = true)
    {
        show();
        QTest::qWait(120);
        eyes_->words(name, window_.get());
        eyes_->legible(name, window_.get());
        eyes_->dropDowns(name, window_.get());
        if (whole)
            eyes_->keep(name, window_.get());
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }
    void cleanup()
    {
        window_.reset();
        theme::setLook(theme::Look::light);
    }

    void whatOpensCanBeRead_data()
    {
        QTest::addColumn<bool>("dark");
        QTest::newRow("light") << false;
        QTest::newRow("dark") << true;
    }
    void whatOpensCanBeRead()
    {
        QFETCH(bool, dark);
        eyes_ = std::make_unique<test::Legibility>(dark ? "dark" : "light");
        theme::setLook(dark ? theme::Look::dark : theme::Look::light);
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->resize(1280, 800);
        window_->showStart();
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        pane("start page", [] {});
        window_->open(QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml");
        window_->editor().session().runFor(std::chrono::milliseconds(400));
        window_->editor().session().settle();
        QTRY_VERIFY(window_->editor().picture().now >= kernel::Time(std::chrono::milliseconds(400)));

        // The menu, and those of things.
        eyes_->opens("menu", [&] { window_->openMenu(); });
        const auto ofThing = [&](const QString& name, const BenchView::Target& target) { eyes_->opens(name, [&] { window_->makeMenuOf(target)->popup(window_->mapToGlobal(QPoint(300, 200))); }); };
        ofThing("of the paper", {});
        for (const bench::PartItem& part : window_->editor().document().parts)
            ofThing("of " + QString::fromStdString(part.id), {{}, {}, part.id});
        ofThing("of a pin", {bench::PinRef{"mcu", "PB0"}, {}, "mcu"});
        ofThing("of a wire", {{}, 0, {}});
        window_->benchView().selectAll();
        ofThing("of several", {{}, {}, "mcu"});

        // Each part's settings and controls.
        for (const bench::PartItem& part : window_->editor().document().parts)
            pane("part " + QString::fromStdString(part.id), [&] { window_->editor().select({{part.id}, {}}); }, part.id == "mcu");
        pane("a wire", [&] { window_->editor().select({{}, {0}}); });
        pane("two parts", [&] { window_->editor().select({{"mcu", "keeper"}, {}}); });
        window_->editor().select({});

        // Instruments.
        pane("serial", [&] { window_->showSerial(); });
        clicks("serialMore");
        auto* serial = window_->findChild<QAbstractScrollArea*>("serialText");
        QVERIFY(serial != nullptr);
        asksForMenu("of serial text", serial->viewport(), QPoint(30, 10));
        pane("oscilloscope", [&] {
            window_->scope().toggle({"mcu", "PB0"});
            window_->showScope();
        });
        clicks("scopeProbe");
        clicks("scopeTrigger");
        pane("sweep", [&] { window_->showSweep(); });
        clicks("sweepAxis");
        clicks("sweepAlso");
        clicks("sweepTrace");
        pane("findings", [&] { window_->showFindings(); });
        pane("table", [&] { window_->showTable(true); });
        window_->showTable(false);
        for (const QPoint at : {QPoint(40, 60), QPoint(500, 60)})
            eyes_->opens(QString("of the tape at %1").arg(at.x()), [&] {
                QTest::mouseClick(&window_->tapeView(), Qt::RightButton, {}, at);
                QTest::qWait(20);
                QContextMenuEvent event(QContextMenuEvent::Mouse, at, window_->tapeView().mapToGlobal(at));
                if (QApplication::activePopupWidget() == nullptr)
                    QApplication::sendEvent(&window_->tapeView(), &event);
            });

        // Code and its panes.
        window_->showCode(true);
        auto* tabs = window_->findChild<QTabBar*>("lowerTabs");
        QVERIFY(tabs != nullptr);
        for (int tab = 0; tab < tabs->count(); ++tab)
            pane("code, " + tabs->tabText(tab), [&] { tabs->setCurrentIndex(tab); });
        CodePanel& code = window_->code();
        for (const auto& [name, shown] : std::initializer_list<std::pair<const char*, QWidget*>>{{"variables", &code.variables()}, {"stops", &code.stops()}, {"build", &code.buildPane()}, {"chip", &code.chip()}, {"memory", &code.memory()}, {"timing", &code.timing()}})
            pane(QString("code with ") + name, [&, shown = shown] { code.showPane(shown); });
        code.showPane(&code.buildPane());
        clicks("buildHow");
        code.showPane(&code.variables());
        auto* variables = window_->findChild<QTreeWidget*>("variables");
        QVERIFY(variables != nullptr);
        const auto firstVariable = [&]() -> QTreeWidgetItem* {
            for (int i = 0; i < variables->topLevelItemCount(); ++i)
                if (QTreeWidgetItem* group = variables->topLevelItem(i); !group->isHidden() && group->childCount() > 0)
                    return group->child(0);
            return nullptr;
        };
        QTRY_VERIFY(firstVariable() != nullptr);
        variables->expandAll();
        eyes_->opens("of a variable", [&] { emit variables->customContextMenuRequested(variables->visualItemRect(firstVariable()).center()); });
        bench::StopItem stop;
        stop.at = "lock.c:41";
        window_->editor().change("stop", [&](bench::Document& d) { d.stops.push_back(stop); });
        code.showPane(&code.stops());
        auto* stops = window_->findChild<QTreeWidget*>("stops");
        QVERIFY(stops != nullptr);
        QTRY_VERIFY(stops->topLevelItemCount() > 0);
        eyes_->opens("of a stop", [&] { emit stops->customContextMenuRequested(stops->visualItemRect(stops->topLevelItem(0)).center()); });
        for (CodeView* text : code.findChildren<CodeView*>())
            if (text->isVisible())
                asksForMenu("of a line", text->viewport(), QPoint(80, 60));
        window_->showCode(false);
        window_->editor().undo();  // the stop: a shipped example is left as it is

        // Cards and dialogs.
        pane("keys", [&] { window_->openKeys(); });
        delete window_->findChild<QWidget*>("keysCard");
        pane("guide", [&] { window_->openGuide(); });
        window_->guide().hide();
        pane("find", [&] {
            window_->openFindAnything();
            window_->pickList().line()->setText("led");
        });
        QTest::keyClick(window_->pickList().line(), Qt::Key_Escape);
        pane("add a part", [&] { window_->openAddPart("sensor"); });
        QTest::keyClick(window_->pickList().line(), Qt::Key_Escape);
        window_->openSettings();
        auto* dialog = window_->findChild<SettingsDialog*>();
        QVERIFY(dialog != nullptr);
        QTest::qWait(60);
        eyes_->keep("settings", dialog);
        eyes_->words("settings", dialog);
        eyes_->dropDowns("settings", dialog);
        dialog->reject();

        QVERIFY2(eyes_->faults().isEmpty(), qPrintable(QString("%1 things opened, %2 faults:\n").arg(eyes_->opened()).arg(eyes_->faults().size()) + eyes_->faults().join('\n')));
        QVERIFY2(eyes_->opened() > 60, qPrintable(QString::number(eyes_->opened())));
    }
};

QTEST_MAIN(PopupsTest)
#include "popups_test.moc"
