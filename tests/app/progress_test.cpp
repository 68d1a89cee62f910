// What takes long shows how far it is and can be stopped: in the window, on the way through the past, and in files.
#include <thread>

#include "app/shell/main_window.h"
#include "app/shell/progress_card.h"
#include "application.h"
#include "kernel/files.h"
#include "session/recording/edges_export.h"
#include "session/recording/recording.h"
#include "tape/vcd_read.h"

using namespace bramix;
using namespace bramix::app;
using namespace std::chrono_literals;

class ProgressTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;

    // A board whose firmware is never slow to look at: the hand bells scan their keys thousands of times a second.
    [[nodiscard]] QString bells() const { return QString::fromStdString(bench::shareFolder()) + "/benches/hand-bells/bench.toml"; }

    std::unique_ptr<session::Session> rung(kernel::Progress* progress, kernel::Duration span)
    {
        auto document = bench::loadDocument(bells().toStdString());
        session::SessionOptions how;
        how.folder = QFileInfo(bells()).absolutePath().toStdString();
        how.progress = progress;
        auto s = session::Session::open(*document, catalogue_, how);
        (*s)->advance(kernel::Time(span));
        return std::move(*s);
    }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void theCardWaitsAndCounts()
    {
        QWidget window;
        window.resize(600, 300);
        ProgressCard card(&window);
        kernel::Progress progress;
        progress.begin("Saving the recording");
        progress.at(0.37);
        auto state = progress.state();
        QVERIFY(state.has_value());
        card.follow(state);
        QVERIFY(!card.isVisibleTo(&window));  // just begun
        state->since -= std::chrono::milliseconds(ProgressCard::kPatienceMs);
        card.follow(state);
        QVERIFY(card.isVisibleTo(&window));
        QCOMPARE(card.findChild<QLabel*>()->text(), QString("Saving the recording … 37 %"));
        QSignalSpy stop(&card, &ProgressCard::stopWanted);
        QTest::mouseClick(card.findChild<QPushButton*>("stopWork"), Qt::LeftButton);
        QCOMPARE(stop.count(), 1);
        progress.end();
        card.follow(progress.state());
        QVERIFY(!card.isVisibleTo(&window));
        QVERIFY(!progress.stop());  // there is nothing to stop any more
        progress.begin("another");
        QVERIFY(!progress.stopped());
    }

    // A bench so large that its wires take long to lay is there at once, says how far they are, and Esc leaves them.
    void aLargeBenchIsThereAtOnce()
    {
        constexpr int kParts = 2500;  // half a minute of work, of which the test waits for a little
        std::string text = "bramix = 1\ntitle = \"large\"\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nat = [10, 2]\n";
        for (int i = 0; i < kParts; ++i)
            text += "[[part]]\nid = \"r" + std::to_string(i) + "\"\nkind = \"resistor\"\nat = [" + std::to_string(i % 40 * 8) + ", " + std::to_string(30 + i / 40 * 6) + "]\n";
        for (int i = 0; i < kParts; ++i)
            text += "[[wire]]\nends = [\"r" + std::to_string(i) + ".1\", \"mcu.PB" + std::to_string(i % 6) + "\"]\ncolor = \"sky\"\n[[wire]]\nends = [\"r" + std::to_string(i) + ".2\", \"mcu.PD" + std::to_string(i % 8) + "\"]\ncolor = \"ink\"\n";
        QTemporaryDir folder;
        QFile file(folder.filePath("bench.toml"));
        QVERIFY(file.open(QIODevice::WriteOnly) && file.write(text.data(), static_cast<qint64>(text.size())) > 0);
        file.close();
        MainWindow window(catalogue_);
        window.neverAsk();
        QStringList said;
        connect(&window.editor(), &Editor::message, this, [&](const QString& words, bool) { said << words; });
        window.open(file.fileName());
        window.show();
        QVERIFY(QTest::qWaitForWindowExposed(&window));
        QVERIFY(window.benchView().layingWires());
        QTRY_VERIFY_WITH_TIMEOUT(!said.filter("Wires look for their ways").isEmpty(), 20'000);
        QVERIFY(window.benchView().layingWires());
        window.benchView().setFocus();
        QTest::keyClick(&window.benchView(), Qt::Key_Escape);
        QVERIFY(!window.benchView().layingWires());
        QVERIFY(!said.filter("wires run straight").isEmpty());
    }

    void whatIsWaitedForCanBeStopped()
    {
        MainWindow window(catalogue_);
        window.neverAsk();
        window.show();
        QTimer::singleShot(100, this, [this] { pressStop(); });
        bool stopped = false;
        int looks = 0;
        QTimer beat;
        connect(&beat, &QTimer::timeout, this, [&] { ++looks; });
        beat.start(20);
        waitFor("Opening something", [&](kernel::Progress& progress) {
            while (!progress.stopped())
                std::this_thread::sleep_for(2ms);
            stopped = true;
        });
        QVERIFY(stopped);
        QVERIFY(looks > 3);  // the window lived meanwhile
    }

    // Half a minute of simulated time is a second of work: stopped, the bench stands where it has come to, and goes on from there.
    void aLongWayThroughThePastIsStopped()
    {
        QTemporaryDir folder;
        const QString file = folder.filePath("long.bramix-run");
        QVERIFY(rung(nullptr, 30s)->saveRecording(file.toStdString()));
        MainWindow window(catalogue_);
        window.neverAsk();
        window.open(file);
        window.show();
        auto& live = window.editor().session();
        const auto& picture = [&]() -> const session::Picture& { return window.editor().picture(); };
        QTRY_VERIFY(picture().latest == kernel::Time(30s));
        QSignalSpy said(&window.editor(), &Editor::message);
        live.goTo(kernel::Time(30s));
        QTRY_VERIFY_WITH_TIMEOUT(live.work().has_value() && live.work()->share > 0, 10000);
        QCOMPARE(live.work()->what, std::string("Going back"));
        live.stopWork();
        QTRY_VERIFY(!live.work().has_value());
        live.settle();
        QTRY_VERIFY(said.count() > 0);
        QVERIFY2(said.last()[0].toString().startsWith("Stopped on the way back, at "), qPrintable(said.last()[0].toString()));
        QTRY_VERIFY(picture().now > kernel::Time(0s));
        QVERIFY(picture().now < kernel::Time(30s));
        QCOMPARE(picture().latest, kernel::Time(30s));  // nothing of the recording is lost
        live.goTo(kernel::Time(5ms));
        QTRY_VERIFY(picture().now >= kernel::Time(5ms) && picture().now < kernel::Time(6ms));
        live.runFor(20ms);
        QTRY_VERIFY(picture().now >= kernel::Time(25ms) && !picture().running);
    }

    void filesThatAreStoppedAreNotThere()
    {
        QTemporaryDir folder;
        kernel::Progress progress;
        const auto s = rung(&progress, 1s);
        const std::vector<bench::PinRef> pins{{"mcu", "PD0"}, {"mcu", "PD1"}, {"mcu", "PB0"}, {"mcu", "PB1"}};
        for (const char* name : {"edges.csv", "edges.vcd"}) {
            const std::string file = folder.filePath(name).toStdString();
            QVERIFY(bench::saveText(file, "before"));
            progress.begin("edges");
            progress.stop();
            const auto stopped = session::writeEdges(*s, file, pins, {}, kernel::Time(1s), &progress);
            QVERIFY(!stopped);
            QVERIFY2(stopped.error().text().find("it was stopped") != std::string::npos, stopped.error().text().c_str());
            QCOMPARE(*kernel::readFile(file, 1000), std::string("before"));
            progress.begin("edges");
            QVERIFY(session::writeEdges(*s, file, pins, {}, kernel::Time(1s), &progress));
            QVERIFY(progress.state()->share > 0.5 && progress.state()->share <= 1);
            QVERIFY(kernel::readFile(file, 1U << 28U)->size() > 1000);
        }
        const std::string vcd = folder.filePath("edges.vcd").toStdString(), run = folder.filePath("run.bramix-run").toStdString();
        progress.begin("reading");
        progress.stop();
        QVERIFY(!tape::readVcd(vcd, &progress));
        QVERIFY(!s->saveRecording(run));
        QVERIFY(!QFile::exists(QString::fromStdString(run)));
        progress.begin("saving");
        QVERIFY(s->saveRecording(run));
        progress.begin("opening");
        QVERIFY(session::readRecording(run, &progress));
        progress.stop();
        const auto stopped = session::readRecording(run, &progress);
        QVERIFY(!stopped && stopped.error().text().find("it was stopped") != std::string::npos);
        progress.end();
        QCOMPARE(QDir(folder.path()).entryList(QDir::Files).size(), 3);  // and nothing beside them
    }

private:
    // As soon as the button is there.
    void pressStop()
    {
        for (QWidget* w : QApplication::topLevelWidgets())
            if (w->objectName() == "waiting" && w->isVisible())
                return QTest::mouseClick(w->findChild<QPushButton*>("stopWork"), Qt::LeftButton);
        QTimer::singleShot(30, this, [this] { pressStop(); });
    }
};

QTEST_MAIN(ProgressTest)
#include "progress_test.moc"
