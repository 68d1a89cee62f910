// Stopping, stepping and going back: what a person who debugs firmware does with a session.
//
// A stop is written in words, in the bench file and in the window alike:
//
//   lock.c:41            before the code of a line            0x01e8               before the instruction at a byte address
//   show_lamps           when a function begins               interrupt TIMER1_COMPA   when it is entered; "interrupt any"
//   write gates[0].cm    after an instruction wrote it        read PIND            after one read it
//   access 0x0104:2      after one read or wrote any of these bytes
//   change ticks         after its value changed              change ticks to 5    when it becomes that
//   change next->cm      where a pointer or an index leads elsewhere, the stop goes there too; also change ticks % 100 to 0
//   change r24           core registers, too, by their names: r0 to r31, X, Y, Z, sreg, sp
//   change sum in mean   a local, in registers or in memory, wherever that function runs; without "in": of the function that runs now
//   rise mcu.PB3         on an edge; fall, edge               high mcu.PB3 for 5ms after so long at a level; low
//   serial "ready"       when a UART has sent that text       serial mcu.uart1 "ready"
//   time 20ms            at that instant of the run           finding outputs-fight    when that is noticed; "finding" for any
//   A -> B               never stops: measures the cycles from A to B, each any of these (a line, an interrupt, an edge)
//   reset                at each reset of the chip            stack 0x0800         when the stack grows below that address
//
// A step is a motion with a goal: temporary breakpoints where it may end and a test of whether it does, so that stepping over a second of delay costs
// what running it costs. Going back finds the moment wanted in the past and puts the session there; forward again it is the same run, bit for bit.
// Tested by tests/session/debugger/debugger_test.cpp.
#pragma once

#include <functional>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "bench/document.h"
#include "debug/expression.h"
#include "session/session.h"

namespace bramix::session {

// A stopped chip's memory.
class ChipTarget final : public debug::Target {
public:
    explicit ChipTarget(const bench::World::ChipUnit& unit) : unit_(unit) {}
    [[nodiscard]] std::uint8_t data(std::uint32_t address) const override { return unit_.chip->readData(address); }
    [[nodiscard]] std::uint8_t flash(std::uint32_t address) const override
    {
        const chip::CodeView code = unit_.chip->code();
        const std::size_t at = std::size_t{address - code.begin} * code.unitBytes;
        return address < code.begin || at >= code.bytes.size() ? std::uint8_t{0xFF} : code.bytes[at];
    }
    [[nodiscard]] std::uint8_t eeprom(std::uint32_t address) const override { return address < unit_.chip->nonVolatile().size() ? unit_.chip->nonVolatile()[address] : std::uint8_t{0xFF}; }
    [[nodiscard]] const chip::Device& device() const override { return *unit_.device; }
    [[nodiscard]] const chip::RegisterMap& registers() const override { return unit_.registers(); }
    [[nodiscard]] std::uint64_t coreRegister(std::size_t index) const override { return unit_.chip->readRegister(index); }

private:
    const bench::World::ChipUnit& unit_;
};

// A stop as it stands: what became of its words.
struct StopState {
    bench::StopItem item;
    std::string problem;                    // why it cannot work, or empty
    std::vector<std::uint32_t> addresses;   // of a stop in the code
    std::string file;                       // and its line there
    int line = 0;
    std::int64_t hits = 0;
    // Of a measurement, in cycles of the chip.
    bool measures = false;
    std::int64_t least = 0, most = 0, sum = 0;
    std::optional<std::int64_t> open;  // it has begun there
};

// Why the bench stands.
struct StopReport {
    std::size_t chip = 0;
    std::string text;          // one line for the person; empty after a step
    std::size_t stop = SIZE_MAX;  // which of the stops
};

enum class Step : std::uint8_t { instruction, instructionOver, line, over, out };

class Debugger final : public SessionListener {
public:
    explicit Debugger(Session& session);
    ~Debugger() override;
    Debugger(const Debugger&) = delete;
    Debugger& operator=(const Debugger&) = delete;

    // The chip that steps are about; the first at the beginning.
    void choose(std::size_t chip) { chip_ = chip < session_.world().chips().size() ? chip : 0; }
    [[nodiscard]] std::size_t chosen() const { return chip_; }

    // Replaces all stops; hits of those that stay are kept. What is wrong with one stands in its problem.
    void setStops(const std::vector<bench::StopItem>& items);
    [[nodiscard]] const std::vector<StopState>& stops() const { return stops_; }
    // Steps of lines enter interrupt handlers too.
    void enterInterrupts(bool enter) { enterInterrupts_ = enter; }
    [[nodiscard]] bool entersInterrupts() const { return enterInterrupts_; }

    // Begins to run freely; a breakpoint at the present place is passed.
    void begin();
    // Begins a step. The error says why there is none.
    [[nodiscard]] kernel::Result<void> begin(Step step);
    // Begins to run until a stop that is only meant this once.
    [[nodiscard]] kernel::Result<void> begin(const bench::StopItem& once);
    // Carries on with what was begun, to `goal` at most. True when it has ended; then report() says why.
    [[nodiscard]] bool advance(Time goal);
    [[nodiscard]] const StopReport& report() const { return report_; }

    // Going back. Each puts the session where it says, or leaves it where it is and says why.
    [[nodiscard]] kernel::Result<void> back(Step step);
    // To the last time one of the stops would have stopped.
    [[nodiscard]] kernel::Result<void> backToStop();
    // To just before the instruction that last changed the value of an expression (a variable, an I/O or core register), or a pin ("mcu.PB3").
    [[nodiscard]] kernel::Result<void> backToChange(const std::string& what);
    [[nodiscard]] kernel::Result<void> goTo(Time t);

    // Looking, at the chosen chip.
    [[nodiscard]] std::vector<debug::Frame> frames() const;
    [[nodiscard]] kernel::Result<debug::Value> evaluate(const std::string& expression, std::size_t frame = 0);
    // The same as a number; nothing where it is none.
    [[nodiscard]] std::optional<double> number(const std::string& expression);
    // Stores what an expression or register is to be. The past before it cannot be gone back into.
    [[nodiscard]] kernel::Result<void> assign(const std::string& expression, const std::string& value, std::size_t frame = 0);
    void write(const std::vector<debug::ByteWrite>& writes);

    // Lines that stops with a message have said since the last call.
    // The same with their instants, for the tape.
    [[nodiscard]] std::vector<std::pair<Time, std::string>> takeMarks() { return std::exchange(marks_, {}); }
    [[nodiscard]] std::vector<std::string> takeLog() { return std::exchange(log_, {}); }

private:
    struct Rule;
    struct Scope;
    // A step in progress.
    struct Motion {
        enum class Kind : std::uint8_t { none, run, step } kind = Kind::none;
        Step step = Step::line;
        std::set<std::uint32_t> ends;   // code addresses where it may end
        int function = -1;              // in which it began
        std::uint32_t cfa = 0;
        std::uint32_t returnsTo = UINT32_MAX;
        bool inInterrupt = false;
        bool wholeInstruction = false;  // one instruction, no more
        bool overLine = false;
    };

    void notice(const Rule& rule, std::string why);
    [[nodiscard]] bool wantsEdges() const override { return edgesWatched_ && motion_.kind != Motion::Kind::none; }
    void edgeSeen(bench::NetId net, bench::NetState state, Time at) override;
    void byteSeen(const SerialByte& byte) override;
    void findingSeen(const Finding& finding) override;
    void worldChanged() override
    {
        dirty_ = true;
        choose(chip_);
    }

    [[nodiscard]] kernel::Result<Rule> parse(const bench::StopItem& item);
    [[nodiscard]] kernel::Result<void> parseInto(Rule& rule, const std::string& text);
    void readStops();
    void readMeasurement(StopState& stop, std::size_t index);
    void arm();
    void disarm();
    [[nodiscard]] chip::Mcu& chip(std::size_t index) { return *session_.world().chips()[index].chip; }
    [[nodiscard]] Program& program(std::size_t index) const { return session_.program(session_.world().chips()[index].id); }
    [[nodiscard]] bool decide(std::size_t chip, const chip::StopInfo& stop);
    [[nodiscard]] bool fires(Rule& rule, std::size_t chip, const std::string& text);
    [[nodiscard]] bool endsStep(std::uint32_t address);
    [[nodiscard]] std::string say(const std::string& text, std::size_t chip);
    [[nodiscard]] debug::Frame innermost(std::size_t chip) const;
    [[nodiscard]] kernel::Result<void> beginLine(bool over);
    [[nodiscard]] bool beginsLine(Rule& rule, std::uint32_t address);
    void finishStore(std::size_t chip, const chip::Watchpoint& watch);
    [[nodiscard]] bool isHandler(const std::string& function) const;
    // Stops on what stands in registers (debugger_registers.cpp).
    [[nodiscard]] kernel::Result<bool> parseRegisters(Rule& rule, std::string_view word);
    void placeRegisters(Rule& rule);
    [[nodiscard]] Result<void> follow(Rule& rule);
    void watchFollowed(Rule& rule);
    bool followAgain();
    bool followed(Rule& rule, const chip::StopInfo& stop, const std::string& where);
    [[nodiscard]] std::optional<debug::Value> local(const Rule& rule) const;
    [[nodiscard]] std::optional<std::vector<std::uint8_t>> valueOf(const Rule& rule);
    [[nodiscard]] bool changed(Rule& rule, std::uint32_t pc);
    [[nodiscard]] bool touched(Rule& rule, std::uint32_t pc, bool read, bool written);
    [[nodiscard]] bool localsChanged(std::size_t chip);
    [[nodiscard]] bool runTouching(std::size_t chip);
    [[nodiscard]] std::optional<Time> lastChange(Rule& rule, Time until);
    void refresh();
    void end();

    // How far out of calls a place lies, greater is further: by the stack pointer where calls move it, else by the calls and returns that were seen.
    using Level = std::int64_t;
    struct Boundary {
        Time at{};
        std::uint32_t pc = 0;
        Level level = 0;
    };
    struct Boundaries {
        std::vector<Boundary> list;
        Level end = 0;  // of the instant up to which they reach
    };
    [[nodiscard]] std::optional<Boundaries> boundaries(Time from, Time to);
    [[nodiscard]] std::optional<Time> overInstruction(bool over);
    template <class Test>
    [[nodiscard]] std::optional<Time> lastBoundary(Time before, Test&& test);
    // What the chip is to stop at on the way back.
    struct Marks {
        std::set<std::uint32_t> addresses{};  // of code
        std::vector<chip::Watchpoint> watches{};
        chip::ExceptionSet exceptions{};
    };
    [[nodiscard]] std::optional<Time> lastHit(Time before, const Marks& marks, const std::function<bool(const chip::StopInfo&)>& look);
    [[nodiscard]] kernel::Result<void> settleAt(std::optional<Time> t, const std::string& what);

    Session& session_;
    std::size_t chip_ = 0;
    std::vector<StopState> stops_;
    std::vector<Rule> rules_;          // the stops that work, and the one that is only meant once
    Motion motion_;
    StopReport report_;
    bool fresh_ = false;  // just begun: the instruction at which the chip stands has passed its breakpoints
    bool dirty_ = true;   // the words of the stops are to be read again
    bool enterInterrupts_ = false;
    bool edgesWatched_ = false;
    std::vector<std::pair<std::size_t, std::string>> pending_;  // stops noticed in the middle of a run, each with why; several may come in one instant
    std::vector<std::string> lines_;   // what each UART has sent lately
    std::vector<std::string> log_;
    std::vector<std::pair<Time, std::string>> marks_;
};

}  // namespace bramix::session
