// The oscilloscope, the resistor helper and muting, in the real window by mouse and key.
#include <QtTest>

#include <QFileInfo>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTemporaryDir>

#include "app/application.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class ScopeTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;

    void open(MainWindow& window, const char* file)
    {
        window.neverAsk();
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        window.open(QString::fromStdString(bench::shareFolder() + "/benches/" + file));
        QTRY_VERIFY(window.editor().picture().powered);
    }
    void runFor(MainWindow& window, std::chrono::milliseconds span)
    {
        const kernel::Time goal = window.editor().picture().now + span;
        window.editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(window.editor().picture().now > goal, 20'000);
        window.editor().pause();
        window.editor().session().settle();
        QTest::qWait(40);
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    // 62.5 kHz on the pin, its mean behind the filter; what is measured is the window's own figures.
    void aPinUnderThePointerGoesOnTheScopeAndIsMeasured()
    {
        MainWindow window(catalogue_);
        open(window, "frost-alarm/bench.toml");
        const auto at = window.benchView().pinInWidget({"mcu", "PD6"});
        QVERIFY(at);
        QTest::mouseMove(&window.benchView(), at->toPoint());
        window.benchView().setFocus();
        QTest::keyClick(&window.benchView(), Qt::Key_O);
        QCOMPARE(window.scope().channels().size(), 1U);
        QVERIFY(window.scope().isVisible());
        window.scope().toggle({"c1", "1"});
        window.scope().setSpan(std::chrono::microseconds(160));
        runFor(window, std::chrono::milliseconds(300));
        const session::ScopePicture& scope = window.editor().picture().scope;
        QCOMPARE(scope.channels.size(), 2U);
        QVERIFY(scope.triggered);
        QVERIFY(scope.channels[0].measures && scope.channels[1].measures);
        QVERIFY(qAbs(scope.channels[0].measures->period.value_or(0) - 16e-6) < 1e-9);
        // Ten whole periods across: the mean of the pulses is the voltage behind the filter.
        QVERIFY(qAbs(scope.channels[0].measures->mean - scope.channels[1].measures->mean) < 0.02);
        QVERIFY(scope.channels[1].measures->most - scope.channels[1].measures->least < 0.01);
        QTest::keyClick(&window.benchView(), Qt::Key_O);
        QCOMPARE(window.scope().channels().size(), 1U);
    }

    // On a bench that stands, a probe shows what was before it was there: the same pulses, found afterwards.
    void aProbeThatComesLateShowsThePast()
    {
        MainWindow window(catalogue_);
        open(window, "frost-alarm/bench.toml");
        runFor(window, std::chrono::milliseconds(120));
        window.showScope();
        window.scope().setSpan(std::chrono::microseconds(160));
        window.scope().toggle({"mcu", "PD6"});
        const auto scope = [&]() -> const session::ScopePicture& { return window.editor().picture().scope; };
        QTRY_VERIFY(scope().channels.size() == 1 && scope().channels[0].measures && scope().channels[0].measures->period);
        QVERIFY(qAbs(*scope().channels[0].measures->period - 16e-6) < 1e-9);
        QVERIFY(std::all_of(scope().channels[0].columns.begin(), scope().channels[0].columns.end(), [](const tape::WaveColumn& c) { return c.known; }));
        QVERIFY(scope().to <= window.editor().picture().now);
        // Earlier too.
        window.editor().session().goTo(kernel::Time(std::chrono::milliseconds(60)));
        QTRY_VERIFY(window.editor().picture().now < kernel::Time(std::chrono::milliseconds(61)) && scope().to <= window.editor().picture().now);
        QTRY_VERIFY(scope().channels[0].measures && scope().channels[0].measures->period && qAbs(*scope().channels[0].measures->period - 16e-6) < 1e-9);
    }

    void oneIsCaughtAndStays()
    {
        MainWindow window(catalogue_);
        open(window, "frost-alarm/bench.toml");
        window.scope().toggle({"silence", "1"});
        window.scope().setSpan(std::chrono::milliseconds(8));
        window.scope().setTrigger(0, 2.5, false);
        window.showScope();
        auto* single = window.scope().findChild<QPushButton*>("scopeSingle");
        QTest::mouseClick(single, Qt::LeftButton);
        runFor(window, std::chrono::milliseconds(100));
        QVERIFY(window.editor().picture().scope.waiting);
        window.editor().setControl("silence", "pressed", 1);
        runFor(window, std::chrono::milliseconds(100));
        QVERIFY(window.editor().picture().scope.triggered);
        const kernel::Time caught = window.editor().picture().scope.trigger;
        window.editor().setControl("silence", "pressed", 0);
        runFor(window, std::chrono::milliseconds(60));
        window.editor().setControl("silence", "pressed", 1);
        runFor(window, std::chrono::milliseconds(60));
        QVERIFY(window.editor().picture().scope.trigger == caught);
    }

    // The helper's figure, put in by a click, is the current that then flows.
    void theResistorHelperPutsInWhatItWorkedOut()
    {
        MainWindow window(catalogue_);
        open(window, "frost-alarm/bench.toml");
        window.editor().select({{"lamp"}, {}});
        QTest::qWait(60);
        QTRY_VERIFY(window.findChild<QLineEdit*>("series-current") != nullptr);
        auto* wanted = window.findChild<QLineEdit*>("series-current");
        QVERIFY(wanted != nullptr);
        wanted->setText("5mA");
        window.editor().session().settle();
        QTest::qWait(60);
        auto* button = window.findChild<QPushButton*>("series-E96");
        QVERIFY2(button->text().startsWith("E96: ") && button->text().contains("gives 5"), qPrintable(button->text()));
        const std::string value = button->property("value").toString().toStdString();
        QTest::mouseClick(button, Qt::LeftButton);
        QCOMPARE(window.editor().document().part("r2")->set.at("resistance"), value);
        window.editor().setControl("ntc1", "temperature", -5);
        runFor(window, std::chrono::milliseconds(200));
        QVERIFY2(qAbs(window.editor().picture().parts.at("lamp").amps - 0.005) < 0.0003, qPrintable(QString::number(window.editor().picture().parts.at("lamp").amps)));
        // The same on what drives it, and on the resistor itself; not on what has nothing to do with it.
        for (const char* other : {"mcu", "r2"}) {
            window.editor().select({{other}, {}});
            QTRY_VERIFY2(window.editor().picture().parts.contains(other) && window.editor().picture().parts.at(other).series, other);
            QCOMPARE(window.editor().picture().parts.at(other).series->resistor, std::string("r2"));
            QTRY_VERIFY2(window.findChild<QLineEdit*>("series-current") != nullptr, other);
        }
        window.editor().select({{"ntc1"}, {}});
        window.editor().session().settle();
        QTest::qWait(60);
        QVERIFY(!window.editor().picture().parts.at("ntc1").series);
    }
};

QTEST_MAIN(ScopeTest)
#include "scope_test.moc"
