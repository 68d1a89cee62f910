// The AVR family behind the seam: what it says of its instructions and chips is what the family itself does with them.
#include <QtTest>

#include "chip/avr/chip.h"
#include "chip/avr/core/operands.h"
#include "chip/avr/device.h"
#include "chip/avr/family.h"
#include "chip/families.h"

using namespace bramix;
using namespace bramix::chip;

class AvrFamilyTest : public QObject {
    Q_OBJECT

    struct Listener final : McuObserver {
        std::vector<std::pair<Weight, std::string>> remarks;
        void remark(Weight weight, const char* rule, const std::string&, std::uint32_t, kernel::Time) override { remarks.emplace_back(weight, rule); }
        void exceptionEntered(unsigned, kernel::Time) override {}
        void exceptionReturned(kernel::Time) override {}
    };

private slots:
    // Instruction set manual: what each kind does to the flow, and where it leads.
    void flowIsThatOfTheManual_data()
    {
        QTest::addColumn<unsigned>("first");
        QTest::addColumn<unsigned>("second");
        QTest::addColumn<int>("flow");
        QTest::addColumn<int>("size");
        QTest::addColumn<int>("target");  // -1: none
        QTest::newRow("nop") << 0x0000U << 0U << int(Flow::next) << 2 << -1;
        QTest::newRow("rjmp .+4") << 0xC002U << 0U << int(Flow::jump) << 2 << 0x106;
        QTest::newRow("jmp 0x234") << 0x940CU << 0x011AU << int(Flow::jump) << 4 << 0x234;
        QTest::newRow("breq .+6") << 0xF019U << 0U << int(Flow::branch) << 2 << 0x108;
        QTest::newRow("sbrc r24, 3, over one word") << 0xFD83U << 0x0000U << int(Flow::skip) << 2 << 0x104;
        QTest::newRow("sbrc r24, 3, over two words") << 0xFD83U << 0x940EU << int(Flow::skip) << 2 << 0x106;
        QTest::newRow("call 0x234") << 0x940EU << 0x011AU << int(Flow::call) << 4 << 0x234;
        QTest::newRow("rcall .-2") << 0xDFFFU << 0U << int(Flow::call) << 2 << 0x100;
        QTest::newRow("icall") << 0x9509U << 0U << int(Flow::indirectCall) << 2 << -1;
        QTest::newRow("ijmp") << 0x9409U << 0U << int(Flow::indirectJump) << 2 << -1;
        QTest::newRow("ret") << 0x9508U << 0U << int(Flow::return_) << 2 << -1;
        QTest::newRow("reti") << 0x9518U << 0U << int(Flow::exceptionReturn) << 2 << -1;
        QTest::newRow("erased") << 0xFFFFU << 0U << int(Flow::none) << 2 << -1;
    }
    void flowIsThatOfTheManual()
    {
        QFETCH(unsigned, first);
        QFETCH(unsigned, second);
        QFETCH(int, flow);
        QFETCH(int, size);
        QFETCH(int, target);
        std::vector<std::uint8_t> code(0x200);
        for (const auto& [at, word] : {std::pair{0x100U, first}, {0x102U, second}}) {
            code[at] = static_cast<std::uint8_t>(word);
            code[at + 1] = static_cast<std::uint8_t>(word >> 8);
        }
        const InstructionInfo i = decode(*findDevice("atmega328p"), {code, 0}, 0x100);
        QCOMPARE(int(i.flow), flow);
        QCOMPARE(static_cast<int>(i.size), size);
        QCOMPARE(i.target ? static_cast<int>(*i.target) : -1, target);
    }

    // A running chip and bare code say the same of every word there is.
    void aChipAndItsCodeAgree()
    {
        kernel::EventQueue queue;
        circuit::Circuit circuit(queue);
        Listener listener;
        const Device& device = *findDevice("atmega2560");
        const auto mcu = makeMcu(device, {}, queue, circuit, listener);
        Firmware image;
        for (unsigned w = 0; w < 0x10000; ++w)
            image.flash.insert(image.flash.end(), {static_cast<std::uint8_t>(w), static_cast<std::uint8_t>(w >> 8), 0x0E, 0x94});  // each before a CALL
        mcu->loadProgram(image);
        QCOMPARE(mcu->code().bytes.size(), std::size_t{262'144});
        for (std::uint32_t at = 0; at + 4 < 0x40000; at += 2) {
            const InstructionInfo one = mcu->instructionAt(at), other = decode(device, mcu->code(), at);
            QVERIFY2(one.flow == other.flow && one.size == other.size && one.target == other.target && one.reads == other.reads && one.writes == other.writes && one.stores == other.stores, qPrintable(QString::number(at, 16)));
        }
        QCOMPARE(decode(device, mcu->code(), 0x40000).size, 0U);
    }

    void registersHaveTheirPlaces()
    {
        const Device& device = *findDevice("atmega328p");
        QCOMPARE(device.registerAt(5), std::optional<std::size_t>(5));
        QCOMPARE(device.registerAt(avr::kSph), std::optional<std::size_t>(avr::kStackRegister));
        QCOMPARE(device.registerAt(avr::kSreg), std::optional<std::size_t>(avr::kStatusRegister));
        QVERIFY(!device.registerAt(0x25) && !device.registerAt(0x100));
        QCOMPARE(device.slotOf(0x1FE), std::size_t{0xFF});
        QCOMPARE(device.codeAt(0xFF), 0x1FEU);
    }

    // Chip and bench exchange what they have to by the common interface alone.
    void aChipIsLoadedSuppliedAndRun()
    {
        kernel::EventQueue queue;
        circuit::Circuit circuit(queue);
        Listener listener;
        const Device& device = *findDevice("atmega328p");
        const auto mcu = makeMcu(device, {}, queue, circuit, listener);
        const auto tx = circuit.addPin(circuit.addNet("tx"), "tx"), pb0 = circuit.addPin(circuit.addNet("pb0"), "pb0");
        QVERIFY(mcu->attachPin("PD1", tx) && mcu->attachPin("PB0", pb0) && !mcu->attachPin("PZ9", pb0));
        QCOMPARE(mcu->serialPorts().size(), std::size_t{1});
        QVERIFY(mcu->serialPorts()[0].transmit == tx);
        QVERIFY(mcu->outputOhms(pb0) && !mcu->analogReading(pb0));
        circuit.seal(nullptr);
        Firmware image;
        image.flash = {0x20, 0x9A, 0x28, 0x9A, 0xFF, 0xCF};  // sbi DDRB, 0; sbi PORTB, 0; rjmp .-2
        mcu->loadProgram(image);
        mcu->powerOn();
        const bool never = false;
        mcu->runAlone(kernel::Time(std::chrono::microseconds(10)), never);
        QCOMPARE(circuit.stateOf(circuit.netOf(pb0)), circuit::NetState::high);
        QVERIFY(!mcu->faulted() && !mcu->fault() && mcu->instructions() > 50);
        const std::uint32_t stop[] = {4};
        mcu->setBreakpoints(stop);
        mcu->runAlone(kernel::Time(std::chrono::microseconds(20)), never);
        QVERIFY(mcu->hasStopped() && mcu->stopInfo().kind == StopInfo::Kind::breakpoint && mcu->stopInfo().code == 4);
        // Nothing is programmed behind it: that is told as what it is.
        mcu->setBreakpoints({});
        mcu->writeRegister(*device.registerOf(CoreRole::programCounter), 6);
        mcu->resume(true);
        mcu->runAlone(kernel::Time(std::chrono::microseconds(30)), never);
        QVERIFY(mcu->faulted() && mcu->fault() && mcu->fault()->what == "execution of erased flash" && mcu->fault()->code == 6);
    }
};

QTEST_APPLESS_MAIN(AvrFamilyTest)
#include "family_test.moc"
