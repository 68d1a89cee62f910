// Values of variables and expressions, and the call stack, against what the source says, for each kind of debug information.
#include <QtTest>

#include "session/keeper_bench.h"

using namespace bramix;
using namespace bramix::test;
using namespace std::chrono_literals;
using session::Debugger;
using session::Session;

class ExpressionTest : public QObject {
    Q_OBJECT

private:
    static QString value(Debugger& d, const std::string& expression, debug::Radix radix = debug::Radix::natural)
    {
        const auto v = d.evaluate(expression);
        if (!v)
            return "error: " + QString::fromStdString(v.error().text());
        return QString::fromStdString(text_(d, *v, radix));
    }
    static std::string text_(Debugger& d, const debug::Value& v, debug::Radix radix);

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
    }

    void valuesReadAsTheSourceSays_data()
    {
        QTest::addColumn<QStringList>("options");
        QTest::newRow("DWARF 2, -Os") << QStringList{"-gdwarf-2", "-Os"};
        QTest::newRow("DWARF 4, -O2") << QStringList{"-gdwarf-4", "-O2"};
        QTest::newRow("DWARF 5, -O1") << QStringList{"-gdwarf-5", "-O1"};
        QTest::newRow("DWARF 2, -O0") << QStringList{"-gdwarf-2", "-O0"};
        QTest::newRow("STABS, -Os") << QStringList{"-g", "-Os"};
        QTest::newRow("STABS, -O0") << QStringList{"-g", "-O0"};
    }

    void valuesReadAsTheSourceSays()
    {
        QFETCH(QStringList, options);
        KeeperBench bench;
        QVERIFY(bench.build(options));
        const auto s = bench.open();
        QVERIFY(s != nullptr);
        Debugger d(*s);
        s->advance(kernel::Time(2ms));
        session_ = s.get();
        QCOMPARE(value(d, "deep"), QString("-70000"));
        QCOMPARE(value(d, "level"), QString("2.25"));
        QCOMPARE(value(d, "level * 2 + 1"), QString("5.5"));
        QCOMPARE(value(d, "history[1][0]"), QString("5"));
        QCOMPARE(value(d, "history[0]"), QString("[3, 4]"));
        QCOMPARE(value(d, "sizeof history"), QString("10"));
        QCOMPARE(value(d, "gates[1].speed"), QString("5"));
        QCOMPARE(value(d, "gates[0].next->cm"), QString("7"));
        QCOMPARE(value(d, "(*gates[0].next).speed << 1"), QString("10"));
        QCOMPARE(value(d, "gates[0].next == &gates[1]"), QString("1"));
        QCOMPARE(value(d, "gates[1].next"), QString("0x0000"));
        QCOMPARE(value(d, "*name"), QString("119 'w'"));
        QCOMPARE(value(d, "name[1]"), QString("105 'i'"));
        QCOMPARE(value(d, "(uint8_t)deep", debug::Radix::hexadecimal), QString("0x90"));  // -70000 is 0xFFFEEE90
        QCOMPARE(value(d, "(int8_t)deep"), QString("-112"));
        QVERIFY2(value(d, "shown") == "BOATS_GO" || value(d, "shown") == "BOATS_STOP" || value(d, "shown") == "GATES_MOVING", qPrintable(value(d, "shown")));
        QCOMPARE(value(d, "BOATS_GO"), QString("4"));
        QCOMPARE(value(d, "DDRB", debug::Radix::hexadecimal), QString("0xff"));
        QCOMPARE(value(d, "OCR1A"), QString("499"));
        QCOMPARE(value(d, "TCCR1B & (1 << WGM12)"), QString("8"));
        QCOMPARE(value(d, "ticks % 3"), QString::number(value(d, "ticks").toInt() % 3));
        QCOMPARE(value(d, "ticks > 0 && level < 3 ? 'k' : 1/0"), QString("107"));
        // Of one type whichever holds (C11, 6.5.15).
        QCOMPARE(value(d, "sizeof (1 ? gates[0].cm : deep)"), value(d, "sizeof (0 ? gates[0].cm : deep)"));
        QCOMPARE(value(d, "0 ? level : gates[0].next->cm"), QString("7"));
        QCOMPARE(value(d, "(1 ? 7 : level) / 2"), QString("3.5"));
        // Characters, at the end of what is typed too (C11, 6.4.4.4).
        for (const auto& [typed, number] : {std::pair("'A'", 65), std::pair("'\\n'", 10), std::pair("'\\r'", 13), std::pair("'\\t'", 9), std::pair("'\\0'", 0), std::pair("'\\\\'", 92), std::pair("1 + '\\n'", 11)})
            QCOMPARE(value(d, typed).section(' ', 0, 0), QString::number(number));
    }

    void whatIsWrongIsSaidInOneLine_data()
    {
        QTest::addColumn<QString>("expression");
        QTest::addColumn<QString>("part");
        QTest::newRow("unknown") << "chamber" << "chamber";
        QTest::newRow("half") << "gates[" << "expected";
        QTest::newRow("left over") << "ticks ticks" << "left over";
        QTest::newRow("no member") << "gates[0].width" << "no member \"width\"";
        QTest::newRow("not a pointer") << "*deep" << "not a pointer";
        QTest::newRow("division") << "1 / (ticks - ticks)" << "division by zero";
        QTest::newRow("structure sum") << "gates[0] + 1" << "wants numbers";
        QTest::newRow("deep") << QString(500, '(') << "nested";
        QTest::newRow("shift") << "1 << 64" << "shift";
        QTest::newRow("no number") << "0x12q" << "number";
    }

    void whatIsWrongIsSaidInOneLine()
    {
        QFETCH(QString, expression);
        QFETCH(QString, part);
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", "-Os"}));
        const auto s = bench.open();
        Debugger d(*s);
        const auto v = d.evaluate(expression.toStdString());
        QVERIFY(!v);
        QVERIFY2(QString::fromStdString(v.error().text()).contains(part), v.error().text().c_str());
        QVERIFY(!QString::fromStdString(v.error().text()).contains('\n'));
    }

    // What decides an expression, by the source: pointers that are followed, indices, operands; of a plain variable nothing.
    void whatAnExpressionIsWorkedOutFromIsNoted()
    {
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", "-Os"}));
        const auto s = bench.open();
        QVERIFY(s != nullptr);
        s->advance(kernel::Time(2ms));
        const session::ChipTarget target(s->world().chips()[0]);
        debug::Evaluator e(s->program("mcu").symbols, target, nullptr);
        std::vector<debug::Use> uses;
        const auto place = [&](const std::string& expression) {
            const auto v = e.evaluate(expression);
            return v ? debug::placeOf(*v) : debug::Use{};
        };
        const auto noted = [&](const std::string& expression, const std::vector<std::string>& parts) {
            e.noteUses(&uses);
            uses.clear();
            const bool ok = e.evaluate(expression).has_value();
            e.noteUses(nullptr);
            return ok && std::equal(uses.begin(), uses.end(), parts.begin(), parts.end(), [&](const debug::Use& use, const std::string& part) {
                const debug::Use is = place(part);
                return is.length > 0 && is.space == use.space && is.address == use.address && is.length == use.length;
            });
        };
        QVERIFY(noted("ticks", {}));
        QVERIFY(noted("gates[1].cm", {}));
        QVERIFY(noted("history[1]", {}));
        QVERIFY(noted("&ticks", {}));
        QVERIFY(noted("gates[0].next->cm", {"gates[0].next"}));
        QVERIFY(noted("*name", {"name"}));
        QVERIFY(noted("history[gates[0].speed][0]", {"gates[0].speed"}));
        QVERIFY(noted("PORTB & 4", {"PORTB"}));
        QVERIFY(noted("ticks * 2 + level", {"ticks", "level"}));
        QCOMPARE(place("gates[0].speed").length, 1U);  // the byte that has its bits
        QCOMPARE(place("gates[0].cm").length, 2U);
        QVERIFY(!noted("gates[0].colour", {}));
        // Registers of the core are its first bytes of data memory (7.3 of the data sheet).
        QCOMPARE(place("r24").address, 24U);
        QCOMPARE(place("Z").address, 30U);
        QCOMPARE(place("sreg").address, 0x5FU);
        // An error of the values, and one of the words.
        QVERIFY(!e.evaluate("5 / (ticks - ticks)") && e.failedByValues());
        QVERIFY(!e.evaluate("gates[0].colour") && !e.failedByValues());
        QVERIFY(e.evaluate("ticks") && !e.failedByValues());
        // Names that are known already mean the same, and what stands there is read each time.
        debug::Evaluator::Names names;
        e.rememberNames(&names);
        for (int i = 0; i < 3; ++i) {
            s->advance(s->world().now() + 1ms);
            debug::Evaluator other(s->program("mcu").symbols, target, nullptr);
            for (const char* expression : {"ticks", "gates[0].next->cm + ticks", "OCR1A", "BOATS_GO", "history[BOATS_GO - 3][1]"})
                QVERIFY(e.evaluate(expression)->bytes == other.evaluate(expression)->bytes);
        }
    }

    void whatIsWrittenIsReadBack()
    {
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", "-Os"}));
        const auto s = bench.open();
        Debugger d(*s);
        session_ = s.get();
        s->advance(kernel::Time(2ms));
        for (const auto& [what, text, read] : {std::tuple{"level", "1.5 * 3", "4.5"}, {"gates[1].speed", "2", "2"}, {"gates[1].cm", "0xFFFF", "65535"}, {"deep", "-1", "-1"},
                                               {"history[4][1]", "'x'", "120"}, {"shown", "GATES_MOVING", "GATES_MOVING"}, {"OCR1A", "1234", "1234"}}) {
            const auto ok = d.assign(what, text);
            QVERIFY2(ok, ok ? "" : ok.error().text().c_str());
            QCOMPARE(value(d, what), QString(read));
        }
        QCOMPARE(value(d, "gates[1].open"), QString("0"));  // the bits beside it stay
        QVERIFY(!d.assign("gates[1].speed", "9"));           // three bits
        QVERIFY(!d.assign("ticks + 1", "2"));
    }

    // Against what the source says at known places; against gdb's own unwinder in tests/cli/gdb_test.cpp.
    void theStackLeadsThroughInterruptsAndRecursion_data() { valuesReadAsTheSourceSays_data(); }

    void theStackLeadsThroughInterruptsAndRecursion()
    {
        QFETCH(QStringList, options);
        KeeperBench bench;
        QVERIFY(bench.build(options));
        const auto s = bench.open();
        Debugger d(*s);
        session_ = s.get();
        // Deep in the ladder.
        bench::StopItem stop;
        stop.at = QString("keeper.c:%1").arg(lineOf(kKeeper, "return 1;")).toStdString();
        QVERIFY(d.begin(stop).has_value());
        QVERIFY(finish(*s, d));
        auto stack = d.frames();
        std::vector<std::string> names;
        for (const auto& f : stack)
            names.push_back(f.place.function);
        // The compiler may have made a loop of the recursion; where it has not, four of them stand on the stack.
        QVERIFY2(names.size() >= 2 && names.front() == "ladder" && names.back() == "main", names.empty() ? "empty" : names.front().c_str());
        if (options.contains("-O0")) {
            QCOMPARE(names.size(), std::size_t{5});
            for (std::size_t i = 0; i < 4; ++i) {
                const auto rungs = d.evaluate("rungs", i);
                QVERIFY2(rungs, rungs ? "" : rungs.error().text().c_str());
                QCOMPARE(int{rungs->bytes[0]}, static_cast<int>(i));
            }
            QCOMPARE(stack[1].place.line, lineOf(kKeeper, "uint16_t below"));
            QCOMPARE(stack[4].place.line, lineOf(kKeeper, "gates[1].cm = ladder(3)"));
        }
        // In the interrupt's callee.
        bench::StopItem second;
        second.at = "mean";
        second.when = "count == 2";
        QVERIFY(d.begin(second).has_value());
        QVERIFY(finish(*s, d));
        stack = d.frames();
        names.clear();
        for (const auto& f : stack)
            names.push_back(f.place.function);
        const std::string report = d.report().text;
        QVERIFY2(names.size() >= 3 && names[0] == "mean" && names[1] == "__vector_11" && names.back() == "main", (names.empty() ? report : names.back() + " " + report).c_str());
        QCOMPARE(stack[1].interrupt, std::string("TIMER1_COMPA"));
        const auto count = d.evaluate("count");
        QVERIFY2(count, count ? "" : count.error().text().c_str());
        QCOMPARE(int{count->bytes[0]}, 2);
    }

    void cppNamesAreReadable()
    {
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", "-Os"}, R"(#include <avr/io.h>
            namespace lock { struct Gate { int16_t cm; bool open; static uint8_t count; __attribute__((noinline)) int16_t raise(int8_t by) { cm += by; return cm; } };
            uint8_t Gate::count = 3; Gate gate{12, true}; }
            int main() { for (;;) { PORTB = static_cast<uint8_t>(lock::gate.raise(5)); } })", "cpp"));
        const auto s = bench.open();
        Debugger d(*s);
        session_ = s.get();
        bench::StopItem stop;
        stop.at = "lock::Gate::raise";
        QVERIFY2(d.begin(stop).has_value(), "by its name");
        QVERIFY(finish(*s, d));
        QCOMPARE(d.frames()[0].place.function, std::string("lock::Gate::raise(signed char)"));
        QCOMPARE(value(d, "gate.open"), QString("true"));
        QCOMPARE(value(d, "gate.cm"), QString("12"));
        QCOMPARE(value(d, "count"), QString("3"));
    }

private:
    static inline Session* session_ = nullptr;
};

std::string ExpressionTest::text_(Debugger& /*d*/, const debug::Value& v, debug::Radix radix)
{
    const session::ChipTarget target(session_->world().chips()[0]);
    return debug::Evaluator(session_->program("mcu").symbols, target, nullptr).format(v, radix);
}

QTEST_GUILESS_MAIN(ExpressionTest)
#include "expression_test.moc"
