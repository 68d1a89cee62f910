// Speeds that people feel: the core alone, a bench with its tape, and the parts that either leans on. Run with no other load;
// instruction counts by callgrind are in perf/README.md.
#include <benchmark/benchmark.h>

#include <array>
#include <cmath>
#include <cstdlib>

#include "chip/avr/chip.h"
#include "circuit/waveform.h"
#include "session/debugger/debugger.h"
#include "session/lanes/merged_edges.h"
#include "session/session.h"
#include "tape/read_log.h"

using namespace bramix;

namespace {

const bench::Catalogue& catalogue()
{
    static const auto loaded = bench::Catalogue::loadInstalled();
    if (!loaded) {
        std::fprintf(stderr, "%s\n", loaded.error().text().c_str());
        std::exit(2);
    }
    return *loaded;
}

bench::Document bareChip(const std::string& firmware)
{
    bench::Document d;
    bench::PartItem mcu;
    mcu.id = "mcu";
    mcu.kind = bench::bareKind(*chip::findDevice("atmega328p"));
    mcu.firmware = firmware;
    d.parts.push_back(mcu);
    return d;
}

std::unique_ptr<session::Session> open(const bench::Document& d, const std::string& folder, bool record = true)
{
    session::SessionOptions options;
    options.folder = folder;
    options.record = record;
    auto s = session::Session::open(d, catalogue(), options);
    if (!s) {
        std::fprintf(stderr, "%s\n", s.error().text().c_str());
        std::exit(2);
    }
    return std::move(*s);
}

void runFor(benchmark::State& state, session::Session& s, kernel::Duration slice)
{
    const auto before = chip::avr::chipOf(*s.world().chips()[0].chip).cpu().instructions;
    const auto from = s.world().now();
    for (auto _ : state)
        s.advance(s.world().now() + slice);
    state.counters["instructions"] = benchmark::Counter(static_cast<double>(chip::avr::chipOf(*s.world().chips()[0].chip).cpu().instructions - before), benchmark::Counter::kIsRate);
    state.counters["realtime"] = benchmark::Counter(kernel::seconds(s.world().now() - from), benchmark::Counter::kIsRate);
}

void computeLoop(benchmark::State& state)
{
    auto s = open(bareChip(BRAMIX_PERF_FIRMWARE "/compute.elf"), ".");
    runFor(state, *s, std::chrono::milliseconds(200));
}
BENCHMARK(computeLoop)->Unit(benchmark::kMillisecond);

// With every pin on the tape, as always.
void runFirmware(benchmark::State& state, const char* name, kernel::Duration slice)
{
    auto s = open(bareChip(std::string(BRAMIX_PERF_FIRMWARE "/") + name), ".");
    s->world().runUntil(kernel::Time(std::chrono::milliseconds(10)));
    runFor(state, *s, slice);
}

void ioMix(benchmark::State& state) { runFirmware(state, "mix.elf", std::chrono::milliseconds(200)); }
BENCHMARK(ioMix)->Unit(benchmark::kMillisecond);

void delayLoops(benchmark::State& state) { runFirmware(state, "wait.elf", std::chrono::seconds(10)); }
BENCHMARK(delayLoops)->Unit(benchmark::kMillisecond);

void sleepsBetweenTicks(benchmark::State& state) { runFirmware(state, "doze.elf", std::chrono::seconds(10)); }
BENCHMARK(sleepsBetweenTicks)->Unit(benchmark::kMillisecond);

void toggledPin(benchmark::State& state) { runFirmware(state, "toggle.elf", std::chrono::milliseconds(50)); }
BENCHMARK(toggledPin)->Unit(benchmark::kMillisecond);

void referenceStepper(benchmark::State& state)
{
    auto s = open(bareChip(BRAMIX_PERF_FIRMWARE "/compute.elf"), ".");
    auto& cpu = chip::avr::chipOf(*s->world().chips()[0].chip).cpu();
    const auto before = cpu.instructions;
    for (auto _ : state)
        for (int i = 0; i < 100'000; ++i)
            cpu.step();
    state.counters["instructions"] = benchmark::Counter(static_cast<double>(cpu.instructions - before), benchmark::Counter::kIsRate);
}
BENCHMARK(referenceStepper)->Unit(benchmark::kMillisecond);

// Withy Lock, the signals changing as in the demo; with its tape (1), and with nothing kept (0).
void demoBench(benchmark::State& state)
{
    const std::string folder = bench::shareFolder() + "/benches/withy-lock";
    auto s = open(*bench::loadDocument(folder + "/bench.toml"), folder, state.range(0) != 0);
    s->world().runUntil(kernel::Time(std::chrono::milliseconds(100)));
    bool pressed = false;
    const auto before = s->world().now();
    for (auto _ : state) {
        (void)s->setControl("keeper", "pressed", (pressed = !pressed) ? 1 : 0);
        s->advance(s->world().now() + std::chrono::milliseconds(500));
    }
    state.counters["realtime"] = benchmark::Counter(kernel::seconds(s->world().now() - before), benchmark::Counter::kIsRate);
}
BENCHMARK(demoBench)->Arg(0)->Arg(1)->Unit(benchmark::kMillisecond);

// What a debugger costs that looks on: a breakpoint that is not met, a watched byte that is not touched, and one that calls go through the stepper for.
void computeWithBreakpoint(benchmark::State& state)
{
    auto s = open(bareChip(BRAMIX_PERF_FIRMWARE "/compute.elf"), ".");
    s->world().runUntil(kernel::Time(std::chrono::milliseconds(10)));
    chip::avr::chipOf(*s->world().chips()[0].chip).cpu().setBreakpoints({0});
    runFor(state, *s, std::chrono::milliseconds(200));
}
BENCHMARK(computeWithBreakpoint)->Unit(benchmark::kMillisecond);

void computeWithWatch(benchmark::State& state)
{
    auto s = open(bareChip(BRAMIX_PERF_FIRMWARE "/compute.elf"), ".");
    s->world().runUntil(kernel::Time(std::chrono::milliseconds(10)));
    chip::avr::chipOf(*s->world().chips()[0].chip).cpu().setWatches({{0x0700, 2, false, true}});
    runFor(state, *s, std::chrono::milliseconds(200));
}
BENCHMARK(computeWithWatch)->Unit(benchmark::kMillisecond);

// One instruction or line back, anywhere in the first minute of the frost alarm: the busiest of the examples.
void stepBack(benchmark::State& state)
{
    const std::string folder = bench::shareFolder() + "/benches/frost-alarm";
    session::SessionOptions options;
    options.folder = folder;
    options.historyBytes = 384U << 20U;
    static auto s = std::move(*session::Session::open(*bench::loadDocument(folder + "/bench.toml"), catalogue(), options));
    static session::Debugger debugger(*s);
    if (s->world().now() < kernel::Time(std::chrono::seconds(20)))
        for (int ms = 0; ms < 20'000; ms += 5)
            s->advance(kernel::Time(std::chrono::milliseconds(ms)));
    int i = 0;
    double worst = 0;
    for (auto _ : state) {
        state.PauseTiming();
        (void)debugger.goTo(kernel::Time(std::chrono::milliseconds(500 + (++i * 7919) % 19'000)));
        state.ResumeTiming();
        const auto began = std::chrono::steady_clock::now();
        (void)debugger.back(i % 2 == 0 ? session::Step::over : session::Step::instruction);
        worst = std::max(worst, std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - began).count());
    }
    state.counters["worst_ms"] = worst;
    state.counters["remembered_MB"] = static_cast<double>(s->history().bytes()) / 1e6;
}
BENCHMARK(stepBack)->Unit(benchmark::kMillisecond);

void tapeRecord(benchmark::State& state)
{
    tape::Tape tape(16U << 20U);
    const auto channel = tape.channel("PB0");
    std::int64_t t = 0;
    for (auto _ : state) {
        t += 250'000;
        tape.record(channel, {kernel::Time(kernel::Duration(t)), 0, 0, static_cast<tape::State>(t & 1)});
    }
}
BENCHMARK(tapeRecord);

// One lane of a full window over a million edges.
void tapeColumns(benchmark::State& state)
{
    tape::Tape tape(64U << 20U);
    const auto channel = tape.channel("PB0");
    for (std::int64_t i = 0; i < 1'000'000; ++i)
        tape.record(channel, {kernel::Time(kernel::Duration(i * 250'000)), 0, 0, static_cast<tape::State>(i & 1)});
    for (auto _ : state)
        benchmark::DoNotOptimize(tape.columns(channel, kernel::Time{}, kernel::Time(kernel::Duration(250'000'000'000)), 1104));
}
BENCHMARK(tapeColumns)->Unit(benchmark::kMicrosecond);

// Ten minutes of four lines with 200 million edges in all: a pin at some 160 kHz, pulse widths that drift, a serial line, and a slow one. Made once.
const tape::Tape& longTape()
{
    static const std::unique_ptr<tape::Tape> tape = [] {
        auto t = std::make_unique<tape::Tape>(std::size_t{2} << 30U);
        constexpr std::int64_t kTenMinutes = 600'000'000'000'000;
        const auto fill = [&](const char* name, std::size_t edges, auto&& step, std::uint32_t code) {
            const auto channel = t->channel(name);
            std::int64_t at = 0;
            for (std::size_t i = 0; i < edges && at < kTenMinutes; ++i) {
                at += step(i);
                t->record(channel, {kernel::Time(kernel::Duration(at)), code + static_cast<std::uint32_t>(i & 3) * 2, 0, static_cast<tape::State>(i & 1)});
            }
        };
        std::uint64_t random = 1;
        const auto below = [&random](std::int64_t n) {
            random = random * 6364136223846793005ULL + 1442695040888963407ULL;
            return static_cast<std::int64_t>(random >> 33U) % n;
        };
        fill("toggles", 100'000'000, [](std::size_t) { return std::int64_t{6'000'000}; }, 0x100);
        fill("pulses", 60'000'000, [](std::size_t i) { return i % 2 == 0 ? static_cast<std::int64_t>(4'000'000 + i / 1000 % 64 * 62'500) : static_cast<std::int64_t>(16'000'000 - i / 1000 % 64 * 62'500); }, 0x200);
        fill("serial", 30'000'000, [&](std::size_t) { return 8'680'000 * (1 + below(4)); }, 0x300);
        fill("clocked", 10'000'000, [&](std::size_t) { return 62'500 * (1 + below(1900)); }, 0x400);
        return t;
    }();
    return *tape;
}

void longTapeColumns(benchmark::State& state)
{
    const tape::Tape& tape = longTape();
    const auto to = kernel::Time(kernel::Duration(600'000'000'000'000 >> state.range(0)));
    for (auto _ : state)
        for (tape::ChannelId id = 0; id < tape.channelCount(); ++id)
            benchmark::DoNotOptimize(tape.columns(id, kernel::Time{}, to, 1104));
    std::size_t edges = 0;
    for (tape::ChannelId id = 0; id < tape.channelCount(); ++id)
        edges += tape.count(id);
    state.counters["edges"] = static_cast<double>(edges);
    state.counters["MB"] = static_cast<double>(tape.bytes()) / 1e6;
}
BENCHMARK(longTapeColumns)->Arg(0)->Arg(8)->Arg(16)->Unit(benchmark::kMillisecond);

// For a pulse that is not there.
void longTapeSearch(benchmark::State& state)
{
    const tape::Tape& tape = longTape();
    for (auto _ : state)
        for (tape::ChannelId id = 0; id < tape.channelCount(); ++id)
            benchmark::DoNotOptimize(tape.findPulse(id, kernel::Time{}, 1, kernel::Duration(50'000), kernel::Duration::max()));
}
BENCHMARK(longTapeSearch)->Unit(benchmark::kMillisecond);

// Two wires on which transfers of sixteen random bytes go one after the other at 400 kHz: a million edges of the clock and what the data line makes of it.
const tape::Tape& busyBus()
{
    static const std::unique_ptr<tape::Tape> tape = [] {
        auto t = std::make_unique<tape::Tape>(std::size_t{1} << 30U);
        const auto sda = t->channel("SDA"), scl = t->channel("SCL");
        std::int64_t at = 0;
        std::uint64_t random = 1;
        int data = 2, clock = 2;
        const auto set = [&](tape::ChannelId id, int& line, int level) {
            at += 625'000;
            if (std::exchange(line, level) != level)
                t->record(id, {kernel::Time(kernel::Duration(at)), 0x100, 0, static_cast<tape::State>(level)});
        };
        set(sda, data, 1);
        set(scl, clock, 1);
        for (int transfer = 0; transfer < 3400; ++transfer) {
            set(sda, data, 0);
            for (int byte = 0; byte < 17; ++byte) {
                random = random * 6364136223846793005ULL + 1442695040888963407ULL;
                const auto value = static_cast<unsigned>(byte == 0 ? 0x78 : random >> 56U);
                for (int bit = 7; bit >= -1; --bit) {
                    set(scl, clock, 0);
                    set(sda, data, bit < 0 ? 0 : static_cast<int>(value >> bit & 1U));
                    set(scl, clock, 1);
                }
            }
            set(scl, clock, 0);
            set(sda, data, 0);
            set(scl, clock, 1);
            set(sda, data, 1);
        }
        return t;
    }();
    return *tape;
}

// What it takes to read a bus, an edge.
void decodedBus(benchmark::State& state)
{
    const tape::Tape& tape = busyBus();
    std::size_t items = 0;
    for (auto _ : state) {
        auto decoder = std::move(*tape::makeDecoder("i2c", {}));
        decoder->out = [&](const tape::Decoded& item) { items += item.good ? 1 : 0; };
        session::Merged edges(tape, {0, 1}, kernel::Time{}, kernel::kNever, 1);
        std::size_t line = 0;
        tape::Edge edge;
        while (edges.take(line, edge))
            decoder->edge(line, edge.state == 1, edge.at);
    }
    const auto edges = static_cast<double>((tape.count(0) + tape.count(1)) * state.iterations());
    state.counters["edges"] = benchmark::Counter(edges, benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
    state.counters["items"] = static_cast<double>(items / state.iterations());
}
BENCHMARK(decodedBus)->Unit(benchmark::kMillisecond);

// What that bus says, kept: nine million items, what 200 million edges are.
const tape::ReadLog& longLog()
{
    static const std::unique_ptr<tape::ReadLog> log = [] {
        auto out = std::make_unique<tape::ReadLog>();
        const tape::Tape& tape = busyBus();
        const kernel::Duration once = tape.edge(1, tape.count(1) - 1).at - kernel::Time{};
        for (int i = 0; i < 140; ++i) {
            auto decoder = std::move(*tape::makeDecoder("i2c", {}));
            decoder->out = [&](tape::Decoded item) {
                item.from += once * i;
                item.to += once * i;
                out->add(item);
            };
            session::Merged edges(tape, {0, 1}, kernel::Time{}, kernel::kNever, 1);
            std::size_t line = 0;
            for (tape::Edge edge; edges.take(line, edge);)
                decoder->edge(line, edge.state == 1, edge.at);
        }
        return out;
    }();
    return *log;
}

// Words, and bytes, that are nowhere in it.
void longLogSearch(benchmark::State& state)
{
    const tape::ReadLog& log = longLog();
    const std::vector<int> row = state.range(0) == 0 ? std::vector<int>{1} : std::vector<int>{0x3C, 0x3C, 0x3C, 0x3C, 0x3C};
    for (auto _ : state)
        if (log.find(state.range(1) == 0 ? kernel::Time{} : kernel::kNever, state.range(1) == 0, row, [&](const tape::ReadLog::Word& w) { return state.range(0) == 0 ? (w.text.find("frost") != std::string_view::npos ? 1 : -1) : w.what == "byte" ? static_cast<int>(w.value) : -1; }))
            state.SkipWithError("found");
    state.counters["items"] = static_cast<double>(log.end());
    state.counters["bytes_an_item"] = static_cast<double>(log.bytes()) / static_cast<double>(log.end());
}
BENCHMARK(longLogSearch)->Args({0, 0})->Args({0, 1})->Args({1, 0})->Args({1, 1})->Unit(benchmark::kMillisecond);

// What keeping it takes, an item.
void keptItem(benchmark::State& state)
{
    std::vector<tape::Decoded> items;
    for (std::uint64_t i = 0; i < 60'000; ++i)
        items.push_back(longLog().item(i));
    for (auto _ : state) {
        tape::ReadLog log;
        for (const tape::Decoded& item : items)
            log.add(item);
        benchmark::DoNotOptimize(log.bytes());
    }
    state.counters["item"] = benchmark::Counter(static_cast<double>(items.size() * state.iterations()), benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
}
BENCHMARK(keptItem)->Unit(benchmark::kMillisecond);

// A circuit that has a ground, and a diode that stands for an LED.
struct Rig {
    kernel::EventQueue queue;
    circuit::Circuit circuit{queue};
    circuit::NetId ground = circuit.addNet("GND");
    Rig() { circuit.addSupply(ground, {0}, circuit.addPin(ground, "GND")); }
};

const circuit::DiodeModel kLed = circuit::DiodeModel::through({1.95}, {0.02}, 1.8, {6});

// One edge on an LED behind a resistor: a remembered solution.
void rememberedEdge(benchmark::State& state)
{
    Rig rig;
    auto& c = rig.circuit;
    const auto ground = rig.ground;
    const auto out = c.addNet("out");
    const auto anode = c.addNet("anode");
    const auto pin = c.addPin(out, "PB0");
    c.addResistor(out, anode, {330}, "r");
    c.addDiode(anode, ground, kLed, "led");
    c.seal(nullptr);
    bool high = false;
    for (auto _ : state)
        c.drive(pin, {(high = !high) ? 5.0 : 0.0, 25}, {});
}
BENCHMARK(rememberedEdge);

// A ladder of fifty nodes with ten diodes, driven at its head: how long one solution takes that is not remembered.
void freshSolution(benchmark::State& state)
{
    Rig rig;
    auto& c = rig.circuit;
    const auto ground = rig.ground;
    const auto head = c.addNet("n0");
    const auto pin = c.addPin(head, "pin");
    auto last = head;
    for (int i = 1; i < 50; ++i) {
        const auto net = c.addNet("n");
        c.addResistor(last, net, {100}, "r");
        c.addResistor(net, ground, {10'000}, "r");
        if (i % 5 == 0)
            c.addDiode(net, ground, kLed, "d");
        last = net;
    }
    c.seal(nullptr);
    double volts = 1;
    for (auto _ : state)
        c.drive(pin, {volts = volts > 9 ? 1 : volts + 0.0137, 25}, {});
}
BENCHMARK(freshSolution)->Unit(benchmark::kMicrosecond);

// A pulse-width output into a filter that an input reads: each edge begins a new exponential.
void filteredEdge(benchmark::State& state)
{
    Rig rig;
    auto& [queue, c, ground] = rig;
    const auto out = c.addNet("out");
    const auto cap = c.addNet("cap");
    const auto pin = c.addPin(out, "pin");
    c.addResistor(out, cap, {10'000}, "r");
    c.addCapacitor(cap, ground, {1e-6}, {0.02}, {1e12}, "c");
    c.seal(nullptr);
    bool high = false;
    for (auto _ : state) {
        c.drive(pin, {(high = !high) ? 5.0 : 0.0, 25}, {});
        queue.advanceTo(queue.now() + std::chrono::microseconds(8));
    }
}
BENCHMARK(filteredEdge);

// An LED with a capacitor across it, switched at 1 kHz: a millisecond of steps.
void steppedPeriod(benchmark::State& state)
{
    Rig rig;
    auto& [queue, c, ground] = rig;
    const auto out = c.addNet("out");
    const auto anode = c.addNet("anode");
    const auto pin = c.addPin(out, "pin");
    c.addResistor(out, anode, {330}, "r");
    c.addCapacitor(anode, ground, {1e-7}, {0.02}, {1e12}, "c");
    c.addDiode(anode, ground, kLed, "led");
    c.seal(nullptr);
    bool high = false;
    for (auto _ : state)
        for (int i = 0; i < 2; ++i) {
            c.drive(pin, {(high = !high) ? 5.0 : 0.0, 25}, {});
            queue.advanceTo(queue.now() + std::chrono::microseconds(500));
        }
}
BENCHMARK(steppedPeriod)->Unit(benchmark::kMicrosecond);

// Two filters that are driven against each other, and somebody who waits for their voltages to cross: what one crossing costs, found and told.
void crossingOfTwoFilters(benchmark::State& state)
{
    struct Nobody : circuit::VoltageListener {
        void voltageChanged(circuit::PinId, double, circuit::Time) override {}
    } listener;
    Rig rig;
    auto& [queue, c, ground] = rig;
    std::array<circuit::PinId, 2> pins{}, eyes{};
    for (std::size_t i = 0; i < 2; ++i) {
        const auto out = c.addNet("out");
        const auto cap = c.addNet("cap");
        pins[i] = c.addPin(out, "pin");
        eyes[i] = c.addPin(cap, "eye");
        c.addResistor(out, cap, {10'000}, "r");
        c.addCapacitor(cap, ground, {1e-8}, {0.02}, {1e12}, "c");
    }
    c.seal(nullptr);
    c.watchVoltage(eyes[0], &listener, {.against = eyes[1]});
    c.watchVoltage(eyes[1], &listener, {.against = eyes[0]});
    bool high = false;
    for (auto _ : state) {
        high = !high;
        c.drive(pins[0], {high ? 5.0 : 0.0, 25}, {});
        c.drive(pins[1], {high ? 0.0 : 5.0, 25}, {});
        queue.advanceTo(queue.now() + std::chrono::milliseconds(1));
    }
}
BENCHMARK(crossingOfTwoFilters)->Unit(benchmark::kMicrosecond);

// A sine of 1 MHz through a filter: a microsecond of steps.
void steppedSine(benchmark::State& state)
{
    struct Sine : circuit::Waveform {
        [[nodiscard]] double at(circuit::Time t) const override { return std::sin(6.283185307179586e6 * kernel::seconds(t.time_since_epoch())); }
        [[nodiscard]] circuit::Time nextCorner(circuit::Time) const override { return kernel::kNever; }
        [[nodiscard]] kernel::Duration step() const override { return std::chrono::nanoseconds(10); }
    } wave;
    Rig rig;
    auto& [queue, c, ground] = rig;
    const auto out = c.addNet("out");
    const auto cap = c.addNet("cap");
    const auto source = c.addSource(out, ground, {0}, {50}, "s", true);
    c.addResistor(out, cap, {100}, "r");
    c.addCapacitor(cap, ground, {1e-9}, {0.02}, {1e12}, "c");
    c.seal(nullptr);
    c.setWave(source, &wave, {});
    for (auto _ : state)
        queue.advanceTo(queue.now() + std::chrono::microseconds(1));
}
BENCHMARK(steppedSine)->Unit(benchmark::kMicrosecond);

}  // namespace

BENCHMARK_MAIN();
