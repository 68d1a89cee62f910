// A memory in shared pages, held against plain copies of it.
#include <QtTest>

#include "kernel/archive.h"
#include "kernel/random.h"

using namespace bramix::kernel;

class PagedMemoryTest : public QObject {
    Q_OBJECT

private slots:
    // A random program writes, remembers and goes back: every one of a thousand moments is what a whole copy says.
    void athousandMomentsAreWhatTheyWere()
    {
        constexpr std::size_t kBytes = 64 * PagedMemory::kPageBytes;
        Random random(7, "pages");
        PagedMemory memory(kBytes, 0x5A);
        std::vector<std::uint8_t> plain(kBytes, 0x5A);
        std::vector<std::pair<Snapshot, std::vector<std::uint8_t>>> moments;
        const auto same = [&] {
            std::vector<std::uint8_t> all(kBytes);
            memory.read(0, all);
            return all == plain;
        };
        for (int i = 0; i < 1000; ++i) {
            for (std::uint64_t n = random.below(40); n > 0; --n) {
                const std::size_t at = random.below(kBytes);
                if (random.below(4) == 0) {
                    std::vector<std::uint8_t> bytes(std::min<std::size_t>(random.below(9000), kBytes - at));
                    for (std::uint8_t& b : bytes)
                        b = static_cast<std::uint8_t>(random.below(256));
                    memory.write(at, bytes);
                    std::copy(bytes.begin(), bytes.end(), plain.begin() + static_cast<std::ptrdiff_t>(at));
                } else {
                    memory.write(at, plain[at] = static_cast<std::uint8_t>(random.below(256)));
                }
            }
            SaveArchive save;
            save(memory);
            moments.emplace_back(save.take(), plain);
            if (random.below(5) == 0) {
                const auto& [snapshot, bytes] = moments[random.below(moments.size())];
                LoadArchive load(snapshot);
                load(memory);
                QVERIFY(load.atEnd());
                plain = bytes;
                QVERIFY(same());
            }
        }
        for (const auto& [snapshot, bytes] : moments) {
            LoadArchive load(snapshot);
            load(memory);
            plain = bytes;
            QVERIFY(same());
        }
    }

    void aSnapshotCostsWhatWasWritten()
    {
        PagedMemory memory(64U << 20U);
        SaveArchive first;
        first(memory);
        QCOMPARE(first.take().freshPages, std::size_t{0});  // nothing has been written: all are one page
        memory.write(5, 1);
        memory.write(10 * PagedMemory::kPageBytes - 1, 2);
        memory.write(10 * PagedMemory::kPageBytes, 3);
        SaveArchive second;
        second(memory);
        const Snapshot after = second.take();
        QCOMPARE(after.freshPages, std::size_t{3});
        QVERIFY(after.heldBytes() < 300'000);  // of 64 MB
        SaveArchive third;
        third(memory);
        QCOMPARE(third.take().freshPages, std::size_t{0});
        QCOMPARE(int{memory[5]}, 1);
    }

    void snapshotsAreComparedByWhatTheyHold()
    {
        PagedMemory one(8192), other(8192);
        for (PagedMemory* memory : {&one, &other})
            memory->write(4100, 9);
        const auto of = [](PagedMemory& memory) {
            SaveArchive save;
            save(memory);
            return save.take();
        };
        QVERIFY(of(one) == of(other));
        other.write(0, 1);
        QVERIFY(!(of(one) == of(other)));
        Snapshot fewer = of(one);
        fewer.pages.pop_back();
        LoadArchive load(fewer);
        QVERIFY_EXCEPTION_THROWN(load(one), Bug);
    }
};

QTEST_APPLESS_MAIN(PagedMemoryTest)
#include "paged_memory_test.moc"
