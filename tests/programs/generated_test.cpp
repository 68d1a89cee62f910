// Generated C programs, built by the host's compiler and by avr-gcc for each chip: all must come to the same answers. The programs keep to
// what C defines alike for 16-bit and 32-bit int. A row is a seed; what fails is named by seed and function.
#include <QtTest>

#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "bench/world.h"
#include "kernel/random.h"

using namespace bramix;
using kernel::Random;

namespace {

constexpr int kFunctions = 6;

// Writes functions of eight variables of three widths, an array, loops, switches and calls of the functions before.
class Generator {
public:
    explicit Generator(std::uint64_t seed) : random_(seed) {}

    QString source()
    {
        QString out = "#include <stdint.h>\nstatic uint16_t state = 1;\nstatic uint8_t table[16];\n";
        for (int i = 0; i < kFunctions; ++i)
            out += function(i);
        out += QString("volatile uint32_t answers[%1];\nint main(void)\n{\n").arg(kFunctions);
        for (int i = 0; i < kFunctions; ++i)
            out += QString("    answers[%1] = f%1(%2, %3, %4UL);\n").arg(i).arg(random_.below(256)).arg(random_.below(65'536)).arg(random_.below(0x7FFFFFFF));
        return out;
    }

private:
    QString variable(const char* type) { return QString("%1%2").arg(type).arg(random_.below(3)); }

    // An expression whose value does not depend on the width of int.
    QString byte(int depth)
    {
        if (depth == 0)
            return random_.below(4) == 0 ? QString::number(random_.below(256)) : random_.below(5) == 0 ? QString("table[%1 & 15]").arg(variable("b")) : variable("b");
        switch (random_.below(8)) {
        case 0: return QString("(uint8_t)(%1 + %2)").arg(byte(depth - 1), byte(depth - 1));
        case 1: return QString("(uint8_t)(%1 - %2)").arg(byte(depth - 1), byte(depth - 1));
        case 2: return QString("(uint8_t)((uint16_t)%1 * (uint16_t)%2)").arg(byte(depth - 1), byte(depth - 1));
        case 3: return QString("(uint8_t)(%1 ^ %2)").arg(byte(depth - 1), byte(depth - 1));
        case 4: return QString("(uint8_t)(%1 >> (%2 & 7))").arg(byte(depth - 1), byte(depth - 1));
        case 5: return QString("(uint8_t)(%1 / (%2 | 1))").arg(byte(depth - 1), byte(depth - 1));
        case 6: return QString("(uint8_t)((int8_t)%1 < (int8_t)%2 ? %3 : 17)").arg(byte(depth - 1), byte(depth - 1), byte(depth - 1));
        default: return QString("(uint8_t)(%1 >> 5)").arg(word(depth - 1));
        }
    }
    QString word(int depth)
    {
        if (depth == 0)
            return random_.below(4) == 0 ? QString("%1U").arg(random_.below(65'536)) : variable("w");
        switch (random_.below(8)) {
        case 0: return QString("(uint16_t)(%1 + %2)").arg(word(depth - 1), word(depth - 1));
        case 1: return QString("(uint16_t)(%1 - %2)").arg(word(depth - 1), word(depth - 1));
        case 2: return QString("(uint16_t)((uint32_t)%1 * %2)").arg(word(depth - 1), word(depth - 1));
        case 3: return QString("(uint16_t)(%1 & ~(uint16_t)%2)").arg(word(depth - 1), word(depth - 1));
        case 4: return QString("(uint16_t)(%1 %% (%2 | 1U))").arg(word(depth - 1), word(depth - 1)).replace("%%", "%");
        case 5: return QString("(uint16_t)((int32_t)(int16_t)%1 >> (%2 & 7))").arg(word(depth - 1), byte(depth - 1));
        case 6: return QString("(uint16_t)((uint32_t)%1 << (%2 & 15))").arg(word(depth - 1), byte(depth - 1));
        default: return QString("(uint16_t)(%1 | ((uint16_t)%2 << 8))").arg(byte(depth - 1), byte(depth - 1));
        }
    }
    QString wide(int depth)
    {
        if (depth == 0)
            return random_.below(4) == 0 ? QString("%1UL").arg(random_.below(0x7FFFFFFF)) : variable("l");
        switch (random_.below(7)) {
        case 0: return QString("(uint32_t)(%1 + %2)").arg(wide(depth - 1), wide(depth - 1));
        case 1: return QString("(uint32_t)(%1 - (uint32_t)%2)").arg(wide(depth - 1), word(depth - 1));
        case 2: return QString("(uint32_t)(%1 * (uint32_t)%2)").arg(wide(depth - 1), word(depth - 1));
        case 3: return QString("(uint32_t)(%1 ^ (%2 >> (%3 & 31)))").arg(wide(depth - 1), wide(depth - 1), byte(depth - 1));
        case 4: return QString("(uint32_t)(%1 / (%2 | 1UL))").arg(wide(depth - 1), wide(depth - 1));
        case 5: return QString("(uint32_t)((int32_t)(%1 >> 1) %% ((int32_t)%2 + 1))").arg(wide(depth - 1), word(depth - 1)).replace("%%", "%");
        default: return QString("(uint32_t)((uint32_t)%1 << 16 | %2)").arg(word(depth - 1), word(depth - 1));
        }
    }

    QString statement(int function, int depth)
    {
        switch (random_.below(depth == 0 ? 4 : 8)) {
        case 0: return QString("%1 = %2;\n").arg(variable("b"), byte(3));
        case 1: return QString("%1 = %2;\n").arg(variable("w"), word(3));
        case 2: return QString("%1 = %2;\n").arg(variable("l"), wide(3));
        case 3: return QString("table[%1 & 15] = %2;\n").arg(byte(1), byte(2));
        case 4: return QString("if (%1 > %2) {\n%3} else {\n%4}\n").arg(word(2), word(1), statement(function, depth - 1), statement(function, depth - 1));
        case 5: {
            const QString counter = QString("i%1").arg(names_++);
            return QString("for (uint8_t %1 = 0; %1 < %2; %1++) {\n%3%4}\n").arg(counter).arg(1 + random_.below(12)).arg(statement(function, depth - 1), statement(function, 0));
        }
        case 6: {
            QString out = QString("switch (%1 & 7) {\n").arg(byte(1));
            for (int i = 0; i < 5; ++i)
                out += QString("case %1: %2break;\n").arg(i).arg(statement(function, 0));
            return out + "default: state++; }\n";
        }
        default:
            if (function == 0)
                return QString("state = (uint16_t)(state * 3U + 1U);\n");
            return QString("%1 = f%2(%3, %4, %5);\n").arg(variable("l")).arg(function - 1).arg(byte(1), word(1), wide(1));
        }
    }

    QString function(int index)
    {
        QString out = QString("uint32_t __attribute__((noinline)) f%1(uint8_t b0, uint16_t w0, uint32_t l0)\n{\nuint8_t b1 = 3, b2 = (uint8_t)(w0 >> 3);\nuint16_t w1 = state, w2 = 77;\n"
                              "uint32_t l1 = 5, l2 = l0 ^ w0;\n").arg(index);
        for (int i = 0; i < 5; ++i)
            out += statement(index, i < 3 ? 2 : 1);
        return out + "state = (uint16_t)(state + w1 + b1);\nreturn l0 ^ l1 ^ l2 ^ ((uint32_t)w0 << 7) ^ w2 ^ ((uint32_t)b0 << 24) ^ b2;\n}\n";
    }

    Random random_;
    int names_ = 0;
};

}  // namespace

class GeneratedTest : public QObject {
    Q_OBJECT

private slots:
    void everyChipComesToTheAnswersOfTheHost_data()
    {
        QTest::addColumn<qulonglong>("seed");
        for (qulonglong seed = 1; seed <= 40; ++seed)
            QTest::newRow(qPrintable(QString("seed %1").arg(seed))) << seed;
    }
    void everyChipComesToTheAnswersOfTheHost()
    {
        QFETCH(qulonglong, seed);
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty() || QStandardPaths::findExecutable("gcc").isEmpty())
            QSKIP("avr-gcc or gcc is not installed");
        QTemporaryDir folder;
        const QString source = folder.filePath("program.c");
        const QString body = Generator(seed).source();
        const auto write = [&](const QString& name, const QString& text) {
            QFile file(folder.filePath(name));
            QVERIFY(file.open(QIODevice::WriteOnly));
            file.write(text.toUtf8());
        };
        write("host.c", body + QString("    extern int printf(const char *, ...);\n    for (int i = 0; i < %1; i++)\n        printf(\"%lx\\n\", (unsigned long)answers[i]);\n}\n").arg(kFunctions));
        write("program.c", body + "    __asm__ volatile(\"cli\");\n    for (;;) {\n    }\n}\n");
        const auto run = [](const QString& program, const QStringList& arguments) {
            QProcess p;
            p.setProcessChannelMode(QProcess::MergedChannels);
            p.start(program, arguments);
            p.waitForFinished(60'000);
            return std::pair(p.exitCode(), p.readAll());
        };
        const auto host = run("gcc", {"-O1", "-w", "-fwrapv", "-o", folder.filePath("host"), folder.filePath("host.c")});
        QVERIFY2(host.first == 0, host.second.constData());
        const QList<QByteArray> expected = run(folder.filePath("host"), {}).second.trimmed().split('\n');
        QCOMPARE(expected.size(), kFunctions);

        static const auto catalogue = bench::Catalogue::loadInstalled();
        const QStringList levels{"-Os", "-O2", "-O1", "-O0"};
        int turn = static_cast<int>(seed);
        for (const chip::Device* chip : chip::allDevices()) {
            if (chip->family != "avr")
                continue;
            const QString elf = folder.filePath(QString(chip->id.data()) + ".elf");
            // The smallest flash takes only the smallest code.
            const QString level = chip->regionOf(chip::RegionKind::flash)->size < 16'384 ? "-Os" : levels[++turn % levels.size()];
            const auto built = run("avr-gcc", {QString("-mmcu=") + chip->id.data(), level, "-w", "-fwrapv", "-o", elf, source});
            QVERIFY2(built.first == 0, built.second.constData());
            const QList<QByteArray> symbols = run("avr-nm", {elf}).second.split('\n');
            std::uint32_t at = 0;
            for (const QByteArray& line : symbols)
                if (line.endsWith(" answers"))
                    at = line.left(8).toUInt(nullptr, 16) & 0xFFFF;
            QVERIFY(at != 0);
            bench::Document document;
            bench::PartItem mcu;
            mcu.id = "mcu";
            mcu.kind = bench::bareKind(*chip);
            mcu.firmware = elf.toStdString();
            document.parts.push_back(mcu);
            auto world = bench::World::build(document, *catalogue, {}, nullptr);
            QVERIFY2(world, world ? "" : world.error().text().c_str());
            (*world)->stopWhenHalted(true);
            (*world)->runUntil(bench::Time(std::chrono::seconds(20)));
            QVERIFY2((*world)->halted(), chip->id.data());
            const auto& data = chip::avr::chipOf(*(*world)->chips()[0].chip).cpu().data;
            for (int i = 0; i < kFunctions; ++i) {
                const std::uint32_t base = at + 4U * static_cast<std::uint32_t>(i);
                const std::uint32_t answer = data[base] | (data[base + 1] << 8) | (data[base + 2] << 16) | (static_cast<std::uint32_t>(data[base + 3]) << 24);
                QVERIFY2(answer == expected[i].toUInt(nullptr, 16),
                         qPrintable(QString("seed %1, f%2 on %3 at %4: %5, not %6").arg(seed).arg(i).arg(chip->id.data(), level).arg(answer, 0, 16).arg(QString(expected[i]))));
            }
        }
    }
};

QTEST_GUILESS_MAIN(GeneratedTest)
#include "generated_test.moc"
