// Stops, steps and going back, on real firmware at several levels of optimisation.
#include <QtTest>

#include "chip/avr/chip.h"
#include "kernel/random.h"
#include "session/keeper_bench.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Time;

class DebuggerTest : public QObject {
    Q_OBJECT

private:
    KeeperBench bench_;

    static bench::StopItem stop(const QString& at, const char* when = "", int count = 1)
    {
        bench::StopItem s;
        s.at = at.toStdString();
        s.when = when;
        s.count = count;
        return s;
    }
    static QString line(const char* text) { return QString("keeper.c:%1").arg(lineOf(kKeeper, text)); }
    static int lineNow(Debugger& d) { return d.frames()[0].place.line; }
    static bool until(Session& s, Debugger& d, const bench::StopItem& item)
    {
        const auto ok = d.begin(item);
        if (!ok)
            qWarning("%s", ok.error().text().c_str());
        return ok && finish(s, d);
    }
    static std::uint32_t pc(Session& s) { return chip::avr::chipOf(*s.world().chips()[0].chip).cpu().pc * 2; }

private slots:
    void initTestCase()
    {
        if (!haveCompiler())
            QSKIP("avr-gcc is not installed");
        QVERIFY(bench_.build({"-gdwarf-4", "-Os"}));
    }

    void everyKindOfStopStopsWhereItSays()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        const auto& cpu = chip::avr::chipOf(*s->world().chips()[0].chip).cpu();
        QVERIFY(until(*s, d, stop(line("sei();"))));
        QCOMPARE(lineNow(d), lineOf(kKeeper, "sei();"));
        QVERIFY(until(*s, d, stop("mean")));
        QCOMPARE(d.frames()[0].place.function, std::string("mean"));
        QVERIFY(until(*s, d, stop("interrupt TIMER1_COMPA")));
        QCOMPARE(cpu.pc, 11U * 2);  // vector 11, two words each
        QVERIFY(until(*s, d, stop("change shown to BOATS_GO")));
        QCOMPARE(debug::unsignedOf(d.evaluate("shown")->bytes), std::uint64_t{4});
        QVERIFY(until(*s, d, stop("write gates[1].cm")));
        QCOMPARE(QString::fromStdString(d.report().text).section(' ', 0, 0), line("gates[1].cm = ladder(3)"));
        QVERIFY(until(*s, d, stop("read PINC")) == false);  // only once, at the beginning
        QVERIFY(until(*s, d, stop("rise mcu.PB1")));
        QVERIFY((chip::avr::chipOf(*s->world().chips()[0].chip).peek(0x25) & 2) != 0);
        QVERIFY(until(*s, d, stop("fall PB1")));
        QVERIFY((chip::avr::chipOf(*s->world().chips()[0].chip).peek(0x25) & 2) == 0);
        const Time before = s->world().now();
        QVERIFY(until(*s, d, stop(QString("time %1us").arg(before.time_since_epoch() / 1us + 100))));
        QCOMPARE((s->world().now() - Time(before.time_since_epoch() / 1us * 1us)) / 1us, 100);
        QVERIFY(until(*s, d, stop("stack 0x08F8")));
        QVERIFY(cpu.sp < 0x8F8);
    }

    void pinsAreSeenAsTheyAre()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("rise mcu.PB1")));
        const auto& chip = chip::avr::chipOf(*s->world().chips()[0].chip);
        QCOMPARE(int{chip.peek(0x23)} & 2, 2);  // PINB, DDRB = 0xFF: as PORTB
        QCOMPARE(int{chip.peek(0x23)}, int{chip.peek(0x25)});
    }

    void aConditionAndACountHoldItBack()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("main")));  // before, memory holds what it came up with
        QVERIFY(until(*s, d, stop("change ticks", "ticks > 20")));
        QCOMPARE(debug::unsignedOf(d.evaluate("ticks")->bytes), std::uint64_t{21});  // by three at a time
        const auto other = bench_.open();
        Debugger e(*other);
        QVERIFY(until(*other, e, stop("__vector_11", "", 7)));
        QCOMPARE(debug::unsignedOf(e.evaluate("ticks")->bytes), std::uint64_t{18});  // six have gone through
    }

    void aStopWithAMessageSpeaksAndGoesOn()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("main")));
        bench::StopItem say = stop("change ticks");
        say.say = "ticks are {ticks}, shown {shown}";
        d.setStops({say});
        QCOMPARE(d.stops()[0].problem, std::string());
        d.begin();
        QVERIFY(!d.advance(Time(2ms)));
        const auto log = d.takeLog();
        QVERIFY2(log.size() > 20, qPrintable(QString::number(log.size())));
        QVERIFY2(QString::fromStdString(log[2]).contains("ticks are 9, shown "), log[2].c_str());
        QCOMPARE(d.stops()[0].hits, static_cast<std::int64_t>(log.size()));
    }

    void cyclesBetweenTwoEventsAreMeasured()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("interrupt TIMER1_COMPA")));
        // OCR1A = 499 at the core's clock: 500 cycles from match to match, on average exactly so.
        d.setStops({stop("interrupt TIMER1_COMPA -> interrupt TIMER1_COMPA"), stop(line("calls++;") + " -> " + line("ticks += mean"))});
        QCOMPARE(d.stops()[0].problem, std::string());
        QCOMPARE(d.stops()[1].problem, std::string());
        d.begin();
        QVERIFY(!d.advance(s->world().now() + 20ms));
        const StopState& period = d.stops()[0];
        QVERIFY(period.hits > 500);
        const double mean = static_cast<double>(period.sum) / static_cast<double>(period.hits);
        QVERIFY2(std::abs(mean - 500) < 0.05, qPrintable(QString::number(mean)));
        QVERIFY(period.least >= 490 && period.most <= 510);
        // lds, subi, sts of the first line: 2 + 1 + 2 cycles, whatever stands between.
        QVERIFY2(d.stops()[1].hits > 500 && d.stops()[1].least == d.stops()[1].most && d.stops()[1].least >= 5, qPrintable(QString::number(d.stops()[1].least)));
        d.setStops({stop("main -> nowhere")});
        QVERIFY(!d.stops()[0].problem.empty());
    }

    void whatCannotBeAStopSaysWhy()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        for (const auto& [at, part] : {std::pair{"keeper.c:900", "no code"}, {"gate_of_nowhere", "neither a function"}, {"change chamber", "chamber"}, {"rise mcu.PZ9", "no pin"}, {"interrupt NOON", "no interrupt"},
                                       {"time soon", "not a time"}, {"0x99999999", "not an address"}, {"", "empty"}, {"serial ready", "no text"}, {"stack 7", "RAM"}, {"change pc", "every instruction"}, {"change sum in nowhere", "no function"}, {"change lid in mean", "no variable of mean"}}) {
            d.setStops({stop(at)});
            QVERIFY2(QString::fromStdString(d.stops()[0].problem).contains(part), d.stops()[0].problem.c_str());
        }
    }

    // Every step ends at the beginning of a line that the independent reader knows, or behind a call.
    void stepsEndWhereLinesBegin_data()
    {
        QTest::addColumn<QStringList>("options");
        QTest::newRow("DWARF 4, -Os") << QStringList{"-gdwarf-4", "-Os"};
        QTest::newRow("DWARF 2, -O0") << QStringList{"-gdwarf-2", "-O0"};
        QTest::newRow("DWARF 4, -O2") << QStringList{"-gdwarf-4", "-O2"};
        QTest::newRow("STABS, -Os") << QStringList{"-g", "-Os"};
    }

    void stepsEndWhereLinesBegin()
    {
        QFETCH(QStringList, options);
        KeeperBench bench;
        QVERIFY(bench.build(options));
        // Address: file and line, as the independent reader of the same file prints them.
        const auto s = bench.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("main")));
        QStringList arguments{"-e", bench.elf};
        std::vector<std::uint32_t> at;
        std::vector<int> lines;
        for (int i = 0; i < 200; ++i) {
            QVERIFY(d.begin(i % 5 == 0 ? Step::over : Step::line).has_value());
            QVERIFY2(finish(*s, d), qPrintable(QString("step %1 from 0x%2").arg(i).arg(pc(*s), 0, 16)));
            at.push_back(pc(*s));
            lines.push_back(s->place("mcu", pc(*s)).line);
            arguments << QString("0x%1").arg(pc(*s), 0, 16);
            const auto stack = d.frames();
            QVERIFY(std::none_of(stack.begin(), stack.end(), [](const auto& f) { return !f.interrupt.empty(); }));
        }
        if (!options.contains("-g")) {  // avr-addr2line reads no STABS lines of functions as we do
            const QStringList told = output("avr-addr2line", arguments).split('\n', Qt::SkipEmptyParts);
            QCOMPARE(told.size(), 200);
            for (int i = 0; i < 200; ++i)
                QCOMPARE(told[i].section(':', -1).section(' ', 0, 0).toInt(), lines[static_cast<std::size_t>(i)]);
        }
        // It went into both functions and came out again.
        const std::set<int> visited(lines.begin(), lines.end());
        QVERIFY(visited.contains(lineOf(kKeeper, "sum += values[i]")));
        QVERIFY(visited.contains(lineOf(kKeeper, "gates[0].open ^= 1")));
    }

    void assemblerIsSteppedLineByLine()
    {
        KeeperBench bench;
        const QString source = "#include <avr/io.h>\n"
                               ".global main\n"
                               "main:\n"
                               "    ldi r24, 0xFF\n"
                               "    out _SFR_IO_ADDR(DDRB), r24\n"
                               "round:\n"
                               "    rcall raise\n"
                               "    out _SFR_IO_ADDR(PORTB), r20\n"
                               "    rjmp round\n"
                               ".global raise\n"
                               "raise:\n"
                               "    push r16\n"
                               "    inc r20\n"
                               "    pop r16\n"
                               "    ret\n";
        QVERIFY(bench.build({"-gdwarf-2"}, source, "S"));
        const auto s = bench.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("main")));
        std::vector<int> lines{lineNow(d)};
        for (int i = 0; i < 9; ++i) {
            QVERIFY(d.begin(Step::line).has_value());
            QVERIFY(finish(*s, d));
            lines.push_back(lineNow(d));
        }
        QCOMPARE(lines, (std::vector<int>{4, 5, 7, 12, 13, 14, 15, 8, 9, 7}));
        QVERIFY(until(*s, d, stop("keeper.S:13")));
        const auto stack = d.frames();
        QCOMPARE(stack.size(), std::size_t{2});
        QCOMPARE(stack[0].place.function, std::string("raise"));
        QCOMPARE(stack[1].place.line, 7);
        QVERIFY(d.begin(Step::out).has_value());
        QVERIFY(finish(*s, d));
        QCOMPARE(lineNow(d), 8);  // the return address is a line of its own here
        QVERIFY(d.back(Step::line).has_value());
        QCOMPARE(lineNow(d), 15);
    }

    void aStepOverACallStaysAndAStepOutLeaves()
    {
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-2", "-O0"}));
        const auto s = bench.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop(line("gates[1].cm = ladder(3)"))));
        QVERIFY(d.begin(Step::over).has_value());
        QVERIFY(finish(*s, d));
        QCOMPARE(lineNow(d), lineOf(kKeeper, "if (gates[0].open)"));
        QVERIFY(until(*s, d, stop(line("gates[1].cm = ladder(3)"))));
        QVERIFY(d.begin(Step::line).has_value());
        QVERIFY(finish(*s, d));
        QCOMPARE(lineNow(d), lineOf(kKeeper, "if (rungs == 0)"));
        // Down the ladder, then out one rung at a time.
        QVERIFY(until(*s, d, stop(line("return 1;"))));
        for (std::size_t depth = 4; depth >= 1; --depth) {
            QCOMPARE(d.frames().size(), depth + 1);
            QVERIFY(d.begin(Step::out).has_value());
            QVERIFY(finish(*s, d));
        }
        QCOMPARE(d.frames().size(), std::size_t{1});
        QVERIFY(!d.begin(Step::out).has_value());
    }

    void aStepEntersAnInterruptWhenToldTo()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop(line("sei();"))));
        d.enterInterrupts(true);
        bool entered = false;
        for (int i = 0; i < 400 && !entered; ++i) {
            QVERIFY(d.begin(Step::over).has_value());
            QVERIFY(finish(*s, d));
            entered = d.frames()[0].interrupt == "TIMER1_COMPA";
        }
        QVERIFY(entered);
        QCOMPARE(lineNow(d), lineOf(kKeeper, "calls++;"));
    }

    // Back n instructions and forward n: the same state, bit for bit.
    void backAndForwardIsTheSame()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        kernel::Random random(11);
        s->advance(Time(3ms));
        for (int round = 0; round < 12; ++round) {
            s->advance(s->world().now() + std::chrono::microseconds(100 + random.below(3000)));
            QVERIFY(d.begin(Step::instruction).has_value());
            QVERIFY(finish(*s, d));
            const auto there = stateOf(*s);
            const auto n = 1 + random.below(40);
            std::vector<std::uint32_t> path;
            for (std::uint64_t i = 0; i < n; ++i) {
                const auto ok = d.back(Step::instruction);
                QVERIFY2(ok, ok ? "" : ok.error().text().c_str());
                path.push_back(pc(*s));
            }
            QVERIFY(stateOf(*s) != there);
            for (std::uint64_t i = 0; i < n; ++i) {
                QCOMPARE(pc(*s), path[n - 1 - i]);
                QVERIFY(d.begin(Step::instruction).has_value());
                QVERIFY(finish(*s, d));
            }
            QVERIFY(stateOf(*s) == there);
        }
    }

    // A chip that sleeps for half a second between two instructions: the way back leads over the sleep, not into it.
    void theWayBackLeadsOverSleep()
    {
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", "-Os"}, R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <avr/sleep.h>
volatile uint8_t tides;
ISR(TIMER1_COMPA_vect) { tides++; }
int main(void)
{
    OCR1A = 31249;
    TCCR1B = (1 << WGM12) | (1 << CS12);
    TIMSK1 = 1 << OCIE1A;
    TCCR0B = 1 << CS00;
    TIMSK0 = 1 << OCIE0B;
    TIMSK0 = 0;
    sei();
    for (;;)
        sleep_mode();
}
)"));
        const auto s = bench.open();
        Debugger d(*s);
        const auto& cpu = chip::avr::chipOf(*s->world().chips()[0].chip).cpu();
        for (int i = 0; i < 3; ++i)
            QVERIFY(until(*s, d, stop("interrupt TIMER1_COMPA")));
        const Time woke = s->world().now();
        QVERIFY(kernel::seconds(woke) > 1.4);
        const auto there = stateOf(*s);
        // One step back is the sleep, half a second ago; the next is the instruction that began it.
        QVERIFY(d.back(Step::instruction).has_value());
        QVERIFY(cpu.sleeping);
        QVERIFY2(std::abs(kernel::seconds(woke - s->world().now()) - 0.5) < 0.001, qPrintable(QString::number(kernel::seconds(woke - s->world().now()))));
        QVERIFY(d.back(Step::instruction).has_value());
        QVERIFY(!cpu.sleeping);
        QCOMPARE(cpu.decodeAt(cpu.pc).op, chip::avr::Op::sleep);
        for (int i = 0; i < 2; ++i) {
            QVERIFY(d.begin(Step::instruction).has_value());
            QVERIFY(finish(*s, d));
        }
        QCOMPARE(s->world().now(), woke);
        QVERIFY(stateOf(*s) == there);
        // By lines: from the handler, back to the line that slept.
        QVERIFY(until(*s, d, stop("keeper.c:5")));
        QVERIFY(d.back(Step::over).has_value());
        QCOMPARE(d.frames().back().place.function, std::string("main"));
    }

    void backOverALongCallIsOneStep()
    {
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", "-Os"}, R"(#include <avr/io.h>
volatile uint8_t level;
__attribute__((noinline)) void settle(uint8_t rounds)
{
    for (volatile uint32_t i = 0; i < 100000UL * rounds; i++)
        ;
}
int main(void)
{
    level = 1;
    settle(2);
    level = 2;
    for (;;)
        ;
}
)"));
        const auto s = bench.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("keeper.c:12")));
        const std::uint32_t behind = pc(*s);
        const Time late = s->world().now();
        QVERIFY2(kernel::seconds(late) > 0.2, qPrintable(QString::number(kernel::seconds(late))));
        QVERIFY(d.back(Step::over).has_value());
        QCOMPARE(lineNow(d), 11);
        QVERIFY(kernel::seconds(s->world().now()) < 0.1);
        QVERIFY(until(*s, d, stop(QString("0x%1").arg(behind, 4, 16, QChar('0')))));
        QCOMPARE(s->world().now(), late);
        QVERIFY(d.back(Step::instructionOver).has_value());
        QCOMPARE(d.frames()[0].place.function, std::string("main"));
        QVERIFY(pc(*s) < behind && pc(*s) + 4 >= behind);
    }

    // A dump is a file of growing time.
    void aDumpThatIsWrittenHoldsThePastShut()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        s->advance(Time(5ms));
        const auto net = s->world().circuit().netOf(*s->world().pin({"mcu", "PB1"}));
        QVERIFY(s->startVcd(bench_.folder.filePath("dump.vcd").toStdString(), {net}, {"mcu.PB1"}).has_value());
        s->advance(Time(6ms));
        const auto refused = d.back(Step::instruction);
        QVERIFY(!refused);
        QCOMPARE(s->world().now(), Time(6ms));
        QVERIFY(!s->goTo(Time(5ms)).has_value());
        QVERIFY(s->finishVcd());
        QVERIFY(s->goTo(Time(5ms)).has_value());
    }

    // Memory is bounded, the past stays reachable and right.
    void aSmallMemoryForgetsMomentsNotThePast()
    {
        const auto roomy = bench_.open();
        const auto tight = bench_.open({}, 6 * roomy->history().bytes());
        for (Session* s : {roomy.get(), tight.get()})
            for (int ms = 0; ms <= 400; ++ms) {
                s->advance(Time(std::chrono::milliseconds(ms)));
                s->remember();
            }
        QVERIFY(roomy->history().moments().size() > 300);
        QVERIFY(tight->history().bytes() <= 7 * roomy->history().moments().front().moment->bytes());
        QCOMPARE(tight->earliest(), Time{});
        for (const auto t : {Time(1234us), Time(99'999us), Time(399'111us)}) {
            QVERIFY(roomy->goTo(t).has_value());
            QVERIFY(tight->goTo(t).has_value());
            QVERIFY(stateOf(*roomy) == stateOf(*tight));
        }
    }

    // Any moment, gone back to, is what a fresh run is when it is stopped there; what was done from outside is done again.
    void anyMomentEqualsAFreshRunStoppedThere()
    {
        const std::string key = "[[part]]\nid = \"keeper\"\nkind = \"push-button\"\n[[wire]]\nends = [\"keeper.1\", \"mcu.PC2\"]\n[[wire]]\nends = [\"keeper.2\", \"mcu.GND\"]\n";
        const auto s = bench_.open(key);
        const auto fresh = bench_.open(key);
        QVERIFY(s && fresh);
        const auto press = [](Session& to, double value) { QVERIFY(to.setControl("keeper", "pressed", value).has_value()); };
        s->advance(Time(3ms));
        press(*s, 1);
        s->advance(Time(9ms));
        press(*s, 0);
        s->advance(Time(200ms));
        kernel::Random random(5);
        std::vector<Time> moments;
        for (int i = 0; i < 1000; ++i)
            moments.push_back(Time(std::chrono::nanoseconds(100 + random.below(199'900'000))));
        std::vector<kernel::Snapshot> gone;
        for (const Time t : moments) {
            QVERIFY(s->goTo(t).has_value());
            gone.push_back(stateOf(*s));
        }
        std::vector<std::size_t> order(moments.size());
        std::iota(order.begin(), order.end(), 0);
        std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return moments[a] < moments[b]; });
        bool pressed = false, released = false;
        for (const std::size_t i : order) {
            if (!pressed && moments[i] >= Time(3ms)) {
                fresh->advance(Time(3ms));
                press(*fresh, 1);
                pressed = true;
            }
            if (!released && moments[i] >= Time(9ms)) {
                fresh->advance(Time(9ms));
                press(*fresh, 0);
                released = true;
            }
            fresh->advance(moments[i]);
            QVERIFY2(stateOf(*fresh) == gone[i], qPrintable(QString("at %1 ns").arg(moments[i].time_since_epoch() / 1ns)));
        }
    }

    void somethingNewMakesAnotherFuture()
    {
        const std::string key = "[[part]]\nid = \"keeper\"\nkind = \"push-button\"\n";
        const auto s = bench_.open(key);
        s->advance(Time(10ms));
        QVERIFY(s->setControl("keeper", "pressed", 1).has_value());
        s->advance(Time(20ms));
        QVERIFY(s->goTo(Time(5ms)).has_value());
        QCOMPARE(s->world().control("keeper", "pressed"), 0.0);
        s->advance(Time(15ms));
        QCOMPARE(s->world().control("keeper", "pressed"), 1.0);  // given again
        QVERIFY(s->goTo(Time(5ms)).has_value());
        QVERIFY(s->setControl("keeper", "pressed", 0).has_value());  // new: what lay ahead is off
        s->advance(Time(15ms));
        QCOMPARE(s->world().control("keeper", "pressed"), 0.0);
        QCOMPARE(s->inputs().size(), std::size_t{1});
    }

    // What has happened stays on the tape, and is written once, however often one goes through it.
    void theTapeKeepsTheFutureUntilSomethingNewIsDone()
    {
        const auto s = bench_.open("[[part]]\nid = \"keeper\"\nkind = \"push-button\"\n[[wire]]\nends = [\"keeper.1\", \"mcu.PC2\"]\n[[wire]]\nends = [\"keeper.2\", \"mcu.GND\"]\n");
        QVERIFY(s);
        s->setProbes({{"mcu", "PB1"}});
        s->advance(Time(10ms));
        const auto channel = s->channelOf({"mcu", "PB1"});
        const auto all = [&] {
            std::vector<std::pair<Time, int>> out;
            for (std::size_t i = 0; i < s->tape().count(channel); ++i)
                out.emplace_back(s->tape().edge(channel, i).at, s->tape().edge(channel, i).state);
            return out;
        };
        const auto before = all();
        QVERIFY2(before.size() > 20, qPrintable(QString::number(before.size())));
        const std::size_t points = s->waveform({"mcu", "PB1"})->size();
        const std::uint64_t bytes = s->serialLog().end();
        const auto lastState = stateOf(*s);
        QVERIFY(s->goTo(Time(4ms)).has_value());
        QVERIFY(all() == before);
        s->advance(Time(7ms));
        QVERIFY(s->goTo(Time(10ms)).has_value());
        QVERIFY(stateOf(*s) == lastState);
        QVERIFY(all() == before);
        QCOMPARE(s->waveform({"mcu", "PB1"})->size(), points);
        QCOMPARE(s->serialLog().end(), bytes);
        s->advance(Time(12ms));
        QVERIFY(all().size() > before.size());

        // Another course: what lay ahead is forgotten, and only that.
        QVERIFY(s->goTo(Time(4ms)).has_value());
        QVERIFY(!s->setControl("keeper", "pushed", 1).has_value());
        QVERIFY(all().size() > before.size());
        QVERIFY(s->setControl("keeper", "pressed", 1).has_value());
        QCOMPARE(s->latest(), Time(4ms));
        QVERIFY(all().back().first <= Time(4ms));
        const auto pressed = s->channelOf({"mcu", "PC2"});
        QCOMPARE(s->tape().edge(pressed, s->tape().count(pressed) - 1).at, Time(4ms));
        s->advance(Time(6ms));
        const auto there = stateOf(*s);
        s->advance(Time(8ms));
        QVERIFY(s->goTo(Time(6ms)).has_value());
        QVERIFY(stateOf(*s) == there);
    }

    void linesGoBackAsTheyCame_data() { stepsEndWhereLinesBegin_data(); }

    void linesGoBackAsTheyCame()
    {
        QFETCH(QStringList, options);
        KeeperBench bench;
        QVERIFY(bench.build(options));
        const auto s = bench.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop(line("gates[0].open ^= 1"), "", 5)));
        std::vector<int> forward{lineNow(d)};
        for (int i = 0; i < 6; ++i) {
            QVERIFY(d.begin(Step::over).has_value());
            QVERIFY(finish(*s, d));
            forward.push_back(lineNow(d));
        }
        std::vector<int> backward{lineNow(d)};
        for (int i = 0; i < 6; ++i) {
            const auto ok = d.back(Step::over);
            QVERIFY2(ok, ok ? "" : ok.error().text().c_str());
            backward.push_back(lineNow(d));
        }
        // The compiler may begin a line twice; in order, without repeats, the way is the same.
        const auto plain = [](std::vector<int> v) {
            v.erase(std::unique(v.begin(), v.end()), v.end());
            return v;
        };
        std::reverse(backward.begin(), backward.end());
        const auto a = plain(forward), b = plain(backward);
        const std::size_t n = std::min(a.size(), b.size());
        QVERIFY(n >= 3);
        for (std::size_t i = 1; i <= n; ++i)
            QVERIFY2(a[a.size() - i] == b[b.size() - i], qPrintable(QString("%1: %2 and %3").arg(i).arg(a[a.size() - i]).arg(b[b.size() - i])));
    }

    void theLastChangeIsFound()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        s->advance(Time(30ms));
        const auto now = debug::unsignedOf(d.evaluate("ticks")->bytes);
        for (int i = 0; i < 5; ++i) {
            const auto ok = d.backToChange("ticks");
            QVERIFY2(ok, ok ? "" : ok.error().text().c_str());
            QCOMPARE(d.frames()[0].interrupt.empty() && d.frames().size() > 1 ? d.frames()[1].interrupt : d.frames()[0].interrupt, std::string("TIMER1_COMPA"));
        }
        QVERIFY(debug::unsignedOf(d.evaluate("ticks")->bytes) < now);
        // A pin: to the very OUT.
        QVERIFY(d.backToChange("mcu.PB2").has_value());
        const auto port = chip::avr::chipOf(*s->world().chips()[0].chip).peek(0x25);
        QVERIFY(d.begin(Step::instruction).has_value());
        QVERIFY(finish(*s, d));
        QVERIFY(((port ^ chip::avr::chipOf(*s->world().chips()[0].chip).peek(0x25)) & 4) != 0);
        QVERIFY(d.backToChange("gates[0].next").has_value());
        QCOMPARE(lineNow(d), lineOf(kKeeper, "gates[0].next = &gates[1]"));
        // What the source never changes was copied out of flash before main().
        QVERIFY(d.backToChange("deep").has_value());
        QVERIFY(d.frames().back().place.function != "main");
        QVERIFY(!d.backToChange("mcu.PB5").has_value());
    }

    // Held against a second session that goes instruction by instruction and compares.
    void coreRegistersStopWhereTheyChange_data()
    {
        QTest::addColumn<QString>("name");
        for (const char* name : {"r24", "r18", "sreg", "sp", "r30", "0x0018", "SPL"})
            QTest::newRow(name) << QString(name);
    }
    void coreRegistersStopWhereTheyChange()
    {
        QFETCH(QString, name);
        const auto other = bench_.open();
        const auto& cpu = chip::avr::chipOf(*other->world().chips()[0].chip).cpu();
        const auto value = [&] { return name == "sreg" ? cpu.sreg : name == "sp" ? cpu.sp : name == "SPL" ? cpu.sp & 0xFF : name == "0x0018" ? cpu.data[24] : cpu.data[name.mid(1).toUInt()]; };
        std::vector<std::pair<Time, int>> changes;
        other->advance(Time(1900us));  // interrupts are due soon
        for (int last = value(); changes.size() < 200 && other->world().now() < Time(4ms);) {
            other->advanceInstruction(0);
            if (value() != last)
                changes.emplace_back(other->world().chips()[0].chip->now(), last = value());
        }
        QVERIFY(changes.size() > 12);
        const auto s = bench_.open();
        Debugger d(*s);
        s->advance(Time(1900us));
        d.setStops({stop("change " + name)});
        QCOMPARE(QString::fromStdString(d.stops()[0].problem), QString());
        for (const auto& [at, what] : changes) {
            d.begin();
            QVERIFY(finish(*s, d));
            // SP is changed by halves where a program sets it; the stop comes when it is whole.
            if (name == "sp" && s->world().now() > at)
                continue;
            QCOMPARE(s->world().now(), at);
            QVERIFY2(d.report().text.find(" has changed " + name.toStdString()) != std::string::npos, d.report().text.c_str());
        }
        d.setStops({});
        // And back the same way.
        if (name != "sp")
            for (std::size_t i = 0; i < 12; ++i) {
                QVERIFY(d.backToChange(name.toStdString()).has_value());
                QVERIFY2(s->world().now() < changes[changes.size() - 1 - i].first, qPrintable(QString("%1: %2 %3 %4").arg(i).arg(s->world().now().time_since_epoch().count()).arg(changes[changes.size() - 1 - i].first.time_since_epoch().count()).arg(d.frames()[0].place.function.c_str())));
                QVERIFY(d.begin(Step::instruction).has_value());
                QVERIFY(finish(*s, d));
                QCOMPARE(s->world().now(), changes[changes.size() - 1 - i].first);
                QVERIFY(d.back(Step::instruction).has_value());
            }
    }

    // A pointer that moves takes the stop with it, from before it points anywhere. The values are those that the source's own rules give.
    void expressionsStopWhereverTheyLead_data()
    {
        QTest::addColumn<QString>("level");
        for (const char* level : {"-O0", "-Os"})
            QTest::newRow(level) << QString(level);
    }
    void expressionsStopWhereverTheyLead()
    {
        QFETCH(QString, level);
        KeeperBench bench;
        QVERIFY(bench.build({"-gdwarf-4", level}, R"(#include <stdint.h>
struct bucket { uint8_t marks; uint16_t litres; struct bucket *next; };
struct bucket ring[3] = {{1, 1010, ring + 1}, {2, 2020, ring + 2}, {3, 3030, ring}};
struct bucket *volatile at = ring;
volatile uint16_t beats;
int main(void)
{
    for (;;) {
        beats++;
        at->litres += 257;
        if (beats % 3 == 0) at = at->next;
    }
}
)"));
        // What "at->litres" is after each change, and whether it was stored into.
        std::vector<std::pair<int, bool>> changes;
        int litres[3] = {1010, 2020, 3030}, at = 0;
        for (int beats = 1; beats < 40; ++beats) {
            litres[at] += 257;
            changes.emplace_back(litres[at], true);
            if (beats % 3 == 0) {
                at = (at + 1) % 3;
                changes.emplace_back(litres[at], false);
            }
        }
        const auto is = [](Debugger& d, const char* what) { return static_cast<int>(debug::unsignedOf(d.evaluate(what)->bytes)); };
        const auto next = [](Session& s, Debugger& d) {
            d.begin();
            return finish(s, d);
        };
        {
            const auto s = bench.open();
            Debugger d(*s);
            d.setStops({stop("change at->litres")});
            QVERIFY(next(*s, d));  // before main() it points nowhere, and then is given its place
            while (is(d, "at->litres") != 1267)
                QVERIFY(next(*s, d));
            for (const auto& [value, stored] : changes) {
                QCOMPARE(is(d, "at->litres"), value);
                QVERIFY2(d.report().text.find("has changed at->litres") != std::string::npos, d.report().text.c_str());
                QVERIFY(next(*s, d));
            }
            // And back, over the moves of the pointer.
            d.setStops({});
            const int here = static_cast<int>(changes.size());
            for (int i = here; i > here - 9; --i) {
                QVERIFY(d.backToChange("at->litres").has_value());
                QCOMPARE(is(d, "at->litres"), changes[static_cast<std::size_t>(i - 1)].first);
            }
        }
        {
            const auto s = bench.open();
            Debugger d(*s);
            QVERIFY(until(*s, d, stop("main")));
            d.setStops({stop("write at->litres")});
            for (const auto& [value, stored] : changes)
                if (stored) {
                    QVERIFY(next(*s, d));
                    QCOMPARE(is(d, "at->litres"), value);
                }
            d.setStops({stop("change beats % 4 to 0")});
            for (int i = 0; i < 5; ++i) {
                QVERIFY(next(*s, d));
                QCOMPARE(is(d, "beats"), 40 + 4 * i);
            }
            d.setStops({stop("change 1000 / (beats % 4) to 333")});  // nothing at each fourth
            for (int i = 0; i < 3; ++i) {
                QVERIFY(next(*s, d));
                QCOMPARE(is(d, "beats") % 4, 3);
            }
            QVERIFY(!d.begin(stop("change r24 & 1")) && !d.begin(stop("write beats % 4")) && !d.begin(stop("change at->colour")));
        }
    }

    // What the source says the sum becomes, one element after another: at every level of optimisation, wherever the compiler keeps it.
    void localsStopWhereTheyChange_data()
    {
        QTest::addColumn<QString>("level");
        for (const char* level : {"-O0", "-O1", "-Os", "-O2", "-Og"})
            QTest::newRow(level) << QString(level);
    }
    void localsStopWhereTheyChange()
    {
        QFETCH(QString, level);
        KeeperBench bench;
        // Without its interrupt, which would call the same function in the midst of it.
        QVERIFY(bench.build({"-gdwarf-4", level}, QString(kKeeper).replace("sei();", "")));
        const auto s = bench.open();
        Debugger d(*s);
        const auto sum = [&] { return debug::unsignedOf(d.evaluate("sum").value_or(debug::Value{}).bytes); };
        // The first call adds up 9, 8, 7 and what PINC reads, which is 0.
        d.setStops({stop("change sum in mean")});
        QCOMPARE(QString::fromStdString(d.stops()[0].problem), QString());
        std::vector<std::uint64_t> seen;
        for (int i = 0; i < 8; ++i) {
            d.begin();
            QVERIFY(finish(*s, d));
            seen.push_back(sum());
        }
        // Where it is set to nothing it is seen, too, and what stood in its place before that.
        seen.erase(seen.begin(), std::find(seen.begin(), seen.end(), 9U));
        QVERIFY2(seen.size() >= 3 && seen[0] == 9 && seen[1] == 17 && seen[2] == 24, qPrintable(QString::number(seen.size())));
        // Back over the same.
        d.setStops({});
        QVERIFY(until(*s, d, stop("change sum in mean to 17")) && sum() == 17);
        QVERIFY(until(*s, d, stop("change sum to 24")) && sum() == 24);
        for (const std::uint64_t before : {17, 9}) {
            const auto ok = d.backToChange("sum in mean");
            QVERIFY2(ok, ok ? "" : ok.error().text().c_str());
            QVERIFY(until(*s, d, stop("change sum in mean")));
            QVERIFY(sum() == (before == 17 ? 24U : 17U));
            QVERIFY(d.backToChange("sum in mean").has_value());
            QVERIFY(sum() <= before);
        }
        QVERIFY(until(*s, d, stop("write sum in mean")));
        QVERIFY2(QString::fromStdString(d.report().text).contains(" has written sum"), d.report().text.c_str());
        QVERIFY(until(*s, d, stop("read sum in mean")));
        QVERIFY2(QString::fromStdString(d.report().text).contains(" has read sum"), d.report().text.c_str());
    }

    // A breakpoint at the very instruction that comes behind one that was watched is met, too.
    void aStopBehindAnotherIsMet()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        QVERIFY(until(*s, d, stop("change ticks to 3")));  // (3 + 4) / 2
        const QString behind = QString("0x%1").arg(pc(*s), 4, 16, QChar('0'));
        const auto t = bench_.open();
        Debugger e(*t);
        e.setStops({stop("write ticks", "gates[1].cm == 77"), stop(behind)});
        e.begin();
        QVERIFY(finish(*t, e));
        QCOMPARE(e.report().stop, std::size_t{1});
        QCOMPARE(t->world().now(), s->world().now());
    }

    void backToAStopThatWasPassed()
    {
        const auto s = bench_.open();
        Debugger d(*s);
        d.setStops({stop(line("sei();"))});
        s->world().resume(true);
        for (auto& unit : s->world().chips())
            chip::avr::chipOf(*unit.chip).cpu().setBreakpoints({});
        s->advance(Time(25ms));
        QVERIFY(d.backToStop().has_value());
        QCOMPARE(lineNow(d), lineOf(kKeeper, "sei();"));
        QVERIFY(!d.backToStop().has_value());
        QCOMPARE(lineNow(d), lineOf(kKeeper, "sei();"));  // and stays where it is
    }
};

QTEST_GUILESS_MAIN(DebuggerTest)
#include "debugger_test.moc"
