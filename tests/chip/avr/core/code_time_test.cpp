// Where the time went, told by the engine and by the stepper, against a plain count by instruction.
#include <QtTest>

#include <numeric>

#include "chip/avr/core/random_program.h"

using namespace bramix::chip;
using namespace bramix::test;

namespace {

using Stretch = CodeTime::Stretch;

// From one cycle to the next, which part ran.
struct Piece {
    std::int64_t from = 0, to = 0;
    std::uint16_t part = 0;
};

std::vector<CodeTime::Share> shares(const std::vector<Piece>& pieces, std::int64_t from, std::int64_t to)
{
    std::map<std::uint16_t, std::int64_t> sums;
    for (const Piece& p : pieces)
        if (p.to > from && p.from < to)
            sums[p.part] += std::min(p.to, to) - std::max(p.from, from);
    std::vector<CodeTime::Share> out;
    for (const auto& [part, cycles] : sums)
        out.push_back({part, cycles});
    return out;
}

// Flash cut into parts of random lengths, some of one word.
std::vector<std::uint16_t> randomParts(Random& random, std::size_t words, std::size_t& parts)
{
    std::vector<std::uint16_t> out(words);
    parts = CodeTime::kFirstPart + 40;
    for (std::size_t word = 0; word < words;) {
        const auto part = static_cast<std::uint16_t>(CodeTime::kElsewhere + random.below(41));
        for (std::size_t length = 1 + random.below(random.below(3) == 0 ? 3 : 60); length > 0 && word < words; --length)
            out[word++] = part;
    }
    return out;
}

}  // namespace

class CodeTimeTest : public QObject {
    Q_OBJECT

private slots:
    void isThatOfTheInstructionsThatRan_data()
    {
        QTest::addColumn<bool>("large");
        QTest::addColumn<int>("stretch");
        QTest::newRow("16-bit program counter") << false << 1000;
        QTest::newRow("22-bit program counter") << true << 777;
        QTest::newRow("short stretches") << false << 7;
    }

    void isThatOfTheInstructionsThatRan()
    {
        QFETCH(bool, large);
        QFETCH(int, stretch);
        const Core& core = large ? kLargeCore : kSmallCore;
        std::size_t compared = 0, crossings = 0;
        for (std::uint64_t seed = 1; seed <= (large ? 30 : 120); ++seed) {
            Random random(seed, "code time");
            PlainBus fastBus, slowBus;
            Cpu fast(core, fastBus), slow(core, slowBus);
            fastBus.lively = &fast;
            slowBus.lively = &slow;
            const auto program = randomProgram(random, core);
            fast.loadFlash(program);
            slow.loadFlash(program);
            std::size_t parts = 0;
            const std::vector<std::uint16_t> partAt = randomParts(random, core.flashWords, parts);
            std::vector<Stretch> told;
            CodeTime time(partAt, parts, stretch, [&](std::int64_t from, std::int64_t to, std::span<const CodeTime::Share> shares) { told.push_back({from, to, {shares.begin(), shares.end()}}); });
            fast.tellCodeTime(&time);
            time.begin(partAt[0], 0, stretch);
            std::vector<Piece> pieces;
            const auto ran = [&](std::uint32_t word, std::int64_t from) {
                const std::uint16_t part = word < partAt.size() ? partAt[word] : CodeTime::kElsewhere;
                crossings += !pieces.empty() && pieces.back().part != part ? 1 : 0;
                if (!pieces.empty() && pieces.back().part == part && pieces.back().to == from)
                    pieces.back().to = slow.cycle;
                else if (slow.cycle > from)
                    pieces.push_back({from, slow.cycle, part});
            };
            for (int stop = 0; stop < 60; ++stop) {
                if (fast.stopped() || stop == 0) {
                    const auto where = static_cast<std::uint32_t>(random.below(core.flashWords));
                    for (Cpu* cpu : {&fast, &slow}) {
                        cpu->fault = {};
                        cpu->pc = where;
                        cpu->sp = static_cast<std::uint16_t>(core.ramEnd - 0x100);
                        cpu->data[27] = cpu->data[29] = cpu->data[31] = 4;
                        cpu->moved(cpu->cycle);
                    }
                } else if (random.below(4) == 0) {
                    const std::int64_t from = slow.cycle;
                    const std::uint32_t before = slow.pc;
                    const auto vector = static_cast<std::uint32_t>(2 * random.below(26));
                    fast.enterInterrupt(vector);
                    slow.enterInterrupt(vector);
                    ran(before, from);
                }
                const std::int64_t until = fast.cycle + static_cast<std::int64_t>(1 + random.below(stop % 3 == 0 ? 20 : stop % 7 == 0 ? 30'000 : 2000));
                while (fast.cycle < until && !fast.stopped())
                    fast.run(until);
                while (slow.cycle < until && !slow.stopped()) {
                    const std::int64_t from = slow.cycle;
                    const std::uint32_t word = slow.pc;
                    slow.step();
                    if (!slow.stopped())
                        ran(word, from);
                }
                QCOMPARE(fast.cycle, slow.cycle);
                const std::vector<Stretch> open = time.open(fast.cycle);
                for (const Stretch& o : open)
                    QVERIFY2(o.shares == shares(pieces, o.from, o.to), qPrintable(QString("seed %1 stop %2").arg(seed).arg(stop)));
                QCOMPARE(open.back().to, fast.cycle);
                // As it stands, it goes on.
                time.setState(time.state());
                QVERIFY(time.open(fast.cycle) == open);
            }
            std::int64_t end = 0;
            for (const Stretch& s : told) {
                QCOMPARE(s.from, end);
                QCOMPARE(s.to % stretch, std::int64_t{0});
                QVERIFY2(s.shares == shares(pieces, s.from, s.to), qPrintable(QString("seed %1, from %2 to %3").arg(seed).arg(s.from).arg(s.to)));
                // Longer ones are those in which one part ran alone.
                QVERIFY(s.to - s.from == stretch || s.shares.size() == 1);
                end = s.to;
                ++compared;
            }
            QCOMPARE(time.open(fast.cycle).front().from, end);
        }
        QVERIFY2(compared > 500 && crossings > 20'000, qPrintable(QString("%1 stretches, %2 crossings").arg(compared).arg(crossings)));
    }

    void aStretchThatIsCutLosesNothing()
    {
        std::vector<Stretch> told;
        CodeTime time({}, 6, 100, [&](std::int64_t from, std::int64_t to, std::span<const CodeTime::Share> shares) { told.push_back({from, to, {shares.begin(), shares.end()}}); });
        time.begin(3, 0, 100);
        time.enter(4, 30);
        time.enter(3, 70);
        time.cut(90, 50);   // the clock changes
        time.enter(5, 300);
        time.cut(310, 50);
        QCOMPARE(told.size(), std::size_t{4});
        QVERIFY((told[0] == Stretch{0, 90, {{3, 50}, {4, 40}}}));
        QVERIFY((told[1] == Stretch{90, 140, {{3, 50}}}));
        QVERIFY((told[2] == Stretch{140, 290, {{3, 150}}}));
        QVERIFY((told[3] == Stretch{290, 310, {{3, 10}, {5, 10}}}));
    }
};

QTEST_APPLESS_MAIN(CodeTimeTest)
#include "code_time_test.moc"
