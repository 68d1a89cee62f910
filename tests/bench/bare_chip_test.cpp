// Chips on their own on a bench: they live by the supply, the clock and the fuses that they are given, and keep their EEPROM between runs.
#include <QtTest>

#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "bench/world.h"
#include "chip/firmware.h"
#include "session/session.h"

using namespace bramix;
using namespace std::chrono_literals;
using kernel::Time;

class BareChipTest : public QObject {
    Q_OBJECT

private:
    bench::Catalogue catalogue_;
    QTemporaryDir folder_;

    std::string image(const char* name, std::initializer_list<std::uint16_t> words)
    {
        QFile file(folder_.filePath(QString(name) + ".bin"));
        if (file.open(QIODevice::WriteOnly))
            for (const std::uint16_t w : words) {
                file.putChar(static_cast<char>(w));
                file.putChar(static_cast<char>(w >> 8));
            }
        return file.fileName().toStdString();
    }

    std::unique_ptr<session::Session> open(const QString& toml)
    {
        auto document = bench::parseDocument("bench.toml", toml.toStdString());
        if (!document || !bench::checkDocument(*document, catalogue_, "bench.toml"))
            return nullptr;
        session::SessionOptions options;
        options.folder = folder_.path().toStdString();
        auto s = session::Session::open(*document, catalogue_, options);
        return s ? std::move(*s) : nullptr;
    }

    static QStringList rules(const session::Session& s)
    {
        QStringList out;
        for (const bench::Finding& f : s.world().findings())
            out << QString::fromStdString(f.rule);
        return out;
    }

    static constexpr const char* kPower = "[[part]]\nid = \"supply\"\nkind = \"bench-supply\"\n"
                                          "[[net]]\nname = \"VCC\"\npins = [\"supply.V\", \"mcu.VCC\"]\n[[net]]\nname = \"GND\"\npins = [\"supply.GND\", \"mcu.GND\"]\n";

private slots:
    void initTestCase()
    {
        auto loaded = bench::Catalogue::loadInstalled();
        QVERIFY(loaded.has_value());
        catalogue_ = std::move(*loaded);
    }

    void withoutASupplyNothingRunsAndThatIsTold()
    {
        const QString file = QString::fromStdString(image("wait", {0xCFFF}));
        auto s = open(QString("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"attiny85\"\nfirmware = \"%1\"\n").arg(file));
        QVERIFY(s != nullptr);
        s->world().runUntil(Time(200ms));
        QCOMPARE(chip::avr::chipOf(*s->world().chips()[0].chip).cpu().instructions, 0);
        QVERIFY(rules(*s).contains("no-supply"));
    }

    void asShippedItRunsAtAMegahertzAfterItsStart_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::newRow("ATtiny85") << "attiny85";
        QTest::newRow("ATmega328P") << "atmega328p";
        QTest::newRow("ATmega32") << "atmega32";
        QTest::newRow("ATmega2560") << "atmega2560";
    }
    void asShippedItRunsAtAMegahertzAfterItsStart()
    {
        QFETCH(QString, kind);
        auto s = open(QString("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"%1\"\nfirmware = \"%2\"\n").arg(kind, QString::fromStdString(image("wait", {0xCFFF}))) + kPower);
        QVERIFY(s != nullptr);
        s->world().runUntil(Time(165ms));
        const auto& chip = chip::avr::chipOf(*s->world().chips()[0].chip);
        QCOMPARE(chip.clock().hz(), 1'000'000U);
        // 65 ms of start-up, then 100 ms of a jump of two cycles.
        QVERIFY2(std::abs(chip.cpu().instructions - 50'000) < 50, qPrintable(QString::number(chip.cpu().instructions)));
        QVERIFY(rules(*s).isEmpty());
    }

    void aCrystalIsTheClockWhereTheFusesSaySo()
    {
        const QString part = QString("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"atmega328p\"\nfirmware = \"%1\"\nset = { CKSEL = \"0b1111\", CKDIV8 = \"1\" }\n")
                                 .arg(QString::fromStdString(image("wait", {0xCFFF})));
        auto without = open(part + kPower);
        without->world().runUntil(Time(100ms));
        QVERIFY(rules(*without).contains("no-clock"));
        auto with = open(part + kPower + "[[part]]\nid = \"xtal\"\nkind = \"crystal\"\nset = { frequency = \"12MHz\" }\n[[wire]]\nends = [\"xtal.1\", \"mcu.PB6\"]\n[[wire]]\nends = [\"xtal.2\", \"mcu.PB7\"]\n");
        QVERIFY(with != nullptr);
        with->world().runUntil(Time(100ms));
        QCOMPARE(with->world().chips()[0].chip->clock().hz(), 12'000'000U);
        QVERIFY(chip::avr::chipOf(*with->world().chips()[0].chip).cpu().instructions > 0);
    }

    void aFallingSupplyBrownsItOut()
    {
        auto s = open(QString("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"attiny85\"\nfirmware = \"%1\"\nset = { BODLEVEL = \"0b100\" }\n").arg(QString::fromStdString(image("wait", {0xCFFF}))) + kPower);
        QVERIFY(s != nullptr);
        s->world().runUntil(Time(100ms));
        QVERIFY(!s->world().chips()[0].chip->inReset());
        QVERIFY(s->setControl("supply", "volts", 4.0).has_value());
        s->world().runUntil(Time(110ms));
        QVERIFY(s->world().chips()[0].chip->inReset());
        QVERIFY(s->setControl("supply", "volts", 4.8).has_value());
        s->world().runUntil(Time(300ms));
        QVERIFY(!s->world().chips()[0].chip->inReset());
        QCOMPARE(chip::avr::chipOf(*s->world().chips()[0].chip).peek(0x54), 0x05);  // MCUSR: PORF, BORF
    }

    // 5 V behind 100 Ω into 100 µF rise with 10 ms: 1.4 V at 10 ms · ln(5 / 3.6) = 3.29 ms, 2.7 V (the brown-out level) at 7.77 ms. And sink again when a key shorts the capacitor by 100 Ω.
    void aSupplyThatRisesThroughACapacitorWakesItWhenItIsHighEnough()
    {
        auto s = open(QString("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"attiny85\"\nfirmware = \"%1\"\nset = { BODLEVEL = \"0b101\", SUT = \"0\" }\n").arg(QString::fromStdString(image("wait", {0xCFFF})))
                      + "[[part]]\nid = \"b\"\nkind = \"battery\"\nset = { voltage = \"5V\", inner = \"100\" }\n[[part]]\nid = \"c\"\nkind = \"electrolytic\"\n[[part]]\nid = \"g\"\nkind = \"ground\"\n"
                        "[[part]]\nid = \"k\"\nkind = \"push-button\"\nset = { bounce = \"off\" }\n[[part]]\nid = \"r\"\nkind = \"resistor\"\nset = { resistance = \"100\" }\n"
                        "[[net]]\nname = \"VCC\"\npins = [\"b.+\", \"mcu.VCC\", \"c.1\", \"k.1\"]\n[[net]]\nname = \"GND\"\npins = [\"b.-\", \"mcu.GND\", \"c.2\", \"g.V\", \"r.2\"]\n"
                        "[[wire]]\nends = [\"k.2\", \"r.1\"]\n");
        QVERIFY(s != nullptr);
        const chip::avr::Chip& chip = chip::avr::chipOf(*s->world().chips()[0].chip);
        QVERIFY(!rules(*s).contains("no-supply"));
        s->world().runUntil(Time(7700us));
        QCOMPARE(chip.cpu().instructions, 0);
        s->world().runUntil(Time(9ms));
        QVERIFY(chip.cpu().instructions > 0);
        s->world().runUntil(Time(200ms));
        QVERIFY(std::abs(chip.supplyVolts() - 5 / (1 + 100 * 0.125e-3)) < 0.011);  // awake it takes 0.125 mA a volt at 1 MHz
        // Towards 2.5 V with 5 ms: below the brown-out level after 5 ms · ln(2.5 / 0.2) = 12.6 ms.
        QVERIFY(s->setControl("k", "pressed", 1).has_value());
        s->world().runUntil(Time(212ms));
        QVERIFY(!chip.inReset());
        s->world().runUntil(Time(214ms));
        QVERIFY(chip.inReset());
    }

    void aWrongFuseIsOneLine()
    {
        auto document = bench::parseDocument("bench.toml", "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"attiny85\"\nset = { SUT = \"9\" }\n");
        QVERIFY(document.has_value());
        const auto checked = bench::checkDocument(*document, catalogue_, "bench.toml");
        QVERIFY(!checked);
        QCOMPARE(checked.error().text(), "bench.toml: line 2: mcu.SUT is \"9\"; expected 0 to 3 (0 is programmed), also as 0b11");
    }

    void theEepromIsKeptBesideTheBench()
    {
        // ldi r16,0x5A ; out EEDR,r16 ; ldi r16,3 ; out EEARL,r16 ; sbi EECR,2 ; sbi EECR,1 ; rjmp .-2
        const QString file = QString::fromStdString(image("store", {0xE50A, 0xBB0D, 0xE003, 0xBB0E, 0x9AE2, 0x9AE1, 0xCFFF}));
        const QString toml = QString("bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"attiny85\"\nfirmware = \"%1\"\n").arg(file) + kPower;
        const QString kept = folder_.filePath("mcu.eeprom.hex");
        {
            auto s = open(toml);
            s->world().runUntil(Time(100ms));
            QCOMPARE(chip::avr::chipOf(*s->world().chips()[0].chip).eeprom().contents()[3], 0x5A);
            QVERIFY(!QFile::exists(kept));
        }
        QVERIFY(QFile::exists(kept));
        QFile hex(kept);
        QVERIFY(hex.open(QIODevice::ReadOnly));
        // 16 bytes from 0: 3 erased, 0x5A, 12 erased; the sum of all bytes of the line is 0.
        QCOMPARE(hex.readAll(), QByteArray(":10000000FFFFFF5AFFFFFFFFFFFFFFFFFFFFFFFFA5\n:00000001FF\n"));
        // The next run finds it: a firmware that only waits.
        auto again = open(toml.arg("").replace("store.bin", "wait.bin"));
        QVERIFY(again != nullptr);
        QCOMPARE(chip::avr::chipOf(*again->world().chips()[0].chip).eeprom().contents()[3], 0x5A);
        QFile::remove(kept);
    }
};

QTEST_GUILESS_MAIN(BareChipTest)
#include "bare_chip_test.moc"
