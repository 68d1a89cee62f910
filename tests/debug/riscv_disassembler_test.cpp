// RISC-V instructions as text, against objdump: every instruction of the C library, and every halfword there is.
#include <QtTest>

#include <QFileInfo>

#include "chip/cross_compiler.h"
#include "chip/families.h"
#include "chip/riscv/core/isa.h"
#include "debug/arch/riscv/architecture.h"

using namespace bramix;
using namespace bramix::test;

class RiscvDisassemblerTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;

    // One notation: targets and numbers in hexadecimal without leading zeros, no blanks, no comments.
    static QString plain(QString mnemonic, QString operands)
    {
        static const QRegularExpression hex("0x0*([0-9a-f]+)");
        operands = operands.section('#', 0, 0).section('<', 0, 0).remove(' ').trimmed();
        operands.replace(hex, "\\1");
        // Compressed ones with a number are listed without their i.
        static const QRegularExpression number("^(add|and|sll|srl|sra|or|xor)$"), last(",(-?[0-9]+|1?[0-9a-f])$");
        if (number.match(mnemonic).hasMatch() && last.match(operands).hasMatch())
            mnemonic += "i";
        return mnemonic.trimmed() + " " + operands;
    }

    // What stands for nothing, or for another width, is written in its own way by each reader.
    static bool hint(const QString& mnemonic, const QString& operands) { return mnemonic.startsWith("c.") || operands.startsWith("zero,") || (mnemonic.startsWith("add") && operands.endsWith(",0")) || mnemonic.startsWith("amo") || mnemonic.startsWith("lr.") || mnemonic.startsWith("sc."); }

    int compare(const QString& listing, const std::vector<std::uint8_t>& code)
    {
        static const QRegularExpression row("^\\s*([0-9a-f]+):\\t([0-9a-f]{4,8})\\s*\\t(\\S+)\\s*(.*)"), branches("^(j|jal|b[a-z]+)$");
        const chip::CodeView view{code, 0};
        const chip::Device& device = *chip::findDevice("esp32c3");
        int compared = 0;
        for (const QString& line : listing.split('\n')) {
            const auto match = row.match(line);
            if (!match.hasMatch() || match.captured(3).startsWith('.') || match.captured(3) == "unimp" || match.captured(3) == "c.unimp" || match.captured(3) == "fence" || hint(match.captured(3), match.captured(4).section('#', 0, 0).trimmed()))
                continue;
            const std::uint32_t address = match.captured(1).toUInt(nullptr, 16);
            const debug::InstructionText text = debug::riscv::disassemble(device, view, address, nullptr);
            QString ours = plain(QString::fromStdString(text.mnemonic), QString::fromStdString(text.operands)), theirs = plain(match.captured(3), match.captured(4));
            ++compared;
            if (ours != theirs || text.size != match.captured(2).size() / 2U) {
                qWarning("%x: %s, but objdump says %s", address, qPrintable(ours), qPrintable(theirs));
                return -compared;
            }
        }
        return compared;
    }

private slots:
    void initTestCase()
    {
        if (!isInstalled("riscv64-unknown-elf-objdump"))
            QSKIP("binutils-riscv64-unknown-elf is not installed");
    }

    // Everything that a compiler makes.
    void librariesReadAsTheIndependentReaderHasThem()
    {
        const QString library = "/usr/lib/picolibc/riscv64-unknown-elf/lib/release/rv32imac/ilp32/libc.a";
        if (!QFileInfo::exists(library))
            QSKIP("picolibc-riscv64-unknown-elf is not installed");
        QVERIFY(runTool(folder_.path(), "riscv64-unknown-elf-ld", {"-melf32lriscv", "-Ttext=0", "--no-relax", "--unresolved-symbols=ignore-all", "-z", "muldefs", "--noinhibit-exec", "--whole-archive", library, "-o", "all.elf"}));
        QVERIFY(runTool(folder_.path(), "riscv64-unknown-elf-objcopy", {"-O", "binary", "-j", ".text", "all.elf", "all.bin"}));
        QByteArray listing;
        QVERIFY(runTool(folder_.path(), "riscv64-unknown-elf-objdump", {"-d", "-j", ".text", "all.elf"}, &listing));
        QFile file(folder_.filePath("all.bin"));
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray bytes = file.readAll();
        const int compared = compare(listing, {bytes.begin(), bytes.end()});
        QVERIFY2(compared > 30'000, qPrintable(QString::number(compared)));
    }

    // All compressed instructions that RV32IMC has.
    void everyHalfword()
    {
        std::vector<std::uint8_t> code;
        for (unsigned h = 0; h < 0x10000; ++h)
            if (!chip::riscv::isLong(h) && chip::riscv::decode(h).op != chip::riscv::Op::undefined)
                code.insert(code.end(), {static_cast<std::uint8_t>(h), static_cast<std::uint8_t>(h >> 8)});
        QFile raw(folder_.filePath("half.bin"));
        QVERIFY(raw.open(QIODevice::WriteOnly));
        raw.write(reinterpret_cast<const char*>(code.data()), static_cast<qint64>(code.size()));
        raw.close();
        QByteArray listing;
        QVERIFY(runTool(folder_.path(), "riscv64-unknown-elf-objdump", {"-D", "-b", "binary", "-mriscv:rv32", "half.bin"}, &listing));
        const int compared = compare(listing, code);
        QVERIFY2(compared > 20'000, qPrintable(QString::number(compared)));
    }
};

QTEST_GUILESS_MAIN(RiscvDisassemblerTest)
#include "riscv_disassembler_test.moc"
