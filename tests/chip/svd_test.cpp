// A register description in the SVD form: what the schema says of derived elements, arrays, clusters, ranges and named values, on a made-up chip; and what is wrong, told by line.
#include <QtTest>

#include "chip/svd.h"
#include "kernel/random.h"

using namespace bramix;
using namespace bramix::chip;

namespace {

// Of the schema's own constructs each one at least once.
const char* const kHeron = R"(<?xml version="1.0" encoding="utf-8"?>
<device schemaVersion="1.3">
  <name>HERON32</name>
  <description>A chip
     for ferries</description>
  <cpu><name>CM3</name><endian>little</endian></cpu>
  <addressUnitBits>8</addressUnitBits>
  <width>32</width>
  <size>0x20</size>
  <access>read-write</access>
  <resetValue>0x0</resetValue>
  <resetMask>0xFFFFFFFF</resetMask>
  <peripherals>
    <peripheral>
      <name>QUAYA</name>
      <description>Quay</description>
      <baseAddress>0x40010800</baseAddress>
      <interrupt><name>QUAY</name><description>Any quay</description><value>23</value></interrupt>
      <registers>
        <register>
          <name>MODE</name>
          <addressOffset>0x00</addressOffset>
          <resetValue>0x44444444</resetValue>
          <fields>
            <field>
              <dim>8</dim><dimIncrement>4</dimIncrement>
              <name>M%s</name>
              <bitOffset>0</bitOffset><bitWidth>2</bitWidth>
              <enumeratedValues>
                <name>Modes</name>
                <enumeratedValue><name>IN</name><description>Input</description><value>0</value></enumeratedValue>
                <enumeratedValue><name>OUT</name><value>#x1</value></enumeratedValue>
                <enumeratedValue><name>REST</name><description>Reserved</description><isDefault>true</isDefault></enumeratedValue>
              </enumeratedValues>
            </field>
            <field><name>LOCK</name><bitRange>[31:31]</bitRange><access>read-only</access></field>
          </fields>
        </register>
        <register derivedFrom="MODE">
          <name>MODEHIGH</name>
          <addressOffset>4</addressOffset>
        </register>
        <register>
          <name>IN</name><displayName>IDR</displayName>
          <addressOffset>0x8</addressOffset>
          <access>read-only</access>
          <resetMask>0xFFFF0000</resetMask>
          <fields><field><name>LEVELS</name><lsb>0</lsb><msb>15</msb></field></fields>
        </register>
        <register>
          <dim>2</dim><dimIncrement>0x10</dimIncrement><dimIndex>L,R</dimIndex>
          <name>SIDE_%s</name>
          <addressOffset>0x10</addressOffset>
          <size>16</size>
        </register>
      </registers>
    </peripheral>
    <peripheral derivedFrom="QUAYA">
      <name>QUAYB</name>
      <baseAddress>0x40010C00</baseAddress>
    </peripheral>
    <peripheral>
      <name>FERRY</name>
      <baseAddress>0x40020000</baseAddress>
      <interrupt><name>FERRY0</name><value>11</value></interrupt>
      <interrupt><name>FERRY1</name><value>0xC</value></interrupt>
      <registers>
        <cluster>
          <dim>3</dim><dimIncrement>20</dimIncrement>
          <name>CH[%s]</name>
          <addressOffset>0x8</addressOffset>
          <register><name>CCR</name><addressOffset>0</addressOffset>
            <fields><field derivedFrom="QUAYA.MODE.M%s"><name>DIR</name><bitOffset>4</bitOffset></field></fields>
          </register>
          <cluster>
            <name>ADR</name><addressOffset>8</addressOffset>
            <register><name>FROM</name><addressOffset>0</addressOffset></register>
            <register><name>TO</name><addressOffset>4</addressOffset><readAction>clear</readAction></register>
          </cluster>
        </cluster>
        <register><name>ID</name><addressOffset>1k</addressOffset><size>8</size><access>write-only</access></register>
      </registers>
    </peripheral>
  </peripherals>
</device>
)";

const PeripheralRegister* reg(const RegisterMap& map, std::string_view peripheral, std::string_view name)
{
    const PeripheralGroup* p = map.peripheral(peripheral);
    if (p == nullptr)
        return nullptr;
    for (const PeripheralRegister& r : p->registers)
        if (r.name == name)
            return &r;
    return nullptr;
}

const RegisterField* field(const PeripheralRegister* r, std::string_view name)
{
    if (r != nullptr)
        for (const RegisterField& f : r->fields)
            if (f.name == name)
                return &f;
    return nullptr;
}

}  // namespace

class SvdTest : public QObject {
    Q_OBJECT

    RegisterMap map_;

private slots:
    void initTestCase()
    {
        auto read = readSvd("heron.svd", kHeron);
        QVERIFY2(read, read ? "" : read.error().text().c_str());
        map_ = std::move(*read);
    }

    void theChip()
    {
        QCOMPARE(map_.device, "HERON32");
        QCOMPARE(map_.about, "A chip for ferries");
        QVERIFY(!map_.bigEndian && map_.addressUnitBits == 8);
        QCOMPARE(map_.peripherals.size(), std::size_t(3));
        QCOMPARE(map_.peripherals[0].name, "QUAYA");
        QCOMPARE(map_.peripherals[2].base, std::uint64_t(0x40020000));
    }

    void addressesAndWhatTheyInherit()
    {
        const PeripheralRegister* mode = reg(map_, "QUAYA", "MODE");
        QVERIFY(mode != nullptr);
        QCOMPARE(mode->address, std::uint64_t(0x40010800));
        QCOMPARE(mode->bits, 32U);
        QCOMPARE(mode->reset, std::uint64_t(0x44444444));
        QCOMPARE(mode->resetMask, std::uint64_t(0xFFFFFFFF));
        QVERIFY(mode->access == Access::readWrite);
        const PeripheralRegister* in = reg(map_, "QUAYA", "IN");
        QVERIFY(in != nullptr && in->access == Access::readOnly && in->resetMask == 0xFFFF0000 && in->reset == 0);
        QVERIFY(reg(map_, "FERRY", "ID")->address == 0x40020400 && reg(map_, "FERRY", "ID")->bits == 8 && reg(map_, "FERRY", "ID")->access == Access::writeOnly);
    }

    void arraysAreCounted()
    {
        QCOMPARE(reg(map_, "QUAYA", "SIDE_L")->address, std::uint64_t(0x40010810));
        QCOMPARE(reg(map_, "QUAYA", "SIDE_R")->address, std::uint64_t(0x40010820));
        QCOMPARE(reg(map_, "QUAYA", "SIDE_R")->bits, 16U);
        for (unsigned i = 0; i < 8; ++i) {
            const RegisterField* f = field(reg(map_, "QUAYA", "MODE"), "M" + std::to_string(i));
            QVERIFY(f != nullptr && f->low == 4 * i && f->bits == 2);
        }
    }

    void clustersLieInClusters()
    {
        for (unsigned i = 0; i < 3; ++i) {
            const std::string channel = "CH[" + std::to_string(i) + "].";
            QCOMPARE(reg(map_, "FERRY", channel + "CCR")->address, 0x40020008 + 20ULL * i);
            QCOMPARE(reg(map_, "FERRY", channel + "ADR.TO")->address, 0x40020008 + 20ULL * i + 12);
            QVERIFY(reg(map_, "FERRY", channel + "ADR.TO")->readActs && !reg(map_, "FERRY", channel + "ADR.FROM")->readActs);
        }
    }

    void whatIsDerivedHasAllThatItDoesNotChange()
    {
        const PeripheralRegister* high = reg(map_, "QUAYA", "MODEHIGH");
        QVERIFY(high != nullptr && high->address == 0x40010804 && high->reset == 0x44444444);
        QVERIFY(field(high, "M7") != nullptr && field(high, "LOCK") != nullptr);
        const PeripheralGroup* other = map_.peripheral("QUAYB");
        QVERIFY(other != nullptr);
        QCOMPARE(other->about, "Quay");
        QCOMPARE(other->registers.size(), map_.peripheral("QUAYA")->registers.size());
        QCOMPARE(reg(map_, "QUAYB", "SIDE_R")->address, std::uint64_t(0x40010C20));
        QCOMPARE(other->interrupts.size(), std::size_t(1));
        // A field of another peripheral, at another place.
        const RegisterField* dir = field(reg(map_, "FERRY", "CH[1].CCR"), "DIR");
        QVERIFY(dir != nullptr && dir->low == 4 && dir->bits == 2);
        QCOMPARE(dir->meaning(0), "Input");
    }

    void valuesHaveWords()
    {
        const RegisterField* f = field(reg(map_, "QUAYA", "MODE"), "M3");
        QCOMPARE(f->meaning(0), "Input");
        QCOMPARE(f->meaning(1), "OUT");
        QCOMPARE(f->meaning(3), "OUT");  // its upper bit does not matter
        QCOMPARE(f->meaning(2), "Reserved");
        QCOMPARE(f->of(0x00002000), std::uint64_t(2));
        QVERIFY(field(reg(map_, "QUAYA", "MODE"), "LOCK")->access == Access::readOnly);
        QCOMPARE(field(reg(map_, "QUAYA", "MODE"), "LOCK")->low, 31U);
        QCOMPARE(field(reg(map_, "QUAYA", "IN"), "LEVELS")->bits, 16U);
        QCOMPARE(field(reg(map_, "QUAYA", "IN"), "LEVELS")->meaning(5), "");
    }

    void interruptsHaveNumbers()
    {
        const auto& of = map_.peripheral("FERRY")->interrupts;
        QCOMPARE(of.size(), std::size_t(2));
        QCOMPARE(of[1].number, 12U);
        QCOMPARE(map_.peripheral("QUAYA")->interrupts[0].about, "Any quay");
    }

    void anAddressFindsItsRegister()
    {
        QCOMPARE(map_.at(0x40010C08).reg->name, "IN");
        QCOMPARE(map_.at(0x40010C0B).reg->name, "IN");
        QCOMPARE(map_.at(0x40010C0B).peripheral->name, "QUAYB");
        QVERIFY(map_.at(0x40010C0C).reg == nullptr);
        QVERIFY(map_.at(0).reg == nullptr);
    }

    void whatIsWrongIsToldByLine_data()
    {
        QTest::addColumn<QString>("instead");  // of what, and what stands there
        QTest::addColumn<QString>("by");
        QTest::addColumn<QString>("said");
        QTest::newRow("not XML") << "</device>" << "</devise>" << "is no XML";
        QTest::newRow("no chip") << QString(kHeron) << "<bench/>" << "no <device>";
        QTest::newRow("no name") << "<name>QUAYA</name>" << "" << "<peripheral> has no <name>";
        QTest::newRow("no base") << "<baseAddress>0x40020000</baseAddress>" << "" << "<baseAddress>";
        QTest::newRow("a number") << "<value>23</value>" << "<value>many</value>" << "line 18: \"many\" is no number";
        QTest::newRow("too large a number") << "<value>23</value>" << "<value>99999999999999999999999</value>" << "is no number";
        QTest::newRow("from nothing") << "<register derivedFrom=\"MODE\">" << "<register derivedFrom=\"MOOD\">" << "\"MOOD\", which is not there";
        QTest::newRow("from itself") << "<register>\n          <name>MODE</name>" << "<register derivedFrom=\"MODEHIGH\">\n          <name>MODE</name>" << "from itself";
        QTest::newRow("access") << "<access>write-only</access>" << "<access>by-post</access>" << "\"by-post\"";
        QTest::newRow("a list too short") << "<dimIndex>L,R</dimIndex>" << "<dimIndex>L</dimIndex>" << "names 1 and dim is 2";
        QTest::newRow("an array without end") << "<dim>3</dim>" << "<dim>99999999</dim>" << "expected 1 to 65536";
        QTest::newRow("a field too high") << "<bitRange>[31:31]</bitRange>" << "<bitRange>[32:32]</bitRange>" << "ends at bit 32 of 32";
        QTest::newRow("a field the wrong way") << "<msb>15</msb>" << "<msb>65</msb>" << "expected bits within 0 to 63";
        QTest::newRow("a range that is none") << "<bitRange>[31:31]</bitRange>" << "<bitRange>31</bitRange>" << "expected one like [7:4]";
        QTest::newRow("a size") << "<size>8</size>" << "<size>128</size>" << "expected 1 to 64";
        QTest::newRow("no offset") << "<addressOffset>1k</addressOffset>" << "" << "has no <addressOffset>";
    }
    void whatIsWrongIsToldByLine()
    {
        QFETCH(QString, instead);
        QFETCH(QString, by);
        QFETCH(QString, said);
        QString text(kHeron);
        QVERIFY(text.contains(instead));
        text.replace(text.indexOf(instead), instead.size(), by);
        const auto read = readSvd("heron.svd", text.toStdString());
        QVERIFY(!read.has_value());
        const QString what = QString::fromStdString(read.error().text());
        QVERIFY2(what.contains(said), qPrintable(what));
        QVERIFY2(what.startsWith("heron.svd") && !what.contains('\n'), qPrintable(what));
    }

    void clustersWithoutEndAreRefused()
    {
        QString deep;
        for (int i = 0; i < 60; ++i)
            deep += "<cluster><name>c</name><addressOffset>0</addressOffset>";
        for (int i = 0; i < 60; ++i)
            deep += "</cluster>";
        const auto read = readSvd("deep.svd", QString("<device><name>d</name><peripherals><peripheral><name>p</name><baseAddress>0</baseAddress><registers>%1</registers></peripheral></peripherals></device>").arg(deep).toStdString());
        QVERIFY(!read.has_value());
        // Arrays of arrays multiply.
        QString wide = "<register><name>r</name><addressOffset>0</addressOffset></register>";
        for (int i = 0; i < 5; ++i)
            wide = QString("<cluster><dim>1000</dim><dimIncrement>4</dimIncrement><name>c%1[%s]</name><addressOffset>0</addressOffset>%2</cluster>").arg(i).arg(wide);
        const auto many = readSvd("wide.svd", QString("<device><name>d</name><peripherals><peripheral><name>p</name><baseAddress>0</baseAddress><registers>%1</registers></peripheral></peripherals></device>").arg(wide).toStdString());
        QVERIFY(!many.has_value() && QString::fromStdString(many.error().text()).contains("200000"));
    }

    // Cut, doubled and changed at random: a description or one line.
    void strangeTextsEndInALine()
    {
        const std::string whole(kHeron);
        kernel::Random random(3, "svd");
        for (int i = 0; i < 4000; ++i) {
            std::string text = whole;
            for (std::uint64_t n = 1 + random.below(3); n > 0; --n) {
                const std::size_t at = random.below(text.size()), length = random.below(40);
                switch (random.below(3)) {
                case 0: text.erase(at, length); break;
                case 1: text.insert(at, whole.substr(random.below(whole.size()), length)); break;
                default: text[at] = static_cast<char>(random.below(256)); break;
                }
            }
            const auto read = readSvd("strange.svd", text);
            if (!read) {
                const std::string what = read.error().text();
                QVERIFY2(what.starts_with("strange.svd") && what.find('\n') == std::string::npos && what.size() < 600, what.c_str());
            }
        }
    }
};

QTEST_GUILESS_MAIN(SvdTest)
#include "svd_test.moc"
