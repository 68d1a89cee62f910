// Motions: running, stepping, and going back.
#include "session/debugger/debugger.h"
#include "debug/function_map.h"
#include "session/debugger/local_value.h"

#include <algorithm>
#include <cstdlib>

#include <fmt/format.h>

#include "kernel/units.h"
#include "session/debugger/debugger_rules.h"

namespace bramix::session {

using debug::Frame;
using debug::LineRow;
using debug::Symbols;
using kernel::fail;
using kernel::Result;

namespace {

// The way back is looked for instruction by instruction in windows that grow, in cycles, until one would hold so many instructions; beyond, by
// breakpoints. A chip that sleeps has few, however long the window.
constexpr std::int64_t kFirstWindow = 1024, kWindowGrowth = 16;
constexpr std::size_t kMostBoundaries = 100'000;

// How deep in calls a chip is, followed from one instruction to the next.
class CallDepth {
public:
    explicit CallDepth(const chip::Mcu& core) : core_(core), byStack_(core.device().returnBytes != 0) { stand(); }

    [[nodiscard]] std::int64_t level() const { return byStack_ ? static_cast<std::int64_t>(core_.stackPointer()) : -depth_; }
    // One more instruction has run, or an exception has been entered.
    void look()
    {
        if (byStack_)
            return;
        if (core_.instructions() == instructions_)
            depth_ += core_.codeAddress() != pc_ ? 1 : 0;
        else
            depth_ += next_.isCall() ? 1 : next_.isReturn() ? -1 : 0;
        stand();
    }

private:
    void stand()
    {
        if (byStack_)
            return;
        instructions_ = core_.instructions();
        pc_ = core_.codeAddress();
        next_ = core_.instructionAt(pc_);
    }

    const chip::Mcu& core_;
    bool byStack_;
    std::int64_t depth_ = 0, instructions_ = 0;
    std::uint32_t pc_ = 0;
    chip::InstructionInfo next_{};
};

bool sameLine(const LineRow* a, const LineRow* b) { return a != nullptr && b != nullptr && a->file == b->file && a->line == b->line; }

}  // namespace

Debugger::Debugger(Session& session) : session_(session) { session_.setListener(this); }

Debugger::~Debugger()
{
    session_.setListener(nullptr);
    disarm();
}

bool Debugger::isHandler(const std::string& function) const { return !debug::handledBy(*session_.world().chips()[chip_].device, function).empty(); }

std::vector<Frame> Debugger::frames() const
{
    const auto& chips = session_.world().chips();
    if (chip_ >= chips.size())
        return {};
    const ChipTarget target(chips[chip_]);
    Program& known = program(chip_);
    return known.frames.unwind(known.symbols, target, debug::registersOf(*chips[chip_].chip));
}

// The frame of the real function that runs, with the place of the stack where it began.
Frame Debugger::innermost(std::size_t index) const
{
    const auto& chips = session_.world().chips();
    const ChipTarget target(chips[index]);
    Program& known = program(index);
    for (const Frame& frame : known.frames.unwind(known.symbols, target, debug::registersOf(*chips[index].chip)))
        if (!frame.inlined)
            return frame;
    return {};
}

// Beginning.

// What stops compare with is what stands there now.
void Debugger::refresh()
{
    lines_.clear();
    pending_.clear();
    report_ = {};
    session_.world().resume(true);
    fresh_ = true;
    arm();
    if (followAgain())
        arm();
    for (Rule& rule : rules_) {
        if (rule.kind == Rule::Kind::registers && rule.onChange)
            if (auto now = valueOf(rule))
                rule.last = std::move(*now);
        if (rule.kind == Rule::Kind::access && rule.onChange && !rule.follower)
            for (std::size_t i = 0; i < rule.last.size(); ++i)
                rule.last[i] = chip(rule.chip).readData(rule.watches[0].address + i);
        if (rule.kind == Rule::Kind::time)
            rule.done = rule.at <= session_.world().now();
        if (rule.kind == Rule::Kind::trigger) {
            rule.nets.clear();
            std::vector<bench::NetState> states;
            for (const bench::PinRef& ref : rule.trigger->pins())
                if (const auto pin = session_.world().pin(ref)) {
                    rule.nets.push_back(session_.world().circuit().netOf(*pin));
                    states.push_back(session_.world().circuit().stateOf(rule.nets.back()));
                }
            if (states.size() == rule.trigger->pins().size())
                rule.trigger->begin(states, session_.world().now());
            else
                rule.nets.clear();  // a pin has gone from the bench
        }
        if (rule.kind == Rule::Kind::level) {
            const auto pin = session_.world().pin(rule.pin);
            const bool there = pin && session_.world().circuit().stateOf(session_.world().circuit().netOf(*pin)) == (rule.level ? bench::NetState::high : bench::NetState::low);
            rule.since = there ? std::optional(session_.world().now()) : std::nullopt;
            rule.done = false;
        }
    }
}

void Debugger::begin()
{
    motion_ = {};
    motion_.kind = Motion::Kind::run;
    refresh();
}

Result<void> Debugger::begin(const bench::StopItem& once)
{
    auto rule = parse(once);
    if (!rule)
        return tl::unexpected(rule.error());
    rules_.push_back(std::move(*rule));
    begin();
    return {};
}

Result<void> Debugger::begin(Step step)
{
    auto& chips = session_.world().chips();
    if (chip_ >= chips.size() || chips[chip_].firmwareFile.empty()) {
        // Nothing that has instructions: a step is a microsecond of the bench.
        motion_ = {};
        motion_.kind = Motion::Kind::step;
        motion_.wholeInstruction = true;
        refresh();
        return {};
    }
    motion_ = {};
    motion_.kind = Motion::Kind::step;
    motion_.step = step;
    const std::vector<Frame> stack = frames();
    const chip::Mcu& core = chip(chip_);
    switch (step) {
    case Step::instruction: motion_.wholeInstruction = true; break;
    case Step::instructionOver: {
        const chip::InstructionInfo i = core.instructionAt(core.codeAddress());
        motion_.wholeInstruction = !i.isCall();
        motion_.returnsTo = core.codeAddress() + i.size;
        motion_.cfa = static_cast<std::uint32_t>(core.stackPointer());
        if (i.isCall())
            motion_.ends.insert(motion_.returnsTo);
        break;
    }
    case Step::out: {
        const auto outer = std::find_if(stack.begin(), stack.end(), [](const Frame& f) { return !f.inlined; });
        if (outer == stack.end() || std::next(outer) == stack.end()) {
            motion_ = {};
            return fail(stack.empty() || stack.front().place.function.empty() ? "step out" : stack.front().place.function, "has no caller that is known: it is the outermost function");
        }
        motion_.returnsTo = std::next(outer)->registers.pc;
        motion_.cfa = outer->cfa;
        motion_.ends.insert(motion_.returnsTo);
        break;
    }
    case Step::line:
    case Step::over:
        if (auto ok = beginLine(step == Step::over); !ok)
            return ok;
        break;
    }
    refresh();
    return {};
}

// A step by a line may end where another line begins, in this function or where it returns to; and, going into calls, behind the prologue of any
// other function whose source is known.
Result<void> Debugger::beginLine(bool over)
{
    const Symbols& symbols = program(chip_).symbols;
    const std::vector<Frame> stack = frames();
    const auto outer = std::find_if(stack.begin(), stack.end(), [](const Frame& f) { return !f.inlined; });
    const std::uint32_t pc = chip(chip_).codeAddress();
    const LineRow* here = symbols.row(pc);
    if (here == nullptr || outer == stack.end() || outer->function < 0) {
        // No line to step by.
        return begin(over ? Step::instructionOver : Step::instruction);
    }
    motion_.function = outer->function;
    motion_.cfa = outer->cfa;
    motion_.overLine = over;
    motion_.inInterrupt = std::any_of(stack.begin(), stack.end(), [](const Frame& f) { return !f.interrupt.empty(); });
    std::set<int> visible;  // this function, and those into which it is inlined
    for (int f = symbols.functionAt(pc); f >= 0; f = symbols.functions()[static_cast<std::size_t>(f)].caller)
        visible.insert(f);
    const debug::Function& function = symbols.functions()[static_cast<std::size_t>(outer->function)];
    std::uint32_t again = UINT32_MAX;
    for (const LineRow& row : symbols.rows()) {
        if (row.file == Symbols::kEnd || !row.statement || !function.has(row.address) || symbols.row(row.address) != &row)
            continue;
        if (over && !visible.contains(symbols.functionAt(row.address)))
            continue;
        if (sameLine(&row, here))
            again = std::min(again, row.address);  // the same line once more, as in a loop of one line
        else
            motion_.ends.insert(row.address);
    }
    if (again != UINT32_MAX && again != pc)
        motion_.ends.insert(again);
    if (std::next(outer) != stack.end()) {
        motion_.returnsTo = std::next(outer)->registers.pc;
        motion_.ends.insert(motion_.returnsTo);
    }
    if (!over || enterInterrupts_)
        for (std::size_t f = 0; f < symbols.functions().size(); ++f) {
            const debug::Function& other = symbols.functions()[f];
            if (other.caller >= 0 || symbols.row(other.begin()) == nullptr || (isHandler(other.name) ? !enterInterrupts_ : over))
                continue;
            motion_.ends.insert(symbols.afterPrologue(static_cast<int>(f)));
        }
    return {};
}

// Whether a step may end at an address that it has come to.
bool Debugger::endsStep(std::uint32_t address)
{
    if (!motion_.ends.contains(address))
        return false;
    if (address == motion_.returnsTo && chip(chip_).stackPointer() >= motion_.cfa)
        return true;
    if (motion_.function < 0)
        return false;
    const Symbols& symbols = program(chip_).symbols;
    const int function = symbols.outerFunctionAt(address);
    const Frame frame = innermost(chip_);
    if (function == motion_.function && frame.cfa == motion_.cfa)
        return true;
    if (frame.cfa > motion_.cfa)
        return true;  // further out than it began: it was left by another way
    if (address == motion_.returnsTo && function != motion_.function)
        return false;
    // Deeper: a call, or an interrupt.
    if (function < 0 || address != symbols.afterPrologue(function))
        return false;
    const std::vector<Frame> stack = frames();
    const bool handled = std::any_of(stack.begin(), stack.end(), [](const Frame& f) { return !f.interrupt.empty(); });
    if (handled && !motion_.inInterrupt)
        return enterInterrupts_;
    return !motion_.overLine;
}

void Debugger::end()
{
    motion_ = {};
    std::erase_if(rules_, [](const Rule& r) { return r.index == SIZE_MAX; });
}

// Running.

namespace {

// Whoever ends the program waits for nothing: see SessionOptions::interrupt.
bool interrupted(const Session& session) { return session.options().interrupt != nullptr && session.options().interrupt->load(std::memory_order_relaxed); }

}  // namespace

bool Debugger::advance(Time goal)
{
    bench::World& world = session_.world();
    if (motion_.kind == Motion::Kind::none)
        return true;
    const auto faulted = [&] {
        if (!world.faulted())
            return false;
        for (std::size_t i = 0; i < world.chips().size(); ++i)
            if (world.chips()[i].chip->faulted())
                report_ = {i, session_.faultText(), SIZE_MAX};
        end();
        return true;
    };
    if (motion_.wholeInstruction) {
        if (world.chips().empty()) {
            session_.advance(world.now() + std::chrono::microseconds(1));
            end();
            return true;
        }
        const chip::Mcu& core = chip(chip_);
        const std::int64_t count = core.instructions();
        const std::uint32_t pc = core.codeAddress();
        // Asleep, the next instruction lies beyond the next interrupt.
        do
            session_.advanceInstruction(chip_);
        while (core.isSleeping() && core.instructions() == count && core.codeAddress() == pc && world.now() < goal && !world.faulted() && !interrupted(session_));
        world.resume(true);
        if (faulted())
            return true;
        if (core.instructions() == count && core.codeAddress() == pc && core.isSleeping())
            return false;
        end();
        return true;
    }
    arm();
    if (std::exchange(fresh_, false))
        for (std::size_t i = 0; i < world.chips().size(); ++i)
            if (!chip(i).exceptionPending() && !chip(i).isSleeping() && runTouching(i)) {
                end();
                return true;
            }
    for (;;) {
        if (interrupted(session_))
            return false;
        Time limit = goal;
        for (const Rule& rule : rules_) {
            if (rule.kind == Rule::Kind::time && !rule.done)
                limit = std::min(limit, rule.at);
            if (rule.kind == Rule::Kind::level && !rule.done && rule.since)
                limit = std::min(limit, std::max(*rule.since + rule.length, world.now()));
        }
        if (!world.debugStop())
            session_.advance(limit);
        if (faulted())
            return true;
        // What one stop makes run on may bring about the next.
        if (const auto stopped = world.debugStop()) {
            const chip::StopInfo stop = chip(*stopped).stopInfo();
            chip(*stopped).resume(stop.kind == chip::StopInfo::Kind::breakpoint);
            if (decide(*stopped, stop)) {
                end();
                return true;
            }
        }
        for (const auto& [stop, text] : std::exchange(pending_, {})) {
            if (stop < rules_.size() && fires(rules_[stop], rules_[stop].chip, text)) {
                end();
                return true;
            }
        }
        for (Rule& rule : rules_) {
            const bool due = rule.kind == Rule::Kind::time ? rule.at <= world.now() : rule.kind == Rule::Kind::level && rule.since && *rule.since + rule.length <= world.now();
            if (rule.done || !due)
                continue;
            rule.done = true;
            const std::string text = rule.kind == Rule::Kind::time ? fmt::format("{} have passed", kernel::formatQuantity(kernel::seconds(rule.at), kernel::Unit::second, 9))
                                                                   : fmt::format("{} has been {}{}", rule.pin.text(), rule.level ? "high" : "low",
                                                                                 rule.length.count() == 0 ? "" : fmt::format(" for {}", kernel::formatQuantity(kernel::seconds(rule.length), kernel::Unit::second)));
            if (fires(rule, rule.chip, text)) {
                end();
                return true;
            }
        }
        if (world.now() >= goal)
            return false;
    }
}

// Going back.

// Every place of the chosen chip from `from` on, and before `to`, at which a forward step by instructions would stand. Nothing where there are too many.
std::optional<Debugger::Boundaries> Debugger::boundaries(Time from, Time to)
{
    Boundaries out;
    if (!session_.travel(from))
        return std::nullopt;
    const chip::Mcu& c = chip(chip_);
    // Whoever looks here will come back to what is found, and look a little further back next.
    const Remembered* near = session_.history().before(from);
    if (near == nullptr || from - near->moment->at > c.clock().span(kFirstWindow * kWindowGrowth))
        session_.remember();
    const Session::Replay replay(session_);
    std::int64_t instructions = -1;
    std::uint32_t pc = UINT32_MAX;
    bool first = true;
    CallDepth depth(c);
    for (std::size_t steps = 0; c.now() < to && !session_.world().faulted(); ++steps) {
        if (steps > kMostBoundaries)
            return std::nullopt;
        // The middle of a sleep is no place of its own.
        if (c.instructions() != instructions || c.codeAddress() != pc) {
            if (!first || !c.isSleeping())
                out.list.push_back({c.now(), c.codeAddress(), depth.level()});
            instructions = c.instructions();
            pc = c.codeAddress();
        }
        first = false;
        session_.advanceInstruction(chip_);
        depth.look();
    }
    session_.world().resume(true);
    out.end = depth.level();
    return out;
}

// The last boundary before an instant of which test(boundaries, index) says yes. The session stands somewhere afterwards.
template <class Test>
std::optional<Time> Debugger::lastBoundary(Time before, Test&& test)
{
    const Time earliest = session_.earliest();
    for (std::int64_t window = kFirstWindow;; window *= kWindowGrowth) {
        const Duration span = chip(chip_).clock().span(window);
        const Time from = before - earliest > span ? before - span : earliest;
        const auto found = boundaries(from, before);
        for (std::size_t i = found ? found->list.size() : 0; i-- > 0;)
            if (test(*found, i))
                return found->list[i].at;
        if (!found || from == earliest)
            return std::nullopt;
    }
}

// The last instant before `before` at which the chosen chip would have stopped there and look(stop) says yes.
std::optional<Time> Debugger::lastHit(Time before, const Marks& marks, const std::function<bool(const chip::StopInfo&)>& look)
{
    Time end = before;
    const Time earliest = session_.earliest();
    while (end > earliest) {
        const Remembered* r = session_.history().before(end - Duration(1));
        const Time from = r == nullptr ? earliest : r->moment->at;
        if (!session_.travel(from))
            return std::nullopt;
        bench::World& world = session_.world();
        chip::Mcu& c = chip(chip_);
        c.setBreakpoints(std::vector<std::uint32_t>(marks.addresses.begin(), marks.addresses.end()));
        c.setWatchpoints(marks.watches);
        c.stopAtExceptions(marks.exceptions);
        std::optional<Time> last;
        {
            const Session::Replay replay(session_);
            while (world.now() < end && !world.faulted() && !interrupted(session_)) {
                if (!world.debugStop())
                    session_.advance(end);
                if (!world.debugStop())
                    continue;
                const chip::StopInfo stop = c.stopInfo();
                world.resume(false);
                if (c.now() < before && look(stop))
                    last = c.now();
            }
        }
        disarm();
        if (last)
            return last;
        end = from;
    }
    return std::nullopt;
}

Result<void> Debugger::settleAt(std::optional<Time> t, const std::string& what)
{
    if (!t)
        return fail(what, "nothing before this is remembered");
    motion_ = {};
    report_ = {};
    for (Rule& rule : rules_)
        rule.passed.clear();
    return session_.goTo(*t);
}

Result<void> Debugger::goTo(Time t)
{
    disarm();
    return settleAt(t, "time");
}

// The instruction before this one; `over`: not one that a call has run meanwhile.
std::optional<Time> Debugger::overInstruction(bool over)
{
    const chip::Mcu& c = chip(chip_);
    const Time now = c.now();
    const auto sp = static_cast<std::uint32_t>(c.stackPointer());
    const std::uint32_t pc = c.codeAddress();
    if (const auto found = lastBoundary(now, [&](const Boundaries& b, std::size_t i) { return !over || b.list[i].level >= b.end; }); found || !over)
        return found;
    // A call that took long: it stands right before.
    Marks marks;
    for (std::uint32_t size = c.device().codeStep; size <= c.device().longestInstruction; size += c.device().codeStep)
        marks.addresses.insert(pc - size);
    return lastHit(now, marks, [&](const chip::StopInfo&) { return c.stackPointer() == sp; });
}

Result<void> Debugger::back(Step step)
{
    if (chip_ >= session_.world().chips().size())
        return fail("step back", "wants a chip, and there is none on this bench");
    disarm();
    session_.world().resume(true);
    end();
    const Symbols& symbols = program(chip_).symbols;
    const chip::Mcu& c = chip(chip_);
    const Time now = c.now();
    const Time stood = session_.world().now();
    const std::uint32_t pc = c.codeAddress();
    const auto sp = static_cast<std::uint32_t>(c.stackPointer());
    const std::vector<Frame> stack = frames();
    std::optional<Time> found;
    const auto outer = std::find_if(stack.begin(), stack.end(), [](const Frame& f) { return !f.inlined; });
    const bool lines = symbols.row(pc) != nullptr && outer != stack.end() && outer->function >= 0;
    if (step == Step::out) {
        // To the call: the last instruction of the caller, whose stack pointer stands above this frame.
        if (outer == stack.end() || std::next(outer) == stack.end())
            return fail("back to the caller", "it has no caller that is known: it is the outermost function");
        const std::uint32_t cfa = outer->cfa;
        const auto isCaller = [&](const Boundaries& b, std::size_t i) { return c.device().returnBytes != 0 ? b.list[i].level >= Level{cfa} : b.list[i].level > b.end; };
        found = lastBoundary(now, isCaller);
        if (!found) {
            // Long ago: the function's beginning is found by a breakpoint, and the call lies just before.
            const std::uint32_t entry = symbols.functions()[static_cast<std::size_t>(outer->function)].begin();
            if (const auto begun = lastHit(now, {.addresses = {entry}}, [&](const chip::StopInfo&) { return c.stackPointer() == cfa - c.device().returnBytes; }))
                found = lastBoundary(*begun, [&](const Boundaries& b, std::size_t i) { return c.device().returnBytes != 0 ? b.list[i].level >= Level{cfa} : b.list[i].level >= b.end; });
        }
    } else if (step == Step::instruction || !lines) {
        const bool over = step == Step::instructionOver || step == Step::over;
        found = overInstruction(over);
    } else if (step == Step::instructionOver) {
        found = overInstruction(true);
    } else {
        const bool over = step == Step::over;
        const int function = outer->function;
        const bool handler = isHandler(stack.back().place.function) || std::any_of(stack.begin(), stack.end(), [](const Frame& f) { return !f.interrupt.empty(); });
        std::set<int> visible;
        for (int f = symbols.functionAt(pc); f >= 0; f = symbols.functions()[static_cast<std::size_t>(f)].caller)
            visible.insert(f);
        const auto allowed = [&](std::uint32_t at, Level level, Level end) {
            const int f = symbols.outerFunctionAt(at);
            if (f < 0 || symbols.row(at) == nullptr || (over && f == function && !visible.contains(symbols.functionAt(at))))
                return false;
            if (!handler && !enterInterrupts_ && isHandler(symbols.functions()[static_cast<std::size_t>(f)].name))
                return false;
            return !over || (f == function && level >= end) || level > end;
        };
        found = lastBoundary(now, [&](const Boundaries& all, std::size_t i) {
            const Boundary& b = all.list[i];
            if (!symbols.isLineStart(b.pc) || !allowed(b.pc, b.level, all.end))
                return false;
            if (i == 0)
                return b.at == session_.earliest();
            const Boundary& before = all.list[i - 1];
            return !sameLine(symbols.row(before.pc), symbols.row(b.pc)) || symbols.outerFunctionAt(before.pc) != symbols.outerFunctionAt(b.pc) || b.pc <= before.pc;
        });
        if (!found) {
            std::set<std::uint32_t> starts;
            for (const LineRow& row : symbols.rows())
                if (row.file != Symbols::kEnd && symbols.row(row.address) == &row && (!over || symbols.functions()[static_cast<std::size_t>(function)].has(row.address)) && !sameLine(&row, symbols.row(pc)))
                    starts.insert(row.address);
            found = lastHit(now, {.addresses = starts}, [&](const chip::StopInfo& stop) { return allowed(stop.code, static_cast<Level>(c.stackPointer()), Level{sp}); });
        }
    }
    if (!found) {
        (void)session_.travel(stood);
        return fail("back", "nothing before this is remembered");
    }
    return settleAt(found, "back");
}

Result<void> Debugger::backToStop()
{
    const Time stood = session_.world().now();
    session_.world().resume(true);
    disarm();
    end();
    (void)followAgain();
    std::set<std::uint32_t> addresses;
    std::vector<chip::Watchpoint> watches;
    for (const Rule& rule : rules_)
        if (rule.chip == chip_ && rule.kind != Rule::Kind::registers) {
            addresses.insert(rule.addresses.begin(), rule.addresses.end());
            watches.insert(watches.end(), rule.watches.begin(), rule.watches.end());
        }
    if (addresses.empty() && watches.empty())
        return fail("back", "there is no stop in the code of this chip to go back to");
    const auto found = lastHit(chip(chip_).now(), {.addresses = addresses, .watches = watches}, [&](const chip::StopInfo& stop) {
        for (Rule& rule : rules_) {
            if (rule.chip != chip_ || rule.item.when.empty())
                continue;
            if (std::find(rule.addresses.begin(), rule.addresses.end(), stop.code) == rule.addresses.end())
                continue;
            const auto value = evaluate("(" + rule.item.when + ") != 0");
            if (value && debug::unsignedOf(value->bytes) == 0)
                return false;
        }
        return stop.kind != chip::StopInfo::Kind::access || stop.before != stop.value || !stop.write;
    });
    if (!found) {
        (void)session_.travel(stood);
        return fail("back", "no stop was met before this, as far back as is remembered");
    }
    return settleAt(found, "back");
}

Result<void> Debugger::backToChange(const std::string& what)
{
    bench::World& world = session_.world();
    const Time stood = world.now();
    if (const auto ref = bench::parsePinRef(what); ref && world.pin(*ref)) {
        const tape::ChannelId channel = session_.channelOf(*ref);
        const tape::Tape& tape = session_.tape();
        std::size_t i = tape.after(channel, stood);
        // An edge of this very instant is what one has just come to.
        while (i > 0 && tape.edge(channel, i - 1).at >= stood)
            --i;
        if (i == 0 || tape.edge(channel, i - 1).at < session_.earliest())
            return fail(what, "has not changed before this, as far back as is remembered");
        const Time edge = tape.edge(channel, i - 1).at;
        disarm();
        end();
        if (chip_ < world.chips().size() && tape.edge(channel, i - 1).code != UINT32_MAX)
            if (const auto before = lastBoundary(edge, [](const Boundaries&, std::size_t) { return true; }))
                return settleAt(before, what);
        return settleAt(edge, what);
    }
    if (chip_ >= world.chips().size())
        return fail(what, "is no pin of this bench, and there is no chip");
    bench::StopItem item;
    item.at = "change " + what;
    auto rule = parse(item);
    if (!rule)
        return tl::unexpected(rule.error());
    rule->chip = chip_;
    world.resume(true);
    disarm();
    end();
    // The stop comes after the instruction; one that ends just now is the one that is looked for.
    const Time until = chip(chip_).now() + Duration(1);
    const auto lastWrite = [&](Time before) { return lastHit(before, {.watches = rule->watches}, [&](const chip::StopInfo& stop) { return stop.before != stop.value || stop.address < chip(chip_).device().peripheralEnd; }); };
    auto after = rule->kind == Rule::Kind::registers ? lastChange(*rule, until) : lastWrite(until);
    // Several bytes are stored one after the other: right before the first of them the value is whole.
    for (unsigned i = 1; after && rule->kind != Rule::Kind::registers && i < rule->watches.back().length; ++i) {
        const auto earlier = lastWrite(*after);
        if (!earlier || *after - *earlier > chip(chip_).clock().span(kHalfStoredCycles))
            break;
        after = earlier;
    }
    const auto found = after ? lastBoundary(*after, [](const Boundaries&, std::size_t) { return true; }) : std::nullopt;
    if (!found) {
        (void)session_.travel(stood);
        return fail(what, "has not changed before this, as far back as is remembered");
    }
    return settleAt(found, what);
}

// Looking.

std::optional<double> Debugger::number(const std::string& expression)
{
    if (chip_ >= session_.world().chips().size())
        return std::nullopt;
    Scope scope(*this, chip_, 0);
    const auto value = scope.evaluator.evaluate(expression);
    if (!value)
        return std::nullopt;
    return numberOf(scope.evaluator, *value);
}

Result<debug::Value> Debugger::evaluate(const std::string& expression, std::size_t frame)
{
    if (chip_ >= session_.world().chips().size())
        return fail(expression, "there is no chip on this bench");
    return Scope(*this, chip_, frame).evaluator.evaluate(expression);
}

Result<void> Debugger::assign(const std::string& expression, const std::string& value, std::size_t frame)
{
    if (chip_ >= session_.world().chips().size())
        return fail(expression, "there is no chip on this bench");
    Scope scope(*this, chip_, frame);
    const auto where = scope.evaluator.evaluate(expression);
    if (!where)
        return tl::unexpected(where.error());
    const auto writes = scope.evaluator.assign(*where, value);
    if (!writes)
        return tl::unexpected(writes.error());
    write(*writes);
    return {};
}

void Debugger::write(const std::vector<debug::ByteWrite>& writes)
{
    // A register of several bytes may take its high byte first.
    std::vector<debug::ByteWrite> order = writes;
    const chip::Device& device = chip(chip_).device();
    if (device.highByteFirst && !order.empty() && order[0].space == debug::Space::data && order[0].address >= device.peripheralBegin && order[0].address < device.peripheralEnd)
        std::reverse(order.begin(), order.end());
    for (const debug::ByteWrite& w : order) {
        if (!w.reg) {
            session_.poke(chip_, w.space, w.address, w.value);
            continue;
        }
        const unsigned shift = 8U * w.reg->byte;
        const std::uint64_t old = chip(chip_).readRegister(w.reg->index);
        session_.setRegister(chip_, w.reg->index, (old & ~(std::uint64_t{0xFF} << shift)) | (std::uint64_t{w.value} << shift));
    }
}

}  // namespace bramix::session
