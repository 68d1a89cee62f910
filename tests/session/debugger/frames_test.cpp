// Who called whom, before every single instruction, held against a count of calls and returns of the test's own: in the firmware's own code and in the library's, which
// has no descriptions of its frames.
#include <QtTest>

#include "chip/avr/chip.h"
#include "chip/avr/core/isa.h"
#include "debug/code_functions.h"
#include "session/example_bench.h"
#include "session/keeper_bench.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Time;

namespace {

const char* const kLibraries = R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <math.h>
volatile uint8_t ticks;
volatile uint32_t big = 1234567;
volatile float reed = 1.5f;
char line[40];
int16_t weights[9] = {5, 3, 9, 1, 7, 2, 8, 6, 4};
__attribute__((noinline)) int lighter(const void* a, const void* b) { return *(const int16_t*)a - *(const int16_t*)b; }
ISR(TIMER0_OVF_vect) { ++ticks; if (ticks == 7) big = strtoul("77", 0, 10); }
__attribute__((noinline)) void weigh(void)
{
    qsort(weights, 9, sizeof *weights, lighter);
    snprintf(line, sizeof line, "%5ld %s %x", (long)(big / 77), "bale", ticks);
    big = strtoul(line, 0, 10) * 3 + big % 1000;
    reed = sqrt(reed * 2.5f + 1) / 3;
    memmove(line + 3, line, 20);
    char* copy = malloc(12);
    strcpy(copy, "withy");
    free(copy);
}
int main(void)
{
    TIMSK0 = 1;
    TCCR0B = 1;
    sei();
    for (;;)
        weigh();
}
)";

}  // namespace

class FramesTest : public QObject {
    Q_OBJECT

private slots:
    void callersAreThoseThatCalled_data()
    {
        QTest::addColumn<QString>("level");
        QTest::addColumn<bool>("told");
        for (const char* level : {"-O0", "-Os", "-O2"}) {
            QTest::newRow(level) << QString(level) << true;
            QTest::newRow(qPrintable(QString(level) + " without symbols")) << QString(level) << false;
        }
    }
    void callersAreThoseThatCalled()
    {
        QFETCH(QString, level);
        QFETCH(bool, told);
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", level}, kLibraries));
        const auto s = bench.open();
        QVERIFY(s != nullptr);
        follow(*s, told, 60'000, 50'000);
    }

    // The examples' firmware: printing, buses, interrupts, as it is delivered.
    void examplesToo_data()
    {
        QTest::addColumn<QString>("bench");
        QTest::addColumn<bool>("told");
        for (const char* bench : {"tide-clock", "frost-alarm", "withy-lock"}) {
            QTest::newRow(bench) << QString(bench) << true;
            QTest::newRow(qPrintable(QString(bench) + " without symbols")) << QString(bench) << false;
        }
    }

    void examplesToo()
    {
        QFETCH(QString, bench);
        QFETCH(bool, told);
        const auto catalogue = bench::Catalogue::loadInstalled();
        QVERIFY(catalogue.has_value());
        const auto s = openExample(*catalogue, bench.toStdString());
        QVERIFY(s != nullptr);
        follow(*s, told, 600'000, 100'000);
    }

private:
    // Instruction by instruction: what the stack is said to be, and what it is.
    static void follow(Session& s, bool told, int instructions, int least)
    {
        const auto& unit = s.world().chips()[0];
        Program& program = s.program("mcu");
        // As of a plain HEX file: all that there is is the code.
        if (!told) {
            program.symbols = debug::functionsOf({unit.firmware.flash, 0}, *unit.device);
            program.frames = debug::FrameTable();
        }
        const ChipTarget target(unit);
        std::vector<std::uint32_t> calls;  // return addresses in bytes, the outermost first
        std::map<QString, int> wrong;
        int looked = 0, bad = 0;
        for (int i = 0; i < instructions; ++i) {
            const chip::avr::Cpu& cpu = chip::avr::chipOf(*unit.chip).cpu();
            const std::uint32_t pc = cpu.pc;
            const std::uint16_t sp = cpu.sp;
            const chip::avr::Instruction next = cpu.decodeAt(pc);
            const bool interrupted = chip::avr::chipOf(*unit.chip).interruptPending();
            s.advanceInstruction(0);
            const std::uint32_t top = (static_cast<std::uint32_t>(chip::avr::chipOf(*unit.chip).peek(static_cast<std::uint16_t>(cpu.sp + 1))) << 8 | chip::avr::chipOf(*unit.chip).peek(static_cast<std::uint16_t>(cpu.sp + 2))) * 2;
            using Op = chip::avr::Op;
            if (interrupted && cpu.sp + 2 == sp && top == pc * 2) {
                calls.push_back(top);  // in place of the instruction an interrupt has come
            } else if (next.op == Op::call || next.op == Op::icall || (next.op == Op::rcall && next.target != pc + next.words)) {
                calls.push_back((pc + next.words) * 2);
            } else if (next.op == Op::ret || next.op == Op::reti) {
                QVERIFY(!calls.empty());
                calls.pop_back();
            }
            if (calls.size() < 2)
                continue;
            ++looked;
            std::vector<std::uint32_t> says;
            for (const debug::Frame& f : program.frames.unwind(program.symbols, target, debug::registersOf(*unit.chip)))
                if (!f.inlined)
                    says.push_back(f.registers.pc);
            std::vector<std::uint32_t> is{cpu.pc * 2};
            is.insert(is.end(), calls.rbegin(), calls.rend() - (told ? 1 : 0));  // what called main() tells nothing, and has a name only where none has
            if (says != is) {
                ++bad;
                ++wrong[QString::fromStdString(program.symbols.nameOf(cpu.pc * 2, debug::Space::flash))];
            }
        }
        QString list;
        for (const auto& [name, count] : wrong)
            list += QString("%1: %2  ").arg(name).arg(count);
        QVERIFY2(bad == 0, qPrintable(QString("%1 of %2: %3").arg(bad).arg(looked).arg(list)));
        QVERIFY2(looked > least, qPrintable(QString::number(looked)));
    }
};

QTEST_GUILESS_MAIN(FramesTest)
#include "frames_test.moc"
