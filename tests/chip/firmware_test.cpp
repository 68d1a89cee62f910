// Loaders on good and broken files. Error texts are compared whole.
#include <QtTest>

#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "chip/families.h"
#include "chip/firmware.h"

using namespace bramix;
using namespace bramix::chip;

namespace {

const Device& device() { return *findDevice("atmega328p"); }

std::vector<std::uint8_t> bytes(const QByteArray& text) { return {text.begin(), text.end()}; }

std::string hexError(const QByteArray& text)
{
    const auto result = readIntelHex("tide.hex", bytes(text), device());
    return result ? "no error" : result.error().text();
}

QByteArray record(QByteArray hex)
{
    int sum = 0;
    for (const char c : QByteArray::fromHex(hex))
        sum += static_cast<std::uint8_t>(c);
    return ":" + hex + QByteArray(1, static_cast<char>(-sum)).toHex().toUpper() + "\r\n";
}

const QByteArray kEnd = ":00000001FF\n";

}  // namespace

class FirmwareTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;

    QString write(const char* name, const QByteArray& content)
    {
        const QString path = folder_.filePath(name);
        QFile file(path);
        if (file.open(QIODevice::WriteOnly))
            file.write(content);
        return path;
    }

    [[nodiscard]] std::string error(const QString& path) const
    {
        const auto result = readImage(path.toStdString(), device());
        return result ? "no error" : QString::fromStdString(result.error().text()).replace(folder_.path() + "/", "").toStdString();
    }

private slots:
    void intelHexOfEveryRecordType()
    {
        const auto result = readIntelHex("tide.hex",
                                         bytes(record("0400000001020304") + record("020000020100") + record("02000000A1A2") + record("020000040000") + record("01200000FE") +
                                               record("0400000300003800") + record("0400000500000000") + kEnd),
                                         device());
        QVERIFY(result.has_value());
        QCOMPARE(result->flash.size(), 0x2001U);
        QCOMPARE(result->flash[3], 4);
        QCOMPARE(result->flash[0x1000], 0xA1);  // segment 0x0100 begins at 0x1000
        QCOMPARE(result->flash[0x2000], 0xFE);
        QCOMPARE(result->flash[0x500], 0xFF);
        QCOMPARE(result->words()[0], 0x0201);
    }

    void intelHexErrorsNameTheLine()
    {
        QCOMPARE(hexError(":0400000001020304F3\n" + kEnd), "tide.hex: line 1: checksum 0xf3; expected 0xf2; the file is damaged");
        QCOMPARE(hexError(record("0400000001020304") + record("0400020001020304") + kEnd), "tide.hex: line 2: address 0x2 is given a second time; expected records that do not overlap");
        QCOMPARE(hexError(record("0100000000")), "tide.hex: no end record (type 01); expected one as the last line; the file is cut short");
        QCOMPARE(hexError(":04000000010203\n"), "tide.hex: line 1: has 7 bytes; expected 9; the file is cut short or damaged");
        QCOMPARE(hexError(":0400000001G20304F2\n"), "tide.hex: line 1: column 12: \"G2\"; expected two hexadecimal digits");
        QCOMPARE(hexError(record("0100000900")), "tide.hex: line 1: record type 09; expected 00 to 05");
        QCOMPARE(hexError(record("020000040001") + record("0100000000") + kEnd),
                 "tide.hex: line 2: address 0x10000 does not fit: ATmega328P has 32768 bytes of flash; is the firmware built for another chip?");
        QCOMPARE(hexError(kEnd + record("0100000000")), "tide.hex: line 2: stands after the end record; expected nothing more");
        QCOMPARE(hexError(kEnd), "tide.hex: holds no data; expected program code");
        QCOMPARE(hexError("hello\n"), "tide.hex: line 1: begins with 'h'; expected ':'");
    }

    void foreignFilesAreToldApart()
    {
        QCOMPARE(error(folder_.filePath("none.elf")), "none.elf: no such file; check the path of the firmware");
        QCOMPARE(error(write("empty.elf", "")), "empty.elf: is empty; expected an ELF or Intel HEX file");
        QCOMPARE(error(write("note.elf", "bells")), "note.elf: offset 0: begins with 0x62; expected an ELF file (0x7f 'E' 'L' 'F'), Intel HEX (':'), or a name ending in .bin");
        QCOMPARE(error(write("big.bin", QByteArray(40000, 'x'))), "big.bin: 40000 bytes do not fit: ATmega328P has 32768 bytes of flash");
        // This test itself is an ELF file of another machine.
        const auto own = readImage(QCoreApplication::applicationFilePath().toStdString(), device());
        QVERIFY(!own);
        QVERIFY(own.error().text().find("expected a 32-bit little-endian file, as AVR compilers write") != std::string::npos);
    }

    void elfPlacesCodeDataAndEeprom()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        const QString source = write("tide.c", "#include <avr/eeprom.h>\nunsigned char height EEMEM = 42; unsigned char low EEMEM = 7;\nvolatile int tide = 0x1234; int main(void) { for (;;) tide++; }\n");
        const QString elf = folder_.filePath("tide.elf");
        QCOMPARE(QProcess::execute("avr-gcc", {"-mmcu=atmega328p", "-Os", "-o", elf, source}), 0);
        const auto result = readImage(elf.toStdString(), device());
        QVERIFY2(result, result ? "" : result.error().text().c_str());
        QCOMPARE(result->builtFor, "atmega328p");
        QVERIFY(result->eepromGiven);
        QCOMPARE(result->eeprom.size(), 2U);
        // The initial value of `tide` lies at the end of flash, by its load address; an independent reader agrees on the whole image.
        const QString bin = folder_.filePath("tide.bin");
        QCOMPARE(QProcess::execute("avr-objcopy", {"-O", "binary", "-R", ".eeprom", elf, bin}), 0);
        QFile file(bin);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray expected = file.readAll();
        QCOMPARE(QByteArray(reinterpret_cast<const char*>(result->flash.data()), static_cast<qsizetype>(result->flash.size())), expected);
        // The same through Intel HEX.
        const QString hex = folder_.filePath("tide.hex");
        QCOMPARE(QProcess::execute("avr-objcopy", {"-O", "ihex", "-R", ".eeprom", elf, hex}), 0);
        QVERIFY(readImage(hex.toStdString(), device())->flash == result->flash);

        QFile whole(elf);
        QVERIFY(whole.open(QIODevice::ReadOnly));
        const QByteArray image = whole.readAll();
        for (const int cut : {3, 20, 60, 100, 200, 300})
            QVERIFY2(error(write("cut.elf", image.left(cut))).starts_with("cut.elf: "), qPrintable(QString::number(cut)));
        QByteArray foreign = image;
        foreign[18] = 40;  // e_machine: ARM
        QCOMPARE(error(write("arm.elf", foreign)), "arm.elf: ELF header: machine 40; expected 83 (AVR); build it with avr-gcc");
        QByteArray object = image;
        object[16] = 1;
        QCOMPARE(error(write("object.elf", object)), "object.elf: ELF header: type 1; expected 2 (executable); link it first");
    }

    void damagedFilesNeverDoHarm()
    {
        QFile file(QString(BRAMIX_TEST_SOURCES) + "/../benches/withy-lock/firmware/withy-lock.elf");
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray good = file.readAll();
        std::uint32_t random = 1;
        const auto next = [&] { return random = random * 1664525U + 1013904223U; };
        int refused = 0;
        for (int round = 0; round < 3000; ++round) {
            QByteArray image = good;
            const int changes = 1 + static_cast<int>(next() >> 30);
            for (int i = 0; i < changes; ++i)
                image[static_cast<qsizetype>((next() >> 8) % (round % 2 == 0 ? 400 : static_cast<std::uint32_t>(image.size())))] = static_cast<char>(next() >> 24);
            if (round % 7 == 0)
                image.truncate(static_cast<qsizetype>((next() >> 8) % static_cast<std::uint32_t>(image.size())));
            refused += readElf("lock.elf", bytes(image), device()) ? 0 : 1;
            (void)readIntelHex("lock.hex", bytes(":" + image.left(200)), device());
        }
        QVERIFY(refused > 100);
    }
};

QTEST_GUILESS_MAIN(FirmwareTest)
#include "firmware_test.moc"
