// Every instruction for its result, flags and cycles. Expected values come from wide arithmetic on whole numbers (not from the
// bitwise formulas that the core uses), and cycles from the tables of the AVR Instruction Set Manual.
#include <QtTest>

#include "chip/avr/core/bare_core.h"

using namespace bramix::test;

namespace {

struct Machine {
    PlainBus bus;
    Cpu cpu;
    explicit Machine(const Core& core = kSmallCore) : cpu(core, bus) {}

    void load(std::initializer_list<std::uint16_t> words)
    {
        cpu.loadFlash(words);
        cpu.reset();
    }
};

int signed8(int v) { return static_cast<std::int8_t>(v); }

std::uint8_t flags(bool c, bool z, bool n, bool v, bool h) { return static_cast<std::uint8_t>((c ? 1 : 0) | (z ? 2 : 0) | (n ? 4 : 0) | (v ? 8 : 0) | (n != v ? 16 : 0) | (h ? 32 : 0)); }

constexpr std::uint8_t kArithmetic = 0x3F;

}  // namespace

class InstructionTest : public QObject {
    Q_OBJECT

private slots:
    // Both ways of running, all pairs of operands, carry in both states, Z in both states.
    void arithmeticOverAllOperands_data()
    {
        QTest::addColumn<int>("word");  // with d = r16, r = r17 where it has one
        QTest::newRow("add") << 0x0F01;
        QTest::newRow("adc") << 0x1F01;
        QTest::newRow("sub") << 0x1B01;
        QTest::newRow("sbc") << 0x0B01;
        QTest::newRow("cp") << 0x1701;
        QTest::newRow("cpc") << 0x0701;
        QTest::newRow("and") << 0x2301;
        QTest::newRow("or") << 0x2B01;
        QTest::newRow("eor") << 0x2701;
        QTest::newRow("mul") << 0x9F01;
        QTest::newRow("muls") << 0x0201;
        QTest::newRow("mulsu") << 0x0301;
        QTest::newRow("fmul") << 0x0309;
        QTest::newRow("fmuls") << 0x0381;
        QTest::newRow("fmulsu") << 0x0389;
        QTest::newRow("com") << 0x9500;
        QTest::newRow("neg") << 0x9501;
        QTest::newRow("inc") << 0x9503;
        QTest::newRow("dec") << 0x950A;
        QTest::newRow("lsr") << 0x9506;
        QTest::newRow("ror") << 0x9507;
        QTest::newRow("asr") << 0x9505;
        QTest::newRow("swap") << 0x9502;
    }
    void arithmeticOverAllOperands()
    {
        QFETCH(int, word);
        const std::string what = QTest::currentDataTag();
        Machine stepped;
        Machine engined;
        for (Machine* m : {&stepped, &engined})
            m->load({static_cast<std::uint16_t>(word), 0xCFFF});
        const bool multiplies = what.find("mul") != std::string::npos;
        for (int a = 0; a < 256; ++a)
            for (int b = 0; b < 256; ++b)
                for (int before = 0; before < 4; ++before) {
                    if (before != 0 && a % 13 != 0 && b % 17 != 0 && what != "adc" && what != "sbc")
                        continue;  // the other flag states on part of the operands
                    const bool c0 = (before & 1) != 0;
                    const bool z0 = (before & 2) != 0;
                    const std::uint8_t sreg = static_cast<std::uint8_t>(0xC0 | (c0 ? 1 : 0) | (z0 ? 2 : 0) | 0x20);  // T, I and H set
                    int result = a;
                    int product = -1;
                    std::uint8_t expected = 0;
                    const auto logic = [&](int r) {
                        result = r & 255;
                        expected = flags(c0, result == 0, result > 127, false, true);
                    };
                    if (what == "add" || what == "adc") {
                        const int c = what == "adc" && c0 ? 1 : 0;
                        result = (a + b + c) & 255;
                        const int wide = signed8(a) + signed8(b) + c;
                        expected = flags(a + b + c > 255, result == 0, result > 127, wide < -128 || wide > 127, (a & 15) + (b & 15) + c > 15);
                    } else if (what == "sub" || what == "sbc" || what == "cp" || what == "cpc") {
                        const bool with = what == "sbc" || what == "cpc";
                        const int c = with && c0 ? 1 : 0;
                        const int r = (a - b - c) & 255;
                        const int wide = signed8(a) - signed8(b) - c;
                        expected = flags(a - b - c < 0, r == 0 && (!with || z0), r > 127, wide < -128 || wide > 127, (a & 15) - (b & 15) - c < 0);
                        if (what[0] == 's')
                            result = r;
                    } else if (what == "and") {
                        logic(a & b);
                    } else if (what == "or") {
                        logic(a | b);
                    } else if (what == "eor") {
                        logic(a ^ b);
                    } else if (what == "com") {
                        logic(255 - a);
                        expected |= 1;
                    } else if (what == "neg") {
                        result = (256 - a) & 255;
                        expected = flags(a != 0, a == 0, result > 127, a == 128, (a & 15) != 0);
                    } else if (what == "inc") {
                        result = (a + 1) & 255;
                        expected = flags(c0, result == 0, result > 127, signed8(a) + 1 > 127, true);
                    } else if (what == "dec") {
                        result = (a + 255) & 255;
                        expected = flags(c0, result == 0, result > 127, signed8(a) - 1 < -128, true);
                    } else if (what == "lsr" || what == "ror" || what == "asr") {
                        const int in = what == "ror" && c0 ? 128 : what == "asr" ? a & 128 : 0;
                        result = a / 2 + in;
                        const bool c = a % 2 != 0;
                        const bool n = result > 127;
                        expected = flags(c, result == 0, n, n != c, true);
                    } else if (what == "swap") {
                        result = a / 16 + a % 16 * 16;
                        expected = static_cast<std::uint8_t>(sreg & kArithmetic);
                    } else if (multiplies) {
                        const int x = what == "mul" || what == "fmul" ? a : signed8(a);
                        const int y = what == "muls" || what == "fmuls" ? signed8(b) : b;
                        const int full = (x * y) & 0xFFFF;
                        product = what[0] == 'f' ? (full * 2) & 0xFFFF : full;
                        expected = static_cast<std::uint8_t>((sreg & kArithmetic & ~3) | (full > 0x7FFF ? 1 : 0) | (product == 0 ? 2 : 0));
                    }
                    for (Machine* m : {&stepped, &engined}) {
                        Cpu& cpu = m->cpu;
                        cpu.pc = 0;
                        cpu.cycle = 0;
                        cpu.data[16] = static_cast<std::uint8_t>(a);
                        cpu.data[17] = static_cast<std::uint8_t>(b);
                        // S must be N xor V for the engine; N and V are clear.
                        cpu.sreg = sreg;
                        if (m == &stepped)
                            cpu.step();
                        else
                            cpu.run(multiplies ? 3 : 2);
                        const int actualProduct = cpu.data[0] | (cpu.data[1] << 8);
                        if (cpu.data[16] != result || cpu.sreg != (expected | 0xC0) || (product >= 0 && actualProduct != product))
                            QFAIL(qPrintable(QString("%1 %2, %3 sreg %4: got %5 sreg %6, expected %7 sreg %8").arg(what.c_str()).arg(a).arg(b).arg(sreg).arg(cpu.data[16]).arg(cpu.sreg).arg(result).arg(
                                expected | 0xC0)));
                    }
                }
    }

    void immediateFormsAgreeWithRegisterForms()
    {
        // subi, sbci, cpi, andi, ori against sub, sbc, cp, and, or
        const std::pair<std::uint16_t, std::uint16_t> forms[] = {{0x5000, 0x1B01}, {0x4000, 0x0B01}, {0x3000, 0x1701}, {0x7000, 0x2301}, {0x6000, 0x2B01}};
        Machine m;
        for (const auto& [immediate, pair] : forms)
            for (int k = 0; k < 256; k += 5) {
                m.load({static_cast<std::uint16_t>(immediate | ((k & 0xF0) << 4) | (k & 15)), pair});
                for (int a = 0; a < 256; a += 3)
                    for (const std::uint8_t sreg : {std::uint8_t{0}, std::uint8_t{3}}) {
                        m.cpu.pc = 0;
                        m.cpu.data[16] = static_cast<std::uint8_t>(a);
                        m.cpu.data[17] = static_cast<std::uint8_t>(k);
                        m.cpu.sreg = sreg;
                        m.cpu.step();
                        const auto result = m.cpu.data[16];
                        const auto flags = m.cpu.sreg;
                        m.cpu.data[16] = static_cast<std::uint8_t>(a);
                        m.cpu.sreg = sreg;
                        m.cpu.step();
                        QCOMPARE(m.cpu.data[16], result);
                        QCOMPARE(m.cpu.sreg, flags);
                    }
            }
    }

    void wordArithmetic()
    {
        Machine m;
        for (int k = 0; k < 64; k += 7)
            for (const bool subtract : {false, true}) {
                m.load({static_cast<std::uint16_t>((subtract ? 0x9700 : 0x9600) | ((k & 48) << 2) | (k & 15))});  // r24
                for (int value = 0; value < 0x10000; value += 251) {
                    m.cpu.pc = 0;
                    m.cpu.data[24] = static_cast<std::uint8_t>(value);
                    m.cpu.data[25] = static_cast<std::uint8_t>(value >> 8);
                    m.cpu.sreg = 0x20;
                    m.cpu.step();
                    const int wide = subtract ? value - k : value + k;
                    const int result = wide & 0xFFFF;
                    const int signedWide = static_cast<std::int16_t>(value) + (subtract ? -k : k);
                    QCOMPARE(m.cpu.data[24] | (m.cpu.data[25] << 8), result);
                    QCOMPARE(m.cpu.sreg, flags(wide != result, result == 0, result > 0x7FFF, signedWide < -32768 || signedWide > 32767, true));
                }
            }
    }

    void cyclesAndLengths_data()
    {
        QTest::addColumn<QList<int>>("words");
        QTest::addColumn<int>("cycles");      // 16-bit program counter
        QTest::addColumn<int>("longCycles");  // 22-bit
        QTest::addColumn<int>("pc");          // afterwards, from 0x100
        const auto row = [](const char* name, QList<int> words, int cycles, int longCycles, int pc) { QTest::newRow(name) << words << cycles << longCycles << pc; };
        row("nop", {0x0000}, 1, 1, 0x101);
        row("movw", {0x0101}, 1, 1, 0x101);
        row("ldi", {0xE000}, 1, 1, 0x101);
        row("mov", {0x2C01}, 1, 1, 0x101);
        row("adiw", {0x9600}, 2, 2, 0x101);
        row("mul", {0x9C00}, 2, 2, 0x101);
        row("lds", {0x9000, 0x0300}, 2, 2, 0x102);
        row("sts", {0x9200, 0x0300}, 2, 2, 0x102);
        row("ld X", {0x900C}, 2, 2, 0x101);
        row("ld X+", {0x900D}, 2, 2, 0x101);
        row("ld -X", {0x900E}, 2, 2, 0x101);
        row("ldd Y+q", {0x8009}, 2, 2, 0x101);
        row("ld Z+", {0x9001}, 2, 2, 0x101);
        row("st X", {0x920C}, 2, 2, 0x101);
        row("std Z+q", {0x8201}, 2, 2, 0x101);
        row("ldd Z+q", {0x8001}, 2, 2, 0x101);
        row("ld Y+", {0x9009}, 2, 2, 0x101);
        row("ld -Y", {0x900A}, 2, 2, 0x101);
        row("ld -Z", {0x9002}, 2, 2, 0x101);
        row("st X+", {0x920D}, 2, 2, 0x101);
        row("st -X", {0x920E}, 2, 2, 0x101);
        row("st Y+", {0x9209}, 2, 2, 0x101);
        row("st -Y", {0x920A}, 2, 2, 0x101);
        row("st Z+", {0x9201}, 2, 2, 0x101);
        row("st -Z", {0x9202}, 2, 2, 0x101);
        row("std Y+q", {0x8209}, 2, 2, 0x101);
        row("sbiw", {0x9700}, 2, 2, 0x101);
        row("muls", {0x0200}, 2, 2, 0x101);
        row("mulsu", {0x0300}, 2, 2, 0x101);
        row("fmul", {0x0308}, 2, 2, 0x101);
        row("fmuls", {0x0380}, 2, 2, 0x101);
        row("fmulsu", {0x0388}, 2, 2, 0x101);
        row("bld", {0xF800}, 1, 1, 0x101);
        row("bclr", {0x9488}, 1, 1, 0x101);
        row("lpm Rd,Z", {0x9004}, 3, 3, 0x101);
        row("spm", {0x95E8}, 1, 1, 0x101);
        for (const auto& [name, word] : std::initializer_list<std::pair<const char*, int>>{
                 {"add", 0x0C00}, {"adc", 0x1C00}, {"sub", 0x1800}, {"subi", 0x5000}, {"sbc", 0x0800}, {"sbci", 0x4000}, {"and", 0x2000}, {"andi", 0x7000}, {"or", 0x2800},
                 {"ori", 0x6000}, {"eor", 0x2400}, {"com", 0x9400}, {"neg", 0x9401}, {"inc", 0x9403}, {"dec", 0x940A}, {"cp", 0x1400}, {"cpc", 0x0400}, {"cpi", 0x3000},
                 {"lsr", 0x9406}, {"ror", 0x9407}, {"asr", 0x9405}, {"swap", 0x9402}})
            row(name, {word}, 1, 1, 0x101);
        row("lpm", {0x95C8}, 3, 3, 0x101);
        row("lpm Z+", {0x9005}, 3, 3, 0x101);
        row("in", {0xB000}, 1, 1, 0x101);
        row("out", {0xB800}, 1, 1, 0x101);
        row("push", {0x920F}, 2, 2, 0x101);
        row("pop", {0x900F}, 2, 2, 0x101);
        row("sbi", {0x9A00}, 2, 2, 0x101);
        row("cbi", {0x9800}, 2, 2, 0x101);
        row("bst", {0xFA00}, 1, 1, 0x101);
        row("rjmp", {0xC010}, 2, 2, 0x111);
        row("ijmp", {0x9409}, 2, 2, 0x310);
        row("jmp", {0x940C, 0x0200}, 3, 3, 0x200);
        row("rcall", {0xD010}, 3, 4, 0x111);
        row("icall", {0x9509}, 3, 4, 0x310);
        row("call", {0x940E, 0x0200}, 4, 5, 0x200);
        row("ret", {0x9508}, 4, 5, 0x123);
        row("reti", {0x9518}, 4, 5, 0x123);
        row("branch not taken", {0xF009}, 1, 1, 0x101);  // breq, Z clear
        row("branch taken", {0xF409}, 2, 2, 0x102);      // brne
        row("cpse, no skip", {0x1001, 0x0000}, 1, 1, 0x101);
        row("cpse over one word", {0x1000, 0x0000}, 2, 2, 0x102);
        row("cpse over two words", {0x1000, 0x940C, 0x0000}, 3, 3, 0x103);
        row("sbrc over lds", {0xFC00, 0x9000, 0x0300}, 3, 3, 0x103);
        row("sbrs, no skip", {0xFE00, 0x9000, 0x0300}, 1, 1, 0x101);
        row("sbic over one word", {0x9900, 0x0000}, 2, 2, 0x102);
        row("sbic over sts", {0x9900, 0x9200, 0x0300}, 3, 3, 0x103);
        row("sbis, no skip", {0x9B00, 0x0000}, 1, 1, 0x101);
        row("sleep", {0x9588}, 1, 1, 0x101);
        row("wdr", {0x95A8}, 1, 1, 0x101);
        row("break", {0x9598}, 1, 1, 0x101);
        row("bset", {0x9468}, 1, 1, 0x101);
    }
    void cyclesAndLengths()
    {
        QFETCH(QList<int>, words);
        QFETCH(int, cycles);
        QFETCH(int, longCycles);
        QFETCH(int, pc);
        for (const Core* core : {&kSmallCore, &kLargeCore})
            for (const bool engine : {false, true}) {
                Machine m(*core);
                std::vector<std::uint16_t> flash(0x400, 0x0000);
                for (qsizetype i = 0; i < words.size(); ++i)
                    flash[0x100 + static_cast<std::size_t>(i)] = static_cast<std::uint16_t>(words[i]);
                m.cpu.loadFlash(flash);
                m.cpu.reset();
                m.cpu.pc = 0x100;
                // r0 holds 0, r1 1; X, Y and Z point into SRAM, and Z is a word address too; a return address lies on the stack.
                m.cpu.data[1] = 1;
                for (const unsigned low : {26U, 28U, 30U}) {
                    m.cpu.data[low] = 0x10;
                    m.cpu.data[low + 1] = 0x03;
                }
                m.cpu.sp = 0x0400;
                const unsigned bytes = core->longPc ? 3 : 2;
                m.cpu.data[0x400 + bytes] = 0x23;
                m.cpu.data[0x400 + bytes - 1] = 0x01;
                if (engine)
                    m.cpu.run(1);  // one instruction: it stops at the first boundary at or after cycle 1
                else
                    m.cpu.step();
                QCOMPARE(m.cpu.cycle, core->longPc ? longCycles : cycles);
                QCOMPARE(static_cast<int>(m.cpu.pc), pc);
                QCOMPARE(m.cpu.instructions, 1);
            }
    }

    // Loads and stores through each pointer: which address, and where the pointer points afterwards.
    void pointersMoveAsTheManualSays_data()
    {
        QTest::addColumn<int>("load");   // into r0
        QTest::addColumn<int>("store");  // from r0
        QTest::addColumn<int>("pointer");
        QTest::addColumn<int>("offset");  // of the access
        QTest::addColumn<int>("after");   // of the pointer
        QTest::newRow("X") << 0x900C << 0x920C << 26 << 0 << 0;
        QTest::newRow("X+") << 0x900D << 0x920D << 26 << 0 << 1;
        QTest::newRow("-X") << 0x900E << 0x920E << 26 << -1 << -1;
        QTest::newRow("Y") << 0x8008 << 0x8208 << 28 << 0 << 0;
        QTest::newRow("Y+") << 0x9009 << 0x9209 << 28 << 0 << 1;
        QTest::newRow("-Y") << 0x900A << 0x920A << 28 << -1 << -1;
        QTest::newRow("Y+63") << 0xAC0F << 0xAE0F << 28 << 63 << 0;
        QTest::newRow("Z") << 0x8000 << 0x8200 << 30 << 0 << 0;
        QTest::newRow("Z+") << 0x9001 << 0x9201 << 30 << 0 << 1;
        QTest::newRow("-Z") << 0x9002 << 0x9202 << 30 << -1 << -1;
        QTest::newRow("Z+21") << 0x8805 << 0x8A05 << 30 << 21 << 0;
    }
    void pointersMoveAsTheManualSays()
    {
        QFETCH(int, load);
        QFETCH(int, store);
        QFETCH(int, pointer);
        QFETCH(int, offset);
        QFETCH(int, after);
        for (const bool engine : {false, true})
            for (const int base : {0x0200, 0x02FF, 0x0300, 0x0101}) {
                Machine m;
                m.load({static_cast<std::uint16_t>(load), 0xCFFF});
                auto& data = m.cpu.data;
                const auto point = [&](int at) {
                    data[static_cast<std::size_t>(pointer)] = static_cast<std::uint8_t>(at);
                    data[static_cast<std::size_t>(pointer) + 1] = static_cast<std::uint8_t>(at >> 8);
                };
                const auto pointsAt = [&] { return data[static_cast<std::size_t>(pointer)] | (data[static_cast<std::size_t>(pointer) + 1] << 8); };
                const auto once = [&] {
                    m.cpu.pc = 0;
                    m.cpu.cycle = 0;
                    if (engine)
                        m.cpu.run(3);  // the access and one jump
                    else
                        m.cpu.step();
                };
                point(base);
                data[static_cast<std::size_t>(base + offset)] = 0xA5;
                once();
                QCOMPARE(data[0], 0xA5);
                QCOMPARE(pointsAt(), base + after);
                m.load({static_cast<std::uint16_t>(store), 0xCFFF});
                point(base);
                data[0] = 0x3C;
                once();
                QCOMPARE(data[static_cast<std::size_t>(base + offset)], 0x3C);
                QCOMPARE(pointsAt(), base + after);
                QCOMPARE(m.cpu.sreg, 0);
            }
    }

    void movesTheStackAndProgramMemory()
    {
        // ldi r16,0x5A ; mov r1,r16 ; movw r2,r16 ; push r1 ; pop r20 ; sts 0x250,r20 ; lds r21,0x250 ; ldi r30,0 ; ldi r31,0 ; lpm ; lpm r22,Z+ ; lpm r23,Z
        for (const bool engine : {false, true}) {
            Machine m;
            m.load({0xE50A, 0x2E10, 0x0118, 0x921F, 0x914F, 0x9340, 0x0250, 0x9150, 0x0250, 0xE0E0, 0xE0F0, 0x95C8, 0x9165, 0x9174, 0xCFFF});
            m.cpu.data[17] = 0x77;
            if (engine)
                m.cpu.run(40);
            else
                for (int i = 0; i < 12; ++i)
                    m.cpu.step();
            const auto& r = m.cpu.data;
            QCOMPARE(r[1], 0x5A);
            QCOMPARE(r[2], 0x5A);
            QCOMPARE(r[3], 0x77);
            QCOMPARE(r[20], 0x5A);
            QCOMPARE(r[21], 0x5A);
            QCOMPARE(r[0x250], 0x5A);
            QCOMPARE(r[0], 0x0A);   // low byte of the first word, 0xE50A
            QCOMPARE(r[22], 0x0A);
            QCOMPARE(r[23], 0xE5);
            QCOMPARE(r[30], 1);
            QCOMPARE(m.cpu.sp, kSmallCore.ramEnd);
            QCOMPARE(m.cpu.lowestSp, kSmallCore.ramEnd - 1);
        }
    }

    void everyBranchFollowsItsFlag()
    {
        for (int flag = 0; flag < 8; ++flag)
            for (const bool ifSet : {true, false})
                for (const bool engine : {false, true}) {
                    Machine m;
                    m.load({static_cast<std::uint16_t>((ifSet ? 0xF000 : 0xF400) | (5 << 3) | flag)});
                    for (int state = 0; state < 256; ++state) {
                        m.cpu.pc = 0;
                        m.cpu.cycle = 0;
                        m.cpu.sreg = static_cast<std::uint8_t>(state);
                        if (engine)
                            m.cpu.run(1);
                        else
                            m.cpu.step();
                        const bool taken = (((state >> flag) & 1) != 0) == ifSet;
                        QCOMPARE(m.cpu.pc, taken ? 6U : 1U);
                        QCOMPARE(m.cpu.cycle, taken ? 2 : 1);
                        QCOMPARE(m.cpu.sreg, state);
                    }
                }
    }

    void largeCoreInstructionsUseRampzAndEind()
    {
        Machine m(kLargeCore);
        std::vector<std::uint16_t> flash(0x20000, 0x0000);
        flash[0] = 0x9007;            // elpm r0,Z+
        flash[1] = 0x9519;            // eicall
        flash[0x1FFFF / 2] = 0xAB12;  // byte address 0x1FFFE, 0x1FFFF
        m.cpu.loadFlash(flash);
        m.cpu.reset();
        m.cpu.rampz = 1;
        m.cpu.data[30] = 0xFF;
        m.cpu.data[31] = 0xFF;
        m.cpu.step();
        QCOMPARE(m.cpu.data[0], 0xAB);
        QCOMPARE(m.cpu.rampz, 2);  // the pointer counts through it
        QCOMPARE(m.cpu.data[30], 0);
        m.cpu.eind = 1;
        m.cpu.data[30] = 0x34;
        m.cpu.data[31] = 0x12;
        const auto before = m.cpu.cycle;
        m.cpu.step();
        QCOMPARE(m.cpu.pc, 0x11234U);
        QCOMPARE(m.cpu.cycle - before, 4);
        QCOMPARE(m.cpu.sp, kLargeCore.ramEnd - 3);
        QCOMPARE(m.cpu.data[kLargeCore.ramEnd], 2);  // the low byte was pushed first
    }

    void interruptEntryTakesFourCyclesOrFive()
    {
        for (const Core* core : {&kSmallCore, &kLargeCore}) {
            Machine m(*core);
            m.load({0x0000});
            m.cpu.pc = 0x55;
            m.cpu.sreg = 0x80;
            m.cpu.enterInterrupt(4);
            QCOMPARE(m.cpu.cycle, core->longPc ? 5 : 4);
            QCOMPARE(m.cpu.pc, 4U);
            QCOMPARE(m.cpu.sreg, 0);
            QCOMPARE(m.cpu.data[core->ramEnd], 0x55);
        }
    }

    void bitInstructions()
    {
        Machine m;
        for (int bit = 0; bit < 8; ++bit) {
            m.load({static_cast<std::uint16_t>(0xFB00 | bit), static_cast<std::uint16_t>(0xF910 | bit), static_cast<std::uint16_t>(0x9408 | (bit << 4)), static_cast<std::uint16_t>(0x9488 | (bit << 4))});
            m.cpu.data[16] = static_cast<std::uint8_t>(1 << bit);
            m.cpu.step();  // bst r16,bit
            QCOMPARE(m.cpu.sreg, 0x40);
            m.cpu.step();  // bld r17,bit
            QCOMPARE(m.cpu.data[17] & (1 << bit), 1 << bit);
            m.cpu.step();  // bset
            QCOMPARE(m.cpu.sreg, 0x40 | (1 << bit));
            m.cpu.step();  // bclr
            QCOMPARE(m.cpu.sreg, bit == 6 ? 0 : 0x40);
            m.cpu.data[17] = 0;
        }
    }
};

QTEST_APPLESS_MAIN(InstructionTest)
#include "instruction_test.moc"
