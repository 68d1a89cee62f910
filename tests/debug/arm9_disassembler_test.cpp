// ARM and Thumb instructions of version 5 as text, against objdump: every instruction of the C and mathematics libraries in both states.
#include <QtTest>

#include <QFileInfo>

#include "chip/cross_compiler.h"
#include "chip/families.h"
#include "debug/arch/arm9/architecture.h"
#include "debug/symbols.h"

using namespace bramix;
using namespace bramix::test;

class Arm9DisassemblerTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    // One notation of several that mean the same.
    static QString plain(QString mnemonic, QString operands, bool theirs)
    {
        static const QMap<QString, QString> kRegisters{{"sl", "r10"}, {"fp", "r11"}, {"ip", "r12"}, {"sb", "r9"}};
        static const QRegularExpression name("\\b(sl|fp|ip|sb)\\b"), hex("(-?)0x0*([0-9a-f]+)"), target("^[0-9a-f]+$"), branch("^(b(l|lx)?(eq|ne|cs|cc|mi|pl|vs|vc|hi|ls|ge|lt|gt|le)?)$"), twice("^(\\w+),\\1,"), shift("^(lsl|lsr|asr|ror)"),
            rotated("^(.*#\\d+),(\\d+)$");
        mnemonic = mnemonic.trimmed().toLower();
        mnemonic.remove(".n").remove(".w");
        operands = operands.section(';', 0, 0).section('@', 0, 0).section('<', 0, 0).toLower();
        for (auto m = name.match(operands); m.hasMatch(); m = name.match(operands))
            operands.replace(m.capturedStart(), m.capturedLength(), kRegisters[m.captured(1)]);
        operands = operands.remove(' ').trimmed();
        if (mnemonic == "mov" && operands == "r8,r8")
            return "nop ";
        const bool named = !operands.contains("0x");
        for (auto m = hex.match(operands); m.hasMatch(); m = hex.match(operands))
            operands.replace(m.capturedStart(), m.capturedLength(), m.captured(1) + QString::number(m.captured(2).toULongLong(nullptr, 16)));
        if (theirs && named && branch.match(mnemonic).hasMatch() && target.match(operands).hasMatch())
            operands = QString::number(operands.toULongLong(nullptr, 16));
        operands.replace(",#0]", "]").replace(",#-0]", "]");
        operands.replace(twice, "\\1,");
        if (mnemonic.startsWith("mul") && operands.count(',') == 2)
            operands = operands.section(',', 0, 1);
        if (mnemonic.startsWith("ldmia") || mnemonic.startsWith("stmia"))
            mnemonic.remove("ia");
        if (mnemonic.startsWith("ldmfd"))
            mnemonic.remove("fd");
        if ((mnemonic.startsWith("svc") || mnemonic.startsWith("bkpt")))
            operands.remove('#');
        if (mnemonic.startsWith("ldrd") || mnemonic.startsWith("strd"))
            operands.remove(QRegularExpression("^r\\d+,(?=r|lr|sp)"));
        // A negative immediate is the same bits.
        static const QRegularExpression minus("#-(\\d+)$");
        if (const auto m = minus.match(operands); m.hasMatch() && !operands.contains('['))
            operands.replace(m.capturedStart(), m.capturedLength(), "#" + QString::number(static_cast<std::uint32_t>(-m.captured(1).toLongLong())));
        return mnemonic + " " + operands;
    }

    int compare(const QStringList& options)
    {
        QByteArray found;
        if (!runTool(folder_.path(), "arm-none-eabi-gcc", options + QStringList{"-print-file-name=libc.a"}, &found) || !QFileInfo(QString(found).trimmed()).isAbsolute())
            return 0;
        const QString libc = QString(found).trimmed(), elf = folder_.filePath("all.elf"), raw = folder_.filePath("all.bin");
        if (!runTool(folder_.path(), "arm-none-eabi-gcc", options + QStringList{"-nostartfiles", "-nostdlib", "-Wl,-Ttext=0", "-Wl,--unresolved-symbols=ignore-all", "-Wl,--whole-archive", libc, QFileInfo(libc).path() + "/libm.a", "-Wl,--no-whole-archive", "-Wl,-z,muldefs", "-o", elf}) ||
            !runTool(folder_.path(), "arm-none-eabi-objcopy", {"-O", "binary", "-j", ".text", elf, raw}))
            return 0;
        QByteArray listing;
        if (!runTool(folder_.path(), "arm-none-eabi-objdump", {"-d", "-j", ".text", elf}, &listing))
            return 0;
        QFile file(raw);
        if (!file.open(QIODevice::ReadOnly))
            return 0;
        const QByteArray bytes = file.readAll();
        const std::vector<std::uint8_t> code(bytes.begin(), bytes.end());
        const debug::Symbols symbols = debug::Symbols::fromElf(elf.toStdString());
        const chip::Device& device = *chip::findDevice("arm926ej-s");
        static const QRegularExpression row("^\\s*([0-9a-f]+):\\t([0-9a-f]{4}(?: [0-9a-f]{4})?|[0-9a-f]{8})\\s*\\t(\\S+)\\s*(.*)");
        int compared = 0;
        for (const QString& line : QString(listing).split('\n')) {
            const auto match = row.match(line);
            // Data, and what this core has no coprocessor for.
            if (!match.hasMatch() || match.captured(3).startsWith('.') || match.captured(3).startsWith("v") || match.captured(4).contains("UNDEFINED") || match.captured(4).contains("UNPREDICTABLE") || match.captured(3) == "udf")
                continue;
            const std::uint32_t address = match.captured(1).toUInt(nullptr, 16);
            const debug::InstructionText text = debug::arm9::disassemble(device, {code, 0}, address, &symbols);
            const QString ours = plain(QString::fromStdString(text.mnemonic), QString::fromStdString(text.operands), false), theirs = plain(match.captured(3), match.captured(4), true);
            const unsigned size = match.captured(2).size() > 4 ? 4 : 2;
            ++compared;
            if (ours != theirs || text.size != size) {
                qWarning("%x: %s, but objdump says %s", address, qPrintable(ours), qPrintable(theirs));
                return -compared;
            }
        }
        return compared;
    }

private slots:
    void initTestCase()
    {
        if (!isInstalled("arm-none-eabi-gcc"))
            QSKIP("arm-none-eabi-gcc is not installed");
    }
    void armReadsAsTheIndependentReaderHasIt() { QVERIFY(compare({"-marm", "-march=armv5te"}) > 50'000); }
    void thumbReadsAsTheIndependentReaderHasIt() { QVERIFY(compare({"-mthumb"}) > 50'000); }
};

QTEST_GUILESS_MAIN(Arm9DisassemblerTest)
#include "arm9_disassembler_test.moc"
