// Everything that opens: menus, drop-downs, context menus, lists, cards and dialogs, in both looks. Each can be read against its own ground, cuts no word, and lies on
// the screen. With BRAMIX_PICTURES set to a folder each is kept there as a picture.
#include "application.h"
#include "contrast.h"

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

namespace {

// Of the colour that most of a picture has, and the one in it that is farthest from that.
double contrastIn(const QImage& picture)
{
    std::map<QRgb, int> counts;
    for (int y = 0; y < picture.height(); ++y)
        for (int x = 0; x < picture.width(); ++x)
            ++counts[picture.pixel(x, y)];
    if (counts.empty())
        return 1;
    const QColor ground(std::max_element(counts.begin(), counts.end(), [](const auto& a, const auto& b) { return a.second < b.second; })->first);
    double most = 1;
    for (const auto& [color, n] : counts)
        most = std::max(most, test::contrast(ground, QColor(color)));
    return most;
}

QImage imageOf(QWidget* w)
{
    const QPixmap p = w->grab();
    return p.toImage().convertToFormat(QImage::Format_RGB32);
}

}  // namespace

class PopupsTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;
    QStringList faults_;
    int opened_ = 0;
    QString look_;

    void fault(const QString& where, const QString& what) { faults_ << where + ": " + what; }

    void keep(const QString& name, QWidget* w)
    {
        ++opened_;
        if (const QString folder = qEnvironmentVariable("BRAMIX_PICTURES"); !folder.isEmpty())
            w->grab().save(QString("%1/%2 %3.png").arg(folder, look_, QString(name).replace('/', '-')));
    }

    void onTheScreen(const QString& name, const QWidget* w)
    {
        const QRect screen = w->screen()->availableGeometry();
        if (screen.height() < 700)
            return;  // at twice the size the test's screen is smaller than any that people have
        if (!screen.contains(QRect(w->mapToGlobal(QPoint(0, 0)), w->size())))
            fault(name, QString("lies at %1,%2 with %3x%4 on a screen of %5x%6").arg(w->x()).arg(w->y()).arg(w->width()).arg(w->height()).arg(screen.width()).arg(screen.height()));
    }

    // A menu and all of its own.
    void look(const QString& name, QMenu* menu)
    {
        if (menu->actions().isEmpty())
            return fault(name, "is empty");
        keep(name, menu);
        onTheScreen(name, menu);
        const QImage image = imageOf(menu);
        const double scale = image.devicePixelRatio();
        for (QAction* row : menu->actions()) {
            if (row->isSeparator())
                continue;
            if (row->text().isEmpty())
                fault(name, "has a row without words");
            const QRect box = menu->actionGeometry(row);
            const double c = contrastIn(image.copy(QRectF(box.x() * scale, box.y() * scale, box.width() * scale, box.height() * scale).toRect().adjusted(2, 2, -2, -2)));
            if (c < (row->isEnabled() ? 4.5 : 2.5))
                fault(name, QString("\"%1\" has a contrast of %2").arg(row->text()).arg(c, 0, 'f', 1));
        }
        for (QAction* row : menu->actions())
            if (row->menu() != nullptr && row->isEnabled()) {
                row->menu()->popup(menu->mapToGlobal(QPoint(menu->width() - 8, menu->actionGeometry(row).top())));
                QTest::qWait(10);
                look(name + "-" + row->text(), row->menu());
                row->menu()->hide();
            }
    }

    // What `act` opens, whether it waits for an answer or not.
    void opens(const QString& name, const std::function<void()>& act)
    {
        bool seen = false;
        const auto look = [&] {
            if (seen)
                return;
            if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
                seen = true;
                this->look(name, menu);
                menu->close();
            }
        };
        QTimer soon;
        soon.setSingleShot(true);
        connect(&soon, &QTimer::timeout, this, look);
        soon.start(60);
        act();
        QTest::qWait(90);
        look();
        if (!seen)
            fault(name, "opens nothing");
        if (QWidget* left = QApplication::activePopupWidget())
            left->close();
        QTest::qWait(5);
    }

    void clicks(const char* button)
    {
        auto* b = window_->findChild<QPushButton*>(button);
        QVERIFY2(b != nullptr, button);
        QVERIFY2(b->isVisible(), button);
        opens(button, [b] { b->click(); });
    }

    void asksForMenu(const QString& name, QWidget* w, QPoint at)
    {
        opens(name, [w, at] {
            QContextMenuEvent event(QContextMenuEvent::Mouse, at, w->mapToGlobal(at));
            QApplication::sendEvent(w, &event);
        });
    }

    // Drop-downs that can be seen just now.
    void dropDowns(const QString& where, QWidget* root)
    {
        for (QComboBox* box : root->findChildren<QComboBox*>()) {
            if (!box->isVisible() || !box->isEnabled())
                continue;
            const QString name = where + " " + (box->objectName().isEmpty() ? box->accessibleName() : box->objectName());
            box->showPopup();
            QTest::qWait(20);
            QWidget* list = box->view()->window();
            keep(name, list);
            onTheScreen(name, list);
            const QImage image = imageOf(box->view()->viewport());
            const double scale = image.devicePixelRatio();
            for (int i = 0; i < box->count(); ++i) {
                const QRect r = box->view()->visualRect(box->model()->index(i, 0));
                if (!box->view()->viewport()->rect().contains(r) || box->itemText(i).isEmpty())
                    continue;
                if (const double c = contrastIn(image.copy(QRectF(r.x() * scale, r.y() * scale, r.width() * scale, r.height() * scale).toRect().adjusted(2, 2, -2, -2))); c < 4.5)
                    fault(name, QString("\"%1\" has a contrast of %2").arg(box->itemText(i)).arg(c, 0, 'f', 1));
                if (box->fontMetrics().horizontalAdvance(box->itemText(i)) > r.width())
                    fault(name, QString("\"%1\" is cut").arg(box->itemText(i)));
            }
            box->hidePopup();
            QTest::qWait(5);
        }
    }

    // Words that are longer than the room they have.
    void words(const QString& where, QWidget* root)
    {
        for (QLabel* label : root->findChildren<QLabel*>()) {
            if (!label->isVisible() || label->wordWrap() || label->text().isEmpty() || label->textFormat() == Qt::RichText || label->text().startsWith('<') || !label->pixmap().isNull())
                continue;
            if (label->sizeHint().width() > label->width() + 1)
                fault(where, QString("\"%1\" needs %2 and has %3").arg(label->text()).arg(label->sizeHint().width()).arg(label->width()));
        }
        for (QAbstractButton* b : root->findChildren<QAbstractButton*>())
            if (b->isVisible() && !b->text().isEmpty() && b->fontMetrics().horizontalAdvance(QString(b->text()).remove('&')) > b->width())
                fault(where, QString("the button \"%1\" needs %2 and has %3").arg(b->text()).arg(b->fontMetrics().horizontalAdvance(b->text())).arg(b->width()));
    }

    void pane(const QString& name, const std::function<void()>& show, bool whole = true)
    {
        show();
        QTest::qWait(120);
        words(name, window_.get());
        dropDowns(name, window_.get());
        if (whole)
            keep(name, window_.get());
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
        look_ = dark ? "dark" : "light";
        faults_.clear();
        opened_ = 0;
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
        opens("menu", [&] { window_->openMenu(); });
        const auto ofThing = [&](const QString& name, const BenchView::Target& target) { opens(name, [&] { window_->makeMenuOf(target)->popup(window_->mapToGlobal(QPoint(300, 200))); }); };
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
            opens(QString("of the tape at %1").arg(at.x()), [&] {
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
        opens("of a variable", [&] { emit variables->customContextMenuRequested(variables->visualItemRect(firstVariable()).center()); });
        bench::StopItem stop;
        stop.at = "lock.c:41";
        window_->editor().change("stop", [&](bench::Document& d) { d.stops.push_back(stop); });
        code.showPane(&code.stops());
        auto* stops = window_->findChild<QTreeWidget*>("stops");
        QVERIFY(stops != nullptr);
        QTRY_VERIFY(stops->topLevelItemCount() > 0);
        opens("of a stop", [&] { emit stops->customContextMenuRequested(stops->visualItemRect(stops->topLevelItem(0)).center()); });
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
        keep("settings", dialog);
        words("settings", dialog);
        dropDowns("settings", dialog);
        dialog->reject();

        QVERIFY2(faults_.isEmpty(), qPrintable(QString("%1 things opened, %2 faults:\n").arg(opened_).arg(faults_.size()) + faults_.join('\n')));
        QVERIFY2(opened_ > 60, qPrintable(QString::number(opened_)));
    }
};

QTEST_MAIN(PopupsTest)
#include "popups_test.moc"
