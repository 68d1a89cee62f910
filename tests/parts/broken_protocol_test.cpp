// Every part with signals on a chip that drives all of its pins at random, high, low and not at all, for times from a microsecond to milliseconds. The run comes to its
// end, every voltage is a number, what is told is told in words and only once, and a moment in the midst of it goes on as the run did.
#include <QtTest>

#include <cmath>

#include <QTemporaryDir>

#include "chip/avr/chip.h"
#include "bench/document.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

// A 16-bit shift register with feedback (taps of 0xB400, the longest sequence there is) goes to the ports; its low bits say how long each state lasts.
std::vector<std::uint16_t> randomPins(std::uint16_t seed)
{
    const auto ldi = [](unsigned d, unsigned k) { return static_cast<std::uint16_t>(0xE000 | (k & 0xF0) << 4 | (d - 16) << 4 | (k & 0x0F)); };
    const auto out = [](unsigned io, unsigned r) { return static_cast<std::uint16_t>(0xB800 | (io & 0x30) << 5 | r << 4 | (io & 0x0F)); };
    constexpr unsigned kDdrB = 0x04, kPortB = 0x05, kDdrD = 0x0A, kPortD = 0x0B;
    return {
        ldi(16, seed & 0xFF), ldi(17, seed >> 8), ldi(18, 0xB4),
        // again (word 3): one step of the register
        0x9516 /* lsr r17 */, 0x9507 /* ror r16 */, 0xF408 /* brcc +1 */, 0x2712 /* eor r17, r18 */,
        // all four registers of the ports, each by another mixture
        out(kPortD, 16), out(kDdrD, 17), 0x2F40 /* mov r20, r16 */, 0x2741 /* eor r20, r17 */, out(kPortB, 20), 0x9540 /* com r20 */, 0x9542 /* swap r20 */, out(kDdrB, 20),
        // how long: r16's low four bits, and a long while where r17's low five bits are all zero
        0x2F30 /* mov r19, r16 */, 0x703F /* andi r19, 15 */, 0x5F3F /* subi r19, -1 */,
        0x953A /* dec r19 */, 0xF7F1 /* brne -2 */,
        0x2F51 /* mov r21, r17 */, 0x715F /* andi r21, 0x1f */, 0xF431 /* brne +6: no long while */,
        ldi(22, 60), ldi(23, 0), 0x957A /* dec r23 */, 0xF7F1 /* brne -2 */, 0x956A /* dec r22 */, 0xF7D9 /* brne -5 */,
        static_cast<std::uint16_t>(0xC000 | ((3 - 30) & 0x0FFF)) /* rjmp again */,
    };
}

}  // namespace

class BrokenProtocolTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;
    Catalogue catalogue_;

private slots:
    void initTestCase()
    {
        catalogue_ = *Catalogue::loadInstalled();
        QVERIFY(folder_.isValid());
    }

    void randomPinsHarmNothing_data()
    {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<unsigned>("seed");
        int kinds = 0;
        for (const auto& [name, kind] : catalogue_.kinds()) {
            if (kind.pins.empty() || kind.chip != nullptr || kind.pins.size() > 26)
                continue;
            ++kinds;
            for (unsigned seed = 1; seed <= 3; ++seed)
                QTest::addRow("%s %u", name.c_str(), seed) << QString::fromStdString(name) << seed;
        }
        QVERIFY(kinds > 60);
    }
    void randomPinsHarmNothing()
    {
        QFETCH(QString, kind);
        QFETCH(unsigned, seed);
        const PartKind& part = *catalogue_.find(kind.toStdString());
        const QString image = folder_.filePath(QString("random%1.bin").arg(seed));
        QFile file(image);
        QVERIFY(file.open(QIODevice::WriteOnly));
        for (const std::uint16_t word : randomPins(static_cast<std::uint16_t>(0xACE1 * seed + 7))) {
            file.putChar(static_cast<char>(word & 0xFF));
            file.putChar(static_cast<char>(word >> 8));
        }
        file.close();
        std::string text = "bramix = 1\ntitle = \"t\"\n[[part]]\nid = \"mcu\"\nkind = \"briar-328\"\nat = [2, 2]\nfirmware = \"" + QFileInfo(image).fileName().toStdString() + "\"\n[[part]]\nid = \"x\"\nkind = \"" + kind.toStdString() + "\"\nat = [60, 2]\n";
        const auto wire = [&](const std::string& a, const std::string& b) { text += "[[wire]]\nends = [\"" + a + "\", \"" + b + "\"]\ncolor = \"ink\"\n"; };
        unsigned next = seed;  // other pins each time
        for (const PinKind& pin : part.pins) {
            if (pin.name == "VCC" || pin.name == "VDD" || pin.name == "VS" || pin.name == "V+" || pin.name == "VM")
                wire("x." + pin.name, "mcu.5V");
            else if (pin.name == "GND" || pin.name == "V-" || pin.name == "VSS")
                wire("x." + pin.name, "mcu.GND");
            else if (const unsigned port = next++ % 14; !pin.supplyVolts && !pin.ground)
                wire("x." + pin.name, port < 8 ? "mcu.PD" + std::to_string(port) : "mcu.PB" + std::to_string(port - 8));
        }
        const auto document = parseDocument("t", text);
        QVERIFY2(document.has_value(), document ? "" : document.error().text().c_str());
        const auto good = checkDocument(*document, catalogue_, "t");
        QVERIFY2(good.has_value(), good ? "" : good.error().text().c_str());
        const auto built = World::build(*document, catalogue_, {.folder = folder_.path().toStdString()}, nullptr);
        QVERIFY2(built.has_value(), built ? "" : built.error().text().c_str());
        World& world = **built;
        constexpr kernel::Time kMiddle{40ms}, kEnd{80ms};
        world.runUntil(kMiddle);
        const auto moment = world.remember();
        world.runUntil(kEnd);
        QCOMPARE(world.now(), kEnd);
        QVERIFY(chip::avr::chipOf(*world.chips()[0].chip).cpu().instructions > 10'000);
        for (std::uint32_t i = 0; i < world.circuit().netCount(); ++i)
            QVERIFY2(std::isfinite(world.circuit().voltage(circuit::NetId{i}).value), world.circuit().name(circuit::NetId{i}).c_str());
        std::set<std::pair<std::string, std::string>> told;
        for (const Finding& f : world.findings()) {
            QVERIFY(!f.message.empty() && !f.rule.empty());
            QVERIFY2(told.insert({f.rule + std::to_string(static_cast<int>(f.severity)), f.where}).second, f.message.c_str());
        }
        const auto first = world.remember();
        const std::size_t findings = world.findings().size();
        world.recall(*moment);
        QCOMPARE(world.now(), kMiddle);
        world.runUntil(kEnd);
        QVERIFY2(world.remember()->state == first->state, "the second way to the end came elsewhere");
        QCOMPARE(world.findings().size(), findings);
    }
};

QTEST_GUILESS_MAIN(BrokenProtocolTest)
#include "broken_protocol_test.moc"
