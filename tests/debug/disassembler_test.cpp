// Instructions as text, against avr-objdump: every instruction of whole firmwares, and every first word there is.
#include <QtTest>

#include "chip/families.h"
#include "debug/disassembler.h"
#include "debug/compiled.h"

using namespace bramix;
using namespace bramix::test;
using debug::InstructionText;

class DisassemblerTest : public QObject {
    Q_OBJECT

private:
    // "ldi r24,0x0a" of both: without spaces, numbers as numbers, I/O by address.
    static QString plain(QString mnemonic, QString operands)
    {
        mnemonic = mnemonic.trimmed().toLower();
        QStringList out;
        for (QString part : operands.split(',', Qt::SkipEmptyParts)) {
            part = part.trimmed().toLower();
            bool number = false;
            qlonglong n = 0;
            if (part.startsWith("0x"))
                n = part.mid(2).toLongLong(&number, 16);
            else if (!part.startsWith('.'))
                n = part.toLongLong(&number, 10);
            if (part.startsWith(".")) {
                out << "*";
                continue;
            }
            out << (number ? QString::number(n) : part);
        }
        return mnemonic + " " + out.join(",");
    }

private slots:
    void printsWhatTheIndependentReaderPrints()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        for (const QString chipName : {"atmega328p", "atmega2560"}) {
            const QString elf = compile(folder, kKeeper, {"-O2", "-g"}, "c", chipName);
            QVERIFY(!elf.isEmpty());
            const chip::Device& chip = *chip::findDevice(chipName.toStdString());
            const auto firmware = chip::loadFirmware(elf.toStdString(), chip);
            QVERIFY(firmware.has_value());
            compareAll(output("avr-objdump", {"-d", elf}), chip, firmware->flash, 150);
        }
    }

    void decodesEveryFirstWord()
    {
        if (QStandardPaths::findExecutable("avr-objdump").isEmpty())
            QSKIP("avr-objdump is not installed");
        // All 65536 words, each followed by a word of 0 as a second half, read by objdump from a raw file.
        QTemporaryDir folder;
        const chip::Device& chip = *chip::findDevice("atmega2560");
        std::vector<std::uint8_t> code;
        for (unsigned w = 0; w < 0x10000; ++w)
            code.insert(code.end(), {static_cast<std::uint8_t>(w), static_cast<std::uint8_t>(w >> 8), 0, 0});
        QFile raw(folder.filePath("all.bin"));
        QVERIFY(raw.open(QIODevice::WriteOnly));
        raw.write(reinterpret_cast<const char*>(code.data()), static_cast<qint64>(code.size()));
        raw.close();
        compareAll(output("avr-objdump", {"-D", "-b", "binary", "-m", "avr6", raw.fileName()}), chip, code, 40'000);
    }

private:
    void compareAll(const QString& listing, const chip::Device& chip, const std::vector<std::uint8_t>& code, int atLeast)
    {
        static const QRegularExpression row("^\\s*([0-9a-f]+):\\t([0-9a-f ]+)\\t([a-z.]+)\\s*([^;]*)");
        int compared = 0;
        for (const QString& line : listing.split('\n')) {
            const auto match = row.match(line);
            if (!match.hasMatch() || match.captured(3).startsWith('.'))
                continue;
            const std::uint32_t address = match.captured(1).toUInt(nullptr, 16);
            InstructionText ours = debug::disassemble(chip, {code, 0}, address, nullptr);
            if (ours.mnemonic == ".word" || ours.mnemonic == "erased")
                continue;  // what the chip lacks, objdump may know from another
            QString operands = QString::fromStdString(ours.operands);
            // I/O by name, and by address in the other.
            for (const auto& group : chip.registers().peripherals)
                for (const auto& r : group.registers) {
                    QStringList parts = operands.split(", ");
                    for (QString& part : parts)
                        if (part == QString::fromStdString(r.name))
                            part = QString("0x%1").arg(r.address - 0x20, 2, 16, QChar('0'));
                    operands = parts.join(", ");
                }
            QString theirs = plain(match.captured(3), match.captured(4));
            QString mine = plain(QString::fromStdString(ours.mnemonic), operands);
            if (theirs.endsWith('*'))  // relative targets are compared below, by where they lead
                mine = mine.section(' ', 0, 0) + " *";
            static const QRegularExpression leads("; 0x([0-9a-f]+)");
            if (const auto to = leads.match(line); to.hasMatch() && match.captured(4).trimmed().startsWith('.')) {
                const std::uint32_t target = to.captured(1).toUInt(nullptr, 16) % chip.codeEnd;
                QCOMPARE(QString::fromStdString(ours.operands).toUInt(nullptr, 16), target);
            }
            QVERIFY2(mine == theirs, qPrintable(line + "  ours: " + mine));
            QCOMPARE(static_cast<int>(ours.size), static_cast<int>(match.captured(2).simplified().split(' ').size()));
            ++compared;
        }
        QVERIFY2(compared >= atLeast, qPrintable(QString::number(compared)));
    }
};

QTEST_GUILESS_MAIN(DisassemblerTest)
#include "disassembler_test.moc"
