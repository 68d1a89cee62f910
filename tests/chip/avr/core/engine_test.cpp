// The engine against the reference stepper: the same programs, stopped at the same random cycles, must end in the same state.
#include <QtTest>

#include "chip/avr/core/random_program.h"

using namespace bramix::test;

namespace {

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
