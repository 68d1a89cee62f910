// The device's side of both serial buses, against a master that is drawn edge by edge.
#include <QtTest>

#include "parts/bus.h"

using namespace bramix::parts;

namespace {

// A memory of sixteen bytes at 0x50, and a wire that knows who pulls it.
struct Wire : TwoWire::Device {
    bool held = false, master = true;
    std::array<std::uint8_t, 16> cells{};
    std::uint8_t at = 0;
    bool first = false;
    int ends = 0;
    TwoWire device{*this, [this](bool low) {
                       held = low;
                       device.data(line());
                   }};

    [[nodiscard]] bool line() const { return master && !held; }
    bool addressed(std::uint8_t address, bool reads) override
    {
        first = !reads;
        return address == 0x50;
    }
    bool written(std::uint8_t byte) override
    {
        if (first)
            at = byte & 15;
        else
            cells[at++ & 15] = byte;
        first = false;
        return byte != 0xEE;  // which it does not like
    }
    std::uint8_t wanted() override { return cells[at++ & 15]; }
    void ended() override { ++ends; }

    void sda(bool high)
    {
        master = high;
        device.data(line());
    }
    void start()
    {
        sda(true);
        device.clock(true);
        sda(false);
        device.clock(false);
    }
    void stop()
    {
        sda(false);
        device.clock(true);
        sda(true);
    }
    // What stands on the wire at each clock.
    bool bit(bool out)
    {
        sda(out);
        device.clock(true);
        const bool in = line();
        device.clock(false);
        return in;
    }
    bool put(std::uint8_t byte)
    {
        for (int i = 7; i >= 0; --i)
            bit((byte >> i & 1) != 0);
        return !bit(true);
    }
    std::uint8_t get(bool more)
    {
        std::uint8_t v = 0;
        for (int i = 0; i < 8; ++i)
            v = static_cast<std::uint8_t>(v << 1 | (bit(true) ? 1 : 0));
        bit(!more);
        return v;
    }
};

struct Spi : SpiSlave::Device {
    bool out = false, driven = false;
    std::vector<std::uint8_t> in;
    int wholes = 0, parts = 0;
    std::uint8_t next = 0x81;
    SpiSlave slave{*this,
                   [this](bool high) {
                       out = high;
                       driven = true;
                   },
                   [this] { driven = false; }};
    std::uint8_t selected() override { return next; }
    std::uint8_t exchanged(std::uint8_t byte) override
    {
        in.push_back(byte);
        return static_cast<std::uint8_t>(byte + 1);
    }
    void deselected(bool whole) override { (whole ? wholes : parts) += 1; }

    // Mode 0 rests low, mode 3 high; both are sampled at the rise.
    std::uint8_t shift(std::uint8_t byte, int bits, bool mode3)
    {
        std::uint8_t v = 0;
        for (int i = 7; i > 7 - bits; --i) {
            const bool data = (byte >> i & 1) != 0;
            if (mode3)
                slave.clock(false, data);
            slave.clock(true, data);
            v = static_cast<std::uint8_t>(v << 1 | (out ? 1 : 0));
            if (!mode3)
                slave.clock(false, data);
        }
        return v;
    }
};

}  // namespace

class BusTest : public QObject {
    Q_OBJECT

private slots:
    void twoWireWritesAndReads()
    {
        Wire w;
        w.start();
        QVERIFY(w.put(0xA0));
        for (const int byte : {3, 0x12, 0x80, 0xFF})
            QVERIFY(w.put(static_cast<std::uint8_t>(byte)));
        w.stop();
        QCOMPARE(w.ends, 1);
        w.start();
        QVERIFY(w.put(0xA0) && w.put(3));
        w.start();  // again, without a stop
        QVERIFY(w.put(0xA1));
        QCOMPARE(w.get(true), std::uint8_t(0x12));
        QCOMPARE(w.get(true), std::uint8_t(0x80));
        QCOMPARE(w.get(false), std::uint8_t(0xFF));
        w.stop();
        QVERIFY(w.line());
        QCOMPARE(w.ends, 3);
    }

    void twoWireLeavesOthersAlone()
    {
        Wire w;
        w.start();
        QVERIFY(!w.put(0xA2));  // another's address
        QVERIFY(!w.put(0x55));
        w.stop();
        QCOMPARE(w.ends, 0);
        w.start();
        QVERIFY(w.put(0xA0) && w.put(0) && !w.put(0xEE));  // not acknowledged
        w.stop();
        // A start in the middle of a byte begins anew.
        w.start();
        w.bit(true);
        w.bit(false);
        w.start();
        QVERIFY(w.put(0xA0));
        w.stop();
    }

    // The master that asks for no more has the wire to itself at once.
    void twoWireLetsGoAfterTheLastByte()
    {
        Wire w;
        w.cells.fill(0);
        w.start();
        QVERIFY(w.put(0xA1));
        QCOMPARE(w.get(false), std::uint8_t(0));
        QVERIFY(!w.held);
        w.stop();
        QVERIFY(w.line());
    }

    void spiExchangesInModes0And3_data()
    {
        QTest::addColumn<bool>("mode3");
        QTest::newRow("0") << false;
        QTest::newRow("3") << true;
    }
    void spiExchangesInModes0And3()
    {
        QFETCH(bool, mode3);
        Spi s;
        s.slave.clock(mode3, false);
        QVERIFY(!s.driven);
        s.slave.select(true);
        QCOMPARE(s.shift(0x3C, 8, mode3), std::uint8_t(0x81));
        QCOMPARE(s.shift(0xC3, 8, mode3), std::uint8_t(0x3D));
        QCOMPARE(s.shift(0x00, 8, mode3), std::uint8_t(0xC4));
        s.slave.select(false);
        QVERIFY(!s.driven);
        QCOMPARE(s.in, (std::vector<std::uint8_t>{0x3C, 0xC3, 0x00}));
        QCOMPARE(s.wholes, 1);
        // Let go in the middle of a byte: it does not count.
        s.slave.select(true);
        s.shift(0xFF, 5, mode3);
        s.slave.select(false);
        QCOMPARE(s.in.size(), std::size_t{3});
        QCOMPARE(s.parts, 1);
        // Not chosen, it hears nothing.
        s.shift(0xAA, 8, mode3);
        QCOMPARE(s.in.size(), std::size_t{3});
    }
};

QTEST_GUILESS_MAIN(BusTest)
#include "bus_test.moc"
