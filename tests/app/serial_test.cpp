// The serial view by mouse and keys in the real window, and by programs outside.
#include <QtTest>

#include <fcntl.h>
#include <unistd.h>

#include <QClipboard>
#include <QListWidget>
#include <QProcess>
#include <QMenu>
#include <QScrollBar>
#include <QTcpSocket>

#include "app/application.h"
#include "app/shell/main_window.h"

using namespace bramix;
using namespace bramix::app;

class SerialTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    QTemporaryDir folder_;
    std::unique_ptr<MainWindow> window_;

    SerialView& serial() { return window_->serialView(); }
    template <class Widget>
    Widget* child(const char* name)
    {
        return serial().findChild<Widget*>(name);
    }
    void type(const char* name, const char* text, bool enter = true)
    {
        auto* line = child<QLineEdit>(name);
        QVERIFY(line != nullptr);
        line->setFocus();
        line->clear();
        QTest::keyClicks(line, text);
        if (enter)
            QTest::keyClick(line, Qt::Key_Return);
    }
    void press(const char* name)
    {
        auto* button = child<QPushButton>(name);
        QVERIFY(button != nullptr);
        QTest::mouseClick(button, Qt::LeftButton);
    }
    bool says(const char* text) { return serial().text().contains(text); }

private slots:
    void initTestCase() { test::prepareApplication(catalogue_); }

    void init()
    {
        window_ = std::make_unique<MainWindow>(catalogue_);
        window_->neverAsk();
        // A copy of its own, so that it can be saved.
        const QString from = QString::fromStdString(bench::shareFolder()) + "/benches/bell-rope/";
        QDir(folder_.path()).mkpath("firmware");
        for (const char* name : {"bench.toml", "firmware/bell-rope.elf", "firmware/bell.c"}) {
            QFile::remove(folder_.filePath(name));
            QVERIFY(QFile::copy(from + name, folder_.filePath(name)));
            QFile(folder_.filePath(name)).setPermissions(QFile::ReadOwner | QFile::WriteOwner);
        }
        window_->open(folder_.filePath("bench.toml"));
        window_->show();
        QVERIFY(QTest::qWaitForWindowExposed(window_.get()));
        window_->showSerial();
        window_->editor().run();
        QTRY_VERIFY(says("Bell tower ready"));
    }
    void cleanup() { window_.reset(); }

    void aLineIsSentAsTypedWithEscapesOrInHex()
    {
        QCOMPARE(serial().tabs().count(), 1);
        QCOMPARE(serial().tabs().tabText(0), QString("mcu.uart0"));
        type("serialLine", "0");
        QTRY_COMPARE(serial().text().count("count from 1"), 1);
        child<QComboBox>("serialWay")->setCurrentIndex(2);
        type("serialLine", "41 30");
        QTRY_COMPARE(serial().text().count("count from 1"), 2);
        child<QComboBox>("serialWay")->setCurrentIndex(1);
        type("serialLine", "\\x30");
        QTRY_COMPARE(serial().text().count("count from 1"), 3);
        // The last lines again by the arrow, the wrong ones told and kept.
        QTest::keyClick(child<QLineEdit>("serialLine"), Qt::Key_Up);
        QCOMPARE(child<QLineEdit>("serialLine")->text(), QString("\\x30"));
        QSignalSpy said(&window_->editor(), &Editor::message);
        type("serialLine", "\\q");
        QCOMPARE(said.count(), 1);
        QVERIFY(said[0][0].toString().contains("place 1"));
        QCOMPARE(child<QLineEdit>("serialLine")->text(), QString("\\q"));
        // What was sent can be left out.
        QVERIFY(says("A0"));
        press("serialEcho");
        QVERIFY(!says("A0") && says("count from 1"));
    }

    // The window may be held up (a slow disk, a dialog) from the moment a bench is opened until after its firmware has printed.
    void nothingIsLostThatWasPrintedBeforeTheFirstPicture()
    {
        MainWindow late(catalogue_);
        late.neverAsk();
        late.open(folder_.filePath("bench.toml"));
        late.editor().run();
        while (late.editor().session().picture()->now < kernel::Time(std::chrono::milliseconds(100)))
            late.editor().session().settle();
        QVERIFY(late.editor().picture().uarts.empty());
        QTRY_VERIFY(late.serialView().text().contains("Bell tower ready"));
    }

    void linesAreFilteredFoundAndCopied()
    {
        for (int i = 0; i < 3; ++i) {
            type("serialLine", "0");
            QTRY_COMPARE(serial().text().count("count from 1"), i + 1);
        }
        type("serialFilter", "COUNT", false);
        QTRY_COMPARE(serial().pane().rows(), std::size_t{3});
        QVERIFY(!says("Bell"));
        child<QLineEdit>("serialFilter")->clear();
        QTRY_VERIFY(says("Bell tower ready"));
        type("serialFind", "tower");
        QCOMPARE(serial().pane().selected(), QString("tower"));
        serial().pane().setFocus();
        QTest::keyClick(&serial().pane(), Qt::Key_C, Qt::ControlModifier);
        QCOMPARE(QGuiApplication::clipboard()->text(), QString("tower"));
        type("serialFind", "from");
        const QString first = serial().pane().selected();
        QCOMPARE(first, QString("from"));
        QSignalSpy said(&window_->editor(), &Editor::message);
        type("serialFind", "weir");
        QCOMPARE(said.count(), 1);
        press("serialHex");
        QVERIFY(serial().pane().rows() >= 3);  // of sixteen bytes
        press("serialHex");
        press("serialClear");
        QCOMPARE(serial().pane().rows(), std::size_t{0});
    }

    // A line leads to its place on the tape, and to the code that wrote it.
    void aLineLeadsToTapeAndCode()
    {
        SerialPane& pane = serial().pane();
        const auto lines = pane.visibleLines();
        QVERIFY(!lines.empty());
        QTest::mouseClick(pane.viewport(), Qt::LeftButton, {}, pane.stampRect(0).center());
        QTRY_VERIFY(window_->tapeView().isVisible() && window_->tapeView().firstMark());
        // The first character has come when its stop bit has: within the first eleven bits at 9600 baud after the start of the line.
        QVERIFY(*window_->tapeView().firstMark() < kernel::Time(std::chrono::milliseconds(3)));
        window_->showSerial();
        QTest::mouseClick(pane.viewport(), Qt::LeftButton, Qt::ControlModifier, pane.stampRect(0).center());
        QTRY_VERIFY(window_->code().isVisible() && window_->code().view() != nullptr);
        QFile source(folder_.filePath("firmware/bell.c"));
        QVERIFY(source.open(QIODevice::ReadOnly));
        const QStringList text = QString::fromUtf8(source.readAll()).split('\n');
        QTRY_VERIFY_WITH_TIMEOUT(text[window_->code().view()->lineAtCursor() - 1].contains("UDR0 = c"), 30'000);
    }

    // Going back takes the lines back too, to the byte.
    void goingBackTakesTheTextBack()
    {
        type("serialLine", "0");
        QTRY_VERIFY(says("count from 1"));
        window_->editor().pause();
        QTRY_VERIFY(!window_->editor().picture().running);
        window_->editor().session().goTo(kernel::Time(std::chrono::microseconds(11'000)));
        QTRY_VERIFY(!says("count"));
        QTRY_VERIFY(says("Bell towe") && !says("tower"));  // ten characters of 1.04 ms
    }

    void buttonsAreOfTheBench()
    {
        press("buttonAdd");
        type("buttonLabel", "anew", false);
        type("buttonBytes", "\\x30", false);
        type("buttonKey", "F6");
        QCOMPARE(window_->editor().document().buttons.size(), std::size_t{1});
        QPushButton* anew = nullptr;
        for (QPushButton* b : serial().findChildren<QPushButton*>())
            if (b->text() == "anew")
                anew = b;
        QVERIFY(anew != nullptr);
        QTest::mouseClick(anew, Qt::LeftButton);
        QTRY_COMPARE(serial().text().count("count from 1"), 1);
        QTest::keyClick(window_.get(), Qt::Key_F6);
        QTRY_COMPARE(serial().text().count("count from 1"), 2);
        // One that repeats, until it is let go.
        press("buttonAdd");
        type("buttonLabel", "again", false);
        type("buttonBytes", "0", false);
        type("buttonEvery", "50ms");
        const auto again = [&] {
            for (QPushButton* b : serial().findChildren<QPushButton*>())
                if (b->text() == "again")
                    return b;
            return static_cast<QPushButton*>(nullptr);
        };
        QTest::mouseClick(again(), Qt::LeftButton);
        QTRY_VERIFY(serial().text().count("count from 1") >= 5);
        QTest::mouseClick(again(), Qt::LeftButton);
        // What was sent by then is answered; afterwards nothing more comes. By the board's time, however slowly that goes.
        const auto runFor = [&](std::chrono::milliseconds span) {
            const kernel::Time until = window_->editor().picture().now + span;
            QTRY_VERIFY_WITH_TIMEOUT(window_->editor().picture().now > until, 30'000);
        };
        runFor(std::chrono::milliseconds(150));
        const auto settled = serial().text().count("count from 1");
        runFor(std::chrono::milliseconds(250));
        QCOMPARE(serial().text().count("count from 1"), settled);
        // A wrong one is told, and nothing is lost.
        QSignalSpy said(&window_->editor(), &Editor::message);
        press("buttonAdd");
        type("buttonLabel", "odd", false);
        type("buttonBytes", "\\z");
        QCOMPARE(said.count(), 1);
        QCOMPARE(child<QLineEdit>("buttonBytes")->text(), QString("\\z"));
        // They are in the file.
        QVERIFY(window_->editor().save());
        const auto saved = bench::loadDocument(window_->editor().file().toStdString());
        QVERIFY(saved && saved->buttons == window_->editor().document().buttons);
        QCOMPARE(saved->buttons[1].every, std::string("50ms"));
    }

    // A program of the user's own: a pseudo-terminal by its lasting name, and a TCP port.
    void programsComeIn()
    {
        SerialPort* port = serial().port();
        QVERIFY(port->open("pty"));
        QVERIFY(port->name().endsWith("/" + QFileInfo(folder_.path()).fileName() + ".mcu.uart0"));
        const int terminal = ::open(port->name().toLocal8Bit().constData(), O_RDWR | O_NOCTTY | O_NONBLOCK);
        QVERIFY(terminal >= 0);
        QCOMPARE(::write(terminal, "0", 1), ssize_t{1});
        QByteArray heard;
        const auto hears = [&](const char* text) {
            char bytes[256];
            const ssize_t n = ::read(terminal, bytes, sizeof bytes);
            if (n > 0)
                heard.append(bytes, n);
            return heard.contains(text);
        };
        QTRY_VERIFY(hears("count from 1\r\n"));
        ::close(terminal);
        const QString name = port->name();
        port->close();
        QVERIFY(!QFileInfo::exists(name));
        QVERIFY(port->open("tcp:0"));
        QTcpSocket socket;
        socket.connectToHost("127.0.0.1", port->name().section(':', -1).toUShort());
        QVERIFY(socket.waitForConnected(3000));
        socket.write("0");
        QTRY_VERIFY((heard += socket.readAll()).count("count from 1\r\n") == 2);
    }

    // A program that never stops sending waits, as at a wire: nothing is heaped up, the window stays open to the hand, and what was sent comes in the order it was sent in.
    void aFloodWaitsForItsTurn()
    {
        SerialPort* port = serial().port();
        QVERIFY(port->open("tcp:0"));
        QTcpSocket socket;
        socket.connectToHost("127.0.0.1", port->name().section(':', -1).toUShort());
        QVERIFY(socket.waitForConnected(3000));
        // Far more than the kernel's own buffers hold.
        constexpr qint64 kFlood = 64 << 20;
        const QByteArray block(1 << 20, 'x');
        for (qint64 sent = 0; sent < kFlood; sent += block.size())
            socket.write(block);
        std::size_t most = 0;
        for (int i = 0; i < 100; ++i) {
            QTest::qWait(10);
            most = std::max(most, window_->editor().session().unsent());
        }
        QVERIFY(most > 0);
        QVERIFY2(most < 3U << 16U, qPrintable(QString::number(most)));
        QVERIFY(socket.bytesToWrite() > kFlood / 4);
        socket.abort();
    }

    // Those that people have: each sends a 0 to the board over the pseudo-terminal, by its lasting name, and gets the board's answer.
    void realProgramsTalk_data()
    {
        QTest::addColumn<QString>("program");
        QTest::addColumn<QStringList>("arguments");
        QTest::newRow("picocom") << "picocom" << QStringList{"-q", "-b", "9600", "-t", "0", "-x", "1000", "%"};
        QTest::newRow("socat") << "socat" << QStringList{"-t2", "SYSTEM:echo -n 0; sleep 1!!STDOUT", "%,raw,echo=0"};
        QTest::newRow("python3-serial") << "/usr/bin/python3" << QStringList{"-c", "import serial, sys\nline = serial.Serial('%', 9600, timeout=5)\nline.write(b'0')\nsys.stdout.write(line.read_until(b'\\n').decode())"};
    }

    void realProgramsTalk()
    {
        QFETCH(QString, program);
        QFETCH(QStringList, arguments);
        if (QStandardPaths::findExecutable(program).isEmpty())
            QSKIP(qPrintable(program + " is not installed"));
        QVERIFY(serial().port()->open("pty"));
        arguments.replaceInStrings("%", serial().port()->name());
        QProcess process;
        process.setProcessChannelMode(QProcess::MergedChannels);
        process.setStandardInputFile(QProcess::nullDevice());
        process.start(program, arguments);
        QTRY_VERIFY_WITH_TIMEOUT(process.state() == QProcess::NotRunning, 15'000);
        const QByteArray said = process.readAll();
        QVERIFY2(said.contains("count from 1"), said.constData());
        QVERIFY(says("count from 1"));
    }

    void whatComesIsLogged()
    {
        const QString file = folder_.filePath("log.txt");
        QVERIFY(serial().logTo(file));
        type("serialLine", "0");
        QTRY_VERIFY(says("count from 1"));
        // It goes to the file as it comes; what is shown may be a byte or two ahead of the line's end.
        const auto logged = [&] {
            QFile log(file);
            return log.open(QIODevice::ReadOnly) ? log.readAll() : QByteArray();
        };
        QTRY_VERIFY(logged().endsWith('\n'));
        QVERIFY(serial().logTo({}));
        QCOMPARE(logged(), QByteArray("count from 1\r\n"));
        QSignalSpy said(&window_->editor(), &Editor::message);
        QVERIFY(!serial().logTo("/nowhere/at/all"));
        QCOMPARE(said.count(), 1);
    }

    // Variables as curves, with no word on the line; and numbers from the line of another bench.
    void numbersBecomeCurves()
    {
        press("serialCurves");
        QVERIFY(serial().plot().isVisible());
        type("plotVariable", "PORTB");
        QTRY_VERIFY(serial().plot().points("PORTB") > 20);
        const QString csv = folder_.filePath("curves.csv");
        QVERIFY(serial().plot().saveCsv(csv));
        QFile file(csv);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QStringList rows = QString::fromUtf8(file.readAll()).split('\n', Qt::SkipEmptyParts);
        QCOMPARE(rows[0], QString("time_s,name,value"));
        QVERIFY(rows.size() > 20 && rows.last().endsWith(",\"PORTB\",0"));
        window_->open(QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock/bench.toml");
        window_->editor().session().setFullSpeed(true);
        window_->editor().run();
        QTRY_VERIFY(says("boats stop"));
        type("serialLine", "l");
        QTRY_VERIFY_WITH_TIMEOUT(serial().plot().names().contains("level"), 15'000);
    }

    // Ten million lines: what is seen is drawn, a filter and a search go through all of them.
    void tenMillionLinesScroll()
    {
        session::SerialText text;
        std::int64_t t = 0;
        for (int i = 0; i < 10'000'000; ++i)
            for (const char c : "weir " + std::to_string(i) + (i == 7'654'321 ? " open\n" : "\n"))
                text.add({kernel::Time(kernel::Duration(++t * 1000)), 0, static_cast<std::uint8_t>(c), true, true, 0});
        SerialPane pane;
        pane.resize(500, 300);
        pane.show();
        pane.setText(&text);
        QCOMPARE(pane.rows(), std::size_t{10'000'000});
        pane.verticalScrollBar()->setValue(5'000'000);
        QCOMPARE(pane.visibleLines().front(), std::uint64_t{5'000'000});
        pane.grab();
        pane.setSought("OPEN");
        QVERIFY(pane.find(true));
        QCOMPARE(pane.selected(), QString("open"));
        pane.setFilter("open");
        QTRY_COMPARE(pane.rows(), std::size_t{1});
        QCOMPARE(pane.visibleLines(), std::vector<std::uint64_t>{7'654'321});
        pane.setFilter("");
        QCOMPARE(pane.rows(), std::size_t{10'000'000});
    }
};

QTEST_MAIN(SerialTest)
#include "serial_test.moc"
