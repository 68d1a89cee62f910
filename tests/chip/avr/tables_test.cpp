// The tables of the chips against another's: the addresses, bits and vectors that avr-libc gives to firmware.
#include <set>

#include <QProcess>
#include <QtTest>

#include "chip/avr/device.h"
#include "chip/avr/names.h"

using namespace bramix::chip::avr;

namespace {

// Every macro of <avr/io.h> for a chip, by name.
QMap<QString, QString> macrosOf(const QString& chip)
{
    QProcess gcc;
    gcc.start("avr-gcc", {"-mmcu=" + chip, "-E", "-dM", "-include", "avr/io.h", "-x", "c", "/dev/null"});
    gcc.waitForFinished();
    QMap<QString, QString> macros;
    for (const QString& line : QString(gcc.readAllStandardOutput()).split('\n')) {
        const QStringList words = line.split(' ');
        if (words.size() >= 3 && words[0] == "#define")
            macros[words[1]] = QStringList(words.mid(2)).join(' ');
    }
    return macros;
}

// "_SFR_IO8(0x05)" and "_SFR_MEM8 (0x60)" as a data address.
int addressOf(QString macro)
{
    macro.remove(' ');
    const QRegularExpressionMatch m = QRegularExpression("^_SFR_(IO|MEM)8\\((0[xX][0-9a-fA-F]+)\\)$").match(macro);
    return m.hasMatch() ? m.captured(2).toInt(nullptr, 16) + (m.captured(1) == "IO" ? 0x20 : 0) : -1;
}

}  // namespace

class TablesTest : public QObject {
    Q_OBJECT

    static void eachChip()
    {
        QTest::addColumn<QString>("chip");
        for (const ChipTable* chip : allChips())
            QTest::newRow(chip->id.data()) << QString(chip->id.data());
    }

private slots:
    void registersLieWhereFirmwareExpectsThem_data() { eachChip(); }
    void registersLieWhereFirmwareExpectsThem()
    {
        QFETCH(QString, chip);
        const Names names(*findChip(chip.toStdString()));
        const auto macros = macrosOf(chip);
        QVERIFY(macros.size() > 500);
        int compared = 0;
        for (auto it = macros.begin(); it != macros.end(); ++it) {
            const int address = addressOf(it.value());
            if (address < 0)
                continue;
            const std::string name = it.key().toStdString();
            const std::uint16_t ours = names.reg(name);
            if (ours == 0) {
                // Every address has a register, perhaps by another of its names.
                const RegisterRow* row = findRegister(*findChip(chip.toStdString()), static_cast<std::uint16_t>(address));
                QVERIFY2(row != nullptr, qPrintable(it.key()));
                continue;
            }
            QVERIFY2(ours == address, qPrintable(it.key()));
            ++compared;
        }
        QVERIFY(compared >= 45);
    }

    void bitsHaveTheirPlaces_data() { eachChip(); }
    void bitsHaveTheirPlaces()
    {
        QFETCH(QString, chip);
        const ChipTable& table = *findChip(chip.toStdString());
        const auto macros = macrosOf(chip);
        int compared = 0;
        for (const RegisterRow& row : table.registers) {
            int bit = 8;
            eachWord(row.bits, [&](std::string_view name) {
                --bit;
                const auto macro = macros.find(QString::fromUtf8(name.data(), static_cast<qsizetype>(name.size())));
                bool ok = false;
                // avr-libc has the address mask of the ATmega328P one place too low (22.9.6 has TWAM6 in bit 7).
                if (name.starts_with("TWAM"))
                    return;
                if (macro == macros.end() || macro->toInt(&ok) < 0 || !ok || name.size() < 2)
                    return;
                QVERIFY2(macro->toInt() == bit, qPrintable(macro.key()));
                ++compared;
            });
        }
        QVERIFY(compared > 100);
    }

    // What everything above the family reads, against the same headers.
    void theDeviceSaysTheSame_data() { eachChip(); }
    void theDeviceSaysTheSame()
    {
        QFETCH(QString, chip);
        const bramix::chip::Device& d = deviceOf(*findChip(chip.toStdString()));
        const auto macros = macrosOf(chip);
        const auto number = [&](const char* name) { return macros.value(name).remove('(').remove(')').toULongLong(nullptr, 0); };
        QCOMPARE(d.family, "avr");
        QCOMPARE(d.regionOf(bramix::chip::RegionKind::flash)->size, number("FLASHEND") + 1);
        QCOMPARE(std::uint64_t{d.regionOf(bramix::chip::RegionKind::flash)->pageBytes}, number("SPM_PAGESIZE"));
        QCOMPARE(d.regionOf(bramix::chip::RegionKind::nonVolatile)->size, number("E2END") + 1);
        QCOMPARE(d.ramBegin, number("RAMSTART"));
        // Some headers count external memory in RAMEND.
        QCOMPARE(d.sizeOf(d.dataSpace), number("RAMEND") + 1);
        QCOMPARE(d.exceptions.front().entry, 0U);
        for (const bramix::chip::Exception& e : d.exceptions)
            if (const auto found = macros.find(QString::fromStdString(e.name) + "_vect_num"); found != macros.end())
                QCOMPARE(e.number, found->toUInt());
        // A debugger numbers them without gaps, general ones first.
        for (std::size_t i = 0; i < d.coreRegisters.size(); ++i)
            QCOMPARE(d.coreRegisters[i].debuggerNumber, static_cast<int>(i));
        QCOMPARE(d.coreRegisters[*d.registerOf(bramix::chip::CoreRole::stackPointer)].bits, 16U);
        QVERIFY(d.registerOf(bramix::chip::CoreRole::link) == std::nullopt);
        QCOMPARE(d.regionAt(0x800000 + 5)->space, d.dataSpace);
        QVERIFY(d.regionAt(0x800000 + number("RAMEND") + 1) == nullptr);
    }

    void vectorsHaveTheirNumbers_data() { eachChip(); }
    void vectorsHaveTheirNumbers()
    {
        QFETCH(QString, chip);
        const ChipTable& table = *findChip(chip.toStdString());
        const auto macros = macrosOf(chip);
        for (std::size_t v = 1; v < table.vectors.size(); ++v) {
            const QString name = QString(table.vectors[v].name.data()) + "_vect_num";
            QVERIFY2(macros.contains(name), qPrintable(name));
            QCOMPARE(macros[name].toInt(), static_cast<int>(v));
        }
        // "(26 * 4)" or "104"
        int size = 1;
        for (const QString& factor : QString(macros["_VECTORS_SIZE"]).remove(QRegularExpression("[()U ]")).split('*'))
            size *= factor.toInt();
        QCOMPARE(size, static_cast<int>(table.vectors.size() * table.vectorWords * 2));
    }

    void memoriesHaveTheirSizes_data() { eachChip(); }
    void memoriesHaveTheirSizes()
    {
        QFETCH(QString, chip);
        const ChipTable& table = *findChip(chip.toStdString());
        const auto macros = macrosOf(chip);
        const auto number = [&](const char* name) { return macros[name].remove(QRegularExpression("[()UL]")).toUInt(nullptr, 0); };
        QCOMPARE(number("FLASHEND") + 1, table.flashBytes);
        QCOMPARE(number("RAMEND"), table.core.ramEnd);
        QCOMPARE(number("RAMSTART"), table.core.ramStart);
        QCOMPARE(number("E2END") + 1, table.eepromBytes);
        QCOMPARE(number("SPM_PAGESIZE"), table.pageBytes);
        QCOMPARE(number("SIGNATURE_0"), table.signature[0]);
        QCOMPARE(number("SIGNATURE_1"), table.signature[1]);
        QCOMPARE(number("SIGNATURE_2"), table.signature[2]);
    }

    void everyPinOfThePackageIsThereOnce_data() { eachChip(); }
    void everyPinOfThePackageIsThereOnce()
    {
        QFETCH(QString, chip);
        const ChipTable& table = *findChip(chip.toStdString());
        QCOMPARE(table.package.size(), static_cast<std::size_t>(chip == "atmega2560" ? 100 : chip == "atmega32" ? 40 : chip == "attiny85" ? 8 : 28));
        std::set<std::string_view> seen;
        for (std::size_t i = 0; i < table.package.size(); ++i) {
            QCOMPARE(table.package[i].number, static_cast<std::uint8_t>(i + 1));
            QVERIFY2(seen.insert(table.package[i].name).second, table.package[i].name.data());
        }
        // Port pins that the table promises come out of the package.
        const Names names(table);
        for (const PortRow& port : table.ports)
            for (unsigned bit = 0; bit < 8; ++bit)
                if (((port.pins >> bit) & 1) != 0)
                    QVERIFY2(names.pin(std::string{'P', port.letter, static_cast<char>('0' + bit)}).exists(), qPrintable(QString("P%1%2").arg(port.letter).arg(bit)));
    }
};

QTEST_GUILESS_MAIN(TablesTest)
#include "tables_test.moc"
