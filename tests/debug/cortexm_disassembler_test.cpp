// Thumb instructions as text, against arm-none-eabi-objdump: every instruction of the C library, and every halfword there is.
#include <QtTest>

#include <QFileInfo>
#include <QMap>

#include "chip/cortexm/core/isa.h"
#include "chip/families.h"
#include "debug/arch/cortexm/architecture.h"
#include "debug/compiled.h"

using namespace bramix;
using namespace bramix::test;

class CortexmDisassemblerTest : public QObject {
    Q_OBJECT

private:
    // One notation of several that mean the same: operands that stand twice once, widths of encoding and offsets of 0 left out, numbers decimal.
    static QString plain(QString mnemonic, QString operands, bool hexTargets)
    {
        static const QMap<QString, QString> kRegisters{{"sl", "r10"}, {"fp", "r11"}, {"ip", "r12"}, {"sb", "r9"}};
        static const QRegularExpression name("\\b(sl|fp|ip|sb)\\b"), hex("(-?)0x([0-9a-f]+)"), target("^[0-9a-f]+$"), branch("^(b(l|lx)?(eq|ne|cs|cc|mi|pl|vs|vc|hi|ls|ge|lt|gt|le)?|cbn?z)$"), twice("^(\\w+),\\1,"),
            shift("^(.*),(lsl|lsr|asr|ror)(#.*)$"), move("^mov(s?)(\\w*)$"), wide("^(add|sub)w(\\w*)$");
        mnemonic = mnemonic.trimmed().toLower();
        mnemonic.remove(".n").remove(".w");
        operands = operands.section(';', 0, 0).section('@', 0, 0).section('<', 0, 0).toLower().remove(' ').trimmed();
        const bool named = !operands.contains("0x");
        for (auto m = hex.match(operands); m.hasMatch(); m = hex.match(operands))
            operands.replace(m.capturedStart(), m.capturedLength(), m.captured(1) + QString::number(m.captured(2).toULongLong(nullptr, 16)));
        for (auto m = name.match(operands); m.hasMatch(); m = name.match(operands))
            operands.replace(m.capturedStart(), m.capturedLength(), kRegisters[m.captured(1)]);
        if (hexTargets && named && branch.match(mnemonic).hasMatch()) {
            QStringList parts = operands.split(',');
            if (!parts.last().startsWith('r') && target.match(parts.last()).hasMatch())
                parts.last() = QString::number(parts.last().toULongLong(nullptr, 16));
            operands = parts.join(',');
        }
        operands.replace(",#0]", "]").replace(",#-0]", "]");
        if ((mnemonic.startsWith("ldmia") || mnemonic.startsWith("stmdb")) && operands.startsWith("sp!,")) {
            mnemonic = (mnemonic.startsWith('l') ? "pop" : "push") + mnemonic.mid(5);
            operands = operands.mid(4);
        }
        if (const auto m = wide.match(mnemonic); m.hasMatch())
            mnemonic = m.captured(1) + m.captured(2);
        if (mnemonic.startsWith("neg")) {
            mnemonic = "rsb" + mnemonic.mid(3);
            operands += ",#0";
        }
        const auto moves = move.match(mnemonic);
        const auto shifts = shift.match(operands);
        if (moves.hasMatch() && shifts.hasMatch()) {
            mnemonic = shifts.captured(2) + moves.captured(1) + moves.captured(2);
            operands = shifts.captured(1) + "," + shifts.captured(3);
        }
        operands.replace(twice, "\\1,");
        if (mnemonic.startsWith("mul") && operands.count(',') == 2)
            operands = operands.section(',', 0, 1);
        if (mnemonic == "svc" || mnemonic == "bkpt" || mnemonic.startsWith("udf"))
            operands.remove('#');
        return mnemonic + " " + operands;
    }

    // How many rows of a listing were compared; complains about those that differ.
    static int compare(const QString& listing, const std::vector<std::uint8_t>& code, std::uint32_t begin)
    {
        static const QRegularExpression row("^\\s*([0-9a-f]+):\\t([0-9a-f]{4}(?: [0-9a-f]{4})?)\\s*\\t(\\S+)\\s*(.*)");
        const chip::CodeView view{code, begin};
        const chip::Device& device = *chip::findDevice("stm32f103c8");
        int compared = 0;
        std::uint32_t data = 0;  // where data ended last, which may look like the beginning of an IT block
        for (const QString& line : listing.split('\n')) {
            if (!line.contains('\t'))
                continue;
            const auto match = row.match(line);
            const std::uint32_t address = line.section(':', 0, 0).trimmed().toUInt(nullptr, 16);
            if (!match.hasMatch() || match.captured(3).startsWith('.')) {
                data = address + 4;
                continue;
            }
            if (data != 0 && address < data + 16)
                continue;
            const debug::InstructionText text = debug::cortexm::disassemble(device, view, address, nullptr);
            const QString ours = plain(QString::fromStdString(text.mnemonic), QString::fromStdString(text.operands), false), theirs = plain(match.captured(3), match.captured(4), true);
            ++compared;
            if (ours != theirs || text.size != (match.captured(2).size() > 4 ? 4U : 2U)) {
                qWarning("%x: %s, but objdump says %s", address, qPrintable(ours), qPrintable(theirs));
                return -compared;
            }
        }
        return compared;
    }

private slots:
    void initTestCase()
    {
        if (QStandardPaths::findExecutable("arm-none-eabi-gcc").isEmpty())
            QSKIP("arm-none-eabi-gcc is not installed");
    }

    // Everything that a compiler makes: the C and the mathematics library for ARMv7-M.
    void librariesReadAsTheIndependentReaderHasThem()
    {
        const QString libc = output("arm-none-eabi-gcc", {"-mcpu=cortex-m3", "-mthumb", "-print-file-name=libc.a"}).trimmed();
        if (!QFileInfo(libc).isAbsolute())
            QSKIP("libnewlib-arm-none-eabi is not installed");
        QTemporaryDir folder;
        const QString elf = folder.filePath("all.elf"), raw = folder.filePath("all.bin");
        output("arm-none-eabi-gcc", {"-mcpu=cortex-m3", "-mthumb", "-nostartfiles", "-nostdlib", "-Wl,-Ttext=0", "-Wl,--unresolved-symbols=ignore-all", "-Wl,--whole-archive", libc, QFileInfo(libc).path() + "/libm.a",
                                     "-Wl,--no-whole-archive", "-Wl,-z,muldefs", "-o", elf});
        output("arm-none-eabi-objcopy", {"-O", "binary", "-j", ".text", elf, raw});
        QFile file(raw);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray bytes = file.readAll();
        const int compared = compare(output("arm-none-eabi-objdump", {"-d", "-j", ".text", elf}), {bytes.begin(), bytes.end()}, 0);
        QVERIFY2(compared > 80'000, qPrintable(QString::number(compared)));
    }

    // All halfwords that are instructions by themselves on ARMv7-M, each followed by NOP; IT changes what follows and has its turn in the libraries.
    void everyHalfword()
    {
        QTemporaryDir folder;
        std::vector<std::uint8_t> code;
        for (unsigned h = 0; h < 0xE800; ++h) {
            const auto i = chip::cortexm::decode(static_cast<std::uint16_t>(h), 0xBF00);
            // objdump knows later architectures and what is unpredictable; hints that are none do nothing.
            const bool odd = (h & 0xFF87) > 0x4700 && (h & 0xFF00) == 0x4700 && (h & 7) != 0;
            if (i.op == chip::cortexm::Op::undefined || i.op == chip::cortexm::Op::it || i.op == chip::cortexm::Op::cps || h == 0x46C0 || odd || ((h & 0xFF00) == 0xBF00 && h > 0xBF40))
                continue;
            code.insert(code.end(), {static_cast<std::uint8_t>(h), static_cast<std::uint8_t>(h >> 8), 0x00, 0xBF});
        }
        QFile raw(folder.filePath("all.bin"));
        QVERIFY(raw.open(QIODevice::WriteOnly));
        raw.write(reinterpret_cast<const char*>(code.data()), static_cast<qint64>(code.size()));
        raw.close();
        const int compared = compare(output("arm-none-eabi-objdump", {"-D", "-b", "binary", "-marm", "-Mforce-thumb", raw.fileName()}), code, 0);
        QVERIFY2(compared > 100'000, qPrintable(QString::number(compared)));
    }
};

QTEST_APPLESS_MAIN(CortexmDisassemblerTest)
#include "cortexm_disassembler_test.moc"
