// What sessions and debuggers do does not depend on the family of the chip: the same jobs on one that has a stack for return addresses and bytes for registers, on one that has a link register and instructions of two
// lengths, and on one that exists in tests alone.
#include <QtTest>

#include <QTemporaryDir>

#include "chip/arm9/arm9_program.h"
#include "chip/beats_programs.h"
#include "chip/cortexm/beats_program.h"
#include "chip/pic16/pic_program.h"
#include "chip/riscv/riscv_program.h"
#include "chip/toy/toy.h"
#include "debug/compiled.h"
#include "debug/function_map.h"
#include "session/gdb/gdb_server.h"
#include "session/profile/function_times.h"
#include "session/keeper_bench.h"
#include "session/replay/lookback.h"

using namespace bramix;
using namespace bramix::session;
using namespace bramix::test;
using namespace std::chrono_literals;
using kernel::Time;
using toy::Op;

namespace {

// A loop that calls a function which calls another and counts; a timer's handler on top.
const char* const kBeats = R"(#include <avr/io.h>
#include <avr/interrupt.h>
volatile uint16_t beats;
__attribute__((noinline)) void inner(void) { PORTB ^= 2; }
__attribute__((noinline)) void outer(void) { inner(); beats++; }
ISR(TIMER1_COMPA_vect) { PORTB ^= 1; }
int main(void)
{
    DDRB = 0xFF;
    OCR1A = 1999;
    TCCR1B = (1 << WGM12) | (1 << CS10);
    TIMSK1 = 1 << OCIE1A;
    sei();
    for (;;)
        outer();
}
)";

// The same by hand: r9 the count's place, r8 the port.
std::vector<std::uint8_t> beatsOfToy(std::map<std::string, std::uint32_t>& at)
{
    toy::Assembler a;
    a.label("main");
    a.set(toy::kStack, toy::kRam + toy::kRamBytes);
    a.set(9, toy::kRam);
    a.set(8, toy::kOut);
    a.put(Op::ldi, 1, 0, 0xFF);
    a.store(toy::kDir, 1, 2);
    a.set(1, 2000);
    a.store(toy::kTimerAPeriod, 1, 2);
    a.put(Op::ldi, 1, 0, 1);
    a.store(toy::kTimerARun, 1, 2);
    a.put(Op::ldi, 1, 0, 1 << toy::kTimerA);
    a.store(toy::kEnable, 1, 2);
    a.label("loop");
    a.go(Op::call, "outer");
    a.go(Op::jmp, "loop");
    a.label("outer");
    a.put(Op::push, toy::kLink);
    a.go(Op::call, "inner");
    a.put(Op::ldw, 1, 9);
    a.put(Op::addi, 1, 1, 1);
    a.put(Op::stw, 1, 9);
    a.put(Op::pop, toy::kLink);
    a.put(Op::ret);
    a.label("inner");
    a.put(Op::ldw, 2, 8);
    a.put(Op::addi, 2, 2, 2);
    a.put(Op::stw, 2, 8);
    a.put(Op::ret);
    a.label("tick");
    a.put(Op::push, 2);
    a.put(Op::ldw, 2, 8);
    a.put(Op::addi, 2, 2, 1);
    a.put(Op::stw, 2, 8);
    a.put(Op::pop, 2);
    a.put(Op::eret);
    for (const char* name : {"main", "loop", "outer", "inner", "tick"})
        at[name] = a.at(name);
    return toy::image(a, {{toy::kTimerA, "tick"}});
}

}  // namespace

class AnyFamilyTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    QTemporaryDir folder_;
    QString compiled_, arm_, riscv_, pic_, arm9_;

    struct Rig {
        std::unique_ptr<Session> session;
        std::string inner, outer, handler, exception, count, counter, pin;
        int period = 2000;  // cycles from one exception to the next
        chip::Mcu& chip() const { return *session->world().chips()[0].chip; }
        std::uint64_t beats() const
        {
            std::uint64_t value = 0;
            const auto from = static_cast<std::uint64_t>(std::stoul(count, nullptr, 16));
            for (unsigned i = 0; i < 2; ++i)
                value |= std::uint64_t{chip().readData(from + i)} << (8 * i);
            return value;
        }
    };

    std::unique_ptr<Session> open(const std::string& kind, const std::string& file, const std::string& more = {}, const std::string& set = {})
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"mcu\"\nkind = \"" + kind + "\"\nfirmware = \"" + file + "\"\n" + set + more;
        auto document = bench::parseDocument("any.toml", text);
        if (!document) {
            qWarning("%s", document.error().text().c_str());
            return nullptr;
        }
        SessionOptions options;
        options.folder = folder_.path().toStdString();
        options.historyBytes = 64U << 20U;
        auto session = Session::open(*document, catalogue_, options);
        if (!session)
            qWarning("%s", session.error().text().c_str());
        return session ? std::move(*session) : nullptr;
    }

    Rig rig(const QString& family)
    {
        Rig out;
        if (family == "avr") {
            out.session = open("bare-atmega328p", compiled_.toStdString());
            out.inner = "inner";
            out.outer = "outer";
            out.handler = "__vector_11";
            out.exception = "TIMER1_COMPA";
            out.counter = "r24";
            out.pin = "mcu.PB0";
            if (out.session != nullptr)
                for (const debug::Variable& v : out.session->program("mcu").symbols.variables())
                    if (v.name == "beats")
                        out.count = fmt::format("0x{:04x}", *v.fixedAddress() - debug::kElfData);
            return out;
        }
        if (family == "cortexm") {
            out.session = open("bare-stm32f103c8", arm_.toStdString());
            out.inner = "inner";
            out.outer = "outer";
            out.handler = "TIM2_IRQHandler";
            out.exception = "TIM2";
            out.counter = "r3";
            out.pin = "mcu.PA0";
            if (out.session != nullptr)
                for (const debug::Variable& v : out.session->program("mcu").symbols.variables())
                    if (v.name == "beats")
                        out.count = fmt::format("0x{:08x}", *v.fixedAddress());
            return out;
        }
        if (family == "riscv" || family == "pic16" || family == "arm9") {
            const bool pic = family == "pic16";
            out.session = open(family == "riscv" ? "bare-esp32c3" : pic ? "bare-pic16f84a" : "bare-arm926ej-s", (family == "riscv" ? riscv_ : pic ? pic_ : arm9_).toStdString(), {}, pic ? "set = { clock = \"20MHz\" }\n" : "");
            out.inner = "inner";
            out.outer = "outer";
            out.handler = family == "arm9" ? "irq_handler" : "tick";
            out.exception = family == "riscv" ? "INT3" : pic ? "interrupt" : "IRQ";
            out.counter = family == "riscv" ? "a5" : pic ? "W" : "r3";
            out.pin = family == "riscv" ? "mcu.GPIO0" : pic ? "mcu.RB0" : "";
            out.period = pic ? 256 : 2000;
            if (out.session != nullptr)
                for (const debug::Variable& v : out.session->program("mcu").symbols.variables())
                    if (v.name == "beats")
                        out.count = fmt::format("0x{:04x}", *v.fixedAddress() - (pic ? debug::kElfData : 0));
            return out;
        }
        std::map<std::string, std::uint32_t> at;
        const auto bytes = beatsOfToy(at);
        QFile file(folder_.filePath("beats.bin"));
        if (file.open(QIODevice::WriteOnly))
            file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<qint64>(bytes.size()));
        file.close();
        out.session = open("bare-toy32", "beats.bin");
        out.inner = fmt::format("code_{:04x}", at["inner"]);
        out.outer = fmt::format("code_{:04x}", at["outer"]);
        out.handler = "handler_1";
        out.exception = "TIMER_A";
        out.counter = "r1";
        out.count = fmt::format("0x{:04x}", toy::kRam);
        out.pin = "mcu.P0";
        return out;
    }

    [[nodiscard]] bool isThere(const QString& family) const { return family == "toy" || !(family == "avr" ? compiled_ : family == "cortexm" ? arm_ : family == "riscv" ? riscv_ : family == "pic16" ? pic_ : arm9_).isEmpty(); }
    static bench::StopItem stop(const std::string& at)
    {
        bench::StopItem item;
        item.at = at;
        return item;
    }
    static bool until(Session& s, Debugger& d, const std::string& at)
    {
        if (const auto ok = d.begin(stop(at)); !ok) {
            qWarning("%s", ok.error().text().c_str());
            return false;
        }
        return finish(s, d);
    }
    static QStringList names(const Debugger& d)
    {
        QStringList out;
        for (const debug::Frame& f : d.frames())
            if (!f.inlined)
                out << QString::fromStdString(f.place.function);
        return out;
    }
    static void families()
    {
        QTest::addColumn<QString>("family");
        QTest::newRow("avr") << "avr";
        QTest::newRow("cortexm") << "cortexm";
        QTest::newRow("riscv") << "riscv";
        QTest::newRow("pic16") << "pic16";
        QTest::newRow("arm9") << "arm9";
        QTest::newRow("toy") << "toy";
    }

private slots:
    void initTestCase()
    {
        toy::install();
        auto loaded = bench::Catalogue::loadInstalled();
        QVERIFY(loaded.has_value());
        catalogue_ = std::move(*loaded);
        QVERIFY(catalogue_.find("bare-toy32") != nullptr);
        if (haveCompiler())
            compiled_ = compile(folder_, kBeats, {"-gdwarf-4", "-Os"});
        if (arm::haveCompiler())
            arm_ = arm::compile(folder_, arm::kBeats, {"-Os"}, arm::kBeatsVectors);
        if (riscv::haveCompiler())
            riscv_ = riscv::compile(folder_, kBeatsOfRiscv, {"-Os"});
        if (pic::haveAssembler())
            pic_ = pic::assemble(folder_, "16f84a", kBeatsOfPic);
        if (arm9::haveCompiler())
            arm9_ = arm9::compile(folder_, kBeatsOfArm9, {"-Os"});
    }

    void itStopsInCodeAndTellsWhoCalled_data() { families(); }
    void itStopsInCodeAndTellsWhoCalled()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        QVERIFY(r.session != nullptr);
        Debugger d(*r.session);
        QVERIFY(until(*r.session, d, r.inner));
        QCOMPARE(names(d), QStringList({QString::fromStdString(r.inner), QString::fromStdString(r.outer), "main"}));
        // Out of the leaf, whose call moves no stack pointer where there is a link register; out of its caller.
        QVERIFY(d.begin(Step::out).has_value() && finish(*r.session, d));
        QCOMPARE(names(d), QStringList({QString::fromStdString(r.outer), "main"}));
        QVERIFY(d.begin(Step::out).has_value() && finish(*r.session, d));
        QCOMPARE(names(d), QStringList({"main"}));
        // Over a call, and into it.
        QVERIFY(until(*r.session, d, r.outer));
        const std::uint64_t before = r.beats();
        for (int i = 0; i < 12 && r.beats() == before; ++i)
            QVERIFY(d.begin(Step::instructionOver).has_value() && finish(*r.session, d) && names(d).front() == QString::fromStdString(r.outer));
        QCOMPARE(r.beats(), before + 1);
        QVERIFY(until(*r.session, d, r.outer));
        int steps = 0;
        while (names(d).front() != QString::fromStdString(r.inner) && steps++ < 5)
            QVERIFY(d.begin(Step::instruction).has_value() && finish(*r.session, d));
        QVERIFY(steps <= 5);
    }

    void itWatchesMemoryAndRegisters_data() { families(); }
    void itWatchesMemoryAndRegisters()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        Debugger d(*r.session);
        QVERIFY(until(*r.session, d, r.outer));
        for (int i = 0; i < 3; ++i) {
            const std::uint64_t before = r.beats();
            QVERIFY(until(*r.session, d, "change " + r.count + ":2"));
            QCOMPARE(r.beats(), before + 1);
            QVERIFY2(d.report().text.find("has changed " + r.count) != std::string::npos, d.report().text.c_str());
        }
        QVERIFY(until(*r.session, d, "change " + r.counter));
        const auto value = d.evaluate(r.counter);
        QVERIFY(value.has_value());
        const std::uint64_t now = debug::unsignedOf(value->bytes);
        QVERIFY(until(*r.session, d, "change " + r.counter));
        QVERIFY(debug::unsignedOf(d.evaluate(r.counter)->bytes) != now);
        // Set by hand it holds until the next instruction that names it.
        QVERIFY(d.assign(r.counter, "0x5A").has_value());
        QCOMPARE(debug::unsignedOf(d.evaluate(r.counter)->bytes), std::uint64_t{0x5A});
        if (!r.pin.empty())
            QVERIFY(until(*r.session, d, "rise " + r.pin));
    }

    void exceptionsAreEnteredToldAndReturnedFrom_data() { families(); }
    void exceptionsAreEnteredToldAndReturnedFrom()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        Debugger d(*r.session);
        QVERIFY(until(*r.session, d, r.handler));
        QCOMPARE(d.frames().front().interrupt, r.exception);
        QCOMPARE(names(d).back(), QString("main"));
        QVERIFY(until(*r.session, d, "interrupt " + r.exception));
        QVERIFY2(d.report().text.find(r.exception) != std::string::npos, d.report().text.c_str());
        QVERIFY(until(*r.session, d, "time 20ms"));
        const auto number = [&] {
            for (const chip::Exception& e : r.chip().device().exceptions)
                if (e.name == r.exception)
                    return e.number;
            return 0U;
        }();
        const chip::ExceptionStatus status = r.chip().exception(number);
        const double expected = 0.02 * static_cast<double>(r.chip().clock().hz()) / r.period;
        QVERIFY2(std::abs(static_cast<double>(status.count) - expected) <= 2, qPrintable(QString::number(status.count)));
        QVERIFY(status.worstLatency > 0 && status.worstLatency < 60 && status.enabled);
        // The tape has each, and the return from it.
        const tape::ChannelId channel = r.session->tape().find("mcu interrupts");
        int entered = 0, returned = 0;
        for (std::size_t i = 0; i < r.session->tape().after(channel, kernel::kNever); ++i)
            (r.session->tape().edge(channel, i).state == static_cast<tape::State>(number) ? entered : returned) += 1;
        QVERIFY(entered == status.count && std::abs(entered - returned) <= 1);
    }

    void itGoesBackAndOnAgain_data() { families(); }
    void itGoesBackAndOnAgain()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        Session& s = *r.session;
        Debugger d(s);
        QVERIFY(until(s, d, "time 7ms"));
        const Time stood = s.world().now();
        const auto state = stateOf(s);
        // By instructions: each is another place, and forward again it is the same run.
        std::set<Time> places;
        for (int i = 0; i < 5; ++i) {
            QVERIFY(d.back(Step::instruction).has_value());
            places.insert(r.chip().now());
        }
        QCOMPARE(places.size(), std::size_t{5});
        QVERIFY(d.goTo(stood).has_value());
        QVERIFY(stateOf(s) == state);
        // To the call of a leaf, and over one.
        QVERIFY(until(s, d, r.inner));
        QVERIFY(d.back(Step::out).has_value());
        QCOMPARE(names(d).front(), QString::fromStdString(r.outer));
        QVERIFY(r.chip().instructionAt(r.chip().codeAddress()).isCall());
        const std::uint32_t call = r.chip().codeAddress();
        QVERIFY(d.begin(Step::instructionOver).has_value() && finish(s, d));
        QVERIFY(d.back(Step::instructionOver).has_value());
        QCOMPARE(r.chip().codeAddress(), call);
        // To what made a pin change.
        if (!r.pin.empty()) {
            QVERIFY(d.backToChange(r.pin).has_value());
            QCOMPARE(names(d).front(), QString::fromStdString(r.handler));
        }
        QVERIFY(d.backToStop().has_value() == false);
        d.setStops({stop(r.outer)});
        QVERIFY(d.backToStop().has_value());
        QCOMPARE(names(d).front(), QString::fromStdString(r.outer));
    }

    // The whole run at speed, against single steps.
    void functionsHaveTheirTime_data() { families(); }
    void functionsHaveTheirTime()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig fast = rig(family), slow = rig(family);
        fast.session->advance(Time(3ms));
        const auto shares = fast.session->functionTimes().columns("mcu", Time{}, Time(3ms), 1, false);
        QVERIFY(shares.names != nullptr);
        std::map<std::string, double> told, stepped;
        for (const auto& p : shares.parts)
            told[(*shares.names)[p.id]] += kernel::seconds(p.time);
        chip::Mcu& chip = slow.chip();
        const debug::FunctionMap map(slow.session->program("mcu").symbols, chip.code(), chip.device());
        // Until its clock has settled it is in reset.
        stepped["in reset"] = kernel::seconds(chip.now());
        while (chip.now() < Time(3ms)) {
            const Time from = chip.now();
            const std::uint16_t function = map.of(chip.codeAddress());
            slow.session->world().stepInstruction(0, Time(3ms));
            stepped[function == debug::FunctionMap::kNone ? std::string() : map.names[function]] += kernel::seconds(chip.now() - from);
        }
        QVERIFY(stepped.size() >= 4);
        for (const auto& [name, seconds] : stepped)
            QVERIFY2(std::abs(told[name] - seconds) < 1e-6, qPrintable(QString("%1: %2 and %3").arg(name.c_str()).arg(told[name]).arg(seconds)));
    }

    // Who called whom in a stretch of the past, against the call stack itself.
    void callsOfThePastAreFound_data() { families(); }
    void callsOfThePastAreFound()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        Session& s = *r.session;
        s.advance(Time(4ms));
        Lookback look(s, catalogue_);
        const Time from(2ms), to(2ms + 300us);
        look.want({{"mcu", ""}}, from, to);
        for (int i = 0; i < 1000 && look.busy(); ++i)
            (void)look.work(100ms);
        const FoundSpans* found = look.found({"mcu", {}});
        QVERIFY(found != nullptr && found->trouble.empty() && found->spans.size() > 20);
        Debugger d(s);
        int compared = 0;
        for (const Time at : {Time(2ms + 20us), Time(2ms + 77us), Time(2ms + 133us), Time(2ms + 201us), Time(2ms + 255us)}) {
            QVERIFY(d.goTo(at).has_value());
            const Time now = r.chip().now();
            QStringList stack = names(d), spans;
            std::reverse(stack.begin(), stack.end());
            for (const Span& span : found->spans)
                if (span.from <= now && span.to > now)
                    spans << QString::fromStdString(span.text);
            QVERIFY2(spans == stack, qPrintable(spans.join(" ") + " / " + stack.join(" ")));
            ++compared;
        }
        QCOMPARE(compared, 5);
        bool handler = false, inner = false;
        for (const Span& span : found->spans) {
            handler = handler || span.text == r.handler;
            inner = inner || (span.text == r.inner && span.depth == 2);
        }
        QVERIFY(handler && inner);
    }

    void countsAddUpToTheCycles_data() { families(); }
    void countsAddUpToTheCycles()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        r.session->advance(Time(1ms));
        chip::CycleCounts counts;
        r.chip().countInto(&counts);
        const std::int64_t before = r.chip().cycles();
        r.session->advance(Time(5ms));
        QCOMPARE(counts.total(), r.chip().cycles() - before);
        r.chip().countInto(nullptr);
        unsigned number = 0;
        for (const chip::Exception& e : r.chip().device().exceptions)
            number = e.name == r.exception ? e.number : number;
        QVERIFY(counts.handlers[number].times >= 10 && counts.handlers[number].longest > 5);
    }

    // A remote debugger's packets: registers by their numbers and widths, memory, a breakpoint.
    void aRemoteDebuggerIsServed_data() { families(); }
    void aRemoteDebuggerIsServed()
    {
        QFETCH(QString, family);
        if (!isThere(family))
            QSKIP("its compiler is not installed");
        const Rig r = rig(family);
        Debugger d(*r.session);
        GdbServer server(*r.session, d);
        server.begin();
        const auto ask = [&](const std::string& body) {
            unsigned sum = 0;
            for (const char c : body)
                sum += static_cast<unsigned char>(c);
            std::string out = server.take(fmt::format("+${}#{:02x}", body, sum & 0xFF));
            const std::size_t begin = out.find('$'), end = out.rfind('#');
            return begin == std::string::npos ? out : out.substr(begin + 1, end - begin - 1);
        };
        QVERIFY(until(*r.session, d, r.inner));
        const chip::Device& device = r.chip().device();
        const std::string all = ask("g");
        std::size_t digits = 0;
        for (const chip::CoreRegister& reg : device.coreRegisters)
            digits += reg.debuggerNumber >= 0 ? 2 * reg.bytes() : 0;
        QCOMPARE(all.size(), digits);
        const auto pc = *device.registerOf(chip::CoreRole::programCounter);
        std::uint64_t told = 0;
        const std::string hex = ask(fmt::format("p{:x}", device.coreRegisters[pc].debuggerNumber));
        for (std::size_t i = hex.size(); i > 0; i -= 2)
            told = told << 8 | std::stoul(hex.substr(i - 2, 2), nullptr, 16);
        QCOMPARE(told, std::uint64_t{r.chip().codeAddress()});
        const chip::MemoryRegion& ram = *device.regionOf(chip::RegionKind::ram);
        const std::uint64_t place = ram.debuggerBase + std::stoul(r.count, nullptr, 16) - ram.begin;
        QCOMPARE(std::stoul(ask(fmt::format("m{:x},1", place)), nullptr, 16), static_cast<unsigned long>(r.beats() & 0xFF));
        QCOMPARE(ask(fmt::format("M{:x},1:7b", place)), std::string("OK"));
        QCOMPARE(r.beats() & 0xFF, std::uint64_t{0x7B});
    }

    // What only the one of tests has.

    void exceptionsNestByPriority()
    {
        toy::Assembler a;
        a.label("main");
        a.set(toy::kStack, toy::kRam + toy::kRamBytes);
        for (const auto& [reg, value] : {std::pair{toy::kTimerAPeriod, 5000U}, {toy::kTimerARun, 1U}, {toy::kTimerBPeriod, 700U}, {toy::kTimerBRun, 1U}, {toy::kEnable, 6U}}) {
            a.set(1, value);
            a.store(reg, 1, 2);
        }
        a.label("rest");
        a.put(Op::wfi);
        a.go(Op::jmp, "rest");
        // The slow one lasts for 2000 cycles and is interrupted by the other, which is more urgent; never the other way round.
        a.label("slow");
        a.put(Op::push, 1);
        a.set(1, 500);
        a.label("wait");
        a.put(Op::addi, 1, 1, -1);
        a.put(Op::ldi, 3, 0, 0);
        a.go(Op::bne, "wait", 1, 3);
        a.put(Op::pop, 1);
        a.put(Op::eret);
        a.label("quick");
        a.put(Op::eret);
        const auto s = run(a, {{toy::kTimerA, "slow"}, {toy::kTimerB, "quick"}});
        QVERIFY(s != nullptr);
        s->advance(Time(5ms));
        const tape::ChannelId channel = s->tape().find("mcu interrupts");
        const std::size_t count = s->tape().after(channel, kernel::kNever);
        int nested = 0, wrong = 0;
        for (std::size_t i = 2; i < count; ++i) {
            const auto state = [&](std::size_t k) { return static_cast<int>(s->tape().edge(channel, k).state); };
            nested += state(i - 2) == 1 && state(i - 1) == 2 && state(i) == 1 ? 1 : 0;
            wrong += state(i - 1) == 2 && state(i) == 1 && state(i - 2) != 1 ? 1 : 0;
        }
        // 10 of the slow ones in 5 ms, each of some 2000 cycles, every 700 of which the other comes.
        QVERIFY2(nested >= 15 && wrong == 0, qPrintable(QString("%1 nested, %2 wrong").arg(nested).arg(wrong)));
        Debugger d(*s);
        QVERIFY(until(*s, d, "interrupt TIMER_B"));
        int tries = 0;
        while (names(d) != QStringList({"handler_2", "handler_1", "main"}) && tries++ < 10)
            QVERIFY(until(*s, d, "interrupt TIMER_B"));
        QVERIFY2(tries < 10, qPrintable(names(d).join(' ')));
    }

    void whatABusMasterWritesIsWatched()
    {
        toy::Assembler a;
        a.label("main");
        for (const auto& [reg, value] : {std::pair{toy::kDmaFrom, toy::kFlash}, {toy::kDmaTo, toy::kRam + 0x100}, {toy::kDmaCount, 8U}, {toy::kDmaGo, 1U}}) {
            a.set(1, value);
            a.store(reg, 1, 2);
        }
        a.label("rest");
        a.go(Op::jmp, "rest");
        const auto s = run(a, {});
        Debugger d(*s);
        QVERIFY(until(*s, d, fmt::format("write 0x{:x}:4", toy::kRam + 0x100 + 4 * 5)));
        QVERIFY2(QString::fromStdString(d.report().text).contains("DMA has written"), d.report().text.c_str());
        // The core ran in its loop meanwhile, and the sixth word is the first that is not there yet.
        const chip::Mcu& chip = *s->world().chips()[0].chip;
        QCOMPARE(chip.readData(toy::kRam + 0x100), chip.readData(toy::kFlash));
        QCOMPARE(int{chip.readData(toy::kRam + 0x100 + 4 * 6)}, 0);
    }

    void codeInRamRunsAndStops()
    {
        toy::Assembler a;
        a.label("main");
        a.set(toy::kStack, toy::kRam + toy::kRamBytes);
        // The three instructions of "small" are copied and called there.
        a.go(Op::jmp, "copy");
        a.label("small");
        a.put(Op::addi, 5, 5, 7);
        a.put(Op::nop);
        a.put(Op::ret);
        a.label("copy");
        a.set(6, toy::kFlash + 4 * toy::kExceptions + 4 * 3);
        a.set(7, toy::kRam);
        for (int i = 0; i < 3; ++i) {
            a.put(Op::ldw, 1, 6, 4 * i);
            a.put(Op::stw, 1, 7, 4 * i);
        }
        a.label("again");
        a.put(Op::callr, 0, 7);
        a.go(Op::jmp, "again");
        const auto s = run(a, {});
        chip::Mcu& chip = *s->world().chips()[0].chip;
        const std::uint32_t there[] = {toy::kRam + 4};
        chip.setBreakpoints(there);
        s->advance(Time(1ms));
        QVERIFY(chip.hasStopped());
        QCOMPARE(chip.stopInfo().code, toy::kRam + 4);
        QCOMPARE(chip.readRegister(5), std::uint64_t{7});
        QCOMPARE(chip.instructionAt(toy::kRam + 8).flow, chip::Flow::return_);
        chip.setBreakpoints({});
        s->world().resume(true);
        s->advance(Time(2ms));
        QVERIFY(chip.readRegister(5) > 700 && !chip.faulted());
        QVERIFY(s->faultText().empty());
    }

    void linesAndPinsAreTheBenchs()
    {
        toy::Assembler a;
        a.label("main");
        for (const char c : std::string("ebb")) {
            a.set(1, static_cast<unsigned char>(c));
            a.store(toy::kSend, 1, 2);
            a.set(3, toy::kSending);
            const std::string wait = std::to_string(a.here());
            a.label(wait);
            a.put(Op::ldw, 4, 3);
            a.put(Op::ldi, 5);
            a.go(Op::bne, wait, 4, 5);
        }
        a.set(6, toy::kIn);
        a.put(Op::ldw, 4, 6);
        a.put(Op::none);
        const auto s = run(a, {}, "[[part]]\nid = \"r\"\nkind = \"resistor\"\n[[wire]]\nends = [\"mcu.P3\", \"r.1\"]\n[[part]]\nid = \"r2\"\nkind = \"resistor\"\n[[wire]]\nends = [\"r.2\", \"r2.1\"]\n");
        QVERIFY(s != nullptr);
        s->advance(Time(2ms));
        std::string heard;
        for (std::uint64_t i = 0; i < s->serialLog().end(); ++i)
            if (s->serialLog()[i].fromChip)
                heard += static_cast<char>(s->serialLog()[i].byte);
        QCOMPARE(heard, std::string("ebb"));
        // It reads a pin on which nothing drives, and then comes to what is no instruction.
        const auto findings = s->findings();
        QVERIFY(std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.rule == "floating-input" && f.where == "mcu.P3"; }));
        QVERIFY2(QString::fromStdString(s->faultText()).contains("undefined instruction 0x00000000"), s->faultText().c_str());
    }

private:
    std::unique_ptr<Session> run(toy::Assembler& code, const std::map<unsigned, std::string>& handlers, const std::string& more = {})
    {
        const auto bytes = toy::image(code, handlers);
        QFile file(folder_.filePath("toy.bin"));
        if (file.open(QIODevice::WriteOnly))
            file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<qint64>(bytes.size()));
        file.close();
        return open("bare-toy32", "toy.bin", more);
    }
};

QTEST_GUILESS_MAIN(AnyFamilyTest)
#include "any_family_test.moc"
