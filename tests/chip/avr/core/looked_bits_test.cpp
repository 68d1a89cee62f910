// Which bits of a port a piece of code looks at: words by the instruction set manual, expectations by hand.
#include <QtTest>

#include "chip/avr/core/looked_bits.h"
#include "chip/avr/table.h"

using namespace bramix::chip::avr;

namespace {

constexpr std::uint16_t kPin = 0x09;  // PIND as an I/O address
constexpr std::uint16_t in(unsigned d) { return static_cast<std::uint16_t>(0xB000 | (kPin & 0x30) << 5 | d << 4 | (kPin & 15)); }
constexpr std::uint16_t andi(unsigned d, unsigned k) { return static_cast<std::uint16_t>(0x7000 | (k & 0xF0) << 4 | (d - 16) << 4 | (k & 15)); }
constexpr std::uint16_t cpi(unsigned d, unsigned k) { return static_cast<std::uint16_t>(0x3000 | (k & 0xF0) << 4 | (d - 16) << 4 | (k & 15)); }
constexpr std::uint16_t sbrc(unsigned d, unsigned b) { return static_cast<std::uint16_t>(0xFC00 | d << 4 | b); }
constexpr std::uint16_t sbrs(unsigned d, unsigned b) { return static_cast<std::uint16_t>(0xFE00 | d << 4 | b); }
constexpr std::uint16_t sbic(unsigned b) { return static_cast<std::uint16_t>(0x9900 | kPin << 3 | b); }
constexpr std::uint16_t bst(unsigned d, unsigned b) { return static_cast<std::uint16_t>(0xFA00 | d << 4 | b); }
constexpr std::uint16_t one(unsigned op, unsigned d) { return static_cast<std::uint16_t>(0x9400 | d << 4 | op); }
constexpr std::uint16_t com(unsigned d) { return one(0, d); }
constexpr std::uint16_t swap(unsigned d) { return one(2, d); }
constexpr std::uint16_t lsr(unsigned d) { return one(6, d); }
constexpr std::uint16_t mov(unsigned d, unsigned r) { return static_cast<std::uint16_t>(0x2C00 | (r & 16) << 5 | d << 4 | (r & 15)); }
constexpr std::uint16_t add(unsigned d, unsigned r) { return static_cast<std::uint16_t>(0x0C00 | (r & 16) << 5 | d << 4 | (r & 15)); }
constexpr std::uint16_t kRet = 0x9508, kNop = 0;

}  // namespace

class LookedBitsTest : public QObject {
    Q_OBJECT

private slots:
    void codeLooksAtWhatItMasks_data()
    {
        QTest::addColumn<QList<int>>("words");
        QTest::addColumn<int>("bits");  // -1: not known
        const auto row = [](const char* name, const QList<int>& words, int bits) { QTest::newRow(name) << words << bits; };
        row("one bit, skipped on", {sbic(5), kNop}, 0x20);
        row("a mask", {in(24), andi(24, 0x0F), kRet}, 0x0F);
        row("a mask after other things", {in(24), mov(18, 19), kNop, andi(24, 0x30), kRet}, 0x30);
        row("a bit", {in(24), sbrc(24, 3), kRet}, 0x08);
        row("two bits", {in(24), sbrs(24, 3), kNop, sbrc(24, 6), kNop, kRet}, 0x48);
        row("a bit put aside", {in(24), bst(24, 2), kRet}, 0x04);
        row("a mask of the complement", {in(24), com(24), andi(24, 0x81), kRet}, 0x81);
        row("a mask of the upper half", {in(24), swap(24), andi(24, 0x0F), kRet}, 0xF0);
        row("a mask after two shifts down", {in(24), lsr(24), lsr(24), andi(24, 0x03), kRet}, 0x0C);
        row("a mask after a shift up", {in(24), add(24, 24), andi(24, 0x06), kRet}, 0x03);
        row("a mask of a copy", {in(24), mov(18, 24), andi(18, 0x40), kRet}, 0x40);
        row("all of it, returned", {in(24), kRet}, -1);
        row("all of it, compared", {in(24), cpi(24, 7), kRet}, -1);
        row("all of it, added to something", {in(24), add(20, 24), kRet}, -1);
        row("another register's mask", {in(24), andi(25, 0x0F), kRet}, -1);
    }

    void codeLooksAtWhatItMasks()
    {
        QFETCH(QList<int>, words);
        QFETCH(int, bits);
        std::vector<std::uint16_t> flash(64, 0);
        for (qsizetype i = 0; i < words.size(); ++i)
            flash[static_cast<std::size_t>(i)] = static_cast<std::uint16_t>(words[i]);
        const auto looked = lookedBits(atmega328p().core, flash, 0);
        QCOMPARE(looked ? int{*looked} : -1, bits);
    }

    void theEndOfFlashIsTheEnd()
    {
        const std::vector<std::uint16_t> flash{in(24), kNop};
        QVERIFY(!lookedBits(atmega328p().core, flash, 0));
        QVERIFY(!lookedBits(atmega328p().core, flash, 2));
    }
};

QTEST_GUILESS_MAIN(LookedBitsTest)
#include "looked_bits_test.moc"
