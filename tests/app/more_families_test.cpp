// Benches on microcontrollers of three more families, in the window: each does its job, is stopped in its source, shows its registers, and goes back to a cause.
#include <QtTest>

#include "app/example_window.h"

using namespace bramix;
using namespace bramix::app;
using namespace std::chrono_literals;

class MoreFamiliesTest : public QObject, private test::ExampleWindow {
    Q_OBJECT

private:
    [[nodiscard]] QString said() { return window_->serialView().text(); }
    [[nodiscard]] QString value(const char* variable)
    {
        for (const auto& v : debug().globals)
            if (v.name == variable)
                return QString::fromStdString(v.value);
        return {};
    }
    void pause()
    {
        editor().pause();
        editor().session().settle();
    }

private slots:
    void cleanupTestCase() { window_.reset(); }

    // RISC-V: a sensor's forty bits are read from its one wire, a lamp and a horn follow.
    void theLoftMeasuresAndWarns()
    {
        open("wool-loft");
        editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(said().contains("50.0 %, 20.0 C"), 30'000);
        editor().session().setControl("air", "humidity", 74.5);
        QTRY_VERIFY_WITH_TIMEOUT(said().contains("74.5 %, 20.0 C, damp"), 30'000);
        editor().session().setControl("air", "humidity", 91);
        QTRY_VERIFY_WITH_TIMEOUT(said().contains("91.0 %, 20.0 C, spoils"), 30'000);
        pause();
        QVERIFY2(editor().picture().findings.empty(), editor().picture().findings.empty() ? "" : editor().picture().findings.front().message.c_str());
        // Its source, its call stack, its registers in bits.
        QTest::keyClick(window_.get(), Qt::Key_2, Qt::ControlModifier);
        stopAt("measure");
        editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(debug().standing && debug().frames.size() >= 2 && debug().frames[0].function == "measure", 30'000);
        QVERIFY2(debug().frames[0].function == "measure", qPrintable(QString::fromStdString(debug().frames[0].function + " " + debug().reason)));
        QCOMPARE(debug().frames[1].function, std::string("main"));
        QVERIFY(QString::fromStdString(debug().frames[0].file).endsWith("loft.c"));
        stopAt({});
        window_->code().showPane(&window_->code().chip());
        ChipSheet& sheet = window_->code().chip().sheet();
        QVERIFY(sheet.groups().contains("GPIO") && sheet.groups().contains("LEDC") && sheet.groups().contains("SYSTIMER"));
        sheet.showGroup("GPIO");
        QTRY_VERIFY(!sheet.bitRect("OUT", 5).isNull());
        sheet.showGroup({});
        // To what made the lamp light.
        const auto stood = editor().picture().now;
        editor().session().backToChange("mcu.GPIO5");
        QTRY_VERIFY_WITH_TIMEOUT(editor().picture().now < stood, 30'000);
        QTRY_VERIFY(!debug().frames.empty() && debug().frames[0].function == "main");
    }

    // PIC: two relocatable files, a reserved byte, a timer's interrupt.
    void theMillCountsItsTurns()
    {
        open("mill-wheel");
        window_->benchView().setFocus();
        editor().run();
        QTRY_VERIFY(editor().picture().now > kernel::Time(20ms));
        for (int turn = 1; turn <= 3; ++turn) {
            QTest::keyPress(&window_->benchView(), Qt::Key_M);
            const auto from = editor().picture().now;
            QTRY_VERIFY(editor().picture().now > from + 60ms);
            QTest::keyRelease(&window_->benchView(), Qt::Key_M);
            const auto then = editor().picture().now;
            QTRY_VERIFY(editor().picture().now > then + 60ms);
        }
        pause();
        QTest::keyClick(window_.get(), Qt::Key_2, Qt::ControlModifier);
        QTRY_COMPARE(value("turns"), QString("3"));
        QVERIFY2(editor().picture().findings.empty(), editor().picture().findings.empty() ? "" : editor().picture().findings.front().message.c_str());
        // Into the handler: its file and line, who it interrupted.
        stopAt("change turns");
        editor().run();
        QTest::qWait(30);
        QTest::keyPress(&window_->benchView(), Qt::Key_M);
        QTRY_VERIFY(debug().standing && debug().reason.find("has changed turns") != std::string::npos);
        QTest::keyRelease(&window_->benchView(), Qt::Key_M);
        QVERIFY(debug().frames.size() >= 3);
        QCOMPARE(debug().frames[0].function, std::string("count_tick"));
        QVERIFY(QString::fromStdString(debug().frames[0].file).endsWith("count.asm"));
        QCOMPARE(debug().frames[1].interrupt, std::string("interrupt"));
        QCOMPARE(value("turns"), QString("4"));
        stopAt({});
        // One steps out of it by its lines.
        QStringList passed;
        for (int i = 0; i < 30 && debug().frames.front().function != "start"; ++i) {
            const auto before = editor().picture().now;
            editor().session().step(session::Step::over);
            QTRY_VERIFY(editor().picture().now > before && debug().standing);
            passed << QString("%1:%2").arg(QString::fromStdString(debug().frames.front().function)).arg(debug().frames.front().line);
        }
        QVERIFY2(debug().frames.front().function == "start", qPrintable(passed.join(' ')));
        window_->code().showPane(&window_->code().chip());
        ChipSheet& sheet = window_->code().chip().sheet();
        QVERIFY(sheet.groups().contains("Port B") && sheet.groups().contains("Timer 0"));
        const auto stood = editor().picture().now;
        editor().session().backToChange("mcu.RA1");
        QTRY_VERIFY(editor().picture().now < stood);
    }

    // Classic ARM: what is typed comes by interrupt and is answered.
    void thePostAnswers()
    {
        open("heron-post");
        editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(said().contains("heron post"), 20'000);
        for (const char letter : std::string("hhw")) {
            editor().session().send("mcu.uart0", std::string(1, letter));
            QTest::qWait(30);
        }
        QTRY_VERIFY_WITH_TIMEOUT(said().contains("heron 2 in hour") && said().contains("knots"), 20'000);
        pause();
        QVERIFY2(editor().picture().findings.empty(), editor().picture().findings.empty() ? "" : editor().picture().findings.front().message.c_str());
        QTest::keyClick(window_.get(), Qt::Key_2, Qt::ControlModifier);
        stopAt("received");
        editor().run();
        QTest::qWait(30);
        editor().session().send("mcu.uart0", "l");
        QTRY_VERIFY_WITH_TIMEOUT(debug().standing && !debug().frames.empty() && debug().frames[0].function == "received", 20'000);
        QStringList names;
        for (const auto& f : debug().frames)
            names << QString::fromStdString(f.function);
        QVERIFY2(names.contains("irq_handler") && names.contains("main"), qPrintable(names.join(' ')));
        stopAt({});
        editor().run();
        QTRY_VERIFY_WITH_TIMEOUT(said().contains("all"), 20'000);
        pause();
    }
};

QTEST_MAIN(MoreFamiliesTest)
#include "more_families_test.moc"
