// Ports, interrupts, sleep and reset of a whole chip, by small programs and by registers.
#include <QtTest>

#include "chip/avr/chip_bench.h"

using namespace bramix;
using namespace bramix::test;
using circuit::NetState;

class ChipTest : public QObject {
    Q_OBJECT

private slots:
    void pinsFollowDdrAndPort()
    {
        ChipBench b;
        const auto state = [&] { return b.circuit.stateOf(b.circuit.netOf(b.pins["PB2"])); };
        QCOMPARE(state(), NetState::floating);
        b.write("PORTB", 4);
        QCOMPARE(state(), NetState::high);  // pull-up
        QVERIFY(b.circuit.driveOf(b.pins["PB2"]).ohms > 20'000);
        b.write("DDRB", 4);
        QVERIFY(b.circuit.driveOf(b.pins["PB2"]).ohms < 100);
        b.write("PINB", 4);  // toggles PORTB2 (14.2.2)
        QCOMPARE(b.read("PORTB"), 0);
        QCOMPARE(state(), NetState::low);
        b.write("DDRB", 0);
        b.write("PORTB", 4);
        b.write("MCUCR", 0x10);  // PUD
        QCOMPARE(state(), NetState::floating);
    }

    void anOutputIsReadBackAfterOneNop()
    {
        // ldi r16,1 ; out DDRB,r16 ; out PORTB,r16 ; in r17,PINB ; in r18,PINB ; rjmp .-2   (14.2.4: a nop must come between)
        ChipBench b;
        b.program({0xE001, 0xB904, 0xB905, 0xB113, 0xB123, 0xCFFF});
        b.to(30);
        QCOMPARE(b.chip.cpu().data[17] & 1, 0);
        QCOMPARE(b.chip.cpu().data[18] & 1, 1);
        QCOMPARE(b.edges("PB0").back().cycle, 3);  // the third instruction ends there
    }

    void aPullUpAgainstAnOutsideLevelReadsThatLevel()
    {
        ChipBench b;
        b.write("PORTD", 4);
        b.drive("PD2", false);
        b.to(10);
        QCOMPARE(b.read("PIND") & 4, 0);
        b.release("PD2");
        b.to(20);
        QCOMPARE(b.read("PIND") & 4, 4);
    }

    void externalInterruptComesOnItsEdges_data()
    {
        QTest::addColumn<int>("sense");
        QTest::addColumn<int>("expected");
        QTest::newRow("any change") << 1 << 4;
        QTest::newRow("falling") << 2 << 2;
        QTest::newRow("rising") << 3 << 2;
    }
    void externalInterruptComesOnItsEdges()
    {
        QFETCH(int, sense);
        QFETCH(int, expected);
        ChipBench b;
        b.program({0xCFFF, 0xFFFF, 0x9518, 0xFFFF, 0x9518});  // INT0 and INT1: reti
        b.drive("PD2", true);
        b.write("EICRA", static_cast<std::uint8_t>(sense));
        b.write("EIMSK", 1);
        b.to(100);
        b.chip.cpu().sreg |= kI;
        for (int i = 0; i < 4; ++i) {
            b.drive("PD2", i % 2 != 0);
            b.to(b.chip.cpu().cycle + 100);
        }
        QCOMPARE(static_cast<int>(b.interrupts.size()), expected);
        QCOMPARE(b.interrupts[0].first, 1);
    }

    void aLowLevelInterruptsAgainAsLongAsItLasts()
    {
        ChipBench b;
        b.program({0xCFFF, 0xFFFF, 0x9518});
        b.write("PORTD", 4);
        b.write("EIMSK", 1);
        b.chip.cpu().sreg |= kI;
        b.to(100);
        QCOMPARE(b.interrupts.size(), 0U);
        b.drive("PD2", false);
        b.to(200);
        QVERIFY(b.interrupts.size() > 5);
        b.release("PD2");
        b.to(300);
        const auto count = b.interrupts.size();
        b.to(400);
        QCOMPARE(b.interrupts.size(), count);
    }

    void pinChangeInterruptIsPendingTwoClocksAfterTheSynchroniser()
    {
        ChipBench b;
        b.program(std::vector<std::uint16_t>(64, 0x0000));  // nops: every cycle is a boundary
        b.drive("PB3", false);
        b.write("PCMSK0", 8);
        b.write("PCICR", 1);
        b.chip.cpu().sreg |= kI;
        b.to(20);
        b.drive("PB3", true);  // at cycle 20: sampled at 20.5, read from 21, PCIF at 23 (figure 13-1)
        b.to(40);
        QCOMPARE(b.interrupts.size(), 1U);
        QCOMPARE(b.interrupts[0].first, 3);
        QCOMPARE(b.interrupts[0].second, 23 + 4);
    }

    void theLowestVectorGoesFirstAndOneInstructionRunsBetween()
    {
        ChipBench b;
        std::vector<std::uint16_t> words(64, 0x9518);  // reti everywhere
        words[0] = 0x0000;
        words[1] = 0xCFFF;
        b.program(words);
        b.write("EICRA", 0x0A);
        b.write("EIMSK", 3);
        b.drive("PD2", true);
        b.drive("PD3", true);
        b.to(50);
        b.drive("PD3", false);
        b.drive("PD2", false);
        b.to(60);
        b.chip.cpu().sreg |= kI;
        b.to(100);
        QCOMPARE(b.interrupts.size(), 2U);
        QCOMPARE(b.interrupts[0].first, 1);
        QCOMPARE(b.interrupts[1].first, 2);
        // reti (4 cycles), one instruction of the main program (rjmp, 2), entry (4)
        QCOMPARE(b.interrupts[1].second - b.interrupts[0].second, 4 + 2 + 4);
    }

    void seiLetsOneMoreInstructionRun()
    {
        // sei ; inc r16 ; inc r17 ; rjmp .-2, with INT0's level pending all the time
        ChipBench b;
        std::vector<std::uint16_t> words(16, 0xCFFF);
        words[0] = 0x9478;
        words[1] = 0xC003;  // rjmp over the vector to 5
        words[5] = 0x9503;
        words[2] = 0x2F20;  // mov r18,r16 in the handler
        b.program(words);
        b.write("EIMSK", 1);
        b.drive("PD2", false);
        b.to(20);
        QCOMPARE(b.interrupts.size(), 1U);
        QCOMPARE(b.interrupts[0].second, 1 + 2 + 4);  // sei, the jump, entry
        QCOMPARE(b.chip.cpu().data[16], 0);
    }

    void sleepIdlesUntilAnInterruptAndCostsFourMoreCycles()
    {
        // ldi r16,1 ; out SMCR,r16 ; sei ; sleep ; inc r20 ; rjmp .-2
        ChipBench b;
        std::vector<std::uint16_t> words(64, 0x9518);
        const std::vector<std::uint16_t> start{0xC028};  // rjmp to word 41
        words[0] = start[0];
        const std::vector<std::uint16_t> body{0xE001, 0xBF03, 0x9478, 0x9588, 0x9543, 0xCFFF};
        std::copy(body.begin(), body.end(), words.begin() + 41);
        b.program(words);
        b.write("TIMSK0", 1);
        b.write("TCCR0B", 1);
        b.to(10);
        QVERIFY(b.chip.cpu().sleeping);
        b.to(400);
        QCOMPARE(b.interrupts.size(), 1U);
        // The overflow comes when the count has gone round: cycle 256. Four cycles halted, four to enter (10.2).
        QCOMPARE(b.interrupts[0].second, 256 + 4 + 4);
        QCOMPARE(b.chip.cpu().data[20], 1);
    }

    void deepSleepStopsTheTimersClock()
    {
        ChipBench b;
        b.write("TCCR0B", 1);
        b.to(50);
        b.write("SMCR", 0x05);  // power-down
        b.chip.sleepInstruction(b.chip.cpu().cycle);
        const std::uint8_t count = b.read("TCNT0");
        b.to(b.chip.cpu().cycle + 1000);
        QCOMPARE(b.read("TCNT0"), count);
        // With no source that works so deep, the firmware can never run again.
        b.write("TIMSK0", 1);
        b.chip.cpu().sreg |= kI;
        QVERIFY(b.chip.halted());
        b.write("EIMSK", 1);
        QVERIFY(!b.chip.halted());
    }

    void resetCausesAreKeptAndOnlyCleared()
    {
        ChipBench b;
        QCOMPARE(b.read("MCUSR"), 1);  // power-on, and nothing else
        b.write("DDRB", 0xFF);
        b.chip.setResetLine(false);
        QCOMPARE(b.circuit.stateOf(b.circuit.netOf(b.pins["PB0"])), NetState::floating);
        b.to(100);
        QVERIFY(b.chip.inReset());
        b.chip.setResetLine(true);
        b.to(200);
        QCOMPARE(b.read("MCUSR"), 3);
        b.write("MCUSR", 0x02);
        QCOMPARE(b.read("MCUSR"), 2);
        b.write("MCUSR", 0xFF);
        QCOMPARE(b.read("MCUSR"), 2);
    }

    void faultsNameInstructionAndCycle_data()
    {
        QTest::addColumn<QList<int>>("words");
        QTest::addColumn<int>("kind");
        QTest::addColumn<int>("pc");
        QTest::addColumn<int>("address");
        QTest::addColumn<int>("cycle");
        QTest::newRow("undefined") << QList<int>{0x0000, 0x0001} << int(FaultKind::undefinedInstruction) << 1 << 2 << 1;
        QTest::newRow("erased flash") << QList<int>{0xC000} << int(FaultKind::erasedFlash) << 1 << 2 << 2;
        QTest::newRow("load beyond SRAM") << QList<int>{0xE0A0, 0xE0B9, 0x910C} << int(FaultKind::outsideData) << 2 << 0x900 << 2;
        QTest::newRow("store beyond SRAM") << QList<int>{0x9300, 0xFFFE} << int(FaultKind::outsideData) << 0 << 0xFFFE << 0;
        QTest::newRow("jump beyond flash") << QList<int>{0x940C, 0x4000} << int(FaultKind::outsideFlash) << 0 << 0x8000 << 0;
        QTest::newRow("computed jump beyond flash") << QList<int>{0xE4F0, 0x9409} << int(FaultKind::outsideFlash) << 1 << 0x8000 << 1;
    }
    void faultsNameInstructionAndCycle()
    {
        QFETCH(QList<int>, words);
        QFETCH(int, kind);
        QFETCH(int, pc);
        QFETCH(int, address);
        QFETCH(int, cycle);
        ChipBench b;
        b.program({words.begin(), words.end()});
        b.to(100);
        QVERIFY(b.chip.faulted());
        const Fault& fault = b.chip.cpu().fault;
        QCOMPARE(int(fault.kind), kind);
        QCOMPARE(int(fault.pc), pc);
        QCOMPARE(int(fault.address), address);
        QCOMPARE(int(fault.cycle), cycle);
        QCOMPARE(int(b.chip.cpu().pc), pc);
    }

    void runningOffTheEndOfFlashIsAFault()
    {
        ChipBench b;
        std::vector<std::uint16_t> words(0x4000, 0x0000);
        b.program(words);
        b.to(0x5000);
        QCOMPARE(int(b.chip.cpu().fault.kind), int(FaultKind::outsideFlash));
        QCOMPARE(b.chip.cpu().fault.cycle, 0x4000);
    }

    void erasedFlashRunsOnIntoABootSection()
    {
        ChipBench b;
        std::vector<std::uint16_t> words(0x4000, 0xFFFF);
        words[0] = 0x0000;
        words[0x3F00] = 0x9503;  // inc r16
        words[0x3F01] = 0xCFFF;
        b.chip.loadFlash(words, true);
        b.chip.powerOn();
        b.to(0x4100);
        QVERIFY(!b.chip.faulted());
        QCOMPARE(b.notes, std::vector<std::string>{"erased-flash"});
        QCOMPARE(b.chip.cpu().data[16], 1);
    }

    void unmodelledRegistersHoldWhatIsWrittenAndAreNotedOnce()
    {
        ChipBench b(16'000'000, atmega2560());
        b.write("XMCRA", 0x45);
        QCOMPARE(b.read("XMCRA"), 0x45);
        b.write("XMCRA", 0x46);
        QCOMPARE(b.notes, std::vector<std::string>{"not-modelled"});
    }

    void reservedRegistersAndBitsAreNotedOnce()
    {
        ChipBench b;
        (void)b.chip.ioRead(0x65, 10);
        (void)b.chip.ioRead(0x65, 12);
        b.write("TCCR0B", 0x30);
        b.write("TCCR0B", 0x30);
        QCOMPARE(b.read("TCCR0B"), 0);
        QCOMPARE(b.notes, (std::vector<std::string>{"reserved-register", "reserved-bits"}));
    }

    void sramThatNothingHasWrittenIsToldWhenRead()
    {
        // sts 0x0200,r0 ; lds r16,0x0200 ; lds r16,0x0201 ; lds r16,0x0202 ; rjmp .-2
        ChipBench b;
        b.program({0x9200, 0x0200, 0x9100, 0x0200, 0x9100, 0x0201, 0x9100, 0x0202, 0xCFFF});
        b.to(4);
        QVERIFY(b.notes.empty());
        b.to(30);
        QCOMPARE(b.notes, (std::vector<std::string>{"unwritten-ram", "unwritten-ram"}));
    }

    void aStackThatGrowsIntoTheVariablesIsToldOnce()
    {
        // push r0 ; rjmp .-4
        ChipBench b;
        b.program({0x920F, 0xCFFE});
        b.chip.setDataEnd(0x8F0);
        b.to(4 * 14);  // 14 bytes down from 0x8FF: 0x8F1
        QVERIFY(b.notes.empty());
        b.to(4 * 40);
        QCOMPARE(b.notes, std::vector<std::string>{"stack-in-data"});
    }

    void anInterruptWithoutHandlerIsTold()
    {
        ChipBench b;
        std::vector<std::uint16_t> words(128, 0xCFFF);
        words[0] = 0x9478;       // sei
        words[1] = 0xCFFF;
        words[32] = 0x940C;      // TIMER0_OVF: jmp 100
        words[33] = 100;
        words[100] = 0x940C;     // jmp 0, as the run-time library has it
        words[101] = 0;
        b.program(words);
        b.write("TIMSK0", 0x01);
        b.write("TCCR0B", 0x01);
        b.to(2000);
        QVERIFY(b.interrupts.size() > 2);
        QCOMPARE(b.notes, std::vector<std::string>{"no-handler"});
    }

    void theStackLowWaterMarkIgnoresHalfAStackPointer()
    {
        // ldi r28,0x00 ; ldi r29,0x08 ; out SPH,r29 ; in r0,SREG ; out SPL,r28 ; push r0 ; rjmp .-2
        ChipBench b;
        b.program({0xE0C0, 0xE0D8, 0xBFDE, 0xB60F, 0xBFCD, 0x920F, 0xCFFF});
        b.to(60);
        QCOMPARE(b.chip.cpu().lowestSp, 0x7FF);
        // The other way: from 0x08FF to 0x0700 by way of 0x0800 and, high half last, 0x07FF would be wrong marks both.
        ChipBench c;
        c.program({0xE0C0, 0xE0D7, 0xBFCD, 0xBFDE, 0xCFFF});
        c.to(60);
        QCOMPARE(c.chip.cpu().lowestSp, 0x700);
    }

    void aRestoredChipGoesOnBitForBit()
    {
        // Timer and UART at work under a program that counts; saved in the middle, run to the end, put back, run again.
        const auto prepare = [](ChipBench& b) {
            b.program({0x9503, 0xB903, 0xCFFD});  // inc r16 ; out PINB,r16 ; rjmp .-6
            b.write("DDRB", 0xFF);
            b.write("DDRD", 0x60);
            b.write("OCR0A", 37);
            b.write("TCCR0A", 0xA3);
            b.write("TCCR0B", 2);
            b.write("UBRR0L", 3);
            b.write("UCSR0B", 0x18);
            b.write("UDR0", 0x5A);
            b.write("UDR0", 0xC3);
        };
        const auto save = [](ChipBench& b) {
            kernel::SaveArchive ar;
            ar(b.queue, b.circuit, b.chip);
            return ar.take();
        };
        ChipBench b;
        prepare(b);
        b.to(333);
        const kernel::Snapshot middle = save(b);
        b.to(5000);
        const kernel::Snapshot end = save(b);
        const auto edges = b.edges("PD1");
        kernel::LoadArchive ar(middle);
        ar(b.queue, b.circuit, b.chip);
        kernel::LoadArchive again(middle);
        again(b.queue, b.circuit);  // what the circuit remembers wins over what the chip drives anew
        QCOMPARE(save(b), middle);
        b.forgetEdges();
        b.to(5000);
        QCOMPARE(save(b), end);
        QVERIFY(!b.edges("PD1").empty());
        QCOMPARE(b.edges("PD1").back().cycle, edges.back().cycle);
    }
};

QTEST_APPLESS_MAIN(ChipTest)
#include "chip_test.moc"
