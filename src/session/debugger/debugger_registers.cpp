// Stops on what stands in registers.
//
// A core register changes only at instructions that name it, which the code tells beforehand, and by what goes to its data address, where it has one; so the
// chip runs freely between. A local is looked at before every instruction of its function: where it stands there is told by the debug information.
#include <algorithm>
#include <cctype>

#include <fmt/format.h>

#include "session/debugger/debugger_rules.h"
#include "session/debugger/local_value.h"

namespace bramix::session {

using kernel::fail;
using kernel::Result;

// A rule that watches data memory: where that is a core register, instructions that name it count, too.
void Debugger::placeRegisters(Rule& rule)
{
    const chip::Mcu& core = chip(rule.chip);
    const chip::Device& device = core.device();
    if (!rule.watches.empty())
        for (std::uint64_t a = rule.watches[0].address; a < rule.watches[0].address + rule.watches[0].length; ++a)
            if (const auto index = device.registerAt(a))
                rule.registers.set(*index);
    if (rule.registers.none())
        return;
    rule.kind = Rule::Kind::registers;
    const chip::CodeView code = core.code();
    for (std::uint32_t at = code.begin; at < code.begin + code.bytes.size(); at += device.codeStep) {
        const chip::InstructionInfo i = core.instructionAt(at);
        if (((i.writes & rule.registers).any() && rule.writes) || ((i.reads & rule.registers).any() && rule.reads))
            rule.addresses.push_back(at);
    }
    // Entering an exception saves and clears flags and moves the stack pointer.
    bool byExceptions = false;
    for (const chip::CoreRole role : {chip::CoreRole::status, chip::CoreRole::stackPointer})
        if (const auto index = device.registerOf(role); index && rule.registers[*index])
            byExceptions = true;
    if (byExceptions && rule.writes)
        rule.exceptions = ~chip::ExceptionSet(1);
    if (const auto now = valueOf(rule))
        rule.last = *now;
}

// A rule about an expression that a pointer, an index or an operand decides: those are watched as well.
Result<void> Debugger::follow(Rule& rule)
{
    if (const std::string root = rootOf(rule.expression); debug::coreRegister(*session_.world().chips()[rule.chip].device, root) && program(rule.chip).symbols.global(root) < 0)
        return fail(rule.expression, fmt::format("is worked out from a register that many instructions change; expected {} itself, or variables", root));
    rule.follower.emplace(rule.expression);
    if (const auto ok = rule.follower->begin(program(rule.chip), {session_.world().chips()[rule.chip]}); !ok)
        return tl::unexpected(ok.error());
    watchFollowed(rule);
    return rule.watches.empty() ? fail(rule.expression, "stands nowhere that an instruction could write; expected a variable or a register") : Result<void>();
}

// Its value's own place is watched as the stop says; what decides where that is, for being written.
void Debugger::watchFollowed(Rule& rule)
{
    rule.watches.clear();
    const auto& parts = rule.follower->parts();
    for (std::size_t i = 0; i < parts.size(); ++i)
        if (const debug::Use& place = parts[i].place; place.space == debug::Space::data) {
            const bool own = rule.follower->place() && i + 1 == parts.size();
            rule.watches.push_back({place.address, place.length, own && rule.reads, !own || rule.writes});
        }
}

// From where the chips stand now. True where there is such a rule.
bool Debugger::followAgain()
{
    bool any = false;
    for (Rule& rule : rules_)
        if (rule.follower) {
            any = true;
            (void)follow(rule);  // its words are right
        }
    return any;
}

// A chip has reached one of the places of such a rule: whether that is what it waits for.
bool Debugger::followed(Rule& rule, const chip::StopInfo& stop, const std::string& where)
{
    const auto reaches = [&stop](std::uint64_t address, std::uint64_t length) { return stop.address >= address && stop.address < address + length; };
    const auto watch = std::find_if(rule.watches.begin(), rule.watches.end(), [&](const chip::Watchpoint& w) { return reaches(w.address, w.length) && (stop.write ? w.writes : w.reads); });
    if (watch == rule.watches.end())
        return false;
    const std::optional<debug::Use> place = rule.follower->place();
    const bool own = place && place->space == debug::Space::data && reaches(place->address, place->length) && (stop.write ? rule.writes : rule.reads);
    if (stop.write)
        finishStore(rule.chip, *watch);
    const ExpressionFollower::News news = rule.follower->look(program(rule.chip), {session_.world().chips()[rule.chip]});
    if (rule.follower->moved()) {
        watchFollowed(rule);
        arm();
    }
    if (!rule.onChange)
        return own && fires(rule, rule.chip, fmt::format("{} has {} {}", where, stop.write ? "written" : "read", rule.expression));
    if (news == ExpressionFollower::News::none)
        return false;
    if (!rule.becomes.empty()) {
        const auto is = Scope(*this, rule.chip).evaluator.isTrue("(" + rule.expression + ") == (" + rule.becomes + ")");
        if (!is || !*is)
            return false;
    }
    return fires(rule, rule.chip, fmt::format("{} has changed {}", where, rule.expression));
}

// True where the words of a stop mean a core register or a local; `word` is what is to happen to it.
Result<bool> Debugger::parseRegisters(Rule& rule, std::string_view word)
{
    const debug::Symbols& symbols = program(rule.chip).symbols;
    const chip::Mcu& c = chip(rule.chip);
    const int here = symbols.functionAt(c.codeAddress());
    if (auto name = splitLocal(rule.expression)) {
        if (auto ok = knowsLocal(symbols, *name); !ok)
            return tl::unexpected(ok.error());
        rule.expression = std::move(name->expression);
        rule.function = std::move(name->function);
    } else if (const std::string root = rootOf(rule.expression); here >= 0 && hasLocal(symbols, here, root)) {
        // A static one has its place whoever runs.
        const auto value = Scope(*this, rule.chip).evaluator.evaluate(rule.expression);
        if (value && value->inMemory && value->space == debug::Space::data && value->address <= c.stackPointer())
            return false;
        rule.function = symbols.functions()[static_cast<std::size_t>(here)].name;
    } else if (rule.expression == "pc" || rule.expression == "PC") {
        return fail("pc", fmt::format("is another with every instruction; expected what {} it, such as r24 or a variable", word == "read" ? "reads" : "changes"));
    } else if (const auto core = debug::coreRegister(c.device(), rule.expression); core && symbols.global(rule.expression) < 0) {
        std::uint64_t bytes = 0;
        for (std::size_t i = core->first; i < core->first + core->count; ++i)
            bytes += c.device().coreRegisters[i].bytes();
        if (const int address = c.device().coreRegisters[core->first].dataAddress; address >= 0) {
            rule.watches = {{static_cast<std::uint64_t>(address), bytes, rule.reads, rule.writes}};
        } else {
            rule.core = core;
            for (std::size_t i = core->first; i < core->first + core->count; ++i)
                rule.registers.set(i);
        }
        placeRegisters(rule);
        return true;
    } else {
        return false;
    }
    rule.kind = Rule::Kind::registers;
    for (const debug::Function& f : symbols.functions())
        if (f.name == rule.function)
            for (const debug::CodeRange& range : f.ranges)
                for (std::uint32_t a = range.begin; a < range.end; a += c.device().codeStep)
                    rule.addresses.push_back(a);
    std::sort(rule.addresses.begin(), rule.addresses.end());
    if (const auto now = valueOf(rule))
        rule.last = *now;
    return true;
}

// A local where the chip stands, if its function is the one that runs; functions that are inlined into one another run together.
std::optional<debug::Value> Debugger::local(const Rule& rule) const
{
    const auto& unit = session_.world().chips()[rule.chip];
    auto found = localAt(program(rule.chip), unit, {rule.expression, rule.function});
    return found ? std::optional(std::move(found->value)) : std::nullopt;
}

std::optional<std::vector<std::uint8_t>> Debugger::valueOf(const Rule& rule)
{
    if (!rule.function.empty()) {
        const auto value = local(rule);
        return value && !value->bytes.empty() ? std::optional(value->bytes) : std::nullopt;
    }
    std::vector<std::uint8_t> out;
    const chip::Mcu& core = chip(rule.chip);
    for (std::size_t i = rule.core ? rule.core->first : 0; rule.core && i < rule.core->first + rule.core->count; ++i)
        for (unsigned byte = 0; byte < core.device().coreRegisters[i].bytes(); ++byte)
            out.push_back(static_cast<std::uint8_t>(core.readRegister(i) >> (8 * byte)));
    for (std::uint64_t i = 0; !rule.core && i < rule.watches[0].length; ++i)
        out.push_back(core.readData(rule.watches[0].address + i));
    return out;
}

// Whether a stop on a change fires, now that the instruction at a code address has run.
bool Debugger::changed(Rule& rule, std::uint32_t pc)
{
    auto now = valueOf(rule);
    if (!now || *now == rule.last)
        return false;
    // A value of several bytes is changed by as many instructions.
    const chip::Mcu& core = chip(rule.chip);
    const auto place = rule.function.empty() ? std::nullopt : local(rule);
    chip::RegisterSet registers = rule.registers;
    for (const debug::Value::InRegister& r : place ? place->registers : std::vector<debug::Value::InRegister>())
        registers.set(r.index);
    if (place && place->inMemory && place->space == debug::Space::data)
        finishStore(rule.chip, {place->address, place->bytes.size(), false, true});
    for (std::size_t i = core.device().storeBytes; i < now->size(); i += core.device().storeBytes) {
        if ((core.instructionAt(core.codeAddress()).writes & registers).none() || core.exceptionPending())
            break;
        session_.advanceInstruction(rule.chip);
    }
    if (const auto whole = valueOf(rule))
        now = whole;
    if (std::exchange(rule.last, *now) == *now)
        return false;
    if (!rule.becomes.empty()) {
        // A register that only a local of that name could hide is meant by its own name.
        Scope scope(*this, rule.chip);
        const auto is = scope.evaluator.isTrue("(" + rule.expression + ") == (" + rule.becomes + ")");
        if (is && !*is)
            return false;
    }
    const std::string& id = session_.world().chips()[rule.chip].id;
    const std::string by = pc == UINT32_MAX ? std::string() : session_.place(id, pc).brief();
    return fires(rule, rule.chip, fmt::format("{} has changed {}", by.empty() ? pc == UINT32_MAX ? id : fmt::format("0x{:04x}", pc) : by, rule.expression));
}

// A core register has been read or written by the instruction at a code address, which has run.
bool Debugger::touched(Rule& rule, std::uint32_t pc, bool read, bool written)
{
    if (rule.onChange)
        return changed(rule, pc);
    const bool wrote = written && rule.writes;
    if (!wrote && !(read && rule.reads))
        return false;
    const std::string by = session_.place(session_.world().chips()[rule.chip].id, pc).brief();
    return fires(rule, rule.chip, fmt::format("{} has {} {}", by.empty() ? fmt::format("0x{:04x}", pc) : by, wrote ? "written" : "read", rule.expression));
}

// The chip stands before an instruction: whether a local that is watched has become another since it was looked at last.
bool Debugger::localsChanged(std::size_t index)
{
    const std::uint32_t pc = chip(index).codeAddress();
    bool ends = false;
    for (Rule& rule : rules_)
        if (rule.kind == Rule::Kind::registers && rule.chip == index && !rule.function.empty() && rule.onChange && std::binary_search(rule.addresses.begin(), rule.addresses.end(), pc))
            ends = changed(rule, std::exchange(rule.lastAt, pc)) || ends;
    return ends;
}

// Runs the instruction at which the chip stands, if a stop is about what it names: whether one fires.
bool Debugger::runTouching(std::size_t index)
{
    const chip::Mcu& core = chip(index);
    const std::uint32_t pc = core.codeAddress();
    const chip::InstructionInfo i = core.instructionAt(pc);
    const auto access = core.nextAccess();
    struct Meant {
        std::size_t rule;
        bool reads, writes;
    };
    std::vector<Meant> meant;
    for (std::size_t n = 0; n < rules_.size(); ++n) {
        const Rule& rule = rules_[n];
        if (rule.kind != Rule::Kind::registers || rule.chip != index || !std::binary_search(rule.addresses.begin(), rule.addresses.end(), pc))
            continue;
        if (rule.function.empty()) {
            meant.push_back({n, (i.reads & rule.registers).any(), (i.writes & rule.registers).any()});
        } else if (const auto value = rule.onChange ? std::nullopt : local(rule)) {
            chip::RegisterSet registers;
            for (const debug::Value::InRegister& r : value->registers)
                registers.set(r.index);
            const bool there = access && value->inMemory && value->space == debug::Space::data && access->address >= value->address && access->address < value->address + value->bytes.size();
            const bool reads = (i.reads & registers).any() || (there && !access->store);
            const bool writes = (i.writes & registers).any() || (there && access->store);
            if ((reads && rule.reads) || (writes && rule.writes))
                meant.push_back({n, reads, writes});
        }
    }
    if (meant.empty())
        return false;
    session_.advanceInstruction(index);
    bool ends = false;
    for (const Meant& m : meant)
        ends = touched(rules_[m.rule], pc, m.reads, m.writes) || ends;
    return ends;
}

// The end of the last instruction before `until` that changed what the rule is about.
std::optional<Time> Debugger::lastChange(Rule& rule, Time until)
{
    const std::set<std::uint32_t> addresses(rule.addresses.begin(), rule.addresses.end());
    if (rule.function.empty())
        return lastHit(until, {addresses, rule.watches, rule.exceptions}, [&](const chip::StopInfo& stop) {
            if (stop.kind == chip::StopInfo::Kind::access)
                return stop.before != stop.value;
            if (stop.kind != chip::StopInfo::Kind::breakpoint)
                return stop.kind == chip::StopInfo::Kind::exception;  // it has pushed an address and cleared I
            const auto before = valueOf(rule);
            session_.advanceInstruction(rule.chip);
            return valueOf(rule) != before && chip(rule.chip).now() < until;
        });
    // Stretches of the past are looked through from the latest to the earliest. A change may lie between what was seen last in one and first in the next.
    using Seen = std::optional<std::pair<Time, std::vector<std::uint8_t>>>;
    Seen first, last, firstOfNext;
    std::optional<Time> between;
    const auto finishStretch = [&] {
        if (!between && last && firstOfNext && last->second != firstOfNext->second)
            between = firstOfNext->first;
        if (first)
            firstOfNext = first;
        first.reset();
        last.reset();
    };
    const auto found = lastHit(until, {.addresses = addresses}, [&](const chip::StopInfo&) {
        const Time now = chip(rule.chip).now();
        if (last && now <= last->first)
            finishStretch();
        if (between)
            return true;  // whatever lies here is earlier
        auto value = valueOf(rule);
        if (!value)
            return false;
        const bool changed = last && last->second != *value;
        last = {now, std::move(*value)};
        if (!first)
            first = last;
        return changed;
    });
    finishStretch();
    return between ? between : found;
}

}  // namespace bramix::session
