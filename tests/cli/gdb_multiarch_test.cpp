// A real gdb-multiarch on microcontrollers of three families: the registers that it is told of, stops, watches, the stack through an exception, and backwards.
#include <QtTest>

#include "chip/arm9/arm9_program.h"
#include "chip/beats_programs.h"
#include "chip/cortexm/beats_program.h"
#include "chip/riscv/riscv_program.h"

using namespace bramix::test;

class GdbMultiarchTest : public QObject {
    Q_OBJECT

    // What gdb says to these commands.
    static QString talk(const QTemporaryDir& folder, const QString& device, const QString& elf, const QByteArray& commands)
    {
        QProcess cli;
        cli.setProcessChannelMode(QProcess::SeparateChannels);
        cli.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", {"run", "--chip", device, "--firmware", elf, "--gdb", "0", "--serial", device == "stm32f103c8" ? "usart1=none" : "uart0=none"});
        cli.setReadChannel(QProcess::StandardError);
        while (!cli.canReadLine() && cli.waitForReadyRead(10'000)) {
        }
        const QByteArray told = cli.readLine();
        const int port = told.mid(told.lastIndexOf(':') + 1).trimmed().toInt();
        if (port <= 0)
            return told;
        QFile script(folder.filePath("script.gdb"));
        if (!script.open(QIODevice::WriteOnly))
            return {};
        script.write(QString("set pagination off\nset confirm off\ntarget remote 127.0.0.1:%1\n").arg(port).toUtf8());
        script.write(commands);
        script.close();
        QProcess gdb;
        gdb.setProcessChannelMode(QProcess::MergedChannels);
        gdb.start("gdb-multiarch", {"-q", "-nx", "-batch", "-x", script.fileName(), elf});
        gdb.waitForFinished(60'000);
        cli.waitForFinished(10'000);
        cli.kill();
        cli.waitForFinished();
        return QString::fromUtf8(gdb.readAllStandardOutput());
    }

private slots:
    void dailyUse()
    {
        if (!arm::haveCompiler() || QStandardPaths::findExecutable("gdb-multiarch").isEmpty())
            QSKIP("arm-none-eabi-gcc or gdb-multiarch is not installed");
        QTemporaryDir folder;
        const QString elf = arm::compile(folder, arm::kBeats, {"-Os"}, arm::kBeatsVectors);
        QVERIFY(!elf.isEmpty());
        const QString said = talk(folder, "stm32f103c8", elf,
                                  "echo A:\nprint/x $sp\nbreak inner\ncontinue\necho B:\nbacktrace\ndelete\nwatch beats\ncontinue\ncontinue\necho C:\nprint beats\nreverse-continue\nreverse-continue\necho D:\nprint beats\ndelete\n"
                     "break TIM2_IRQHandler\ncontinue\necho E:\nbacktrace\necho F:\nprint/x $xpsr & 0x1ff\ndelete\ntbreak outer\ncontinue\necho G:\nprint/x $msp == $sp\nset var $r7 = 0x1234\necho H:\nprint/x $r7\n"
                     "set var beats = 500\necho I:\nprint beats\nstepi\nreverse-stepi\necho J:\ninfo symbol $pc\nx/2i $pc\nkill\n");
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
    }

    void dailyUseOfOthers_data()
    {
        QTest::addColumn<QString>("device");
        QTest::addColumn<QString>("handler");
        QTest::newRow("RISC-V") << "esp32c3" << "tick";
        QTest::newRow("classic ARM") << "arm926ej-s" << "irq_handler";
    }
    void dailyUseOfOthers()
    {
        QFETCH(QString, device);
        QFETCH(QString, handler);
        const bool riscvOne = device == "esp32c3";
        if (isInstalled("gdb-multiarch") == false || !(riscvOne ? riscv::haveCompiler() : arm9::haveCompiler()))
            QSKIP("its compiler or gdb-multiarch is not installed");
        QTemporaryDir folder;
        const QString elf = riscvOne ? riscv::compile(folder, kBeatsOfRiscv, {"-Os"}) : arm9::compile(folder, kBeatsOfArm9, {"-Os"});
        QVERIFY(!elf.isEmpty());
        const QString said = talk(folder, device, elf,
                                  QString("break inner\ncontinue\necho B:\nbacktrace\ndelete\nwatch beats\ncontinue\ncontinue\necho C:\nprint beats\nreverse-continue\nreverse-continue\necho D:\nprint beats\ndelete\n"
                                          "break %1\ncontinue\necho E:\nbacktrace 1\necho F:\nprint/x %2\ndelete\ntbreak outer\ncontinue\nset var %3 = 0x1234\necho H:\nprint/x %3\n"
                                          "set var beats = 500\necho I:\nprint beats\nstepi\nreverse-stepi\necho J:\ninfo symbol $pc\nx/2i $pc\nkill\n")
                                      .arg(handler, riscvOne ? "$mcause" : "$cpsr & 0x1f", riscvOne ? "$s5" : "$r7")
                                      .toUtf8());
        const auto has = [&](const QString& text) { QVERIFY2(said.contains(QRegularExpression(text)), qPrintable(QString("/%1/ in\n%2").arg(text, said))); };
        has("B:#0  inner \\(\\).*\\n#1  0x[0-9a-f]+ in outer \\(\\).*\\n#2  0x[0-9a-f]+ in main");
        has("C:\\$\\d+ = 2");
        has("D:\\$\\d+ = [01]");
        has(QString("E:#0  %1 \\(\\)").arg(handler));
        has(riscvOne ? "F:\\$\\d+ = 0x80000003" : "F:\\$\\d+ = 0x12");
        has("H:\\$\\d+ = 0x1234");
        has("I:\\$\\d+ = 500");
        has("J:outer");
        QVERIFY2(!said.contains("Truncated register") && !said.contains("warning: ", Qt::CaseInsensitive), qPrintable(said));
    }
};

QTEST_GUILESS_MAIN(GdbMultiarchTest)
#include "gdb_multiarch_test.moc"
