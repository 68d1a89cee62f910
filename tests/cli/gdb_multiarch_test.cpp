// A real gdb-multiarch on a Cortex-M3: the registers that it is told of, stops, watches, the stack through an exception, and backwards.
#include <QtTest>

#include "chip/cortexm/beats_program.h"

using namespace bramix::test;

class GdbMultiarchTest : public QObject {
    Q_OBJECT

private slots:
    void dailyUse()
    {
        if (!arm::haveCompiler() || QStandardPaths::findExecutable("gdb-multiarch").isEmpty())
            QSKIP("arm-none-eabi-gcc or gdb-multiarch is not installed");
        QTemporaryDir folder;
        const QString elf = arm::compile(folder, arm::kBeats, {"-Os"}, arm::kBeatsVectors);
        QVERIFY(!elf.isEmpty());
        QProcess cli;
        cli.setProcessChannelMode(QProcess::SeparateChannels);
        cli.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", {"run", "--chip", "stm32f103c8", "--firmware", elf, "--gdb", "0", "--serial", "usart1=none"});
        cli.setReadChannel(QProcess::StandardError);
        while (!cli.canReadLine() && cli.waitForReadyRead(10'000)) {
        }
        const QByteArray told = cli.readLine();
        const int port = told.mid(told.lastIndexOf(':') + 1).trimmed().toInt();
        QVERIFY(port > 0);
        QFile script(folder.filePath("script.gdb"));
        QVERIFY(script.open(QIODevice::WriteOnly));
        script.write(QString("set pagination off\nset confirm off\ntarget remote 127.0.0.1:%1\n").arg(port).toUtf8());
        script.write("echo A:\nprint/x $sp\nbreak inner\ncontinue\necho B:\nbacktrace\ndelete\nwatch beats\ncontinue\ncontinue\necho C:\nprint beats\nreverse-continue\nreverse-continue\necho D:\nprint beats\ndelete\n"
                     "break TIM2_IRQHandler\ncontinue\necho E:\nbacktrace\necho F:\nprint/x $xpsr & 0x1ff\ndelete\ntbreak outer\ncontinue\necho G:\nprint/x $msp == $sp\nset var $r7 = 0x1234\necho H:\nprint/x $r7\n"
                     "set var beats = 500\necho I:\nprint beats\nstepi\nreverse-stepi\necho J:\ninfo symbol $pc\nx/2i $pc\nkill\n");
        script.close();
        QProcess gdb;
        gdb.setProcessChannelMode(QProcess::MergedChannels);
        gdb.start("gdb-multiarch", {"-q", "-nx", "-batch", "-x", script.fileName(), elf});
        QVERIFY(gdb.waitForFinished(60'000));
        const QString said = QString::fromUtf8(gdb.readAllStandardOutput());
        const auto has = [&](const char* text) { QVERIFY2(said.contains(QRegularExpression(text)), qPrintable(QString("/%1/ in\n%2").arg(text, said))); };
        has("A:\\$\\d+ = 0x20005000");
        has("B:#0  inner \\(\\).*\\n#1  0x[0-9a-f]+ in outer \\(\\).*\\n#2  0x[0-9a-f]+ in main");
        has("C:\\$\\d+ = 2");
        // gdb lets the core take one more instruction at a watchpoint of this architecture: the first step back is to the change itself, the second to the one before.
        has("D:\\$\\d+ = 1");
        has("E:#0  TIM2_IRQHandler \\(\\).*\\n#1  <signal handler called>\\n#2 ");
        has("F:\\$\\d+ = 0x2c");  // exception 44
        has("G:\\$\\d+ = 0x1");
        has("H:\\$\\d+ = 0x1234");
        has("I:\\$\\d+ = 500");
        has("J:outer");
        QVERIFY2(!said.contains("Truncated register"), qPrintable(said));
        cli.waitForFinished(10'000);
        cli.kill();
        cli.waitForFinished();
    }
};

QTEST_GUILESS_MAIN(GdbMultiarchTest)
#include "gdb_multiarch_test.moc"
