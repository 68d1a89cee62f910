// The RISC-V core: whole programs against the same sources compiled for this machine; traps, CSRs and every instruction's result against the manual's definitions.
#include <QtTest>

#include <random>

#include "chip/lone_chip.h"
#include "chip/riscv/core/cpu.h"
#include "chip/riscv/core_programs.h"
#include "chip/riscv/riscv_program.h"
#include "chip/work_program.h"

using namespace bramix;
using namespace bramix::test;
namespace rv = bramix::chip::riscv;

namespace {

// A core with 64 KB of memory and nothing else.
class Plain final : public rv::Bus {
public:
    Plain() : ram_(map_, 0x10000), cpu(*this, map_)
    {
        ram_.place(0);
        cpu.reset(0x1000);
    }
    void put(std::uint32_t at, std::uint32_t word)
    {
        std::array<std::uint8_t, 4> bytes{};
        std::memcpy(bytes.data(), &word, 4);
        ram_.write(at, bytes);
    }
    [[nodiscard]] std::uint32_t word(std::uint32_t at) const { return ram_[at] | ram_[at + 1] << 8 | ram_[at + 2] << 16 | std::uint32_t{ram_[at + 3]} << 24; }

    std::uint16_t fetch(std::uint32_t a) override { throw rv::Trap{rv::kInstructionFault, a}; }
    std::uint32_t read(std::uint32_t a, unsigned size, std::int64_t) override
    {
        if (a + size > 0x10000)
            throw rv::Trap{rv::kLoadFault, a};
        std::uint32_t out = 0;
        for (unsigned i = 0; i < size; ++i)
            out |= std::uint32_t{ram_[a + i]} << (8 * i);
        return out;
    }
    void write(std::uint32_t a, unsigned size, std::uint32_t value, std::int64_t) override
    {
        if (a + size > 0x10000)
            throw rv::Trap{rv::kStoreFault, a};
        std::array<std::uint8_t, 4> bytes{};
        std::memcpy(bytes.data(), &value, 4);
        ram_.write(a, std::span(bytes).first(size));
    }
    std::optional<std::uint32_t> readCsr(unsigned) override { return std::nullopt; }
    bool writeCsr(unsigned, std::uint32_t) override { return false; }
    void interruptsEnabled() override {}

private:
    chip::PageMap map_;
    chip::MappedRam ram_;

public:
    rv::Cpu cpu;
};

constexpr std::uint32_t registerForm(std::uint32_t f7, std::uint32_t f3, std::uint32_t d, std::uint32_t a, std::uint32_t b) { return f7 << 25 | b << 20 | a << 15 | f3 << 12 | d << 7 | 0x33; }

}  // namespace

class RiscvCoreTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

private slots:
    void programsDoWhatTheyDoHere_data()
    {
        QTest::addColumn<QStringList>("options");
        for (const char* level : {"-O0", "-O1", "-O2", "-O3", "-Os"})
            QTest::newRow(level) << QStringList{level};
        QTest::newRow("-O2, no compressed") << QStringList{"-O2", "-march=rv32im"};
        QTest::newRow("-O3, unrolled") << QStringList{"-O3", "-funroll-all-loops"};
    }
    void programsDoWhatTheyDoHere()
    {
        if (!riscv::haveCompiler())
            QSKIP("riscv64-unknown-elf-gcc is not installed");
        QFETCH(QStringList, options);
        static const std::vector<std::uint32_t> expected = resultsHere(folder_, kWork);
        QCOMPARE(expected.size(), std::size_t{256});
        const QString elf = riscv::compile(folder_, QString(kWork) + "void *memcpy(void *d, const void *s, unsigned n) { char *a = d; const char *b = s; while (n--) *a++ = *b++; return d; }\n"
                                                    "void *memset(void *d, int v, unsigned n) { char *a = d; while (n--) *a++ = (char)v; return d; }\n"
                                                    "int main(void) { for (int i = 0; i < 256; i++) results[i] = 0; work(results); return 0; }", options + QStringList{"-fno-tree-loop-distribute-patterns"});
        QVERIFY(!elf.isEmpty());
        LoneChip bench("esp32c3");
        QVERIFY(bench.load(elf));
        QVERIFY(bench.toEnd());
        for (unsigned i = 0; i < 256; ++i)
            QVERIFY2(bench.word(riscv::kResults + 4 * i) == expected[i], qPrintable(QString("result %1 is %2, expected %3").arg(i).arg(bench.word(riscv::kResults + 4 * i), 8, 16).arg(expected[i], 8, 16)));
        QVERIFY2(bench.notes.empty(), bench.notes.empty() ? "" : bench.notes.front().second.c_str());
    }

    // Register against register, by the definitions of volume I, 2.4.2 and 7.
    void resultsAreThoseOfTheManual_data()
    {
        QTest::addColumn<unsigned>("f7");
        QTest::addColumn<unsigned>("f3");
        const char* names[2][8] = {{"add", "sll", "slt", "sltu", "xor", "srl", "or", "and"}, {"mul", "mulh", "mulhsu", "mulhu", "div", "divu", "rem", "remu"}};
        for (unsigned set = 0; set < 2; ++set)
            for (unsigned f3 = 0; f3 < 8; ++f3)
                QTest::newRow(names[set][f3]) << set << f3;
        QTest::newRow("sub") << 0x20U << 0U;
        QTest::newRow("sra") << 0x20U << 5U;
    }
    void resultsAreThoseOfTheManual()
    {
        QFETCH(unsigned, f7);
        QFETCH(unsigned, f3);
        std::mt19937 random(f7 * 8 + f3);
        const std::uint32_t edges[] = {0, 1, 2, 31, 32, 0x7FFFFFFF, 0x80000000, 0x80000001, 0xFFFFFFFF, 0xFFFFFFFE};
        for (int n = 0; n < 4000; ++n) {
            const std::uint32_t a = n < 100 ? edges[n / 10] : random(), b = n < 100 ? edges[n % 10] : random();
            const auto sa = static_cast<std::int32_t>(a), sb = static_cast<std::int32_t>(b);
            const __int128 wideA = f3 == 3 ? __int128{a} : __int128{sa}, wideB = f3 == 1 ? __int128{sb} : __int128{b};
            std::uint32_t expected = 0;
            switch (f7 << 4 | f3) {
            case 0x000: expected = a + b; break;
            case 0x200: expected = a - b; break;
            case 0x001: expected = a << (b % 32); break;
            case 0x002: expected = sa < sb; break;
            case 0x003: expected = a < b; break;
            case 0x004: expected = a ^ b; break;
            case 0x005: expected = a >> (b % 32); break;
            case 0x205: expected = static_cast<std::uint32_t>(std::int64_t{sa} >> (b % 32)); break;
            case 0x006: expected = a | b; break;
            case 0x007: expected = a & b; break;
            case 0x010: expected = static_cast<std::uint32_t>(std::uint64_t{a} * b); break;
            case 0x011: case 0x012: case 0x013: expected = static_cast<std::uint32_t>((wideA * wideB) >> 32); break;
            case 0x014: expected = b == 0 ? ~0U : static_cast<std::uint32_t>(std::int64_t{sa} / sb); break;
            case 0x015: expected = b == 0 ? ~0U : a / b; break;
            case 0x016: expected = b == 0 ? a : static_cast<std::uint32_t>(std::int64_t{sa} % sb); break;
            default: expected = b == 0 ? a : a % b; break;
            }
            Plain p;
            p.put(0x1000, registerForm(f7, f3, 5, 6, 7));
            p.cpu.x[6] = a;
            p.cpu.x[7] = b;
            p.cpu.step();
            QVERIFY2(p.cpu.x[5] == expected, qPrintable(QString("%1 and %2: %3, expected %4").arg(a, 0, 16).arg(b, 0, 16).arg(p.cpu.x[5], 0, 16).arg(expected, 0, 16)));
            QCOMPARE(p.cpu.pc, 0x1004U);
            if (n > 500)
                n += 15;
        }
    }

    // Volume II, 3.1: what a trap leaves, and what mret takes back.
    void trapsLeaveWhatTheManualSays()
    {
        Plain p;
        p.cpu.mtvec = 0x2001;
        p.cpu.mstatus = 0x1808;
        p.put(0x1000, 0xFFFFFFFF);
        p.cpu.step();
        QCOMPARE(p.cpu.pc, 0x2000U);
        QCOMPARE(p.cpu.mepc, 0x1000U);
        QCOMPARE(p.cpu.mcause, 2U);
        QCOMPARE(p.cpu.mtval, 0xFFFFFFFFU);
        QCOMPARE(p.cpu.mstatus, 0x1880U);
        p.put(0x2000, 0x30200073);  // mret
        p.cpu.step();
        QCOMPARE(p.cpu.pc, 0x1000U);
        QCOMPARE(p.cpu.mstatus & 0x88U, 0x88U);
        QCOMPARE(int{p.cpu.mode}, 3);
        // Vectored: an interrupt goes to its own row, a trap to the first.
        p.cpu.trap(rv::kInterrupt | 9, 0);
        QCOMPARE(p.cpu.pc, 0x2000U + 4 * 9);
        p.cpu.mtvec = 0x2404;
        p.cpu.trap(rv::kInterrupt | 9, 0);
        QCOMPARE(p.cpu.pc, 0x2404U);
        // A load where there is nothing.
        p.cpu.pc = 0x1000;
        p.put(0x1000, 0x0002A303);  // lw t1, 0(t0)
        p.cpu.x[5] = 0x50000;
        p.cpu.x[6] = 77;
        p.cpu.step();
        QCOMPARE(p.cpu.mcause, 5U);
        QCOMPARE(p.cpu.mtval, 0x50000U);
        QCOMPARE(p.cpu.x[6], 77U);
    }

    // Unprivileged code may not touch machine mode's registers.
    void userModeIsHeldApart()
    {
        Plain p;
        p.cpu.mtvec = 0x2000;
        p.cpu.mstatus = 0;
        p.cpu.mepc = 0x1100;
        p.put(0x1000, 0x30200073);
        p.cpu.step();
        QCOMPARE(int{p.cpu.mode}, 0);
        p.put(0x1100, 0x300022F3);  // csrr t0, mstatus
        p.cpu.step();
        QCOMPARE(p.cpu.mcause, 2U);
        QCOMPARE(p.cpu.mtval, 0x300022F3U);
        QCOMPARE(p.cpu.mstatus & 0x1800U, 0U);
        p.cpu.pc = 0x1100;
        p.cpu.mode = 0;
        p.put(0x1100, 0x00000073);
        p.cpu.step();
        QCOMPARE(p.cpu.mcause, 8U);
    }

    void loadsAndStoresNeedNotBeAligned()
    {
        Plain p;
        for (const std::uint32_t at : {0x3001U, 0x3002U, 0x3003U, 0x3FFDU, 0x3FFEU, 0x3FFFU}) {
            p.cpu.pc = 0x1000;
            p.put(0x1000, 0x0062A023);  // sw t1, 0(t0)
            p.put(0x1004, 0x0002A383);  // lw t2, 0(t0)
            p.put(0x1008, 0x00029383);  // lh t2, 0(t0)
            p.cpu.x[5] = at;
            p.cpu.x[6] = 0x81C27364;
            p.cpu.step();
            p.cpu.step();
            QCOMPARE(p.cpu.x[7], 0x81C27364U);
            QCOMPARE(p.word(at), 0x81C27364U);
            p.cpu.step();
            QCOMPARE(p.cpu.x[7], 0x7364U);
        }
    }

    // Code in SRAM, at its own window, and written anew while it runs.
    void codeInSramRuns()
    {
        if (!riscv::haveCompiler())
            QSKIP("riscv64-unknown-elf-gcc is not installed");
        const QString elf = riscv::compile(folder_, kCodeInSram, {"-O1"});
        LoneChip bench("esp32c3");
        QVERIFY(!elf.isEmpty() && bench.load(elf));
        QVERIFY(bench.toEnd());
        QCOMPARE(bench.word(riscv::kResults), 41U);
        QCOMPARE(bench.word(riscv::kResults + 4), 42U);
    }
};

QTEST_GUILESS_MAIN(RiscvCoreTest)
#include "core_test.moc"
