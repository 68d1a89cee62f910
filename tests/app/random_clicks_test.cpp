// A hand that does anything to the window: clicks, drags, wheel, keys, words, menus, wherever they fall, while an example runs. Nothing breaks, what is on the sheet can be
// written and read, and all of it can be undone. Each row is a seed: one that fails shows it again.
#include <QtTest>

#include <filesystem>

#include <QDialog>
#include <QMenu>
#include <QPointer>

#include "app/shell/main_window.h"
#include "kernel/random.h"

using namespace bramix;
using namespace bramix::app;

class RandomClicksTest : public QObject {
    Q_OBJECT

private:
    std::unique_ptr<bench::Catalogue> catalogue_;
    QTemporaryDir home_;

    // What opens a loop of its own waits for an answer: a menu takes one of its entries or is closed, a dialog is closed.
    static void answer(kernel::Random& random)
    {
        if (QWidget* popup = QApplication::activePopupWidget(); popup != nullptr) {
            if (random.below(2) == 0)
                for (std::uint64_t n = random.below(8); n > 0; --n)
                    QTest::keyClick(popup, Qt::Key_Down);
            QTest::keyClick(popup, random.below(3) == 0 ? Qt::Key_Escape : Qt::Key_Return);
            if (QApplication::activePopupWidget() == popup)
                popup->close();
        }
        if (QWidget* modal = QApplication::activeModalWidget(); modal != nullptr) {
            if (auto* dialog = qobject_cast<QDialog*>(modal); dialog != nullptr)
                dialog->done(QDialog::Rejected);
            else
                modal->close();
        }
    }

    // Again and again, also while an answer has opened the next question.
    void keepAnswering(kernel::Random& random)
    {
        if (answering_)
            QTimer::singleShot(15, this, [this, &random] {
                keepAnswering(random);
                if (answering_)
                    answer(random);
            });
    }
    bool answering_ = false;

private slots:
    void initTestCase()
    {
        // Nothing of the one who runs the test is touched.
        QStandardPaths::setTestModeEnabled(true);
        qputenv("HOME", home_.path().toUtf8());
        catalogue_ = std::make_unique<bench::Catalogue>(*bench::Catalogue::loadInstalled());
    }

    void anything_data()
    {
        QTest::addColumn<QString>("example");
        const char* const examples[] = {"withy-lock", "tide-clock", "hand-bells", "frost-alarm", "moth-trap", "ferry-landings"};
        const int more = qEnvironmentVariableIsSet("BRAMIX_MORE_SEEDS") ? qEnvironmentVariableIntValue("BRAMIX_MORE_SEEDS") : 1;
        for (int seed = 1; seed <= 6 * more; ++seed)
            QTest::newRow(qPrintable(QString::number(seed))) << QString(examples[seed % 6]);
    }

    void anything()
    {
        QFETCH(QString, example);
        kernel::Random random(QByteArray(QTest::currentDataTag()).toULongLong(), "clicks");
        const auto below = [&](int n) { return static_cast<int>(random.below(static_cast<std::uint64_t>(n))); };
        QTemporaryDir folder;
        std::filesystem::copy(bench::shareFolder() + "/benches/" + example.toStdString(), folder.path().toStdString() + "/bench", std::filesystem::copy_options::recursive);
        MainWindow window(*catalogue_);
        window.neverAsk();
        window.resize(1100, 720);
        window.show();
        QVERIFY(QTest::qWaitForWindowActive(&window));
        window.open(folder.filePath("bench/bench.toml"));
        const auto things = [&] {
            QStringList out;
            for (const bench::PartItem& p : window.editor().document().parts)
                out << QString::fromStdString(p.id + " " + p.kind) + QString(" %1 %2 %3").arg(p.at.x).arg(p.at.y).arg(p.turn);
            for (const bench::WireItem& w : window.editor().document().wires)
                out << QString::fromStdString(w.from.text() + " " + w.to.text());
            return out;
        };
        const QStringList before = things();
        const QString file = window.editor().file();
        const auto saved = [&] {
            QFile f(file);
            return f.open(QIODevice::ReadOnly) ? f.readAll() : QByteArray();
        };
        const QByteArray onDisk = saved();
        answering_ = true;
        keepAnswering(random);
        window.editor().run();
        const Qt::Key keys[] = {Qt::Key_Escape, Qt::Key_Return, Qt::Key_Delete, Qt::Key_Space, Qt::Key_Tab, Qt::Key_Left, Qt::Key_Right, Qt::Key_Up, Qt::Key_Down, Qt::Key_Home, Qt::Key_End, Qt::Key_PageUp, Qt::Key_PageDown,
                                Qt::Key_Slash, Qt::Key_R, Qt::Key_T, Qt::Key_M, Qt::Key_P, Qt::Key_W, Qt::Key_K, Qt::Key_S, Qt::Key_N, Qt::Key_1, Qt::Key_Plus, Qt::Key_Minus, Qt::Key_F2, Qt::Key_F5, Qt::Key_F10, Qt::Key_Backspace};
        const Qt::Key withControl[] = {Qt::Key_Z, Qt::Key_Y, Qt::Key_D, Qt::Key_C, Qt::Key_V, Qt::Key_X, Qt::Key_A, Qt::Key_K, Qt::Key_F, Qt::Key_T, Qt::Key_1, Qt::Key_2, Qt::Key_3, Qt::Key_0, Qt::Key_B, Qt::Key_S, Qt::Key_R};
        const QString words[] = {"led", "0x68", "< 5us", "rise", "1k", "-1", "mcu.PB3", "nonsense", "4k7", "functions mcu", "change ticks", "i2c:SDA=mcu.PC4,SCL=mcu.PC5", "\"", "99999999999"};
        // Somewhere, and whatever is there.
        const auto somewhere = [&](QPoint& at) -> QWidget* {
            const QPoint p(below(window.width()), below(window.height()));
            QWidget* const w = window.childAt(p);
            at = w == nullptr ? p : w->mapFrom(&window, p);
            return w == nullptr ? &window : w;
        };
        for (int step = 0; step < 260; ++step) {
            QPoint at;
            const QPointer<QWidget> there = somewhere(at);
            const Qt::KeyboardModifiers held = below(6) == 0 ? Qt::ShiftModifier : below(8) == 0 ? Qt::ControlModifier : Qt::NoModifier;
            switch (below(12)) {
            case 0: case 1: case 2: QTest::mouseClick(there, Qt::LeftButton, held, at); break;
            case 3: QTest::mouseDClick(there, Qt::LeftButton, held, at); break;
            case 4: QTest::mouseClick(there, Qt::RightButton, held, at); break;
            case 5: case 6: {
                const Qt::MouseButton button = below(4) == 0 ? Qt::MiddleButton : Qt::LeftButton;
                QTest::mousePress(there, button, held, at);
                for (int i = 0; i < 4 && there != nullptr; ++i) {
                    at += QPoint(below(160) - 80, below(120) - 60);
                    QMouseEvent move(QEvent::MouseMove, at, there->mapToGlobal(at), Qt::NoButton, button, held);
                    QApplication::sendEvent(there, &move);
                    if (i == 2 && below(8) == 0)
                        QTest::keyClick(there, Qt::Key_Escape);
                }
                if (there != nullptr)
                    QTest::mouseRelease(there, button, held, at);
                break;
            }
            case 7: {
                QWheelEvent wheel(at, there->mapToGlobal(QPointF(at)), {}, {0, below(2) == 0 ? 120 : -360}, Qt::NoButton, held, Qt::NoScrollPhase, false);
                QApplication::sendEvent(there, &wheel);
                break;
            }
            case 8: case 9:
                if (QWidget* focus = QApplication::focusWidget(); focus != nullptr) {
                    if (below(3) == 0)
                        QTest::keyClick(focus, withControl[static_cast<std::size_t>(below(static_cast<int>(std::size(withControl))))], Qt::ControlModifier);
                    else
                        QTest::keyClick(focus, keys[static_cast<std::size_t>(below(static_cast<int>(std::size(keys))))], held);
                }
                break;
            case 10:
                if (QWidget* focus = QApplication::focusWidget(); focus != nullptr) {
                    QTest::keyClicks(focus, words[static_cast<std::size_t>(below(static_cast<int>(std::size(words))))]);
                    if (QWidget* still = QApplication::focusWidget(); still != nullptr)
                        QTest::keyClick(still, Qt::Key_Return);
                }
                break;
            default: QTest::qWait(below(30)); break;
            }
            QApplication::processEvents();
            QVERIFY(window.isVisible());
        }
        while (QApplication::activePopupWidget() != nullptr || QApplication::activeModalWidget() != nullptr)
            QTest::qWait(20);
        answering_ = false;
        window.editor().session().settle();
        // What stands there now can be kept, and everything that has been done to it taken back.
        const std::string now = bench::writeDocument(window.editor().document());
        const auto read = bench::parseDocument("now", now);
        QVERIFY2(read.has_value(), read ? "" : read.error().text().c_str());
        QCOMPARE(bench::writeDocument(*read), now);
        for (int i = 0; i < 2000 && window.editor().history().canUndo(); ++i)
            window.editor().undo();
        // Unless it was saved and opened again, which is where undoing ends.
        if (window.editor().file() == file && saved() == onDisk)
            QCOMPARE(things(), before);
        window.editor().session().settle();
    }
};

QTEST_MAIN(RandomClicksTest)
#include "random_clicks_test.moc"
