// Functions found in code alone, against the symbol tables of the same code: compiled at every level, C and assembler of the library, handlers, callbacks, tables of data,
// a table of jumps; and the examples' firmware.
#include <QtTest>

#include "chip/families.h"
#include "debug/code_functions.h"
#include "debug/compiled.h"

using namespace bramix;
using namespace bramix::debug;
using namespace bramix::test;

namespace {

const char* const kMixed = R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <avr/pgmspace.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
volatile uint8_t ticks;
int16_t weights[9] = {5, 3, 9, 1, 7, 2, 8, 6, 4};
const char kNames[] PROGMEM = "alder birch hazel rowan willow elm ash oak";
const uint16_t kCurve[] PROGMEM = {0x9508, 0x1234, 0xC001, 0xFFFE, 0x940E, 0x0000, 0x9508, 0x8ABC};
int lighter(const void* a, const void* b) { return *(const int16_t*)a - *(const int16_t*)b; }
__attribute__((noinline)) uint8_t bark(uint8_t which)
{
    switch (which) {
    case 0: return 7; case 1: return ticks; case 2: return pgm_read_byte(&kNames[ticks]); case 3: return 40; case 4: return ticks * 3; case 5: return 9; case 6: return 77; case 7: return ticks + 4;
    default: return (uint8_t)pgm_read_word(&kCurve[which & 7]);
    }
}
static __attribute__((noinline)) void grow(void) { ticks += 2; }
static __attribute__((noinline)) void fell(void) { PORTB ^= 1; }
void (*const kDoings[])(void) = {grow, fell};
ISR(TIMER0_OVF_vect) { ++ticks; }
ISR(INT0_vect) { bark(3); kDoings[ticks & 1](); }
ISR(USART_RX_vect, ISR_NAKED) { PORTB |= 2; reti(); }
int main(void)
{
    char line[40];
    DDRB = 3;
    sei();
    for (;;) {
        qsort(weights, 9, sizeof *weights, lighter);
        snprintf(line, sizeof line, "%d %s", weights[0], "bale");
        PORTB = bark(ticks) + (uint8_t)strtoul(line, 0, 10);
        kDoings[ticks & 1]();
    }
}
)";

}  // namespace

class CodeFunctionsTest : public QObject {
    Q_OBJECT

private:
    struct Compared {
        QStringList invented, missed;
        std::size_t right = 0;
    };
    // What the code alone tells, beside what the table tells.
    static Compared compare(const std::string& elf, const chip::Device& table)
    {
        Compared out;
        const auto firmware = chip::loadFirmware(elf, table);
        if (!firmware)
            return out;
        const Symbols truth = Symbols::fromElf(elf), found = functionsOf({firmware->flash, 0}, table);
        std::set<std::uint32_t> begins, data;
        for (const Function& f : truth.functions())
            if (f.caller < 0 && !f.ranges.empty())
                begins.insert(f.begin());
        std::set<std::uint32_t> told;
        for (const Function& f : found.functions()) {
            told.insert(f.begin());
            if (begins.contains(f.begin()))
                ++out.right;
            else
                out.invented << QString::fromStdString(f.name) + " in " + QString::fromStdString(truth.nameOf(f.begin(), Space::flash));
        }
        for (const Function& f : truth.functions())
            if (f.caller < 0 && !f.ranges.empty() && !told.contains(f.begin()) && f.ranges[0].end - f.begin() > 1)
                out.missed << QString::fromStdString(f.name);
        return out;
    }

private slots:
    void compiledCodeIsUnderstood_data()
    {
        QTest::addColumn<QString>("level");
        for (const char* level : {"-O0", "-O1", "-Os", "-O2"})
            QTest::newRow(level) << QString(level);
    }

    void compiledCodeIsUnderstood()
    {
        QFETCH(QString, level);
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QTemporaryDir folder;
        const QString elf = compile(folder, kMixed, {level, "-g"});
        QVERIFY(!elf.isEmpty());
        const Compared c = compare(elf.toStdString(), *chip::findDevice("atmega328p"));
        qInfo("%zu right; not in the table: %s; missed: %s", c.right, qPrintable(c.invented.join(", ")), qPrintable(c.missed.join(", ")));
        const auto firmware = chip::loadFirmware(elf.toStdString(), *chip::findDevice("atmega328p"));
        const Symbols truth = Symbols::fromElf(elf.toStdString()), found = functionsOf({firmware->flash, 0}, *chip::findDevice("atmega328p"));
        for (const char* name : {"main", "bark", "lighter", "grow", "fell", "qsort", "snprintf", "vfprintf", "strtoul", "__vector_1", "__vector_16", "__vector_18"}) {
            const int f = truth.functionByName(name);
            QVERIFY2(f >= 0, name);
            const std::uint32_t begin = truth.functions()[static_cast<std::size_t>(f)].begin();
            const int told = found.outerFunctionAt(begin);
            QVERIFY2(told >= 0 && found.functions()[static_cast<std::size_t>(told)].begin() == begin, name);
            const std::string& words = found.functions()[static_cast<std::size_t>(told)].name;
            QVERIFY2(words == (name[0] == '_' ? std::string(name) : QString("code_%1").arg(begin, 4, 16, QChar('0')).toStdString()), words.c_str());
        }
        QVERIFY(found.functionByName("__bad_interrupt") >= 0 && found.functionByName("__init") >= 0 && found.functionByName("__vectors") >= 0);
        // Tables are no code.
        for (const char* name : {"kNames", "kCurve"}) {
            const int v = truth.global(name);
            QVERIFY(v >= 0);
            const auto at = truth.variables()[static_cast<std::size_t>(v)].fixedAddress();
            QVERIFY2(at && found.outerFunctionAt(*at) < 0, name);
        }
        QVERIFY(!found.empty() && found.rows().empty() && found.at(0x100).function.empty());
    }

    void examplesAreUnderstood_data()
    {
        QTest::addColumn<QString>("file");
        for (const char* file : {"withy-lock/firmware/withy-lock", "frost-alarm/firmware/frost", "tide-clock/firmware/tide-clock", "hand-bells/firmware/hand-bells", "bell-rope/firmware/bell-rope", "moth-trap/firmware/moth-trap"})
            QTest::newRow(file) << QString(BRAMIX_TEST_SOURCES) + "/../benches/" + file + ".elf";
    }

    void examplesAreUnderstood()
    {
        QFETCH(QString, file);
        const Compared c = compare(file.toStdString(), file.contains("moth") ? *chip::findDevice("attiny85") : *chip::findDevice("atmega328p"));
        qInfo("%zu right; not in the table: %s; missed: %s", c.right, qPrintable(c.invented.join(", ")), qPrintable(c.missed.join(", ")));
        QVERIFY(c.right > 3);
        // What is run into, or jumped to in its midst, is no function to who sees code alone; all that is called is one.
        for (const QString& name : c.missed)
            QVERIFY2(QStringList({"__do_copy_data", "__do_clear_bss", "__trampolines_start", "__epilogue_restores__", "__usmulhisi3_tail", "exit"}).contains(name), qPrintable(name));
        for (const QString& piece : c.invented)
            QVERIFY2(piece.contains(" in __"), qPrintable(piece));  // labels within the library's assembler
    }

    // No vectors, nothing at all, nonsense: something comes back.
    void anythingMayBeAsked()
    {
        QVERIFY(functionsOf({}, *chip::findDevice("atmega328p")).empty());
        const std::array<std::uint8_t, 8> toggles{0x24, 0x9A, 0x1D, 0x9A, 0xFE, 0xCF, 0xFF, 0xFF};  // sbi, sbi, rjmp .-2: code at address 0
        const Symbols bare = functionsOf({toggles, 0}, *chip::findDevice("atmega328p"));
        QCOMPARE(bare.functions().size(), std::size_t{1});
        QCOMPARE(bare.functions()[0].name, std::string("__init"));
        QCOMPARE(bare.functions()[0].ranges[0].end, std::uint32_t{6});
        std::vector<std::uint8_t> noise;
        std::uint32_t x = 1;
        for (int i = 0; i < 32768; ++i)
            noise.push_back(static_cast<std::uint8_t>((x = x * 1664525 + 1013904223) >> 16));
        (void)functionsOf({noise, 0}, *chip::findDevice("atmega328p"));
        std::vector<std::uint8_t> calls;
        for (int i = 0; i < 131072; ++i)
            calls.insert(calls.end(), {0x0E, 0x94});
        (void)functionsOf({calls, 0}, *chip::findDevice("atmega2560"));
    }
};

QTEST_GUILESS_MAIN(CodeFunctionsTest)
#include "code_functions_test.moc"
