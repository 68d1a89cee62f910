// Names of code addresses, against an independent reader of the same ELF file: avr-addr2line.
#include <QtTest>

#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "debug/compiled.h"
#include "debug/frames.h"
#include "debug/symbols.h"
#include "kernel/random.h"

using bramix::debug::Symbols;

class SymbolsTest : public QObject {
    Q_OBJECT

private slots:
    void namesEveryAddressAsTheIndependentReaderDoes()
    {
        if (QStandardPaths::findExecutable("avr-addr2line").isEmpty())
            QSKIP("avr-addr2line is not installed");
        const QString elf = QString(BRAMIX_TEST_SOURCES) + "/../benches/withy-lock/firmware/withy-lock.elf";
        const Symbols symbols = Symbols::fromElf(elf.toStdString());
        QVERIFY(!symbols.empty());
        QStringList arguments{"-f", "-e", elf};
        for (int address = 0; address < 0x700; address += 2)
            arguments << QString("0x%1").arg(address, 0, 16);
        QProcess reader;
        reader.start("avr-addr2line", arguments);
        QVERIFY(reader.waitForFinished(30'000));
        const QStringList lines = QString::fromLocal8Bit(reader.readAllStandardOutput()).split('\n', Qt::SkipEmptyParts);
        int compared = 0;
        for (int i = 0; 2 * i + 1 < lines.size(); ++i) {
            const QString place = lines[2 * i + 1].section(' ', 0, 0);
            const int line = place.section(':', -1).toInt();
            if (line == 0)
                continue;
            const auto ours = symbols.at(static_cast<std::uint32_t>(2 * i));
            QCOMPARE(ours.line, line);
            QCOMPARE(QString::fromStdString(ours.file).section('/', -1), place.section(':', 0, -2).section('/', -1));
            ++compared;
        }
        QVERIFY2(compared > 300, qPrintable(QString::number(compared)));
        QVERIFY(symbols.at(0x7000).full().empty());
    }

    // A stop at a function comes before its first statement, also where that begins at once.
    void aFunctionBeginsWithItsFirstStatement()
    {
        const QString elf = QString(BRAMIX_TEST_SOURCES) + "/../benches/withy-lock/firmware/withy-lock.elf";
        const Symbols symbols = Symbols::fromElf(elf.toStdString());
        QFile source(QString(BRAMIX_TEST_SOURCES) + "/../benches/withy-lock/firmware/panel.c");
        QVERIFY(source.open(QIODevice::ReadOnly));
        const QStringList lines = QString::fromUtf8(source.readAll()).split('\n');
        const int function = symbols.functionByName("wire_wait");
        QVERIFY(function >= 0);
        const auto place = symbols.at(symbols.afterPrologue(function));
        QVERIFY2(lines[place.line - 1].contains("while (!(TWCR"), place.full().c_str());
    }

    // Damaged files are read as far as they can be, and nothing is made of the rest: 400 of each kind with bytes changed, and 40 cut short.
    void damagedFilesHarmNothing()
    {
        if (!bramix::test::haveCompiler())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        bramix::kernel::Random random(3);
        for (const QStringList& options : {QStringList{"-gdwarf-4", "-Os"}, QStringList{"-g", "-Os"}, QStringList{"-gdwarf-5", "-O1"}}) {
            QFile good(bramix::test::compile(folder, bramix::test::kKeeper, options));
            QVERIFY(good.open(QIODevice::ReadOnly));
            const QByteArray bytes = good.readAll();
            const Symbols whole = Symbols::fromElf(good.fileName().toStdString());
            QVERIFY(whole.functionByName("main") >= 0);
            for (int round = 0; round < 440; ++round) {
                QByteArray damaged = bytes;
                if (round >= 400)
                    damaged.truncate(static_cast<qsizetype>(random.below(static_cast<std::uint64_t>(bytes.size()))));
                // Most of the file is flash and names: the descriptions lie behind them.
                for (std::uint64_t i = 1 + random.below(20); round < 400 && i > 0; --i)
                    damaged[static_cast<qsizetype>(bytes.size() / 4 + static_cast<qsizetype>(random.below(static_cast<std::uint64_t>(bytes.size() * 3 / 4))))] = static_cast<char>(random.next());
                QFile file(folder.filePath("damaged.elf"));
                QVERIFY(file.open(QIODevice::WriteOnly));
                file.write(damaged);
                file.close();
                const Symbols symbols = Symbols::fromElf(file.fileName().toStdString());
                (void)bramix::debug::FrameTable::fromElf(file.fileName().toStdString());
                for (std::uint32_t address = 0; address < 0x400; address += 2)
                    (void)symbols.at(address).full();
                for (const auto& v : symbols.variables())
                    (void)symbols.types().name(v.type);
                for (std::size_t f = 0; f < symbols.functions().size(); ++f)
                    if (symbols.functions()[f].caller < 0)
                        (void)symbols.afterPrologue(static_cast<int>(f));
            }
        }
    }

    void aFileWithoutDebugInformationStillNamesFunctions()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        QFile source(folder.filePath("tide.c"));
        QVERIFY(source.open(QIODevice::WriteOnly));
        source.write("volatile int tide; __attribute__((noinline)) void rise(void) { tide++; }\nint main(void) { for (;;) rise(); }\n");
        source.close();
        const QString elf = folder.filePath("tide.elf");
        QCOMPARE(QProcess::execute("avr-gcc", {"-mmcu=atmega328p", "-Os", "-o", elf, source.fileName()}), 0);
        QProcess nm;
        nm.start("avr-nm", {elf});
        QVERIFY(nm.waitForFinished());
        const QString table = nm.readAllStandardOutput();
        const std::uint32_t address = table.section(" T rise", 0, 0).section('\n', -1).toUInt(nullptr, 16);
        QVERIFY(address > 0);
        const auto place = Symbols::fromElf(elf.toStdString()).at(address);
        QCOMPARE(place.function, "rise");
        QCOMPARE(place.line, 0);
        QCOMPARE(place.brief(), "rise()");
    }

    void whatCannotBeReadIsNotKnown()
    {
        QVERIFY(Symbols::fromElf("/nowhere").empty());
        QVERIFY(Symbols::fromElf(QCoreApplication::applicationDirPath().toStdString()).empty());
        QTemporaryDir folder;
        QFile file(folder.filePath("text.elf"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write("\x7f" "ELF and then nothing that makes sense");
        file.close();
        QVERIFY(Symbols::fromElf(file.fileName().toStdString()).empty());
    }
};

QTEST_GUILESS_MAIN(SymbolsTest)
#include "symbols_test.moc"
