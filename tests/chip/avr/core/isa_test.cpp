// The decoder against an independent reader: the disassembler of the GNU binutils, over all 65536 first words.
#include <QtTest>

#include <QProcess>
#include <QTemporaryDir>

#include "chip/avr/core/bare_core.h"

using namespace bramix::test;

namespace {

// Objdump prints aliases for some encodings; ours are decoded as what they are.
const QHash<QString, QString>& aliases()
{
    static const QHash<QString, QString> table{
        {"lsl", "add"},   {"rol", "adc"},   {"tst", "and"},  {"clr", "eor"},  {"ser", "ldi"},  {"sbr", "ori"},  {"cbr", "andi"}, {"breq", "brbs"}, {"brne", "brbc"},
        {"brcs", "brbs"}, {"brlo", "brbs"}, {"brcc", "brbc"}, {"brsh", "brbc"}, {"brmi", "brbs"}, {"brpl", "brbc"}, {"brvs", "brbs"}, {"brvc", "brbc"}, {"brlt", "brbs"},
        {"brge", "brbc"}, {"brhs", "brbs"}, {"brhc", "brbc"}, {"brts", "brbs"}, {"brtc", "brbc"}, {"brie", "brbs"}, {"brid", "brbc"}, {"sec", "bset"},  {"sez", "bset"},
        {"sen", "bset"},  {"sev", "bset"},  {"ses", "bset"}, {"seh", "bset"}, {"set", "bset"}, {"sei", "bset"}, {"clc", "bclr"}, {"clz", "bclr"},  {"cln", "bclr"},
        {"clv", "bclr"},  {"cls", "bclr"},  {"clh", "bclr"}, {"clt", "bclr"}, {"cli", "bclr"}, {"ldd", "ldd"}};
    return table;
}

}  // namespace

class IsaTest : public QObject {
    Q_OBJECT

private slots:
    void decodesEveryWordAsTheDisassemblerDoes()
    {
        if (QStandardPaths::findExecutable("avr-objdump").isEmpty())
            QSKIP("avr-objdump is not installed");
        QTemporaryDir folder;
        // Each word stands in a four-byte cell, followed by 0x0000: a second word, or a nop.
        QByteArray image;
        for (int w = 0; w < 0x10000; ++w) {
            image += static_cast<char>(w);
            image += static_cast<char>(w >> 8);
            image += QByteArray(2, 0);
        }
        QFile file(folder.filePath("words.bin"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(image);
        file.close();
        QProcess objdump;
        objdump.start("avr-objdump", {"-D", "-z", "-b", "binary", "-m", "avr:6", file.fileName()});
        QVERIFY(objdump.waitForFinished(60'000));
        // "  3fc:\t0c 94 00 00 \tjmp\t0x0\t;  0x0"
        int compared = 0;
        int words = 0;
        for (const QByteArray& line : objdump.readAllStandardOutput().split('\n')) {
            const QList<QByteArray> fields = line.split('\t');
            if (fields.size() < 3)
                continue;
            bool ok = false;
            const int address = fields[0].trimmed().chopped(1).toInt(&ok, 16);
            if (!ok || address % 4 != 0)
                continue;
            ++words;
            const int word = address / 4;
            QString theirs = fields[2].trimmed();
            theirs = aliases().value(theirs, theirs);
            Core core = kLargeCore;
            const Instruction i = decode(core, 0x1000, static_cast<std::uint16_t>(word), 0);
            QString ours = mnemonic(i.op);
            if (i.op == Op::erased)
                ours = "undefined";
            // Not in these cores, or not told apart by the printer.
            if (theirs == ".word" || theirs == "des" || theirs == "xch" || theirs == "las" || theirs == "lac" || theirs == "lat")
                theirs = "undefined";
            if (theirs == "spm" && (word & 0xFFFF) == 0x95F8)
                theirs = "undefined";  // SPM Z+ came with later cores
            if (ours == "ldd" && i.k == 0 && theirs == "ld")
                theirs = "ldd";
            if (ours == "std" && i.k == 0 && theirs == "st")
                theirs = "std";
            if (ours == theirs) {
                ++compared;
                continue;
            }
            QFAIL(qPrintable(QString("0x%1: %2, objdump says %3").arg(word, 4, 16, QChar('0')).arg(ours, theirs)));
        }
        QCOMPARE(words, 0x10000);
        QCOMPARE(compared, words);
    }

    void jumpsWrapAtTheEndOfFlash()
    {
        QCOMPARE(decode(kSmallCore, 0, 0xCFFE, 0).target, 0x3FFFU);  // rjmp .-4 from address 0
        QCOMPARE(decode(kSmallCore, 0x3FFF, 0xC000, 0).target, 0U);
        QCOMPARE(decode(kSmallCore, 0x3FFE, 0xF009, 0).target, 0U);  // breq .+2
    }
};

QTEST_APPLESS_MAIN(IsaTest)
#include "isa_test.moc"
