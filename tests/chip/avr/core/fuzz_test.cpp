// Firmware that does anything to any register of any chip: nothing crashes or hangs, and a chip restored to any moment of it goes on as it went
// before, with all its peripherals. The seeds are kept: a failing row names the one that shows it again.
#include <QtTest>

#include "chip/avr/chip_bench.h"
#include "kernel/random.h"

using namespace bramix;
using namespace bramix::test;
using kernel::Random;

namespace {

// LDI and STS to random registers, with waits, SEI, SLEEP, WDR and reads in between; ends in a jump back. Every vector returns at once.
std::vector<std::uint16_t> busyProgram(Random& random, const ChipTable& table)
{
    std::vector<std::uint16_t> words;
    for (std::size_t v = 0; v < table.vectors.size(); ++v) {
        words.push_back(0x9518);  // reti
        if (table.vectorWords == 2)
            words.push_back(0x0000);
    }
    const auto begin = words.size();
    words[0] = static_cast<std::uint16_t>(0xC000 | (begin - 1));  // rjmp to the first instruction
    for (int i = 0; i < 150; ++i) {
        const auto address = static_cast<std::uint16_t>(0x20 + random.below(table.core.ramStart - 0x20U));
        const bool stack = address >= 0x5D && address <= 0x5F;
        const auto value = static_cast<unsigned>(random.next() & 0xFF);
        switch (random.below(12)) {
        case 0: words.push_back(0x9478); break;                                                // sei
        case 1: words.push_back(0x9588); break;                                                // sleep
        case 2: words.push_back(0x95A8); break;                                                // wdr
        case 3:
            words.push_back(static_cast<std::uint16_t>(0xE000 | ((value & 0xF0) << 4) | (1 << 4) | (value & 0x0F)));  // ldi r17
            words.push_back(0x951A);                                                           // dec r17
            words.push_back(0xF7F1);                                                           // brne .-4
            break;
        case 4: case 5:
            words.push_back(0x9120);                                                           // lds r18
            words.push_back(address);
            break;
        default:
            if (stack)
                break;
            words.push_back(static_cast<std::uint16_t>(0xE000 | ((value & 0xF0) << 4) | (value & 0x0F)));  // ldi r16
            words.push_back(0x9300);                                                           // sts
            words.push_back(address);
        }
    }
    words.push_back(static_cast<std::uint16_t>(0xC000 | ((begin - words.size() - 1) & 0x0FFF)));
    return words;
}

// The world pulls at the pins too, by a stream of its own.
void disturb(ChipBench& b, Random& random)
{
    auto it = b.outside.begin();
    std::advance(it, static_cast<std::ptrdiff_t>(random.below(b.outside.size())));
    if (random.below(3) == 0)
        b.release(it->first.c_str());
    else
        b.drive(it->first.c_str(), static_cast<double>(random.below(6)), 1000);
}

}  // namespace

class FuzzTest : public QObject {
    Q_OBJECT

    static void eachChip()
    {
        QTest::addColumn<QString>("chip");
        for (const ChipTable* chip : allChips())
            QTest::newRow(chip->id.data()) << QString(chip->id.data());
    }

private slots:
    void aRestoredChipGoesOnAsItDid_data() { eachChip(); }
    void aRestoredChipGoesOnAsItDid()
    {
        QFETCH(QString, chip);
        const ChipTable& table = *findChip(chip.toStdString());
        for (std::uint64_t seed = 1; seed <= 60; ++seed) {
            Random random(seed);
            ChipBench b(8'000'000, table);
            b.program(busyProgram(random, table));
            std::int64_t cycle = 0;
            for (int stop = 0; stop < 6; ++stop) {
                cycle = b.chip.cpu().cycle + 1 + static_cast<std::int64_t>(random.below(3'000));
                b.to(cycle);
                disturb(b, random);
            }
            auto circuit = kernel::saveState(b.circuit);
            const auto queue = kernel::saveState(b.queue);
            const auto before = kernel::saveState(b.chip);
            const std::int64_t goal = b.chip.cpu().cycle + 5'000;
            const auto goOn = [&] {
                Random later(seed + 1000);
                b.forgetEdges();
                for (int i = 0; i < 5; ++i) {
                    b.to(std::max(b.chip.cpu().cycle, goal - 4'000 + 1'000 * i));
                    disturb(b, later);
                }
                std::string edges;
                for (const auto& [name, id] : b.pins)
                    for (const RecordedEdge& e : b.edges(name.c_str()))
                        edges += name + std::to_string(e.cycle) + ":" + std::to_string(static_cast<int>(e.state)) + " ";
                return std::pair(kernel::saveState(b.chip), edges);
            };
            const auto first = goOn();
            kernel::loadState(b.queue, queue);
            kernel::loadState(b.circuit, circuit);
            kernel::loadState(b.chip, before);
            kernel::loadState(b.circuit, circuit);
            kernel::loadState(b.queue, queue);
            QVERIFY2(kernel::saveState(b.chip) == before, qPrintable(QString("seed %1: restored differently").arg(seed)));
            const auto second = goOn();
            QVERIFY2(first.second == second.second, qPrintable(QString("seed %1: other edges").arg(seed)));
            QVERIFY2(first.first == second.first, qPrintable(QString("seed %1: another end").arg(seed)));
        }
    }

    void randomFlashRunsWithoutCrashOrHang_data() { eachChip(); }
    void randomFlashRunsWithoutCrashOrHang()
    {
        QFETCH(QString, chip);
        const ChipTable& table = *findChip(chip.toStdString());
        for (std::uint64_t seed = 1; seed <= 40; ++seed) {
            Random random(seed);
            ChipBench b(8'000'000, table);
            std::vector<std::uint16_t> words(table.core.flashWords);
            for (auto& w : words)
                w = static_cast<std::uint16_t>(random.next());
            b.program(std::move(words));
            for (int i = 0; i < 20; ++i) {
                b.to(b.chip.cpu().cycle + static_cast<std::int64_t>(random.below(5'000)));
                disturb(b, random);
                if (b.chip.faulted()) {
                    b.chip.cpu().fault = {};
                    b.chip.cpu().pc = static_cast<std::uint32_t>(random.below(table.core.flashWords));
                    b.chip.cpu().sp = table.core.ramEnd - 64;
                }
            }
        }
    }
};

QTEST_GUILESS_MAIN(FuzzTest)
#include "fuzz_test.moc"
