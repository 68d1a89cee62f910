// Plain memory by pages: who may be read and written quickly, and how long.
#include <QtTest>

#include "chip/base/page_map.h"
#include "kernel/archive.h"

using namespace bramix;
using chip::MappedRam;
using chip::PageMap;

class PageMapTest : public QObject {
    Q_OBJECT

    static void put(MappedRam& ram, std::size_t at, std::uint8_t value) { ram.write(at, {&value, 1}); }

private slots:
    void nothingIsThereAtFirst()
    {
        PageMap map;
        for (const std::uint32_t a : {0U, 0x1000U, 0x7FFFFFFFU, 0xFFFFFFFFU})
            QVERIFY(map.readable(a) == nullptr && map.writable(a) == nullptr);
        QVERIFY(PageMap::within(0xFFC, 4) && !PageMap::within(0xFFD, 4));
    }

    void memoryIsTheSameAtEachOfItsPlaces()
    {
        PageMap map;
        MappedRam ram(map, 3 * PageMap::kPageBytes);
        ram.place(0x20000000);
        ram.place(0x40000000);
        put(ram, 0x1005, 0x5A);
        QCOMPARE(int{*map.readable(0x20001005)}, 0x5A);
        QCOMPARE(int{*map.readable(0x40001005)}, 0x5A);
        QVERIFY(map.readable(0x20003000) == nullptr);
        QCOMPARE(ram.offsetOf(0x40001005), std::size_t{0x1005});
        QCOMPARE(ram.offsetOf(0x50000000), SIZE_MAX);
        // Written once, a page can be written quickly, at both.
        *map.writable(0x40001006) = 0x77;
        QCOMPARE(int{*map.readable(0x20001006)}, 0x77);
        QVERIFY(map.writable(0x20000000) == nullptr);
    }

    // A page that a snapshot has is written slowly first, so that it is copied.
    void snapshotsKeepTheirPages()
    {
        PageMap map;
        MappedRam ram(map, 2 * PageMap::kPageBytes);
        ram.place(0);
        put(ram, 10, 1);
        QVERIFY(map.writable(10) != nullptr);
        kernel::SaveArchive save;
        save(ram);
        const kernel::Snapshot kept = save.take();
        QVERIFY(map.writable(10) == nullptr);
        put(ram, 10, 2);
        *map.writable(11) = 3;
        kernel::LoadArchive load(kept);
        load(ram);
        QCOMPARE(int{ram[10]}, 1);
        QCOMPARE(int{*map.readable(10)}, 1);
        QCOMPARE(int{ram[11]}, 0);
        QVERIFY(map.writable(10) == nullptr);
    }

    void watchedPagesAreAskedForSlowly()
    {
        PageMap map;
        MappedRam ram(map, 2 * PageMap::kPageBytes);
        ram.place(0);
        put(ram, 0, 1);
        put(ram, PageMap::kPageBytes, 1);
        ram.watch({true, false});
        QVERIFY(map.readable(0) == nullptr && map.writable(0) == nullptr);
        QVERIFY(map.readable(PageMap::kPageBytes) != nullptr);
        put(ram, 0, 9);
        QVERIFY(map.readable(0) == nullptr);
        ram.watch({});
        QCOMPARE(int{*map.readable(0)}, 9);
    }
};

QTEST_GUILESS_MAIN(PageMapTest)
#include "page_map_test.moc"
