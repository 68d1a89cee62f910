// Where a local may change, against the listing that avr-objdump makes of the same file.
#include <QtTest>

#include <optional>
#include <set>

#include "chip/families.h"
#include "debug/compiled.h"
#include "debug/local_stops.h"

using namespace bramix;
using namespace bramix::debug;
using namespace bramix::test;

namespace {

constexpr const char* kSource = R"(#include <avr/io.h>
struct jar { unsigned char level; struct jar *next; };
volatile unsigned char seen;
__attribute__((noinline)) void tell(unsigned char x) { for (unsigned char i = 0; i < 20; ++i) seen = x + i; }
__attribute__((noinline)) unsigned mean(unsigned char n)
{
    unsigned sum = 0;
    for (unsigned char i = 1; i <= n; ++i) {
        sum += i * 100;
        tell(i);
    }
    return sum;
}
static inline __attribute__((always_inline)) unsigned char half(unsigned char whole) { unsigned char rest = whole & 1; return whole / 2 + rest; }
__attribute__((noinline)) unsigned char fill(struct jar *j) { unsigned char n = 0; while (j) { n = half(n + ++j->level); j = j->next; } return n; }
int main(void) { struct jar a = { 3, 0 }; for (;;) GPIOR0 = mean(5) + fill(&a); }
)";

struct Line {
    std::uint32_t word = 0;
    std::uint32_t words = 1;
    QString op, operands;
    std::optional<std::uint32_t> target;  // word
};

}  // namespace

class LocalStopsTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;

    // A function's instructions as avr-objdump lists them.
    static std::vector<Line> listing(const QString& elf, const QString& function)
    {
        QProcess objdump;
        objdump.start("avr-objdump", {"-d", elf});
        if (!objdump.waitForFinished())
            return {};
        std::vector<Line> out;
        bool within = false;
        for (const QString& line : QString(objdump.readAllStandardOutput()).split('\n')) {
            if (line.endsWith(">:"))
                within = line.endsWith(" <" + function + ">:");
            const QStringList columns = line.split('\t');
            if (!within || columns.size() < 3)
                continue;
            Line l;
            l.word = columns[0].trimmed().remove(':').toUInt(nullptr, 16) / 2;
            l.words = static_cast<std::uint32_t>(columns[1].split(' ', Qt::SkipEmptyParts).size() / 2);
            l.op = columns[2].trimmed();
            l.operands = columns.value(3).trimmed();
            if (const QRegularExpressionMatch at = QRegularExpression("0x([0-9a-f]+)").match(columns.value(4, l.operands)); at.hasMatch())
                l.target = at.captured(1).toUInt(nullptr, 16) / 2;
            out.push_back(l);
        }
        return out;
    }

    struct Found {
        LocalStops stops;
        std::set<std::uint32_t> arrivals, steps;
    };
    static Found find(const QString& elf, const std::string& function, const std::string& variable, bool indirect = false)
    {
        const chip::Device& chip = *chip::findDevice("atmega328p");
        std::vector<std::uint8_t> flash = chip::loadFirmware(elf.toStdString(), chip)->flash;
        flash.resize(0x8000, 0xFF);
        Found out{localStops(Symbols::fromElf(elf.toStdString()), {flash, 0}, chip, function, variable, indirect), {}, {}};
        // In words, as the listing is read.
        for (const std::uint32_t address : out.stops.arrivals)
            out.arrivals.insert(address / 2);
        for (const std::uint32_t address : out.stops.steps)
            out.steps.insert(address / 2);
        return out;
    }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
    }

    // Whatever the compiler made of it: its beginning, where calls come back, and its ends.
    void beginningsReturnsAndEnds_data()
    {
        QTest::addColumn<QString>("level");
        for (const char* level : {"-O0", "-Os", "-O2"})
            QTest::newRow(level) << QString(level);
    }
    void beginningsReturnsAndEnds()
    {
        QFETCH(QString, level);
        const QString elf = compile(folder_, kSource, {"-gdwarf-4", level});
        int looked = 0;
        for (const auto& [function, variable] : {std::pair("mean", "sum"), {"tell", "i"}, {"fill", "n"}}) {
            const std::vector<Line> lines = listing(elf, function);
            const Found found = find(elf, function, variable);
            QVERIFY(lines.size() > 5);
            QVERIFY(found.arrivals.contains(lines[0].word));
            for (const Line& l : lines) {
                QVERIFY2(found.stops.inside[l.word], function);
                const bool returns = l.op == "ret" || l.op == "reti", calls = (l.op == "call" || l.op == "rcall") && l.target != l.word + l.words;
                const bool jumpsOut = (l.op == "jmp" || l.op == "rjmp") && l.target && !found.stops.inside[*l.target];
                if (returns || jumpsOut)
                    QVERIFY2(found.steps.contains(l.word), function);
                if (calls)
                    QVERIFY2(found.arrivals.contains(l.word + l.words), function);
                looked += returns || calls || jumpsOut ? 1 : 0;
            }
            QVERIFY(!found.stops.inside[lines[0].word - 1] && !found.stops.inside[lines.back().word + lines.back().words]);
        }
        QVERIFY(looked >= 4);
    }

    // In the frame: each store is looked at, and what only reads is not.
    void aFrameChangesWhereSomethingIsStored()
    {
        const QString elf = compile(folder_, kSource, {"-gdwarf-4", "-O0"});
        const Found found = find(elf, "mean", "sum");
        int stores = 0, others = 0;
        for (const Line& l : listing(elf, "mean")) {
            if (l.op.startsWith("st")) {
                QVERIFY2(found.steps.contains(l.word), qPrintable(l.op + " " + l.operands));
                ++stores;
            } else if (l.op == "ldd" || l.op == "cp" || l.op == "cpc" || l.op == "add" || l.op == "adc" || l.op == "brcc" || l.op == "brcs") {
                QVERIFY2(!found.steps.contains(l.word), qPrintable(l.op + " " + l.operands));
                ++others;
            }
        }
        QVERIFY2(stores >= 4 && others >= 6, qPrintable(QString("%1 %2").arg(stores).arg(others)));
    }

    // In registers: what leaves them alone runs on, so most of a loop does.
    void aRegisterChangesWhereItIsWritten()
    {
        const QString elf = compile(folder_, kSource, {"-gdwarf-4", "-Os"});
        const Found found = find(elf, "mean", "sum");
        const std::vector<Line> lines = listing(elf, "mean");
        const auto stops = static_cast<std::size_t>(std::count_if(lines.begin(), lines.end(), [&](const Line& l) { return found.steps.contains(l.word); }));
        QVERIFY2(stops * 3 < lines.size() * 2 && stops >= 2, qPrintable(QString("%1 of %2").arg(stops).arg(lines.size())));
        for (const Line& l : lines)
            if (l.op == "nop" || l.op == "cp" || l.op == "cpi")
                QVERIFY2(!found.steps.contains(l.word), qPrintable(l.op));
    }

    // Inlined, its code lies within another function, where it is entered and left without a call.
    void inlinedCodeIsEnteredAndLeft()
    {
        const QString elf = compile(folder_, kSource, {"-gdwarf-4", "-Os"});
        const Found found = find(elf, "half", "rest");
        const std::vector<Line> lines = listing(elf, "fill");
        const auto inside = static_cast<std::size_t>(std::count_if(lines.begin(), lines.end(), [&](const Line& l) { return found.stops.inside[l.word]; }));
        QVERIFY2(inside > 0 && inside < lines.size(), qPrintable(QString::number(inside)));
        for (std::size_t i = 0; i + 1 < lines.size(); ++i) {
            const bool here = found.stops.inside[lines[i].word], next = found.stops.inside[lines[i + 1].word];
            const bool goesOn = lines[i].op != "rjmp" && lines[i].op != "jmp" && lines[i].op != "ret";
            if (goesOn && !here && next)
                QVERIFY(found.arrivals.contains(lines[i + 1].word));
            if (goesOn && here && !next)
                QVERIFY(found.steps.contains(lines[i].word));
        }
    }

    // What a pointer leads to changes by any store.
    void throughAPointerAnyStoreCounts()
    {
        const QString elf = compile(folder_, kSource, {"-gdwarf-4", "-Os"});
        const Found itself = find(elf, "fill", "j"), through = find(elf, "fill", "j", true);
        int stores = 0;
        for (const Line& l : listing(elf, "fill"))
            if (l.op.startsWith("st")) {
                QVERIFY(through.steps.contains(l.word));
                ++stores;
            }
        QVERIFY(stores > 0 && through.steps.size() >= itself.steps.size());
    }

    void ofNothingThereIsNothing()
    {
        const QString elf = compile(folder_, kSource, {"-gdwarf-4", "-Os"});
        const Found found = find(elf, "nobody", "nothing");
        QVERIFY(found.arrivals.empty() && found.steps.empty() && std::none_of(found.stops.inside.begin(), found.stops.inside.end(), [](bool in) { return in; }));
    }
};

QTEST_GUILESS_MAIN(LocalStopsTest)
#include "local_stops_test.moc"
