// The sweep's view in the window: asked by hand, it shows curves, reads them out and saves them.
#include <QLineEdit>
#include <QPushButton>
#include <QtTest>
#include <qcustomplot.h>

#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class SweepViewTest : public QObject {
    Q_OBJECT

private slots:
    void initTestCase() { catalogue_ = std::make_unique<bench::Catalogue>(*bench::Catalogue::loadInstalled()); }
    void init()
    {
        QVERIFY(folder_.isValid());
        const QString file = folder_.filePath("bench.toml");
        QVERIFY(bench::saveText(file.toStdString(), R"(bramix = 1
title = "Lamp of the mooring buoy"
[[part]]
id = "v"
kind = "bench-supply"
at = [0, 0]
[[part]]
id = "g"
kind = "ground"
at = [9, 9]
[[part]]
id = "r"
kind = "resistor"
at = [8, 0]
[[part]]
id = "d"
kind = "led"
at = [16, 0]
[[wire]]
ends = ["v.V", "r.1"]
[[wire]]
ends = ["r.2", "d.A"]
[[wire]]
ends = ["d.K", "g.V"]
[[wire]]
ends = ["v.GND", "g.V"]
)"));
        window_ = std::make_unique<MainWindow>(*catalogue_);
        window_->neverAsk();
        window_->open(file);
        window_->show();
        window_->editor().session().settle();
        QTest::qWait(50);
    }

    void theKeyAsksForTheSelectedPart()
    {
        window_->editor().select({{"r"}, {}});
        window_->benchView().setFocus();
        QTest::keyClick(window_.get(), Qt::Key_W);
        SweepView& view = window_->sweep();
        QVERIFY(view.isVisible());
        QTRY_VERIFY(!view.working());
        QCOMPARE(QString::fromStdString(view.table().request.axis.figure), "r.resistance");
        QCOMPARE(view.plot().graphCount(), 1);
        QCOMPARE(view.table().curves[0].y.size(), std::size_t{101});
        QVERIFY(view.table().curves[0].y.front() > view.table().curves[0].y.back());  // less current through more resistance
    }

    void aTypedRangeAndAWrongOne()
    {
        SweepView& view = window_->sweep();
        window_->showSweep();
        view.setAxis("v.volts");
        view.setRange("0", "5 V", "51", false);
        view.setCurves("r.resistance", "220, 1k");
        view.toggleTrace(*bench::parseTrace("d:current"));
        view.toggleTrace(*bench::parseTrace("d.A:d.K"));
        QTRY_VERIFY(!view.working() && view.table().curves.size() == 4);
        QCOMPARE(view.plot().graphCount(), 4);
        QVERIFY(view.plot().yAxis2->visible());  // amperes left, volts right
        auto* to = view.findChild<QLineEdit*>("sweepTo");
        to->setText("five");
        emit to->editingFinished();
        QTRY_VERIFY(!view.trouble().isEmpty());
        QVERIFY2(view.trouble().startsWith("to: "), qPrintable(view.trouble()));
        to->setText("4");
        emit to->editingFinished();
        QTRY_VERIFY(!view.working() && view.trouble().isEmpty() && view.table().curves.size() == 4);
        QCOMPARE(view.table().request.axis.values.back(), 4.0);

        // The pointer reads every curve out.
        const QRect area = view.plot().axisRect()->rect();
        QTest::mouseMove(&view.plot(), area.center());
        QTRY_VERIFY2(view.plot().graph(0)->name().endsWith("A"), qPrintable(view.plot().graph(0)->name()));

        const QString csv = folder_.filePath("out.csv"), png = folder_.filePath("out.png");
        QVERIFY(view.saveCsv(csv) && view.savePicture(png));
        QFile written(csv);
        QVERIFY(written.open(QIODevice::ReadOnly));
        QCOMPARE(written.readAll().count('\n'), 52);
        QVERIFY(QImage(png).width() == 1200);
    }

    void anEditOfTheBenchIsFollowed()
    {
        SweepView& view = window_->sweep();
        window_->showSweep();
        view.setAxis("v.volts");
        view.toggleTrace(*bench::parseTrace("d:current"));
        QTRY_VERIFY(!view.working() && !view.table().curves.empty());
        const double before = view.table().curves[0].y.back();
        window_->editor().change("resistance", [](bench::Document& d) { d.part("r")->set["resistance"] = "1k"; });
        QTRY_VERIFY(!view.working() && view.table().curves[0].y.back() < before * 0.5);
    }

    // A hundred thousand points take a while: what has come stays when it is stopped.
    void aLongSweepIsStopped()
    {
        SweepView& view = window_->sweep();
        window_->showSweep();
        auto* stop = view.findChild<QPushButton*>("sweepStop");
        view.setAxis("v.volts");
        view.toggleTrace(*bench::parseTrace("d:current"));
        QTRY_VERIFY(!view.working());
        QVERIFY(!stop->isVisibleTo(&view));
        view.setRange("0", "5 V", "100001", false);
        QTRY_VERIFY(stop->isVisibleTo(&view) && !view.table().curves.empty() && view.table().curves[0].y.size() > 10);
        QTest::mouseClick(stop, Qt::LeftButton);
        QVERIFY(!view.working());
        QVERIFY(!stop->isVisibleTo(&view));
        const std::size_t done = view.table().curves[0].y.size();
        QCOMPARE(view.findChild<QLabel*>("sweepState")->text(), QString("stopped at %1 of 100001 points").arg(done));
        QTest::qWait(300);
        QCOMPARE(view.table().curves[0].y.size(), done);
        view.setRange("0", "5 V", "11", false);
        QTRY_VERIFY(!view.working() && view.table().curves[0].y.size() == 11);
    }

private:
    std::unique_ptr<bench::Catalogue> catalogue_;
    std::unique_ptr<MainWindow> window_;
    QTemporaryDir folder_;
};

QTEST_MAIN(SweepViewTest)
#include "sweep_test.moc"
