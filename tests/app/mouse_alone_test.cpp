// From an empty bench to running firmware, a measured pin and a step into the past, by the mouse alone, at two sizes of window. Every click goes to what a person sees
// at that place.
#include "application.h"

#include <QContextMenuEvent>
#include <QDialogButtonBox>
#include <QFileDialog>
#include <QListView>
#include <QListWidget>
#include <QMenu>
#include <QPushButton>
#include <QSettings>
#include <QToolButton>

#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class MouseAloneTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;
    int clicks_ = 0;

    Editor& editor() { return window_->editor(); }
    BenchView& view() { return window_->benchView(); }

    // A click on whatever lies uppermost there.
    void clickAt(QWidget* inside, QPoint at)
    {
        ++clicks_;
        QWidget* top = inside->window()->childAt(inside->mapTo(inside->window(), at));
        QVERIFY2(top != nullptr && (top == inside || inside->isAncestorOf(top)), qPrintable(inside->objectName() + inside->accessibleName() + " is covered"));
        QTest::mouseClick(inside, Qt::LeftButton, {}, at);
    }
    void click(QWidget* what)
    {
        QVERIFY(what != nullptr);
        QVERIFY2(what->isVisible(), qPrintable(what->objectName()));
        clickAt(what, what->rect().center());
    }
    template <class Widget>
    Widget* named(const QString& name)
    {
        for (Widget* w : window_->findChildren<Widget*>())
            if (w->objectName() == name || w->toolTip() == name || w->text() == name)
                return w;
        return nullptr;
    }
    // Down the rows of the menu that is open.
    void choose(const QStringList& rows)
    {
        for (const QString& wanted : rows) {
            auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
            QVERIFY2(menu != nullptr, qPrintable(wanted));
            QAction* found = nullptr;
            for (QAction* row : menu->actions())
                if (row->isEnabled() && row->text().section('\t', 0, 0) == wanted)
                    found = row;
            QVERIFY2(found != nullptr, qPrintable(wanted));
            ++clicks_;
            QTest::mouseMove(menu, menu->actionGeometry(found).center());
            QTest::mouseClick(menu, Qt::LeftButton, {}, menu->actionGeometry(found).center());
            QTest::qWait(20);
        }
    }
    void chooseFromMark(const QStringList& rows)
    {
        click(named<QToolButton>("menuMark"));
        choose(rows);
    }
    void rightClick(QWidget* w, QPoint at)
    {
        ++clicks_;
        QTest::mouseMove(w, at);
        QTest::mouseClick(w, Qt::RightButton, {}, at);
        if (QApplication::activePopupWidget() == nullptr) {
            QContextMenuEvent event(QContextMenuEvent::Mouse, at, w->mapToGlobal(at));
            QApplication::sendEvent(w, &event);
        }
        QTest::qWait(20);
    }
    // The file dialog that a click opens: `act` clicks in it.
    void inDialog(const std::function<void()>& open, const std::function<void(QFileDialog&)>& act)
    {
        bool seen = false;
        QTimer soon;
        soon.setInterval(50);
        connect(&soon, &QTimer::timeout, this, [&] {
            auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget());
            if (dialog == nullptr || seen)
                return;
            seen = true;
            act(*dialog);
        });
        soon.start();
        open();
        QVERIFY(seen);
    }
    void add(const QString& id)
    {
        auto* list = window_->findChild<QListWidget*>("drawerParts");
        QVERIFY(list != nullptr);
        if (!list->isVisible())
            click(named<QToolButton>("Parts"));
        const std::size_t before = editor().document().parts.size();
        for (int i = 0; i < list->count(); ++i)
            if (list->item(i)->data(Qt::UserRole).toString() == id) {
                list->scrollToItem(list->item(i));  // by the wheel
                clickAt(list->viewport(), list->visualItemRect(list->item(i)).center());
            }
        QTRY_COMPARE(editor().document().parts.size(), before + 1);
    }
    void drag(QPointF from, QPointF to)
    {
        ++clicks_;
        QTest::mouseMove(&view(), from.toPoint());
        QTest::mousePress(&view(), Qt::LeftButton, {}, from.toPoint());
        QTest::mouseMove(&view(), ((from + to) / 2).toPoint());
        QTest::mouseMove(&view(), to.toPoint());
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, to.toPoint());
    }
    void wire(const bench::PinRef& from, const bench::PinRef& to)
    {
        const std::size_t before = editor().document().wires.size();
        const auto a = view().pinInWidget(from), b = view().pinInWidget(to);
        QVERIFY2(a && b, qPrintable(QString::fromStdString(from.text() + " to " + to.text())));
        QVERIFY2(view().rect().contains(a->toPoint()) && view().rect().contains(b->toPoint()), qPrintable(QString::fromStdString(from.text() + " to " + to.text() + ": not in view")));
        drag(*a, *b);
        QVERIFY2(editor().document().wires.size() == before + 1, qPrintable(QString::fromStdString(from.text() + " to " + to.text())));
    }
    std::string ofKind(const char* kind)
    {
        for (const bench::PartItem& part : editor().document().parts)
            if (part.kind == kind)
                return part.id;
        return {};
    }
    double amps(const std::string& lamp)
    {
        for (const session::LightPicture& light : editor().picture().lights)
            if (light.part == lamp)
                return light.amps;
        return -1;
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }
    void cleanup() { window_.reset(); }

    void fromAnEmptyBenchToTheCauseOfAnEdge_data()
    {
        QTest::addColumn<QSize>("size");
        QTest::newRow("1280x800") << QSize(1280, 800);
        QTest::newRow("1920x1080") << QSize(1920, 1080);
    }
    void fromAnEmptyBenchToTheCauseOfAnEdge()
    {
        QFETCH(QSize, size);
        clicks_ = 0;
        QTemporaryDir folder;
        const QString shipped = QString::fromStdString(bench::shareFolder()) + "/benches/bell-rope/firmware/";
        for (const char* name : {"bell-rope.elf", "bell.c"})
            QVERIFY(QFile::copy(shipped + name, folder.filePath(name)));
        QSettings().setValue("benches/folder", folder.path());
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->resize(size);
        window_->showStart();
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));

        click(named<QPushButton>("An empty bench"));
        QTRY_VERIFY(!window_->startPage().isVisible());
        for (const char* kind : {"briar-328", "led", "resistor", "push-button"})
            add(kind);
        click(named<QToolButton>("Parts"));  // the drawer away
        chooseFromMark({"View", "Fit everything"});
        QTest::qWait(30);
        const std::string board = ofKind("briar-328"), lamp = ofKind("led"), resistor = ofKind("resistor"), rope = ofKind("push-button");
        wire({board, "PB0"}, {resistor, "1"});
        wire({resistor, "2"}, {lamp, "A"});
        wire({lamp, "K"}, {board, "GND"});
        wire({board, "PD4"}, {rope, "2"});
        wire({rope, "1"}, {board, "GND2"});

        // The bench is saved where one likes, and firmware is chosen out of the folder.
        inDialog([&] { chooseFromMark({"Save"}); },
                 [&](QFileDialog& dialog) { QTest::mouseClick(dialog.findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Save), Qt::LeftButton); });
        QVERIFY(editor().isSaved() && QFile::exists(editor().file()));
        const auto boardAt = view().pinInWidget({board, "PB0"});
        QVERIFY(boardAt.has_value());
        const QPoint middle = (view().pinInWidget({board, "GND"}).value() + view().pinInWidget({board, "PD4"}).value()).toPoint() / 2;
        rightClick(&view(), middle);
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        QVERIFY(menu != nullptr);
        inDialog([&] { choose({"Load firmware…"}); },
                 [&](QFileDialog& dialog) {
                     auto* list = dialog.findChild<QListView*>("listView");
                     QVERIFY(list != nullptr);
                     QTRY_VERIFY(list->model()->rowCount(list->rootIndex()) > 0);
                     const QModelIndex root = list->rootIndex();
                     for (int i = 0; i < list->model()->rowCount(root); ++i)
                         if (const QModelIndex row = list->model()->index(i, 0, root); row.data().toString() == "bell-rope.elf") {
                             QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualRect(row).center());
                             QTest::mouseDClick(list->viewport(), Qt::LeftButton, {}, list->visualRect(row).center());
                         }
                     if (dialog.isVisible())
                         QTest::mouseClick(dialog.findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Open), Qt::LeftButton);
                 });
        QTRY_VERIFY(!editor().picture().chips.empty() && QString::fromStdString(editor().picture().chips[0].firmwareFile).endsWith("bell-rope.elf"));

        // It runs; the rope is pulled, the bell lights.
        click(named<QToolButton>("run"));
        QTRY_VERIFY(editor().picture().now > kernel::Time(std::chrono::milliseconds(60)));
        const QPointF key = (*view().pinInWidget({rope, "1"}) + *view().pinInWidget({rope, "2"})) / 2;
        ++clicks_;
        QTest::mouseMove(&view(), key.toPoint());
        QTest::mousePress(&view(), Qt::LeftButton, {}, key.toPoint());
        QTRY_VERIFY_WITH_TIMEOUT(amps(lamp) > 1e-3, 5000);
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, key.toPoint());

        // Its pin on the oscilloscope and the tape, by the pin's own menu.
        const std::size_t lanes = editor().document().lanes.size();
        rightClick(&view(), view().pinInWidget({rope, "2"})->toPoint());
        choose({"Toggle on the oscilloscope"});
        rightClick(&view(), view().pinInWidget({board, "PB0"})->toPoint());
        choose({"Toggle on the tape"});
        QTRY_VERIFY(editor().document().lanes.size() != lanes);

        // Paused, and back to the edge that lit the bell, with its line of code.
        click(named<QToolButton>("run"));
        QTRY_VERIFY(!editor().picture().running);
        const kernel::Time here = editor().picture().now;
        rightClick(&view(), view().pinInWidget({board, "PB0"})->toPoint());
        choose({"Back to its last edge"});
        QTRY_VERIFY(editor().picture().now < here);
        chooseFromMark({"Code", "Code"});
        QTRY_VERIFY(window_->code().view() != nullptr && window_->code().isVisible());
        QTRY_VERIFY(window_->code().view()->text().contains("Bell"));
        qInfo("%d clicks", clicks_);
        QVERIFY2(clicks_ <= 34, qPrintable(QString::number(clicks_)));
    }
};

QTEST_MAIN(MouseAloneTest)
#include "mouse_alone_test.moc"
