// The engine against the reference stepper: the same programs, stopped at the same random cycles, must end in the same state.
#include <QtTest>

#include "chip/avr/bare_core.h"
#include "kernel/random.h"

using namespace bramix::test;
using bramix::kernel::Random;

namespace {

// A counted delay loop of each shape, or an access to I/O by LDS or STS.
std::size_t delayLoop(std::vector<std::uint16_t>& words, std::size_t i, std::uint16_t any)
{
    if (i + 5 >= words.size())
        return i;
    const unsigned d = (any >> 4) & 3U;
    switch (any & 7U) {
    case 0: case 1:
        words[i] = static_cast<std::uint16_t>(0x940A | ((16 + d) << 4));  // dec
        words[i + 1] = 0xF7F1;                                            // brne .-4
        return i + 1;
    case 2: case 3:
        words[i] = static_cast<std::uint16_t>(0x9701 | (d << 4));         // sbiw
        words[i + 1] = 0xF7F1;
        return i + 1;
    case 4: case 5: {
        const unsigned registers = 2 + (d % 3);
        words[i] = static_cast<std::uint16_t>(0x5001 | (d << 4));         // subi, then sbci
        for (unsigned k = 1; k < registers; ++k)
            words[i + k] = static_cast<std::uint16_t>(0x4000 | (((any & 8U) != 0 ? d + k : (d + 5 * k) & 15U) << 4));
        words[i + registers] = static_cast<std::uint16_t>(0xF401 | ((static_cast<unsigned>(-static_cast<int>(registers) - 1) & 0x7FU) << 3));
        return i + registers;
    }
    default:
        words[i] = static_cast<std::uint16_t>(((any & 1) != 0 ? 0x9000 : 0x9200) | (any & 0x01F0));
        words[i + 1] = static_cast<std::uint16_t>(0x60 + (any & 0x3F));
        return i + 1;
    }
}

// Random words, with those kinds made frequent that compilers write: most of a uniform draw would be undefined.
std::vector<std::uint16_t> randomProgram(Random& random, const Core& core)
{
    std::vector<std::uint16_t> words(core.flashWords);
    for (std::size_t i = 0; i < words.size(); ++i) {
        const auto any = static_cast<std::uint16_t>(random.next());
        switch (random.below(15)) {
        case 12: words[i] = 0xB000 | (any & 0x0FFF); break;                 // IN, OUT
        case 13: words[i] = 0x9800 | (any & 0x03FF); break;                 // CBI, SBIC, SBI, SBIS
        case 14: i = delayLoop(words, i, any); break;
        case 0: words[i] = 0xF000 | (any & 0x07FF); break;                  // branches
        case 1: words[i] = 0x8000 | (any & 0x2FFF); break;                  // LDD, STD
        case 2: words[i] = 0x9000 | (any & 0x03FF); break;                  // LD, ST, LDS, PUSH, POP
        case 3: words[i] = 0x9400 | (any & 0x01FF); break;                  // one operand
        case 4: words[i] = random.below(8) == 0 ? 0xD000 | (any & 0x0FFF) : 0x9600 | (any & 0x01FF); break;
        case 5: words[i] = 0x9C00 | (any & 0x03FF); break;                  // MUL
        case 6: words[i] = static_cast<std::uint16_t>(random.below(0x2C00) + 0x0400); break;  // two registers
        case 7: words[i] = 0xE000 | (any & 0x0FFF); break;                  // LDI
        case 8: words[i] = 0xFC00 | (any & 0x03F7); break;                  // SBRC, SBRS
        default: words[i] = static_cast<std::uint16_t>(random.below(0x5000) + 0x3000); break;  // immediates
        }
    }
    return words;
}

struct Machine {
    PlainBus bus;
    Cpu cpu;
    explicit Machine(const Core& core) : cpu(core, bus) { bus.lively = &cpu; }
};

QByteArray describe(Machine& m)
{
    const auto snapshot = bramix::kernel::saveState(m.cpu);
    return QByteArray(reinterpret_cast<const char*>(snapshot.data()), static_cast<qsizetype>(snapshot.size())) +
           QByteArray(reinterpret_cast<const char*>(m.bus.memory.data()), static_cast<qsizetype>(m.bus.memory.size()));
}

}  // namespace

class EngineTest : public QObject {
    Q_OBJECT

private slots:
    void agreesWithTheStepperOnRandomProgramsAndStops_data()
    {
        QTest::addColumn<bool>("large");
        QTest::newRow("16-bit program counter") << false;
        QTest::newRow("22-bit program counter") << true;
    }

    void agreesWithTheStepperOnRandomProgramsAndStops()
    {
        QFETCH(bool, large);
        const Core& core = large ? kLargeCore : kSmallCore;
        std::int64_t total = 0;
        for (std::uint64_t seed = 1; seed <= (large ? 40 : 200); ++seed) {
            Random random(seed);
            Machine fast(core);
            Machine slow(core);
            const auto program = randomProgram(random, core);
            for (Machine* m : {&fast, &slow})
                m->cpu.loadFlash(program);
            for (int stop = 0; stop < 60; ++stop) {
                // A fault is a stop too: go on elsewhere, with registers that point into memory.
                if (fast.cpu.stopped() || stop == 0) {
                    const auto where = static_cast<std::uint32_t>(random.below(core.flashWords));
                    std::array<std::uint8_t, 32> registers{};
                    for (auto& r : registers)
                        r = static_cast<std::uint8_t>(random.next());
                    registers[27] = registers[29] = registers[31] = static_cast<std::uint8_t>(3 + random.below(4));
                    const auto sreg = static_cast<std::uint8_t>(random.next());
                    for (Machine* m : {&fast, &slow}) {
                        m->cpu.fault = {};
                        m->cpu.pc = where;
                        m->cpu.sp = static_cast<std::uint16_t>(core.ramEnd - 0x100);
                        m->cpu.sreg = sreg;
                        std::copy(registers.begin(), registers.end(), m->cpu.data.begin());
                    }
                }
                const std::int64_t until = fast.cpu.cycle + static_cast<std::int64_t>(1 + random.below(stop % 3 == 0 ? 20 : stop % 7 == 0 ? 100'000 : 2000));
                while (fast.cpu.cycle < until && !fast.cpu.stopped())
                    fast.cpu.run(until);
                while (slow.cpu.cycle < until && !slow.cpu.stopped())
                    slow.cpu.step();
                slow.cpu.current = slow.cpu.pc;  // run() leaves it there: what happens now happens between instructions
                if (describe(fast) != describe(slow))
                    QFAIL(qPrintable(QString("seed %1 stop %2: pc %3/%4 cycle %5/%6 sreg %7/%8 fault %9").arg(seed).arg(stop).arg(fast.cpu.pc).arg(slow.cpu.pc)
                                         .arg(fast.cpu.cycle).arg(slow.cpu.cycle).arg(fast.cpu.sreg).arg(slow.cpu.sreg).arg(int(slow.cpu.fault.kind))));
            }
            total += fast.cpu.instructions;
        }
        QVERIFY(total > 100'000);
    }

    void leavesASelfJumpAtTheFirstBoundaryAfterTheDeadline()
    {
        Machine m(kSmallCore);
        m.cpu.loadFlash({0x0000, 0xCFFF});  // nop; rjmp .-2
        m.cpu.run(1'000'000'000'000);
        // 1 + 2 n, the first such number not below the deadline.
        QCOMPARE(m.cpu.cycle, std::int64_t{1'000'000'000'001});
        QCOMPARE(m.cpu.instructions, std::int64_t{500'000'000'001});
        QVERIFY(m.cpu.atSelfJump());
    }
};

QTEST_APPLESS_MAIN(EngineTest)
#include "engine_test.moc"
