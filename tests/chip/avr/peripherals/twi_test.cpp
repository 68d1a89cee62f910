// The two-wire interface by its status codes, two chips on one bus (ATmega328P tables 22-2 to 22-6).
#include <QtTest>

#include "chip/avr/two_chips.h"

using namespace bramix;
using namespace bramix::test;

namespace {

constexpr std::uint8_t kInt = 0x80, kAck = 0x40, kStart = 0x20, kStop = 0x10, kCollision = 0x08, kEnable = 0x04;
constexpr std::uint8_t kOwn = 0x42 << 1;

struct Bus : TwoChips {
    explicit Bus(double pullUpOhms = 4'700) : TwoChips(atmega328p(), atmega328p(), {{"PC4", "PC4"}, {"PC5", "PC5"}})
    {
        if (pullUpOhms > 0)
            for (const char* net : {"PC4", "PC5"})
                pullUp(net, pullUpOhms);
        for (Chip* chip : {&a, &b})
            write(*chip, "TWBR", 12);  // 16 MHz / (16 + 24) = 400 kHz
        write(b, "TWAR", kOwn);
    }
    void listen() { write(b, "TWCR", kEnable | kAck | kInt); }
    // A command, and the status that follows it.
    int command(Chip& chip, std::uint8_t bits)
    {
        write(chip, "TWCR", static_cast<std::uint8_t>(kEnable | kInt | bits));
        return status(chip);
    }
    int status(Chip& chip) { return waitFor(chip, "TWCR", kInt) ? read(chip, "TWSR") & 0xF8 : -1; }
    // A byte goes out; what comes of it is for the caller to wait for, or comes back.
    void begin(Chip& chip, int byte)
    {
        write(chip, "TWDR", static_cast<std::uint8_t>(byte));
        write(chip, "TWCR", kEnable | kInt);
    }
    int send(Chip& chip, std::uint8_t byte)
    {
        begin(chip, byte);
        return status(chip);
    }
};

}  // namespace

class TwiTest : public QObject {
    Q_OBJECT

private slots:
    void aMasterWritesToASlave()
    {
        Bus t;
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, kOwn);
        QCOMPARE(t.status(t.b), 0x60);
        QCOMPARE(t.status(t.a), 0x18);
        for (const int byte : {0x5A, 0x00, 0xFF}) {
            t.write(t.b, "TWCR", kEnable | kInt | kAck);
            t.write(t.a, "TWDR", static_cast<std::uint8_t>(byte));
            t.write(t.a, "TWCR", kEnable | kInt);
            QCOMPARE(t.status(t.b), 0x80);
            QCOMPARE(t.read(t.b, "TWDR"), byte);
            QCOMPARE(t.status(t.a), 0x28);
        }
        t.write(t.b, "TWCR", kEnable | kInt);  // answers the next byte with NACK
        t.begin(t.a, 0x77);
        QCOMPARE(t.status(t.b), 0x88);
        QCOMPARE(t.status(t.a), 0x30);
        t.listen();
        t.write(t.a, "TWCR", kEnable | kInt | kStop);
        t.wait(std::chrono::microseconds(20));
        QCOMPARE(t.read(t.a, "TWCR") & kStop, 0);
        QVERIFY(t.notes.empty());
    }

    void aStopEndsWhatASlaveReceives()
    {
        Bus t;
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, kOwn);
        QCOMPARE(t.status(t.b), 0x60);
        QCOMPARE(t.status(t.a), 0x18);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        t.write(t.a, "TWCR", kEnable | kInt | kStop);
        QCOMPARE(t.status(t.b), 0xA0);
    }

    void aMasterReadsFromASlave()
    {
        Bus t;
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, kOwn | 1);
        QCOMPARE(t.status(t.b), 0xA8);
        t.write(t.b, "TWDR", 0xC3);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        QCOMPARE(t.status(t.a), 0x40);
        t.write(t.a, "TWCR", kEnable | kInt | kAck);
        QCOMPARE(t.status(t.b), 0xB8);
        QCOMPARE(t.status(t.a), 0x50);
        QCOMPARE(t.read(t.a, "TWDR"), 0xC3);
        t.write(t.b, "TWDR", 0x3C);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        t.write(t.a, "TWCR", kEnable | kInt);
        QCOMPARE(t.status(t.b), 0xC0);
        QCOMPARE(t.status(t.a), 0x58);
        QCOMPARE(t.read(t.a, "TWDR"), 0x3C);
    }

    void aMasterTurnsRoundWithARepeatedStart()
    {
        Bus t;
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, kOwn);
        QCOMPARE(t.status(t.b), 0x60);
        QCOMPARE(t.status(t.a), 0x18);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        QCOMPARE(t.command(t.a, kStart), 0x10);
        QCOMPARE(t.status(t.b), 0xA0);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        t.begin(t.a, kOwn | 1);
        QCOMPARE(t.status(t.b), 0xA8);
    }

    void anAddressThatNobodyHasIsNotAnswered()
    {
        Bus t;
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        QCOMPARE(t.send(t.a, 0x20), 0x20);
        QCOMPARE(t.command(t.a, kStart), 0x10);
        QCOMPARE(t.send(t.a, 0x21), 0x48);
    }

    void aMaskedAddressAndTheGeneralCallAreAnswered()
    {
        Bus t;
        t.write(t.b, "TWAR", kOwn | 1);
        t.write(t.b, "TWAMR", 0x06);
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, kOwn ^ 0x06);
        QCOMPARE(t.status(t.b), 0x60);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        QCOMPARE(t.status(t.a), 0x18);
        t.write(t.a, "TWCR", kEnable | kInt | kStop);
        QCOMPARE(t.status(t.b), 0xA0);
        t.listen();
        t.wait(std::chrono::microseconds(20));
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, 0x00);
        QCOMPARE(t.status(t.b), 0x70);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        QCOMPARE(t.status(t.a), 0x18);
        t.begin(t.a, 0x99);
        QCOMPARE(t.status(t.b), 0x90);
    }

    void theLowerAddressWinsArbitration()
    {
        Bus t;
        t.write(t.a, "TWDR", 0xFF);
        t.write(t.a, "TWCR", kEnable | kInt | kStart);
        t.write(t.b, "TWCR", kEnable | kInt | kStart);
        QCOMPARE(t.status(t.a), 0x08);
        QCOMPARE(t.status(t.b), 0x08);
        t.write(t.a, "TWDR", 0x70);
        t.write(t.b, "TWDR", 0x30);
        t.write(t.a, "TWCR", kEnable | kInt);
        t.write(t.b, "TWCR", kEnable | kInt);
        QCOMPARE(t.status(t.b), 0x20);  // went on, and nobody answered
        QCOMPARE(t.status(t.a), 0x38);
    }

    void aLoserThatIsMeantBecomesTheSlave()
    {
        Bus t;
        t.write(t.a, "TWAR", 0x30);
        t.write(t.a, "TWCR", kEnable | kInt | kStart | kAck);
        t.write(t.b, "TWCR", kEnable | kInt | kStart);
        QCOMPARE(t.status(t.a), 0x08);
        QCOMPARE(t.status(t.b), 0x08);
        t.write(t.a, "TWDR", 0x70);
        t.write(t.b, "TWDR", 0x30);
        t.write(t.a, "TWCR", kEnable | kInt | kAck);
        t.write(t.b, "TWCR", kEnable | kInt);
        QCOMPARE(t.status(t.a), 0x68);
        QCOMPARE(t.status(t.b), 0x18);
    }

    // Told once it has been called three times in a row; not of one that has answered before (a memory that is writing), and not of a search.
    void anAddressThatNobodyAnswersIsTold()
    {
        const auto call = [](Bus& t, std::uint8_t address) {
            (void)t.command(t.a, kStart);
            const int status = t.send(t.a, static_cast<std::uint8_t>(address << 1));
            t.write(t.a, "TWCR", kEnable | kInt | kStop);
            t.wait(std::chrono::microseconds(50));
            return status;
        };
        const auto told = [](const Bus& t) { return std::count(t.notes.begin(), t.notes.end(), "bus-no-answer"); };
        Bus t;
        QCOMPARE(call(t, 0x27), 0x20);
        QCOMPARE(call(t, 0x27), 0x20);
        QCOMPARE(told(t), 0);
        QCOMPARE(call(t, 0x27), 0x20);
        QCOMPARE(told(t), 1);
        Bus search;
        for (int round = 0; round < 4; ++round)
            for (std::uint8_t address = 8; address < 24; ++address)
                (void)call(search, address);
        QCOMPARE(told(search), 0);
        Bus busy;
        busy.listen();
        (void)busy.command(busy.a, kStart);
        busy.begin(busy.a, kOwn);
        QCOMPARE(busy.status(busy.b), 0x60);
        QCOMPARE(busy.status(busy.a), 0x18);
        busy.write(busy.a, "TWCR", kEnable | kInt | kStop);
        busy.write(busy.b, "TWCR", 0);  // switched off: it answers no more for a while
        busy.wait(std::chrono::microseconds(50));
        for (int i = 0; i < 5; ++i)
            QCOMPARE(call(busy, kOwn >> 1), 0x20);
        QCOMPARE(told(busy), 0);
    }

    void aSlaveThatIsNotReadyStretchesTheClock()
    {
        Bus t;
        t.listen();
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.begin(t.a, kOwn);
        QCOMPARE(t.status(t.b), 0x60);
        QCOMPARE(t.status(t.a), 0x18);
        t.begin(t.a, 0x11);
        // The slave has not cleared TWINT: SCL stays low, however long.
        t.wait(std::chrono::milliseconds(1));
        QCOMPARE(t.read(t.a, "TWCR") & kInt, 0);
        t.write(t.b, "TWCR", kEnable | kInt | kAck);
        QCOMPARE(t.status(t.a), 0x28);
    }

    void theClockHasThePeriodOfItsRegisters()
    {
        Bus t;
        t.write(t.a, "TWSR", 0x01);  // by 4
        t.write(t.a, "TWBR", 20);
        QCOMPARE(t.command(t.a, kStart), 0x08);
        t.rises.clear();
        (void)t.send(t.a, 0x20);
        std::vector<Time> clocks;
        for (const auto& [net, at] : t.rises)
            if (net == "PC5")
                clocks.push_back(at);
        QCOMPARE(clocks.size(), 9U);
        // 16 + 2 * 20 * 4 = 176 cycles of 62.5 ns
        QCOMPARE(kernel::seconds(clocks[5] - clocks[4]), 176 * 62.5e-9);
    }

    void aBusWithoutPullUpsIsTold()
    {
        Bus t(0);
        QCOMPARE(t.command(t.a, kStart), -1);
        QCOMPARE(t.notes, std::vector<std::string>{"twi-pull-up"});
        // The chip's own pull-ups will do.
        Bus own(0);
        own.write(own.a, "PORTC", 0x30);
        QCOMPARE(own.command(own.a, kStart), 0x08);
        QVERIFY(own.notes.empty());
    }

    void dataWrittenTooEarlyIsLost()
    {
        Bus t;
        t.write(t.a, "TWCR", kEnable | kInt | kStart);
        t.write(t.a, "TWDR", 0x20);
        QCOMPARE(t.read(t.a, "TWCR") & kCollision, kCollision + 0);
    }
};

QTEST_GUILESS_MAIN(TwiTest)
#include "twi_test.moc"
