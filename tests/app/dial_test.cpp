// Live controls by number and by curve, with mouse and keys in the real window.
#include <QLineEdit>
#include <QtTest>

#include <cmath>

#include "app/application.h"
#include "app/canvas/part_art.h"
#include "app/canvas/bench_view.h"
#include "app/inspector/dial.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class DialTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    std::unique_ptr<MainWindow> window_;

    Editor& editor() { return window_->editor(); }
    double light()
    {
        editor().session().settle();
        QTest::qWait(40);
        const auto found = editor().picture().controls.find("sensor1.light");
        return found == editor().picture().controls.end() ? -1 : found->second;
    }
    template <class Widget>
    Widget* find(const char* name)
    {
        return window_->findChild<Widget*>(name);
    }
    void type(const char* field, const char* text)
    {
        auto* line = find<QLineEdit>(field);
        QVERIFY(line != nullptr);
        line->setFocus();
        line->selectAll();
        QTest::keyClicks(line, text);
        QTest::keyClick(line, Qt::Key_Return);
    }
    const bench::FollowItem& followed() { return editor().document().part("sensor1")->follow.at("light"); }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }
    void init()
    {
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        editor().change("add", [&](bench::Document& d) {
            bench::addPart(d, *catalogue_.find("light-sensor"), {10, 10});
            d.parts[0].id = "sensor1";
        });
        editor().select({{"sensor1"}, {}});
        editor().session().settle();
    }

    // A hundredth of its way a step: of a dial over decades by its logarithm, 0.1 to 100 000 lux.
    void keysTurnIt()
    {
        editor().setControl("sensor1", "light", 100);
        auto* bench = window_->findChild<BenchView*>();
        bench->setFocus();
        QTest::keyClick(bench, Qt::Key_Plus);
        const auto left = [&] { return editor().document().part("sensor1")->controls.at("light"); };
        const bench::ControlKind& dial = *catalogue_.find("light-sensor")->control("light");
        const double step = std::pow(dial.most / dial.least, 0.01);
        QCOMPARE(left(), 100 * step);
        QTest::keyClick(bench, Qt::Key_Minus);
        QTest::keyClick(bench, Qt::Key_Minus);
        QVERIFY(std::fabs(left() - 100 / step) < 1e-6);
        QTest::keyClick(bench, Qt::Key_PageUp);
        QVERIFY(std::fabs(left() - 100 * std::pow(step, 9)) < 1e-6);
        auto* number = window_->findChild<QLineEdit*>("number-light");
        number->setFocus();
        QTest::keyClick(number, Qt::Key_Down);
        QVERIFY(std::fabs(left() - 100 * std::pow(step, 8)) < 1e-6);
        QTest::keyClick(number, Qt::Key_PageDown);
        QVERIFY(std::fabs(left() - 100 * std::pow(step, -2)) < 1e-6);
        for (int i = 0; i < 12; ++i)
            QTest::keyClick(number, Qt::Key_PageUp);
        QCOMPARE(left(), dial.most);
        QTRY_COMPARE(light(), dial.most);
    }

    void aNumberIsTyped()
    {
        type("number-light", "2.5k");
        QTRY_COMPARE(light(), 2500.0);
        QCOMPARE(editor().document().part("sensor1")->controls.at("light"), 2500.0);
        QSignalSpy said(&editor(), &Editor::message);
        type("number-light", "1M");
        QCOMPARE(said.count(), 1);
        QVERIFY2(said[0][0].toString().contains("0.1"), qPrintable(said[0][0].toString()));
        type("number-light", "bright");
        QCOMPARE(said.count(), 2);
        QCOMPARE(light(), 2500.0);
    }

    void aCurveIsDrawnBentAndTakenBack()
    {
        QTest::mouseClick(find<QToolButton>("follow-light"), Qt::LeftButton);
        auto* sheet = find<CurveSheet>("curve");
        QVERIFY(sheet != nullptr && sheet->isVisible());
        // Ten seconds across, a tenth of a lux to a hundred thousand upwards.
        QTest::mouseClick(sheet, Qt::LeftButton, {}, sheet->place({0, 100}).toPoint());
        QTRY_VERIFY(editor().document().part("sensor1")->follow.contains("light"));
        QTRY_VERIFY(find<CurveSheet>("curve") != nullptr && find<CurveSheet>("curve")->item().curve.size() == 1);
        sheet = find<CurveSheet>("curve");
        QTest::mouseClick(sheet, Qt::LeftButton, {}, sheet->place({8, 1000}).toPoint());
        QTRY_COMPARE(followed().curve.size(), std::size_t{2});
        QVERIFY(std::abs(followed().curve[1].first - 8) < 0.1);
        QVERIFY(std::abs(std::log10(followed().curve[1].second) - 3) < 0.1);
        QTRY_COMPARE(find<CurveSheet>("curve")->item().curve.size(), std::size_t{2});

        // The second point is dragged down, and the run obeys.
        sheet = find<CurveSheet>("curve");
        const QPoint from = sheet->place(followed().curve[1]).toPoint(), to = sheet->place({followed().curve[1].first, 10}).toPoint();
        QTest::mousePress(sheet, Qt::LeftButton, {}, from);
        QTest::mouseMove(sheet, to);
        QTest::mouseRelease(sheet, Qt::LeftButton, {}, to);
        QTRY_VERIFY(followed().curve[1].second < 20);
        editor().session().setFullSpeed(true);
        editor().run();
        QTRY_VERIFY(editor().picture().now > kernel::Time(std::chrono::seconds(9)));
        editor().pause();
        QVERIFY(std::abs(light() - followed().curve[1].second) < 1e-6);

        sheet = find<CurveSheet>("curve");
        QTest::mouseClick(sheet, Qt::RightButton, {}, sheet->place(followed().curve[1]).toPoint());
        QTRY_COMPARE(followed().curve.size(), std::size_t{1});
        editor().undo();
        QCOMPARE(followed().curve.size(), std::size_t{2});
    }

    void noiseIsTypedAndEndedByStill()
    {
        QTest::mouseClick(find<QToolButton>("follow-light"), Qt::LeftButton);
        type("follow-noise", "25");
        QTRY_COMPARE(followed().noise, 25.0);
        editor().run();
        const double before = light();
        QTRY_VERIFY(light() != before);
        editor().pause();
        QTRY_VERIFY(find<QPushButton>("follow-still") != nullptr);
        QTest::mouseClick(find<QPushButton>("follow-still"), Qt::LeftButton);
        QTRY_VERIFY(editor().document().part("sensor1")->follow.empty());
    }

    void theOrderOfPinsIsTyped()
    {
        editor().change("add", [&](bench::Document& d) {
            bench::addPart(d, *catalogue_.find("npn"), {30, 10});
            d.parts[1].id = "t1";
        });
        editor().select({{"t1"}, {}});
        const bench::PartKind& kind = *catalogue_.find("npn");
        QStringList names;
        for (const bench::PinKind& pin : kind.pins)
            names << QString::fromStdString(pin.name);
        const auto places = [&](const QString& pin) { return *bench::pinPlace(editor().document(), catalogue_, {"t1", pin.toStdString()}); };
        const bench::GridPoint first = places(names[0]), last = places(names[2]);
        type("pin-order", qPrintable(names[2] + " " + names[1] + " " + names[0]));
        QCOMPARE(places(names[2]), first);
        QCOMPARE(places(names[0]), last);
        QSignalSpy said(&editor(), &Editor::message);
        type("pin-order", "E E E");
        QCOMPARE(said.count(), 1);
        QCOMPARE(places(names[2]), first);
        type("pin-order", qPrintable(names.join(' ')));
        QVERIFY(editor().document().part("t1")->order.empty());
    }

    // The flat side of an LED stands by its cathode, on whichever side that is.
    void swappedLeadsSwapTheMarks()
    {
        PartArt art;
        const bench::PartKind& led = *catalogue_.find("led");
        const auto drawn = [&](const std::vector<std::string>& order) {
            QImage image(80, 80, QImage::Format_ARGB32);
            image.fill(Qt::white);
            QPainter painter(&image);
            painter.translate(24, 10);  // the middle between the leads is the picture's
            bench::PartItem part;
            part.id = "d";
            part.order = order;
            art.drawBody(painter, led, part, 0);
            return image;
        };
        const QImage usual = drawn({}), swapped = drawn({"K", "A"});
        QVERIFY(usual != swapped);
        QCOMPARE(drawn({"A", "K"}), usual);
        // Mirrored: dark ink of the flat side on the other half.
        const auto ink = [](const QImage& image, int from, int to) {
            int dark = 0;
            for (int x = from; x < to; ++x)
                for (int y = 0; y < image.height(); ++y)
                    dark += qGray(image.pixel(x, y)) < 70 ? 1 : 0;
            return dark;
        };
        QVERIFY(ink(usual, 40, 80) > ink(usual, 0, 40));
        QVERIFY(ink(swapped, 0, 40) > ink(swapped, 40, 80));
    }
};

QTEST_MAIN(DialTest)
#include "dial_test.moc"
