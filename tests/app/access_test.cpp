// The window for those who do not see it or do not use the mouse: every field and button has a name for a screen reader, and Tab goes through all of them
// in the order in which they stand.
#include "application.h"

#include <QAbstractButton>
#include <QAccessible>
#include <QComboBox>
#include <QLineEdit>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QSlider>
#include <QSpinBox>
#include <QTreeWidget>

#include "app/shell/main_window.h"
#include "app/shell/settings_dialog.h"

using namespace bramix;
using namespace bramix::app;

class AccessTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;

    static bool isWorked(const QWidget* w)
    {
        return qobject_cast<const QAbstractButton*>(w) != nullptr || qobject_cast<const QLineEdit*>(w) != nullptr || qobject_cast<const QComboBox*>(w) != nullptr || qobject_cast<const QAbstractSpinBox*>(w) != nullptr
            || qobject_cast<const QAbstractSlider*>(w) != nullptr || qobject_cast<const QAbstractItemView*>(w) != nullptr || qobject_cast<const QPlainTextEdit*>(w) != nullptr || w->focusPolicy() != Qt::NoFocus;
    }

    // What a screen reader says of it, as Qt's own interface gives it.
    static QString nameOf(QWidget* w)
    {
        QAccessibleInterface* interface = QAccessible::queryAccessibleInterface(w);
        return interface == nullptr ? QString() : interface->text(QAccessible::Name).trimmed();
    }

    // Those without a name among what can be seen.
    QStringList nameless(QWidget* root)
    {
        QStringList out;
        for (QWidget* w : root->findChildren<QWidget*>()) {
            const bool inner = w->objectName().startsWith("qt_") || qobject_cast<QScrollBar*>(w) != nullptr || qobject_cast<QAbstractScrollArea*>(w->parentWidget()) != nullptr || qobject_cast<QComboBox*>(w->parentWidget()) != nullptr
                || qobject_cast<QAbstractSpinBox*>(w->parentWidget()) != nullptr || qobject_cast<QHeaderView*>(w) != nullptr || qobject_cast<QSplitterHandle*>(w) != nullptr || qobject_cast<QScrollArea*>(w) != nullptr;
            if (!w->isVisible() || inner || !isWorked(w))
                continue;
            if (nameOf(w).isEmpty())
                out << QString("%1 \"%2\" in %3").arg(w->metaObject()->className(), w->objectName(), w->parentWidget()->objectName());
        }
        return out;
    }

    void named(const char* where, QWidget* root)
    {
        const QStringList missing = nameless(root);
        QVERIFY2(missing.isEmpty(), qPrintable(QString("%1: %2").arg(where, missing.join("; "))));
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }
    void init()
    {
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->open(QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml");
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        QTest::qWait(50);
    }
    void cleanup() { window_.reset(); }

    void everythingHasAName()
    {
        named("bench", window_.get());
        window_->editor().select({{"keeper"}, {}});
        QTest::qWait(30);
        named("a part", window_.get());
        for (const char* part : {"mcu", "paddle", "chamber"}) {
            window_->editor().select({{part}, {}});
            QTest::qWait(30);
            named(part, window_.get());
        }
        window_->editor().select({{"mcu", "keeper"}, {}});
        QTest::qWait(30);
        named("two parts", window_.get());
        window_->showCode(true);
        QTest::qWait(30);
        named("code", window_.get());
        for (int tab = 0; tab < window_->findChild<QTabBar*>("lowerTabs")->count(); ++tab) {
            window_->findChild<QTabBar*>("lowerTabs")->setCurrentIndex(tab);
            QTest::qWait(30);
            named(qPrintable(window_->findChild<QTabBar*>("lowerTabs")->tabText(tab)), window_.get());
        }
        window_->showFindings();
        QTest::qWait(30);
        named("findings", window_.get());
        window_->showTable(true);
        QTest::qWait(30);
        named("table", window_.get());
        window_->openKeys();
        QTest::qWait(30);
        named("keys", window_.get());
        window_->openSettings();
        QTest::qWait(30);
        named("settings", window_->findChild<SettingsDialog*>());
        window_->findChild<SettingsDialog*>()->reject();
        window_->showStart();
        QTest::qWait(30);
        named("start page", window_.get());
    }

    // Tab comes to all that can be worked, and back to where it began.
    void tabGoesRound()
    {
        for (const bool code : {false, true}) {
            window_->editor().select({{"keeper"}, {}});
            window_->showCode(code);
            QTest::qWait(30);
            std::vector<QWidget*> order;
            QWidget* const first = window_->findChild<QWidget*>("bench");
            first->setFocus();
            for (int i = 0; i < 300; ++i) {
                QWidget* now = QApplication::focusWidget();
                QVERIFY(now != nullptr);
                if (std::find(order.begin(), order.end(), now) != order.end())
                    break;
                order.push_back(now);
                QTest::keyClick(now, Qt::Key_Tab);
                if (QApplication::focusWidget() == now)  // it takes the key for itself
                    QTest::keyClick(now, Qt::Key_Tab, Qt::ControlModifier);
            }
            QStringList missed, order_;
            for (const QWidget* w : order)
                order_ << QString(w->metaObject()->className()) + ":" + w->objectName();
            for (QWidget* w : window_->findChildren<QWidget*>())
                if (w->isVisible() && w->isEnabled() && (w->focusPolicy() & Qt::TabFocus) != 0 && w->focusProxy() == nullptr && qobject_cast<QScrollArea*>(w) == nullptr && std::find(order.begin(), order.end(), w) == order.end())
                    missed << QString("%1 \"%2\" in %3").arg(w->metaObject()->className(), w->objectName(), w->parentWidget()->objectName());
            QVERIFY(order.size() > 5);
            QVERIFY2(missed.isEmpty(), qPrintable("Tab never comes to " + missed.join("; ") + "\nits way: " + order_.join(" ")));
        }
    }
};

QTEST_MAIN(AccessTest)
#include "access_test.moc"
