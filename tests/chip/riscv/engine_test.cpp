// The fast engine against the plain stepper: compiled programs, and random ones that write their own code, stopped at random moments and compared in everything.
#include <QtTest>

#include <random>

#include "chip/code_time.h"
#include "chip/lone_chip.h"
#include "chip/riscv/esp32c3_programs.h"
#include "chip/riscv/riscv_program.h"
#include "chip/work_program.h"
#include "kernel/archive.h"

using namespace bramix;
using namespace bramix::test;
using namespace std::chrono_literals;

namespace {

// Direct boot: stack pointer, four pointers into SRAM, then a loop of random instructions. Some of it is copied to SRAM first and runs there, and a few stores go into that code.
std::vector<std::uint8_t> randomProgram(unsigned seed)
{
    std::mt19937 random(seed);
    std::vector<std::uint32_t> words{0xAEDB041D, 0xAEDB041D};
    const auto lui = [](unsigned d, std::uint32_t value) { return (value & 0xFFFFF000U) | d << 7 | 0x37U; };
    const auto addi = [](unsigned d, unsigned a, int imm) { return static_cast<std::uint32_t>(imm) << 20 | a << 15 | d << 7 | 0x13U; };
    words.push_back(lui(2, 0x3FC90000));
    words.push_back(lui(8, 0x3FC81000));
    words.push_back(lui(9, 0x3FC82000));
    // The watchdogs off.
    for (const auto& [address, value] : {std::pair{0x600080A8U, 0x50D83AA1U}, {0x60008090U, 0U}, {0x600080B0U, 0x8F1D312AU}, {0x600080ACU, 0x40000000U}, {0x6001F064U, 0x50D83AA1U}, {0x6001F048U, 0U}}) {
        words.push_back(lui(5, address + 0x800));
        words.push_back(lui(6, value + 0x800));
        words.push_back(addi(6, 6, static_cast<int>(value << 20) >> 20));
        words.push_back((static_cast<std::uint32_t>(static_cast<int>(address << 20) >> 20) & 0xFE0U) << 20 | 6U << 20 | 5U << 15 | 2U << 12 | (address & 0x1FU) << 7 | 0x23U);
    }
    const std::size_t body = words.size();
    const auto any = [&] { return 10 + random() % 8; };  // a0 to a7
    const int length = 200;
    for (int n = 0; n < length; ++n) {
        const unsigned d = any(), a = any(), b = any();
        switch (random() % 12) {
        case 0: case 1: case 2: {
            static constexpr unsigned kSevens[] = {0, 0, 1, 0x20};
            const unsigned f7 = kSevens[random() % 4], f3 = f7 == 0x20 ? (random() % 2) * 5 : f7 == 1 ? random() % 8 : random() % 8;
            words.push_back(f7 << 25 | b << 20 | a << 15 | f3 << 12 | d << 7 | 0x33U);
            break;
        }
        case 3: case 4: {
            const unsigned f3 = random() % 8;
            const std::uint32_t imm = f3 == 1 ? random() % 32 : f3 == 5 ? random() % 32 | (random() % 2) * 0x400U : random() & 0xFFFU;
            words.push_back(imm << 20 | a << 15 | f3 << 12 | d << 7 | 0x13U);
            break;
        }
        case 5: case 6: {  // loads, aligned or not
            static constexpr unsigned kLoads[] = {0, 1, 2, 4, 5};
            words.push_back((random() & 0x7FFU) << 20 | 8U << 15 | kLoads[random() % 5] << 12 | d << 7 | 0x03U);
            break;
        }
        case 7: case 8: {
            const std::uint32_t at = random() & 0x7FFU;
            words.push_back((at >> 5) << 25 | b << 20 | 8U << 15 | (random() % 3) << 12 | (at & 31U) << 7 | 0x23U);
            break;
        }
        case 9: {  // forward over one to four
            const std::uint32_t by = 8 + 4 * (random() % 4);
            static constexpr unsigned kBranches[] = {0, 1, 4, 5, 6, 7};
            words.push_back((by >> 5 & 0x3FU) << 25 | b << 20 | a << 15 | kBranches[random() % 6] << 12 | (by >> 1 & 15U) << 8 | (by >> 11 & 1U) << 7 | 0x63U);
            break;
        }
        case 10: words.push_back(addi(2, 2, static_cast<int>(random() % 64) * 16 - 512)); break;
        default: {  // two short ones: C.ADDI and C.MV
            const std::uint32_t first = 0x0001U | (random() % 31 + 1) << 2 | d << 7, second = 0x8002U | b << 2 | d << 7;
            words.push_back(first | second << 16);
            break;
        }
        }
    }
    for (int i = 0; i < 5; ++i)
        words.push_back(0x00000013U);
    // Back to the body, with the stack pointer as it was; now and then a data sheet's word of the window is loaded.
    words.push_back(lui(2, 0x3FC90000));
    const auto back = static_cast<std::uint32_t>(-4 * static_cast<int>(words.size() - body));
    words.push_back((back >> 20 & 1U) << 31 | (back >> 1 & 0x3FFU) << 21 | (back >> 11 & 1U) << 20 | (back >> 12 & 0xFFU) << 12 | 0x6FU);
    std::vector<std::uint8_t> out(words.size() * 4);
    std::memcpy(out.data(), words.data(), out.size());
    return out;
}

}  // namespace

class RiscvEngineTest : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;
    std::size_t changes_ = 0;  // stretches of code time, of all runs

    // What differs; empty: nothing.
    static QString difference(LoneChip& fast, LoneChip& slow)
    {
        const chip::Device& d = fast.chip->device();
        for (std::size_t r = 0; r < d.coreRegisters.size(); ++r)
            if (fast.chip->readRegister(r) != slow.chip->readRegister(r))
                return QString("%1: %2 and %3").arg(d.coreRegisters[r].name.c_str()).arg(fast.chip->readRegister(r), 8, 16).arg(slow.chip->readRegister(r), 8, 16);
        if (fast.chip->cycles() != slow.chip->cycles() || fast.chip->instructions() != slow.chip->instructions())
            return QString("%1 cycles, %2 instructions; %3, %4").arg(fast.chip->cycles()).arg(fast.chip->instructions()).arg(slow.chip->cycles()).arg(slow.chip->instructions());
        if (fast.chip->lowestStack() != slow.chip->lowestStack())
            return "lowest stack";
        kernel::SaveArchive one, two;
        fast.chip->save(one);
        slow.chip->save(two);
        const kernel::Snapshot a = one.take(), b = two.take();
        if (a.bytes != b.bytes)
            return "state";
        for (std::size_t p = 0; p < a.pages.size(); ++p)
            if (*a.pages[p] != *b.pages[p])
                return QString("memory page %1").arg(p);
        return {};
    }
    void compare(const QString& image, unsigned seed, int stops, kernel::Duration most, bool timed)
    {
        LoneChip fast("esp32c3"), slow("esp32c3");
        QVERIFY(fast.load(image) && slow.load(image));
        // Whoever has a breakpoint is looked at at each instruction.
        const std::uint32_t nowhere[] = {0x423FFFF0};
        slow.chip->setBreakpoints(nowhere);
        std::mt19937 random(seed);
        // Parts of a few instructions each, so that control goes from one to another in every way.
        const chip::Device& d = fast.chip->device();
        std::vector<std::uint16_t> parts((d.codeEnd - d.codeBegin) / d.codeStep, chip::CodeTime::kElsewhere);
        for (std::size_t slot = 0, left = 0, part = 0; slot < 8192; ++slot, --left) {
            if (left == 0) {
                left = 1 + random() % 40;
                part = chip::CodeTime::kElsewhere + random() % 6;
            }
            parts[slot] = static_cast<std::uint16_t>(part);
        }
        std::vector<chip::CodeTime::Stretch> told[2];
        const auto sink = [&told](int n) {
            return [&told, n](std::int64_t from, std::int64_t to, std::span<const chip::CodeTime::Share> shares) { told[n].push_back({from, to, {shares.begin(), shares.end()}}); };
        };
        chip::CodeTime one(parts, 10, 1000, sink(0)), two(parts, 10, 1000, sink(1));
        if (timed) {
            fast.chip->tellCodeTime(&one, 7us);
            slow.chip->tellCodeTime(&two, 7us);
        }
        for (int n = 0; n < stops; ++n) {
            const auto by = kernel::Duration(1 + static_cast<std::int64_t>(random()) % most.count());
            const Time to = fast.chip->now() + by;
            fast.to(to);
            slow.to(to);
            const QString what = difference(fast, slow);
            QVERIFY2(what.isEmpty(), qPrintable(QString("stop %1 at cycle %2, pc 0x%3: %4").arg(n).arg(fast.chip->cycles()).arg(fast.chip->codeAddress(), 8, 16).arg(what)));
            QVERIFY2(told[0] == told[1] && one.open(fast.chip->cycles()) == two.open(slow.chip->cycles()), qPrintable(QString("stop %1 at cycle %2, pc 0x%3: code time").arg(n).arg(fast.chip->cycles()).arg(fast.chip->codeAddress(), 8, 16)));
        }
        changes_ += told[0].size();
        fast.chip->tellCodeTime(nullptr, {});
        slow.chip->tellCodeTime(nullptr, {});
    }

private slots:
    void randomProgramsRunAlike_data()
    {
        QTest::addColumn<unsigned>("seed");
        for (unsigned s = 1; s <= 40; ++s)
            QTest::addRow("seed %u", s) << s;
    }
    void randomProgramsRunAlike()
    {
        QFETCH(unsigned, seed);
        const std::vector<std::uint8_t> bytes = randomProgram(seed);
        QFile file(folder_.filePath("random.bin"));
        QVERIFY(file.open(QIODevice::WriteOnly | QIODevice::Truncate));
        file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<qint64>(bytes.size()));
        file.close();
        compare(file.fileName(), seed, 60, 40us, false);
        compare(file.fileName(), seed, 60, 40us, true);
    }

    void compiledProgramsRunAlike_data()
    {
        QTest::addColumn<QString>("source");
        QTest::newRow("work") << QString(kWork) + "void *memcpy(void *d, const void *s, unsigned n) { char *a = d; const char *b = s; while (n--) *a++ = *b++; return d; }\n"
                                                  "void *memset(void *d, int v, unsigned n) { char *a = d; while (n--) *a++ = (char)v; return d; }\nint main(void) { work(results); return 0; }";
        QTest::newRow("ticks") << QString(kRegisters) + kTicks;
        QTest::newRow("serial") << QString(kRegisters) + kSerial;
        QTest::newRow("priorities") << QString(kRegisters) + kPriorities;
        QTest::newRow("pixels") << QString(kRegisters) + kPixels;
        QTest::newRow("written code") << QString(kRegisters) + kWrittenCode;
    }
    void compiledProgramsRunAlike()
    {
        if (!riscv::haveCompiler())
            QSKIP("riscv64-unknown-elf-gcc is not installed");
        QFETCH(QString, source);
        const QString elf = riscv::compile(folder_, source, {"-O2", "-fno-tree-loop-distribute-patterns"});
        QVERIFY(!elf.isEmpty());
        compare(elf, 7, 60, 400us, false);
        compare(elf, 7, 60, 400us, true);
    }

    void cleanupTestCase() { QVERIFY(changes_ > 1000); }
};

QTEST_GUILESS_MAIN(RiscvEngineTest)
#include "engine_test.moc"
