// The first bench of the user guide, step by step as it is written there, by mouse and keys.
#include "application.h"

#include <QFile>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class FirstBenchTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;
    std::unique_ptr<MainWindow> window_;

    Editor& editor() { return window_->editor(); }
    BenchView& view() { return window_->benchView(); }
    void addByName(const QString& typed)
    {
        view().setFocus();
        QTest::keyClick(&view(), Qt::Key_Slash);
        QVERIFY(window_->pickList().isVisible());
        QTest::keyClicks(window_->pickList().line(), typed);
        QTest::keyClick(window_->pickList().line(), Qt::Key_Return);
    }
    void drag(const bench::PinRef& from, const bench::PinRef& to)
    {
        const std::size_t before = editor().document().wires.size();
        editor().select({});
        const QPoint a = view().pinInWidget(from)->toPoint(), b = view().pinInWidget(to)->toPoint();
        QTest::mousePress(&view(), Qt::LeftButton, {}, a);
        QTest::mouseMove(&view(), (a + b) / 2);
        QTest::mouseMove(&view(), b);
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, b);
        QCOMPARE(editor().document().wires.size(), before + 1);
    }
    std::string ofKind(const char* kind)
    {
        for (const bench::PartItem& part : editor().document().parts)
            if (part.kind == kind)
                return part.id;
        return {};
    }
    double lampAmps()
    {
        for (const session::LightPicture& light : editor().picture().lights)
            if (light.part == ofKind("led"))
                return light.amps;
        return -1;
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void theTenSteps()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->resize(1280, 800);
        window_->showStart();
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        // 1. A name, a click.
        StartPage& page = window_->startPage();
        page.findChild<QLineEdit*>("startName")->setText("Harbour lamp");
        page.findChild<QLineEdit*>("startFolder")->setText(folder_.path());
        QTest::mouseClick(page.findChild<QPushButton*>("startMake"), Qt::LeftButton);
        QTRY_VERIFY_WITH_TIMEOUT(!page.isVisible(), 60'000);
        editor().pause();
        // 2. to 4. Parts and wires.
        addByName("led");
        addByName("330");
        addByName("button");
        const std::string board = ofKind("briar-328"), led = ofKind("led"), resistor = ofKind("resistor"), button = ofKind("push-button");
        QVERIFY(!board.empty() && !led.empty() && !resistor.empty() && !button.empty());
        QCOMPARE(editor().document().part(resistor)->set.at("resistance"), "330");
        view().fitAll();
        drag({board, "PB0"}, {resistor, "1"});
        drag({resistor, "2"}, {led, "A"});
        drag({led, "K"}, {board, "GND"});
        drag({board, "PD2"}, {button, "1"});
        drag({button, "2"}, {board, "GND2"});
        // 5. and 6. The source, edited where it is read.
        editor().select({{board}, {}});
        QTest::keyClick(&view(), Qt::Key_2, Qt::ControlModifier);
        QTRY_VERIFY_WITH_TIMEOUT(window_->code().view() != nullptr && window_->code().view()->text().contains("int main"), 20'000);
        CodeView& code = *window_->code().view();
        code.setFocus();
        QTest::keyClick(&code, Qt::Key_Return);
        QVERIFY(code.isEditing());
        QString text = code.text();
        const qsizetype loop = text.indexOf("    for (unsigned beats");
        QVERIFY(loop > 0);
        text = text.left(loop) + "    DDRB |= 1; PORTD |= 4;\n    for (;;) if (PIND & 4) PORTB &= ~1; else PORTB |= 1;\n}\n";
        code.setText(text);
        code.setModified(true);
        // 7. Built and loaded.
        QSignalSpy built(&window_->code().buildPane(), &BuildPane::built);
        QTest::keyClick(window_.get(), Qt::Key_B, Qt::ControlModifier);
        QTRY_COMPARE_WITH_TIMEOUT(built.size(), 1, 60'000);
        QVERIFY(built[0][0].toBool());
        // 8. It runs; the button lights the lamp.
        if (!editor().picture().running)
            editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(editor().picture().now > kernel::Time(std::chrono::milliseconds(50)), 20'000);
        QVERIFY(lampAmps() < 1e-4);
        window_->showCode(false);
        const bench::PartKind& kind = *catalogue_.find("push-button");
        view().fitAll();
        const QPoint cap = view().toWidget(toUnits(editor().document().part(button)->at) + QPointF(kind.size.x, kind.size.y) * kStep / 2).toPoint();
        QTest::mousePress(&view(), Qt::LeftButton, {}, cap);
        QTRY_VERIFY_WITH_TIMEOUT(lampAmps() > 5e-3, 10'000);
        QTest::mouseRelease(&view(), Qt::LeftButton, {}, cap);
        QTRY_VERIFY_WITH_TIMEOUT(lampAmps() < 1e-3, 10'000);
        // 9. The lamp's own current, and the past by dragging the tape.
        editor().pause();
        editor().session().settle();
        const kernel::Time present = editor().picture().now;
        const bench::PartKind& lampKind = *catalogue_.find("led");
        const QPoint lamp = view().toWidget(toUnits(editor().document().part(led)->at) + QPointF(lampKind.size.x, lampKind.size.y) * kStep / 2).toPoint();
        QTest::mouseClick(&view(), Qt::LeftButton, {}, lamp);
        QVERIFY(editor().selection() == (bench::Selection{{led}, {}}));
        TapeView& tape = window_->tapeView();
        tape.showSpan(kernel::Time(), present);
        const auto moveTo = [&](int x, Qt::MouseButtons held) {
            QMouseEvent move(QEvent::MouseMove, QPointF(x, 8), tape.mapToGlobal(QPointF(x, 8)), Qt::NoButton, held, Qt::NoModifier);
            QApplication::sendEvent(&tape, &move);
        };
        // The head is where the pointer says that it can be dragged.
        int head = tape.width();
        QTRY_VERIFY([&] {
            for (head = tape.width() - 1; head > tape.width() / 2; --head) {
                moveTo(head, Qt::NoButton);
                if (tape.cursor().shape() == Qt::SizeHorCursor)
                    return true;
            }
            return false;
        }());
        QTest::mousePress(&tape, Qt::LeftButton, {}, QPoint(head, 8));
        moveTo(head - 100, Qt::LeftButton);
        moveTo(head - 200, Qt::LeftButton);
        QTest::mouseRelease(&tape, Qt::LeftButton, {}, QPoint(head - 200, 8));
        QTRY_VERIFY_WITH_TIMEOUT(editor().picture().now < present, 10'000);
        // 10. Saved.
        QTest::keyClick(window_.get(), Qt::Key_S, Qt::ControlModifier);
        QTRY_VERIFY(editor().isSaved());
        QVERIFY(QFile::exists(folder_.filePath("harbour-lamp/bench.toml")));
        window_.reset();
    }
};

QTEST_MAIN(FirstBenchTest)
#include "first_bench_test.moc"
