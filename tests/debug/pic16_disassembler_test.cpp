// 14-bit PIC instructions as text, against gpdasm: every word there is; and names against gputils' own list of symbols.
#include <QtTest>

#include "chip/families.h"
#include "chip/pic16/core/isa.h"
#include "chip/pic16/pic_program.h"
#include "debug/arch/pic16/architecture.h"
#include "debug/code_functions.h"

using namespace bramix;
using namespace bramix::test;

class Pic16DisassemblerTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    static chip::CodeView viewOf(const std::vector<std::uint8_t>& bytes) { return {bytes, 0, 2}; }
    static int number(const QString& text) { return text.startsWith("0x") ? text.mid(2).toInt(nullptr, 16) : text.toInt(); }

private slots:
    void initTestCase()
    {
        if (!isInstalled("gpdasm"))
            QSKIP("gputils is not installed");
    }

    void everyWordReadsAsTheIndependentReaderHasIt()
    {
        const chip::Device& device = *chip::findDevice("pic16f877a");
        int compared = 0;
        // 8192 words at a time.
        for (unsigned half = 0; half < 2; ++half) {
            std::vector<std::uint8_t> code;
            for (unsigned w = half * 8192; w < (half + 1) * 8192; ++w)
                code.insert(code.end(), {static_cast<std::uint8_t>(w), static_cast<std::uint8_t>(w >> 8)});
            QFile hex(folder_.filePath("all.hex"));
            QVERIFY(hex.open(QIODevice::WriteOnly));
            hex.write(chip::writeIntelHex(code).c_str());
            hex.close();
            QByteArray listing;
            QVERIFY(runTool(folder_.path(), "gpdasm", {"-p", "16f877a", "all.hex"}, &listing));
            static const QRegularExpression row("^([0-9a-f]{4,6}):\\s+([0-9a-f]{4})\\s+(\\S+)\\s*(.*)$");
            for (const QString& line : QString(listing).split('\n')) {
                const auto match = row.match(line);
                if (!match.hasMatch() || match.captured(3) == "dw")
                    continue;
                const std::uint32_t address = match.captured(1).toUInt(nullptr, 16);
                const unsigned word = match.captured(2).toUInt(nullptr, 16);
                const auto op = chip::pic16::decode(static_cast<std::uint16_t>(word)).op;
                if (op == chip::pic16::Op::undefined)
                    continue;
                const debug::InstructionText text = debug::pic16::disassemble(device, viewOf(code), address, nullptr);
                const QString theirs = match.captured(3).toLower();
                QVERIFY2(QString::fromStdString(text.mnemonic) == theirs || (theirs == "movfw" && text.mnemonic == "movf"), qPrintable(QString("%1: %2, but gpdasm says %3").arg(word, 4, 16).arg(text.mnemonic.c_str(), theirs)));
                const QStringList ours = QString::fromStdString(text.operands).remove(' ').split(','), given = match.captured(4).section(';', 0, 0).remove(' ').toLower().split(',');
                QVERIFY2(ours.size() == given.size(), qPrintable(line));
                for (int i = 0; i < ours.size(); ++i) {
                    // Where the result goes is a 1 or a 0 there; a page is not in the word.
                    const bool jumps = theirs == "goto" || theirs == "call";
                    const int mask = jumps ? 0x7FF : 0xFFFF;
                    if (ours[i] == "w" || ours[i] == "f")
                        QVERIFY2((ours[i] == "f") == (number(given[i]) == 1), qPrintable(line + " / " + text.operands.c_str()));
                    else if (!ours[i].isEmpty() && ours[i][0].isDigit())
                        QVERIFY2((number(ours[i]) & mask) == (number(given[i]) & mask), qPrintable(line + " / " + text.operands.c_str()));
                    else
                        QVERIFY2(ours[i].isEmpty() == given[i].isEmpty(), qPrintable(line));
                }
                ++compared;
            }
        }
        QVERIFY2(compared > 15'500, qPrintable(QString::number(compared)));
    }

    // An absolute program: lines, labels that are called, and what EQU and CBLOCK reserve.
    void anAbsoluteProgramHasItsSymbols()
    {
        const QString hex = pic::assemble(folder_, "16f88", R"(        __config _CONFIG1, _INTRC_IO & _WDT_OFF & _LVP_OFF
limit   equ     0x2A
        cblock 0x70
keep
count
        endc
        org     0
        goto    start
        org     4
        movwf   keep
        retfie
start   clrf    count
loop    incf    count, f
        call    work
        goto    loop
work    movlw   limit
        return)");
        QVERIFY(!hex.isEmpty());
        const chip::Device& device = *chip::findDevice("pic16f88");
        const auto firmware = chip::loadFirmware(hex.toStdString(), device);
        QVERIFY(firmware.has_value());
        QVERIFY(!firmware->options.empty());
        const debug::Symbols symbols = debug::symbolsOfFirmware(hex.toStdString(), false, viewOf(firmware->flash), device);
        QVERIFY(symbols.global("count") >= 0 && symbols.global("keep") >= 0);
        QCOMPARE(*symbols.variables()[static_cast<std::size_t>(symbols.global("count"))].fixedAddress(), debug::kElfData + 0x71);
        QStringList functions;
        for (const debug::Function& f : symbols.functions())
            functions << QString::fromStdString(f.name);
        QCOMPARE(functions, QStringList({"reset", "interrupt", "start", "work"}));
        // The line of each instruction, against the assembler's own listing.
        QFile list(QString(hex).replace(".hex", ".lst"));
        QVERIFY(list.open(QIODevice::ReadOnly));
        static const QRegularExpression row("^([0-9A-F]{4,6})\\s+([0-9A-F]{4})\\s+(\\d+)\\s");
        int compared = 0;
        for (const QByteArray& line : list.readAll().split('\n')) {
            const auto match = row.match(line);
            if (!match.hasMatch() || match.captured(1).toUInt(nullptr, 16) > 0x1000)
                continue;
            const debug::Place place = symbols.at(match.captured(1).toUInt(nullptr, 16));
            QCOMPARE(place.line, match.captured(3).toInt());
            QCOMPARE(place.file, std::string("program.asm"));
            ++compared;
        }
        QVERIFY(compared >= 9);
    }

    // A relocatable one of two files: names that are nobody else's too, by COFF.
    void aRelocatableProgramHasItsSymbols()
    {
        const QString hex = pic::link(folder_, "16f88", {{"one", R"(
        udata_shr
ticks   res 1
more    res 3
        extern helper
vecs    code 0
        goto main
main_s  code
main    incf ticks, f
        call helper
        goto main
)"}, {"two", R"(
        global helper
        udata
buffer  res 4
        code
helper  banksel buffer
        movwf buffer
        return
)"}});
        QVERIFY(!hex.isEmpty());
        const chip::Device& device = *chip::findDevice("pic16f88");
        const auto firmware = chip::loadFirmware(hex.toStdString(), device);
        QVERIFY(firmware.has_value());
        const debug::Symbols symbols = debug::symbolsOfFirmware(hex.toStdString(), false, viewOf(firmware->flash), device);
        for (const char* name : {"ticks", "more", "buffer"})
            QVERIFY2(symbols.global(name) >= 0, name);
        const auto& more = symbols.variables()[static_cast<std::size_t>(symbols.global("more"))];
        QCOMPARE(symbols.types().size(more.type), 3U);
        QVERIFY(symbols.functionByName("main") >= 0 && symbols.functionByName("helper") >= 0);
        const auto& helper = symbols.functions()[static_cast<std::size_t>(symbols.functionByName("helper"))];
        QCOMPARE(helper.file, std::string("two.asm"));
        int line = helper.line;
        QVERIFY(!symbols.addressesOf("two.asm", line).empty());
        QCOMPARE(symbols.at(helper.begin()).function, std::string("helper"));
    }

    // Damaged ones are left alone.
    void damagedFilesSayNothing()
    {
        const QString hex = pic::assemble(folder_, "16f84a", "        org 0\n        goto 0");
        for (const char* ending : {".cod", ".cof"}) {
            QFile real(QString(hex).replace(".hex", ".cod"));
            QVERIFY(real.open(QIODevice::ReadOnly));
            const QByteArray whole = real.readAll();
            for (int cut : {0, 3, 100, 511, 600, 1100}) {
                QByteArray bytes = whole.left(cut);
                for (int i = 0; i < bytes.size(); i += 7)
                    bytes[i] = static_cast<char>(bytes[i] ^ 0x5A);
                if (QString(ending) == ".cof" && bytes.size() > 2)
                    bytes[0] = 0x40, bytes[1] = 0x12;
                QFile file(folder_.filePath(QString("bad") + ending));
                QVERIFY(file.open(QIODevice::WriteOnly | QIODevice::Truncate));
                file.write(bytes);
                file.close();
                const chip::Device& device = *chip::findDevice("pic16f84a");
                const std::vector<std::uint8_t> code{0x00, 0x28};
                (void)debug::pic16::symbolsBeside(folder_.filePath("bad.hex").toStdString(), viewOf(code), device);
            }
            QFile::remove(folder_.filePath(QString("bad") + ending));
        }
    }
};

QTEST_GUILESS_MAIN(Pic16DisassemblerTest)
#include "pic16_disassembler_test.moc"
