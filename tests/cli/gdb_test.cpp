// A real avr-gdb on the remote protocol of `bramix-cli run --gdb`: every command that daily use needs, and its view of the stack against ours.
#include <QtTest>

#include <QTcpServer>
#include <QTcpSocket>

#include "session/keeper_bench.h"

using namespace bramix;
using namespace bramix::test;

class GdbTest : public QObject {
    Q_OBJECT

private:
    KeeperBench bench_;
    QProcess cli_;

    // Starts a bare chip under the debugger's server; the port, or 0.
    int serve(const QString& elf, const QStringList& more = {})
    {
        cli_.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", QStringList{"run", "--chip", "atmega328p", "--firmware", elf, "--gdb", "0", "--serial", "uart0=none"} + more);
        if (!cli_.waitForStarted())
            return 0;
        cli_.setReadChannel(QProcess::StandardError);
        while (!cli_.canReadLine() && cli_.waitForReadyRead(10'000)) {
        }
        const QByteArray told = cli_.readLine();
        return told.mid(told.lastIndexOf(':') + 1).trimmed().toInt();
    }

    QString gdb(const QString& elf, int port, const QStringList& commands)
    {
        QFile script(bench_.folder.filePath("script.gdb"));
        if (!script.open(QIODevice::WriteOnly))
            return {};
        script.write("set pagination off\nset confirm off\n");
        script.write(QString("target remote 127.0.0.1:%1\n").arg(port).toUtf8());
        script.write(commands.join('\n').toUtf8() + "\n");
        script.close();
        QProcess p;
        p.setProcessChannelMode(QProcess::MergedChannels);
        p.start("avr-gdb", {"-q", "-nx", "-batch", "-x", script.fileName(), elf});
        return p.waitForFinished(60'000) ? QString::fromUtf8(p.readAllStandardOutput()) : "gdb did not end";
    }

    void ends(int code)
    {
        QVERIFY(cli_.waitForFinished(20'000));
        QCOMPARE(cli_.exitCode(), code);
    }

private slots:
    void initTestCase()
    {
        if (!haveCompiler() || QStandardPaths::findExecutable("avr-gdb").isEmpty())
            QSKIP("avr-gcc or avr-gdb is not installed");
        cli_.setProcessChannelMode(QProcess::SeparateChannels);
        QVERIFY(bench_.build({"-gdwarf-4", "-Os"}));
    }

    void cleanup()
    {
        if (cli_.state() != QProcess::NotRunning) {
            cli_.kill();
            cli_.waitForFinished();
        }
    }

    void dailyUse()
    {
        const int port = serve(bench_.elf);
        QVERIFY(port > 0);
        const QString said = gdb(bench_.elf, port,
                                 {"break main", "continue", "echo A:", "print level", "next", "tbreak mean if count == 2", "continue", "echo B:", "print count", "up", "info symbol $pc", "watch ticks",
                                  "continue", "continue", "echo C:", "print ticks", "reverse-continue", "echo D:", "print ticks", "delete", "stepi", "echo E:", "print/x $pc", "reverse-stepi", "reverse-stepi",
                                  "stepi", "stepi", "echo F:", "print/x $pc", "rwatch gates[0].cm", "echo G:", "x/4xb &history", "set var gates[1].cm = 77", "echo H:", "print gates[1].cm", "set var kept = 9", "echo I:",
                                  "print kept", "x/2i main", "monitor pin PB1", "monitor time", "monitor nonsense", "delete", "break ladder", "continue", "echo J:", "print rungs", "delete", "finish", "load", "echo K:",
                                  "print $pc", "tbreak main", "continue", "echo L:", "print level", "monitor reset", "flushregs", "echo M:", "print $pc", "set var $r16 = 0x5a", "echo N:", "print/x $r16", "kill"});
        const auto has = [&](const char* text) { QVERIFY2(said.contains(QRegularExpression(text)), qPrintable(QString("/%1/ in\n%2").arg(text, said))); };
        has("A:\\$\\d+ = 2.25");
        has("B:\\$\\d+ = 2");
        has("__vector_11");
        has("Hardware watchpoint \\d+: ticks\\s+Old value = \\d+\\s+New value = \\d+");
        has("G:0x80010a <history>:\\s+0x03\\s+0x04\\s+0x05\\s+0x06|G:0x8001.. <history>:\\s+0x03\\s+0x04\\s+0x05\\s+0x06");
        has("H:\\$\\d+ = 77");
        has("I:\\$\\d+ = 9");
        has("mcu.PB1 is (low|high), ");
        has("cycle \\d+");
        has("monitor set PART.CONTROL VALUE");
        has("J:\\$\\d+ = 3");
        has("Loading section .text");
        has("K:\\$\\d+ = .*0x0");
        has("L:\\$\\d+ = 2.25");
        has("M:\\$\\d+ = .*0x0");
        has("N:\\$\\d+ = 0x5a");
        // Back over a change, and forth to where it was.
        static const QRegularExpression c("C:\\$\\d+ = (\\d+)"), d("D:\\$\\d+ = (\\d+)"), e("E:\\$\\d+ = (0x[0-9a-f]+)"), f("F:\\$\\d+ = (0x[0-9a-f]+)");
        QVERIFY(d.match(said).captured(1).toInt() <= c.match(said).captured(1).toInt());
        QVERIFY(!e.match(said).captured(1).isEmpty());
        QCOMPARE(e.match(said).captured(1), f.match(said).captured(1));
        ends(0);
    }

    // The stack of a recursion as gdb unwinds it, and as we do.
    void theStackIsOurs()
    {
        KeeperBench plain;
        QVERIFY(plain.build({"-gdwarf-2", "-O0"}));
        const int line = lineOf(kKeeper, "return 1;");
        const int port = serve(plain.elf);
        const QString said = gdb(plain.elf, port, {QString("break keeper.c:%1").arg(line), "continue", "bt", "print rungs", "up", "print rungs", "kill"});
        const auto s = plain.open();
        session::Debugger d(*s);
        bench::StopItem stop;
        stop.at = QString("keeper.c:%1").arg(line).toStdString();
        QVERIFY(d.begin(stop).has_value());
        QVERIFY(finish(*s, d));
        const auto frames = d.frames();
        QCOMPARE(frames.size(), std::size_t{5});
        for (std::size_t i = 1; i < frames.size(); ++i)
            QVERIFY2(said.contains(QString("#%1  0x%2 in %3").arg(i).arg(frames[i].registers.pc, 8, 16, QChar('0')).arg(QString::fromStdString(frames[i].place.function))), qPrintable(said));
        QVERIFY(said.contains("$1 = 0") && said.contains("$2 = 1"));
        ends(0);
    }

    void aDetachedRunGoesOnToItsGoal()
    {
        const int port = serve(bench_.elf, {"--for", "20ms", "--report", bench_.folder.filePath("report.json")});
        const QString said = gdb(bench_.elf, port, {"break main", "continue", "delete", "detach"});
        QVERIFY2(said.contains("Breakpoint 1, main"), qPrintable(said));
        ends(0);
        QFile report(bench_.folder.filePath("report.json"));
        QVERIFY(report.open(QIODevice::ReadOnly));
        QVERIFY(report.readAll().contains("\"stop\": \"goal\""));
    }

    void aRunThatEndsTellsTheDebugger()
    {
        const int port = serve(bench_.elf, {"--for", "5ms"});
        const QString said = gdb(bench_.elf, port, {"continue"});
        QVERIFY2(said.contains("exited normally"), qPrintable(said));
        ends(0);
    }

    void nonsenseHarmsNothing()
    {
        const int port = serve(bench_.elf, {"--for", "50ms"});
        QTcpSocket socket;
        socket.connectToHost("127.0.0.1", static_cast<quint16>(port));
        QVERIFY(socket.waitForConnected(5000));
        socket.write("$m800100,4#00$$$#$qXfer:features:read:target.xml:ffffffff,ffffffff#00hello\xff\x00$Z9,zz,zz#17$X0,4:ab#99$G00#ff$vFlashWrite:fffffff0:aaaa#00$P99=1#00" + QByteArray(70'000, 'x'));
        socket.write("$?#3f");
        QVERIFY(socket.waitForReadyRead(5000));
        QByteArray said;
        while (!said.contains("T05") && (socket.bytesAvailable() > 0 || socket.waitForReadyRead(3000)))
            said += socket.readAll();
        QVERIFY2(said.contains("T05"), said.constData());
        socket.write("$D#44");
        socket.waitForBytesWritten(2000);
        ends(0);
    }

    void aPortThatIsTakenIsSaid()
    {
        QTcpServer taken;
        QVERIFY(taken.listen(QHostAddress::LocalHost));
        cli_.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", {"run", "--chip", "atmega328p", "--firmware", bench_.elf, "--gdb", QString::number(taken.serverPort())});
        ends(2);
        QVERIFY(cli_.readAllStandardError().contains("cannot be listened on"));
    }
};

QTEST_GUILESS_MAIN(GdbTest)
#include "gdb_test.moc"
