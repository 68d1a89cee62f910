// Which function each word belongs to, against the symbol table that avr-nm reads from the same file.
#include <QtTest>

#include "chip/families.h"
#include "debug/compiled.h"
#include "debug/function_map.h"

using namespace bramix;
using namespace bramix::debug;
using namespace bramix::test;

class FunctionMapTest : public QObject {
    Q_OBJECT

private slots:
    void wordsBelongToTheirFunctions_data()
    {
        QTest::addColumn<QStringList>("options");
        QTest::newRow("with debug information") << QStringList{"-Os", "-gdwarf-4"};
        QTest::newRow("without") << QStringList{"-O2"};
    }
    void wordsBelongToTheirFunctions()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QFETCH(QStringList, options);
        QTemporaryDir folder;
        const QString elf = compile(folder, kKeeper, options);
        const auto firmware = chip::loadFirmware(elf.toStdString(), *chip::findDevice("atmega328p"));
        QVERIFY(firmware.has_value());
        std::vector<std::uint8_t> flash = firmware->flash;
        flash.resize(0x8000, 0xFF);
        const FunctionMap map(Symbols::fromElf(elf.toStdString()), {flash, 0}, *chip::findDevice("atmega328p"));
        QProcess nm;
        nm.start("avr-nm", {"-S", "--defined-only", elf});
        QVERIFY(nm.waitForFinished());
        QMap<std::uint32_t, QStringList> begins;  // by address; one place may have several names
        QMap<std::uint32_t, std::uint32_t> sizes;
        for (const QString& line : QString(nm.readAllStandardOutput()).split('\n')) {
            const QStringList words = line.split(' ', Qt::SkipEmptyParts);
            if (words.size() != 4 || words[2].toUpper() != "T")
                continue;
            const std::uint32_t at = words[0].toUInt(nullptr, 16);
            begins[at] << words[3];
            sizes[at] = words[1].toUInt(nullptr, 16);
        }
        QVERIFY(begins.size() > 5);
        for (auto b = begins.begin(); b != begins.end(); ++b)
            for (std::uint32_t a = b.key(); a < b.key() + sizes[b.key()]; a += 2) {
                const std::uint16_t f = map.of(a);
                QVERIFY2(f != FunctionMap::kNone && b.value().contains(QString::fromStdString(map.names[f])), qPrintable(QString("%1: %2").arg(a, 4, 16, QChar('0')).arg(f == FunctionMap::kNone ? "nothing" : map.names[f].c_str())));
            }
        QCOMPARE(map.of(0x7FFE), FunctionMap::kNone);
        QCOMPARE(map.of(0x123456), FunctionMap::kNone);
        // A slot of the table of vectors belongs to its handler.
        int handlers = 0;
        for (std::uint32_t v = 1; v < 26; ++v)
            if (const std::uint16_t f = map.of(4 * v); f != FunctionMap::kNone && map.names[f] == "__vector_" + std::to_string(v))
                ++handlers;
        QVERIFY(handlers >= 1);
        // Table 12-6 of the ATmega328P's datasheet.
        QVERIFY(handledBy(*chip::findDevice("atmega328p"), "__vector_11") == "TIMER1_COMPA" && handledBy(*chip::findDevice("atmega328p"), "__vector_18") == "USART_RX");
        QVERIFY(handledBy(*chip::findDevice("atmega328p"), "__vectors").empty() && handledBy(*chip::findDevice("atmega328p"), "__vector_99").empty() && handledBy(*chip::findDevice("atmega328p"), "main").empty());
    }
};

QTEST_GUILESS_MAIN(FunctionMapTest)
#include "function_map_test.moc"
