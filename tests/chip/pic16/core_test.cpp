// The 14-bit PIC core: every instruction on random registers, against an interpreter of the data sheet's own table (DS30487C, table 16-2 and 16.1).
#include <QtTest>

#include <random>

#include "chip/pic16/core/cpu.h"

using namespace bramix;
using namespace bramix::chip::pic16;

namespace {

// A core whose file registers are all plain but those that the core itself knows.
class Plain final : public FileBus {
public:
    Plain() : cpu(*this, 2048)
    {
        for (std::uint16_t a = 0; a < 512; ++a)
            cpu.own[a] = a;
        for (unsigned bank = 1; bank < 4; ++bank)
            for (const std::uint16_t f : {0, 2, 3, 4, 10, 11})
                cpu.own[bank * 128U + f] = f;
    }
    std::uint8_t readSpecial(std::uint16_t, std::int64_t) override { return 0; }
    void writeSpecial(std::uint16_t, std::uint8_t, std::int64_t) override {}
    void watchdogCleared() override { ++cleared; }
    void sleepEntered() override {}
    void interruptsEnabled() override {}
    void stackWrapped(bool) override { ++wrapped; }
    void accessed(std::uint16_t, std::uint8_t, std::uint8_t, bool) override {}

    Cpu cpu;
    int cleared = 0, wrapped = 0;
};

// What the data sheet says, on a plain copy of everything.
struct Sheet {
    std::array<std::uint8_t, 512> file{};
    unsigned w = 0, pc = 0, cycles = 1;
    std::vector<unsigned> stack;

    unsigned& status() { return held; }
    unsigned held = 0;

    [[nodiscard]] unsigned where(unsigned f) const
    {
        unsigned a = f == 0 ? (file[4] | (file[3] & 0x80U) << 1) : (f | (file[3] & 0x60U) << 2);
        const unsigned low = a & 0x7FU;
        if (low == 0 || low == 2 || low == 3 || low == 4 || low == 10 || low == 11)
            a = low;
        return a;
    }
    void run(unsigned word)
    {
        const unsigned f = word & 0x7F, d = word >> 7 & 1, b = word >> 7 & 7, k = word & 0xFF;
        const unsigned a = where(f), before = a == 0 ? 0U : a == 2 ? ((pc + 1) & 0xFFU) : file[a];
        unsigned next = (pc + 1) & 0x7FFU;
        cycles = 1;
        file[2] = static_cast<std::uint8_t>(next);
        const auto flags = [&](int c, int dc, int z) {
            unsigned s = file[3];
            if (c >= 0)
                s = (s & ~1U) | static_cast<unsigned>(c);
            if (dc >= 0)
                s = (s & ~2U) | static_cast<unsigned>(dc) << 1;
            if (z >= 0)
                s = (s & ~4U) | static_cast<unsigned>(z) << 2;
            file[3] = static_cast<std::uint8_t>(s);
        };
        const auto put = [&](unsigned to, unsigned value, bool affects) {
            if (to == 0)
                return;
            if (to == 2) {
                next = ((file[10] & 0x1FU) << 8 | value) & 0x7FFU;
                cycles = 2;
                file[2] = static_cast<std::uint8_t>(value);
            } else if (to == 3) {
                const unsigned keep = affects ? 0x1FU : 0x18U;  // TO and PD cannot be written; nor flags by what gives them
                file[3] = static_cast<std::uint8_t>((file[3] & keep) | (value & ~keep));
            } else {
                file[to] = static_cast<std::uint8_t>(to == 10 ? value & 0x1F : value);
            }
        };
        const auto dest = [&](unsigned value, bool affects) {
            value &= 0xFF;
            if (d)
                put(a, value, affects);
            else
                w = value;
            return value;
        };
        const unsigned was = w, carry = file[3] & 1U;
        switch (word >> 12 & 3) {
        case 0:
            switch (word >> 8 & 15) {
            case 7: dest(before + was, true), flags(before + was > 255, (before & 15) + (was & 15) > 15, ((before + was) & 255) == 0); break;
            case 5: flags(-1, -1, dest(before & was, true) == 0); break;
            case 1:
                if (d)
                    put(a, 0, true);
                else
                    w = 0;
                flags(-1, -1, 1);
                break;
            case 9: flags(-1, -1, dest(~before, true) == 0); break;
            case 3: flags(-1, -1, dest(before - 1, true) == 0); break;
            case 11:
                if (dest(before - 1, false) == 0)
                    next = (next + 1) & 0x7FF, cycles = 2;
                break;
            case 10: flags(-1, -1, dest(before + 1, true) == 0); break;
            case 15:
                if (dest(before + 1, false) == 0)
                    next = (next + 1) & 0x7FF, cycles = 2;
                break;
            case 4: flags(-1, -1, dest(before | was, true) == 0); break;
            case 8: flags(-1, -1, dest(before, true) == 0); break;
            case 13: dest(before << 1 | carry, true), flags(before >> 7, -1, -1); break;
            case 12: dest(before >> 1 | carry << 7, true), flags(before & 1, -1, -1); break;
            case 2: dest(before - was, true), flags(before >= was, (before & 15) >= (was & 15), before == was); break;
            case 14: dest(before << 4 | before >> 4, false); break;
            case 6: flags(-1, -1, dest(before ^ was, true) == 0); break;
            default:
                if (d) {
                    put(a, was, false);
                } else if (f == 0x08) {
                    next = stack.back();
                    stack.pop_back();
                    cycles = 2;
                }
                break;
            }
            break;
        case 1:
            switch (word >> 10 & 3) {
            case 0: put(a, before & ~(1U << b) & 0xFF, false); break;
            case 1: put(a, before | 1U << b, false); break;
            case 2:
                if ((before >> b & 1) == 0)
                    next = (next + 1) & 0x7FF, cycles = 2;
                break;
            default:
                if ((before >> b & 1) != 0)
                    next = (next + 1) & 0x7FF, cycles = 2;
            }
            break;
        case 2:
            if ((word & 0x800) == 0)
                stack.push_back(next);
            next = word & 0x7FF;
            cycles = 2;
            break;
        default:
            switch (word >> 8 & 15) {
            case 0: case 1: case 2: case 3: w = k; break;
            case 4: case 5: case 6: case 7: w = k, next = stack.back(), stack.pop_back(), cycles = 2; break;
            case 8: w |= k, flags(-1, -1, w == 0); break;
            case 9: w &= k, flags(-1, -1, w == 0); break;
            case 10: w ^= k, flags(-1, -1, w == 0); break;
            case 12: case 13: flags(k >= w, (k & 15) >= (w & 15), k == w), w = (k - w) & 255; break;
            case 14: case 15: flags(k + w > 255, (k & 15) + (w & 15) > 15, ((k + w) & 255) == 0), w = (k + w) & 255; break;
            default: break;
            }
        }
        pc = next;
    }
};

}  // namespace

class Pic16CoreTest : public QObject {
    Q_OBJECT

private slots:
    // A random walk through all instructions, from random registers, compared after each.
    void everyInstructionDoesWhatTheSheetSays_data()
    {
        QTest::addColumn<unsigned>("seed");
        for (unsigned s = 1; s <= 20; ++s)
            QTest::newRow(qPrintable(QString("seed %1").arg(s))) << s;
    }
    void everyInstructionDoesWhatTheSheetSays()
    {
        QFETCH(unsigned, seed);
        std::mt19937 random(seed);
        Plain p;
        Sheet sheet;
        for (std::size_t a = 0; a < 512; ++a)
            p.cpu.file[a] = sheet.file[a] = static_cast<std::uint8_t>(random());
        p.cpu.file[10] = sheet.file[10] = 5;
        p.cpu.w = static_cast<std::uint8_t>(sheet.w = random() & 255U);
        p.cpu.depth = 0;
        for (int n = 0; n < 20'000; ++n) {
            unsigned word = random() & 0x3FFFU;
            const Op op = decode(static_cast<std::uint16_t>(word)).op;
            // Those that stop or need a stack are for tests of their own; what gives registers other names is enough once in a while.
            if (op == Op::undefined || op == Op::sleep || op == Op::clrwdt || op == Op::retfie || op == Op::option || op == Op::tris || ((op == Op::return_ || op == Op::retlw) && sheet.stack.empty()))
                continue;
            if (op == Op::call && sheet.stack.size() == 8)
                continue;
            p.cpu.program[p.cpu.pc] = static_cast<std::uint16_t>(word);
            const std::int64_t before = p.cpu.cycle;
            p.cpu.step();
            sheet.run(word);
            const char* what = nullptr;
            if (p.cpu.pc != sheet.pc)
                what = "PC";
            else if (p.cpu.w != sheet.w)
                what = "W";
            else if (p.cpu.file[3] != sheet.file[3])
                what = "STATUS";
            else if (p.cpu.cycle - before != sheet.cycles)
                what = "cycles";
            else if (p.cpu.depth != sheet.stack.size())
                what = "stack";
            else if (p.cpu.file[4] != sheet.file[4])
                what = "FSR";
            for (std::size_t a = 5; a < 512 && what == nullptr; ++a)
                if (a % 128 > 4 && p.cpu.file[a] != sheet.file[a])
                    what = "file register";
            QVERIFY2(what == nullptr, qPrintable(QString("%1 after %2 (%3): instruction %4").arg(what, mnemonic(op)).arg(word, 4, 16).arg(n)));
        }
    }

    // 2.2.2.1: CLRF STATUS leaves 000u u1uu.
    void statusIsNotWrittenByWhatGivesItsFlags()
    {
        Plain p;
        p.cpu.file[3] = 0xFB;
        p.cpu.program[0] = 0x0183;
        p.cpu.step();
        QCOMPARE(int{p.cpu.file[3]}, 0x1F);
    }

    // The ninth call overwrites the first return address.
    void theStackWraps()
    {
        Plain p;
        for (unsigned n = 0; n < 9; ++n)
            p.cpu.program[n * 2] = static_cast<std::uint16_t>(0x2000 | (n * 2 + 2));
        for (int n = 0; n < 9; ++n)
            p.cpu.step();
        QCOMPARE(p.wrapped, 1);
        p.cpu.program[18] = 0x0008;
        p.cpu.step();
        QCOMPARE(p.cpu.pc, 17U);
        for (unsigned n = 0; n < 7; ++n) {
            p.cpu.program[p.cpu.pc] = 0x0008;
            p.cpu.step();
        }
        p.cpu.program[p.cpu.pc] = 0x0008;
        p.cpu.step();
        QCOMPARE(p.cpu.pc, 17U);  // again the ninth's
    }

    // PCLATH gives the upper bits to jumps and to what is written to PCL.
    void pagesComeFromPclath()
    {
        Plain wide;
        wide.cpu.program.assign(8192, 0x3FFF);
        wide.cpu.file[10] = 0x12;
        wide.cpu.program[0] = 0x2805;
        wide.cpu.step();
        QCOMPARE(wide.cpu.pc, 0x1005U);
        wide.cpu.program[0x1005] = 0x0782;  // ADDWF PCL, f
        wide.cpu.w = 4;
        wide.cpu.step();
        QCOMPARE(wide.cpu.pc, 0x120AU);
    }
};

QTEST_GUILESS_MAIN(Pic16CoreTest)
#include "core_test.moc"
