// What an instruction is said to read and write, held against what running it does: every first word there is, on cores small and large.
#include <QtTest>

#include "chip/avr/core/bare_core.h"
#include "chip/avr/core/operands.h"
#include "kernel/random.h"

using namespace bramix;
using namespace bramix::test;

namespace {

struct Seen {
    std::array<std::uint8_t, 32> r{};
    std::uint8_t sreg = 0;
    std::uint16_t sp = 0;
    std::uint32_t pc = 0;
    std::vector<std::uint8_t> memory;
};

class OneInstruction {
public:
    explicit OneInstruction(const Core& core) : core_(core), cpu_(core, bus_) {}

    void place(std::uint16_t first, std::uint16_t second)
    {
        cpu_.patchFlash(kPlace, {first, second});
    }
    [[nodiscard]] Instruction instruction() const { return cpu_.decodeAt(kPlace); }
    [[nodiscard]] std::optional<DataAccess> access(const std::array<std::uint8_t, 32>& r)
    {
        std::copy(r.begin(), r.end(), cpu_.data.begin());
        return dataAccess(cpu_, instruction());
    }
    // What stands there after it has run once. Memory is the same before each.
    Seen run(const std::array<std::uint8_t, 32>& r, std::uint8_t sreg)
    {
        bus_.memory.fill(0x5A);
        std::copy(r.begin(), r.end(), cpu_.data.begin());
        std::fill(cpu_.data.begin() + core_.ramStart, cpu_.data.begin() + core_.ramEnd + 1, std::uint8_t{0xA5});
        cpu_.sreg = sreg;
        cpu_.sp = static_cast<std::uint16_t>(core_.ramEnd - 40);
        cpu_.pc = kPlace;
        cpu_.rampz = cpu_.eind = 0;
        cpu_.fault = {};
        cpu_.step();
        Seen out;
        std::copy_n(cpu_.data.begin(), 32, out.r.begin());
        out.sreg = cpu_.sreg;
        out.sp = cpu_.sp;
        out.pc = cpu_.pc;
        out.memory.assign(cpu_.data.begin() + core_.ramStart, cpu_.data.begin() + core_.ramEnd + 1);
        out.memory.insert(out.memory.end(), bus_.memory.begin(), bus_.memory.end());
        return out;
    }

    static constexpr std::uint32_t kPlace = 0x40;

private:
    Core core_;
    PlainBus bus_;
    Cpu cpu_;
};

}  // namespace

class OperandsTest : public QObject {
    Q_OBJECT

private slots:
    void everyWordDoesWhatItsOperandsSay_data()
    {
        QTest::addColumn<bool>("large");
        QTest::newRow("16 K words") << false;
        QTest::newRow("128 K words") << true;
    }
    void everyWordDoesWhatItsOperandsSay()
    {
        QFETCH(bool, large);
        Core core = large ? kLargeCore : kSmallCore;
        core.flashWords = 0x100;  // it is decoded anew for each word
        OneInstruction one(core);
        kernel::Random random(large ? 7 : 3);
        std::set<Op> met;
        for (unsigned word = 0; word < 0x10000; ++word) {
            const std::uint16_t target = static_cast<std::uint16_t>(core.ramStart + 0x80);  // of LDS, STS; JMP and CALL go there, too
            one.place(static_cast<std::uint16_t>(word), target);
            const Instruction i = one.instruction();
            if (i.op == Op::undefined || i.op == Op::erased || i.op == Op::outside)
                continue;
            met.insert(i.op);
            const Operands o = operandsOf(i);
            std::array<std::uint8_t, 32> r{};
            for (std::uint8_t& v : r)
                v = static_cast<std::uint8_t>(random.next());
            // Pointers into SRAM, away from its ends.
            for (const std::size_t high : {27U, 29U, 31U})
                r[high] = static_cast<std::uint8_t>((core.ramStart >> 8) + 1);
            const auto sreg = static_cast<std::uint8_t>(random.next());
            const Seen plain = one.run(r, sreg);
            const QByteArray what = QByteArray(mnemonic(i.op)) + " 0x" + QByteArray::number(word, 16);
            // What changes is said to be written.
            for (unsigned n = 0; n < 32; ++n)
                if (plain.r[n] != r[n])
                    QVERIFY2(((o.writes >> n) & 1) != 0, what);
            const auto access = one.access(r);
            const bool toSreg = access && access->store && access->address == kSreg;
            if (plain.sreg != sreg && !toSreg)
                QVERIFY2(o.writesFlags, what);
            if (!access || access->address < kSpl || access->address > kSph)
                QCOMPARE(plain.sp != core.ramEnd - 40, o.stack);
            // And what it is not said to read makes no difference to anything else.
            for (unsigned n = 0; n < 32; ++n) {
                if (((o.reads >> n) & 1) != 0 || (access && access->address == n))
                    continue;
                auto other = r;
                other[n] = static_cast<std::uint8_t>(~other[n]);
                Seen seen = one.run(other, sreg);
                if (((o.writes >> n) & 1) == 0) {
                    QVERIFY2(seen.r[n] == other[n], what);
                    seen.r[n] = plain.r[n];
                }
                QVERIFY2(seen.r == plain.r && seen.sreg == plain.sreg && seen.sp == plain.sp && seen.pc == plain.pc && seen.memory == plain.memory, what);
            }
            if (!o.readsFlags && !(access && access->address == kSreg)) {
                const Seen seen = one.run(r, static_cast<std::uint8_t>(~sreg));
                QVERIFY2(seen.r == plain.r && seen.pc == plain.pc && seen.memory == plain.memory, what);
            }
            // A store goes where it says.
            if (access && access->store && access->address >= core.ramStart) {
                std::vector<std::uint8_t> memory(plain.memory.size() - 0x200, 0xA5);
                const std::size_t at = access->address - core.ramStart;
                QVERIFY2(at < memory.size(), what);
                memory[at] = plain.memory[at];
                QVERIFY2(std::equal(memory.begin(), memory.end(), plain.memory.begin()), what);
            }
        }
        // All that the core has was run: what is undefined aside, and what only the large one knows.
        for (int op = 0; op < static_cast<int>(Op::undefined); ++op)
            if (large || (Op(op) != Op::elpm0 && Op(op) != Op::elpm && Op(op) != Op::elpmInc && Op(op) != Op::eijmp && Op(op) != Op::eicall))
                QVERIFY2(met.contains(Op(op)), mnemonic(Op(op)));
    }
};

QTEST_GUILESS_MAIN(OperandsTest)
#include "operands_test.moc"
