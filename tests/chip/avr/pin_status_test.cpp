// The pins of a chip as registers have set them (ATmega328P datasheet ch. 14: port functions; table 14-1: DDR, PORT and PUD).
#include <QtTest>

#include "chip/avr/chip.h"


using namespace bramix;

class PinStatusTest : public QObject {
    Q_OBJECT

    struct Nobody final : chip::McuObserver {
        void remark(chip::Weight, const char*, const std::string&, std::uint32_t, kernel::Time) override {}
        void exceptionEntered(unsigned, kernel::Time) override {}
        void exceptionReturned(kernel::Time) override {}
    };

private slots:
    void registersDecideThePins()
    {
        kernel::EventQueue queue;
        circuit::Circuit circuit(queue);
        Nobody nobody;
        const chip::avr::ChipTable& table = chip::avr::atmega328p();
        chip::avr::Chip chip(table, {}, queue, circuit, nobody);
        for (const char* name : {"PB1", "PB5", "PC0", "PC4", "PD1", "PD2", "PD3", "PD5"})
            QVERIFY(chip.attachPin(name, circuit.addPin(circuit.addNet(name), name)));
        circuit.seal(nullptr);
        chip.powerOn();
        const auto row = [&](const std::string& name) {
            for (const chip::PinStatus& r : chip.pins())
                if (r.name == name)
                    return r;
            return chip::PinStatus{};
        };
        QCOMPARE(chip.pins().size(), std::size_t{22});  // PB0 to 7, PC0 to 5, PD0 to 7: PC6 is the reset
        const chip::PinStatus at = row("PD2");
        QVERIFY(!at.output && !at.pullUp && !at.latch && at.floats && at.digital && at.function.empty());
        chip.poke(0x2B, 0x0C);  // PORTD: pull-ups of PD2 and PD3
        chip.poke(0x2A, 0x28);  // DDRD: PD3 and PD5 out
        QVERIFY(row("PD2").pullUp && row("PD2").latch && row("PD2").level && !row("PD2").floats);
        QVERIFY(row("PD3").output && !row("PD3").pullUp && row("PD3").level);
        QVERIFY(row("PD5").output && !row("PD5").level);
        chip.poke(0xC1, 0x08);  // UCSR0B: TXEN0
        QCOMPARE(row("PD1").function, "TXD");
        QVERIFY(row("PD1").output && row("PD1").level);
        chip.poke(0x4C, 0x50);  // SPCR: SPE, MSTR
        QCOMPARE(row("PB5").function, "SCK");
        chip.poke(0xBC, 0x04);  // TWCR: TWEN
        QCOMPARE(row("PC4").function, "SDA");
        chip.poke(0x80, 0xC0);  // TCCR1A: COM1A1, COM1A0
        QCOMPARE(row("PB1").function, "OC1A");
        chip.poke(0xB0, 0x20);  // TCCR2A: COM2B1
        QCOMPARE(row("PD3").function, "OC2B");
        chip.poke(0x7E, 0x01);  // DIDR0: ADC0D
        QVERIFY(!row("PC0").digital);
        chip.poke(0x55, 0x10);  // MCUCR: PUD
        QVERIFY(!row("PD2").pullUp && row("PD2").latch);
    }
};

QTEST_GUILESS_MAIN(PinStatusTest)
#include "pin_status_test.moc"
