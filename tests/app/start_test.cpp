// From the start page to a running board, as a person would, and what can be wrong on the way.
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QStandardPaths>
#include <QToolButton>
#include <QtTest>

#include "app/shell/main_window.h"
#include "bench/new_bench.h"
#include "bench/skeletons.h"

using namespace bramix;
using namespace bramix::app;

class StartTest : public QObject {
    Q_OBJECT

private slots:
    void initTestCase() { catalogue_ = std::make_unique<bench::Catalogue>(*bench::Catalogue::loadInstalled()); }
    void init()
    {
        window_ = std::make_unique<MainWindow>(*catalogue_);
        window_->neverAsk();
        window_->showStart();
        window_->show();
    }

    // One name, one click: built, running, and it speaks.
    void aNewBenchRunsWithinAMinute()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        StartPage& page = window_->startPage();
        page.findChild<QLineEdit*>("startName")->setText("Tide clock");
        page.findChild<QLineEdit*>("startFolder")->setText(folder_.path());
        QTest::mouseClick(page.findChild<QPushButton*>("startMake"), Qt::LeftButton);
        QTRY_VERIFY_WITH_TIMEOUT(!page.isVisible(), 60'000);
        QVERIFY(QFile::exists(folder_.filePath("tide-clock/firmware/main.c")));
        QString said;
        connect(&window_->editor(), &Editor::serialReceived, this, [&](const std::vector<session::SerialByte>& bytes) {
            for (const auto& b : bytes)
                said += QChar(b.byte);
        });
        QTRY_VERIFY_WITH_TIMEOUT(said.contains("beat 1"), 20'000);
        QCOMPARE(QString::fromStdString(window_->editor().document().title), "Tide clock");

        // A second one of that name is refused, and nothing is written over.
        window_->showStart();
        page.make();
        QTRY_VERIFY(page.findChild<QLabel*>("startState")->text().contains("is there already"));
    }

    // In what the page offers first.
    void everyBoardBuilds()
    {
        for (const bench::PartKind* kind : bench::skeletonBoards(*catalogue_)) {
            const auto tools = bench::buildTools(*kind->chip);
            if (std::any_of(tools.begin(), tools.end(), [](const bench::Tool& tool) { return tool.path.empty(); }))
                continue;
            const auto made = bench::makeNewBench({folder_.path().toStdString(), "Try " + kind->id, kind->id, bench::languagesOf(*kind).front()}, *catalogue_);
            QVERIFY2(made.has_value(), made ? "" : made.error().text().c_str());
            QProcess make;
            make.setWorkingDirectory(QFileInfo(QString::fromStdString(*made)).absolutePath() + "/firmware");
            make.setProcessChannelMode(QProcess::MergedChannels);
            make.start("make", QStringList());
            QVERIFY(make.waitForFinished(60'000));
            const QByteArray output = make.readAll();
            QVERIFY2(make.exitCode() == 0 && !output.contains("warning"), output.constData());
        }
    }

    void aWrongNameIsToldAndMakesNothing()
    {
        StartPage& page = window_->startPage();
        page.findChild<QLineEdit*>("startFolder")->setText(folder_.path());
        page.findChild<QLineEdit*>("startName")->setText("!?");
        page.make();
        QVERIFY(page.findChild<QLabel*>("startState")->text().contains("expected a name with letters or digits"));
        page.findChild<QLineEdit*>("startName")->setText("a \"quoted\" one");
        page.make();
        QVERIFY(page.findChild<QLabel*>("startState")->text().contains("no quotes"));
        page.findChild<QLineEdit*>("startFolder")->setText("/proc/nowhere");
        page.findChild<QLineEdit*>("startName")->setText("ok");
        page.make();
        QVERIFY(page.findChild<QLabel*>("startState")->text().contains("cannot be made"));
    }

    // Examples stand there with pictures; one opens by a click.
    void anExampleOpensByAClick()
    {
        QToolButton* lock = nullptr;
        for (QToolButton* tile : window_->startPage().findChildren<QToolButton*>("tile"))
            if (tile->text() == "Withy Lock")
                lock = tile;
        QVERIFY(lock != nullptr && !lock->icon().isNull());
        QTest::mouseClick(lock, Qt::LeftButton);
        QVERIFY(!window_->startPage().isVisible());
        QCOMPARE(QString::fromStdString(window_->editor().document().title), "Withy Lock");
    }

    // What is on the sheet goes out as a drawing.
    void theBenchIsExported()
    {
        window_->open(QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml");
        window_->editor().session().settle();
        for (const char* name : {"lock.svg", "lock.pdf", "lock.png"}) {
            const QString file = folder_.filePath(name);
            QVERIFY(window_->benchView().exportSheet(file));
            QFile written(file);
            QVERIFY(written.open(QIODevice::ReadOnly));
            const QByteArray bytes = written.readAll();
            QVERIFY(bytes.startsWith(QByteArray(name).endsWith("svg") ? "<?xml" : QByteArray(name).endsWith("pdf") ? "%PDF" : "\x89PNG"));
            QVERIFY(bytes.size() > 20'000);
        }
        QVERIFY(!window_->benchView().exportSheet("/proc/nowhere.svg"));
    }

private:
    std::unique_ptr<bench::Catalogue> catalogue_;
    std::unique_ptr<MainWindow> window_;
    QTemporaryDir folder_;
};

QTEST_MAIN(StartTest)
#include "start_test.moc"
