// The kiln's bench, on a microcontroller of another family, in the window: run, press its key, read what it says, stop in its source, look at its registers and memory, go back.
#include <QtTest>

#include "app/example_window.h"

using namespace bramix;
using namespace bramix::app;

class SecondFamilyTest : public QObject, private test::ExampleWindow {
    Q_OBJECT

private slots:
    void initTestCase() { open("hop-kiln"); }

    // By its own key, as its user would.
    void itSaysWhichHeatIsChosen()
    {
        window_->showSerial();
        window_->benchView().setFocus();
        editor().run();
        QTRY_VERIFY(window_->serialView().text().contains("heat 1 of 4"));
        QTest::keyPress(&window_->benchView(), Qt::Key_H);
        QTRY_VERIFY(window_->serialView().text().contains("heat 2 of 4"));
        QTest::keyRelease(&window_->benchView(), Qt::Key_H);
        QTRY_VERIFY(editor().picture().now > kernel::Time(std::chrono::milliseconds(300)));
        editor().pause();
        editor().session().settle();
        QVERIFY(!window_->serialView().text().contains("heat 3 of 4"));
        QVERIFY(editor().picture().findings.empty());
    }

    void itStopsInItsSource()
    {
        QTest::keyClick(window_.get(), Qt::Key_2, Qt::ControlModifier);
        QVERIFY(window_->code().isVisible());
        stopAt("change kiln.heat");
        editor().run();
        QTest::qWait(50);
        QTest::keyPress(&window_->benchView(), Qt::Key_H);
        QTRY_VERIFY(debug().standing && debug().reason.find("has changed kiln.heat") != std::string::npos);
        QTest::keyRelease(&window_->benchView(), Qt::Key_H);
        QVERIFY(!debug().frames.empty());
        QVERIFY2(debug().frames.back().function == "main" || debug().frames.back().function == "begin", debug().frames.back().function.c_str());
        QVERIFY(debug().frames.back().interrupt.empty());
        const auto kiln = std::find_if(debug().globals.begin(), debug().globals.end(), [](const auto& v) { return v.name == "kiln"; });
        QVERIFY(kiln != debug().globals.end() && !kiln->inner.empty());
        QCOMPARE(QString::fromStdString(kiln->inner[0].value), QString("3"));
        stopAt({});
    }

    // The port that the watchman's lamp hangs on, in bits with names; a click turns one over.
    void registersStandInBits()
    {
        window_->code().showPane(&window_->code().chip());
        ChipSheet& sheet = window_->code().chip().sheet();
        QVERIFY(sheet.groups().contains("GPIOB") && sheet.groups().contains("TIM2"));
        sheet.showGroup("GPIOB");
        QTRY_VERIFY(!sheet.bitRect("ODR", 12).isNull());
        const auto bit = [&] { return (debug().io[0x40010C0C + 1] >> 4) & 1; };
        const int before = bit();
        QTest::mouseClick(&sheet, Qt::LeftButton, Qt::NoModifier, sheet.bitRect("ODR", 12).center());
        QTRY_COMPARE(bit(), before ^ 1);
        sheet.showGroup({});
    }

    void memoryIsThereByRegion()
    {
        window_->code().showPane(&window_->code().memory());
        MemoryPane& pane = window_->code().memory();
        QCOMPARE(pane.sheet().begin(), std::uint64_t{0x20000000});
        QTRY_COMPARE(pane.sheet().contents().size(), 20 * 1024);
        pane.go("\"heat 3\"");
        QVERIFY(pane.sheet().from() >= 0x20000000 && pane.sheet().from() < 0x20000100);
        // An address of another region leads there.
        pane.go("0x08000000");
        QVERIFY(pane.sheet().showsProgram());
        QCOMPARE(pane.sheet().begin(), std::uint64_t{0x08000000});
        // The stack's top, from the vector table.
        QCOMPARE(pane.sheet().contents().left(4), QByteArray("\x00\x50\x00\x20", 4));
        pane.go("sp");
        QVERIFY(!pane.sheet().showsProgram());
    }

    void itGoesBackToTheCause()
    {
        const auto stood = editor().picture().now;
        editor().session().backToChange("mcu.PB12");
        QTRY_VERIFY(editor().picture().now < stood);
        QTRY_VERIFY(!debug().frames.empty() && debug().frames[0].function == "main");
        QVERIFY(QString::fromStdString(debug().frames[0].file).endsWith("kiln.c"));
    }
};

QTEST_MAIN(SecondFamilyTest)
#include "second_family_test.moc"
