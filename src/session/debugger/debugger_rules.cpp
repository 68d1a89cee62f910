// The words of a stop, and when it fires.
#include <algorithm>
#include <cstdlib>

#include <fmt/format.h>

#include "kernel/units.h"
#include "session/debugger/debugger_rules.h"

namespace bramix::session {

using kernel::fail;
using kernel::Result;

namespace {

constexpr std::string_view kMeasures = " -> ";
constexpr std::size_t kLineKept = 4096;  // bytes of a UART's output in which a text is looked for

std::string trimmed(std::string text)
{
    const auto first = text.find_first_not_of(" \t");
    if (first == std::string::npos)
        return {};
    return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

// "word rest" with that word at the beginning: the rest.
std::optional<std::string> after(const std::string& text, std::string_view word)
{
    if (!text.starts_with(word) || (text.size() > word.size() && text[word.size()] != ' '))
        return std::nullopt;
    return trimmed(text.substr(word.size()));
}

}  // namespace

Result<Debugger::Rule> Debugger::parse(const bench::StopItem& item)
{
    Rule rule;
    rule.item = item;
    rule.chip = chip_;
    const auto& chips = session_.world().chips();
    if (!item.chip.empty()) {
        const auto unit = std::find_if(chips.begin(), chips.end(), [&](const auto& u) { return u.id == item.chip; });
        if (unit == chips.end())
            return fail(item.chip, "is not a chip on this bench");
        rule.chip = static_cast<std::size_t>(unit - chips.begin());
    }
    if (auto ok = parseInto(rule, trimmed(item.at)); !ok)
        return tl::unexpected(ok.error());
    return rule;
}

Result<void> Debugger::parseInto(Rule& rule, const std::string& text)
{
    const auto& chips = session_.world().chips();
    const auto wantsChip = [&]() -> Result<void> {
        if (chips.empty())
            return fail(text, "wants a chip, and there is none on this bench");
        return {};
    };
    const auto pinOf = [&](const std::string& name) -> Result<bench::PinRef> {
        auto ref = bench::parsePinRef(name.find('.') == std::string::npos && rule.chip < chips.size() ? chips[rule.chip].id + "." + name : name);
        if (ref && !session_.world().pin(*ref))
            return fail(name, "is no pin of this bench; expected \"part.pin\"");
        return ref;
    };
    if (text.empty())
        return fail("stop", "is empty; expected a line (lock.c:41), a function, an address, or words such as \"change ticks\"");
    for (const auto& [word, rising, falling] : {std::tuple{"rise", true, false}, std::tuple{"fall", false, true}, std::tuple{"edge", true, true}})
        if (const auto rest = after(text, word)) {
            auto pin = pinOf(*rest);
            if (!pin)
                return tl::unexpected(pin.error());
            rule.kind = Rule::Kind::edge;
            rule.pin = *pin;
            rule.rising = rising;
            rule.falling = falling;
            return {};
        }
    for (const auto& [word, level] : {std::pair{"high", true}, std::pair{"low", false}})
        if (const auto rest = after(text, word)) {
            const std::size_t split = rest->find(" for ");
            auto pin = pinOf(trimmed(rest->substr(0, split)));
            if (!pin)
                return tl::unexpected(pin.error());
            rule.kind = Rule::Kind::level;
            rule.pin = *pin;
            rule.level = level;
            if (split != std::string::npos) {
                const auto length = kernel::parseDuration(trimmed(rest->substr(split + 5)));
                if (!length)
                    return fail(rest->substr(split + 5), "is not a time; expected one such as 5ms");
                rule.length = *length;
            }
            return {};
        }
    if (auto trigger = parseTrigger(text, pinOf); !trigger) {
        return tl::unexpected(trigger.error());
    } else if (*trigger != nullptr) {
        rule.kind = Rule::Kind::trigger;
        rule.trigger = std::move(*trigger);
        return {};
    }
    if (const auto rest = after(text, "time")) {
        const auto at = kernel::parseDuration(*rest);
        if (!at)
            return fail(*rest, "is not a time; expected one such as 20ms");
        rule.kind = Rule::Kind::time;
        rule.at = Time(*at);
        return {};
    }
    if (const auto rest = after(text, "finding")) {
        rule.kind = Rule::Kind::finding;
        rule.text = *rest;
        return {};
    }
    if (const auto rest = after(text, "serial")) {
        const std::size_t quote = rest->find('"');
        const std::size_t end = rest->rfind('"');
        if (quote == std::string::npos || end == quote || end == quote + 1)
            return fail(text, "has no text; expected serial \"text\"");
        rule.kind = Rule::Kind::serial;
        rule.text = rest->substr(quote + 1, end - quote - 1);
        if (const std::string uart = trimmed(rest->substr(0, quote)); !uart.empty()) {
            rule.uart = session_.world().uartByName(uart);
            if (!rule.uart)
                return fail(uart, "is no UART of this bench");
        }
        return {};
    }
    if (auto ok = wantsChip(); !ok)
        return ok;
    const chip::Device& device = chips[rule.chip].chip->device();
    const std::uint64_t dataEnd = device.sizeOf(device.dataSpace);
    Program& known = program(rule.chip);
    if (text == "reset") {
        rule.kind = Rule::Kind::reset;
        return {};
    }
    if (const auto rest = after(text, "stack")) {
        const long address = std::strtol(rest->c_str(), nullptr, 0);
        if (address <= static_cast<long>(device.ramBegin) || address >= static_cast<long>(dataEnd))
            return fail(*rest, fmt::format("is not an address in the RAM of {}; expected 0x{:04x} to 0x{:04x}", device.title, device.ramBegin + 1, dataEnd - 1));
        rule.kind = Rule::Kind::access;
        rule.stack = true;
        rule.expression = *rest;
        rule.watches = {{static_cast<std::uint64_t>(address - 1), 1, false, true}};
        return {};
    }
    if (const auto rest = after(text, "interrupt")) {
        rule.kind = Rule::Kind::interrupt;
        for (std::size_t v = 1; v < device.exceptions.size(); ++v)
            if (rest->empty() || *rest == "any" || device.exceptions[v].name == *rest)
                rule.exceptions.set(v);
        if (rule.exceptions.none())
            return fail(*rest, fmt::format("is no interrupt of {}; expected one such as {}, or any", device.title, device.exceptions[1].name));
        return {};
    }
    for (const std::string_view word : {"write", "read", "access", "change"})
        if (const auto rest = after(text, word)) {
            rule.kind = Rule::Kind::access;
            rule.reads = word == "read" || word == "access";
            rule.writes = word != "read";
            // An address, and how many bytes: 0x0104:2.
            if (rest->starts_with("0x")) {
                char* end = nullptr;
                const unsigned long address = std::strtoul(rest->c_str(), &end, 16);
                const unsigned long length = *end == ':' ? std::strtoul(end + 1, &end, 10) : 1;
                if (*end != 0 || length == 0 || address >= dataEnd || length > dataEnd - address)
                    return fail(*rest, fmt::format("is not in data memory; expected 0x0000 to 0x{:04x}, or such with :LENGTH", dataEnd - 1));
                rule.expression = *rest;
                rule.onChange = word == "change";
                rule.last.resize(length);
                rule.watches = {{address, length, rule.reads, rule.writes}};
                placeRegisters(rule);
                return {};
            }
            rule.onChange = word == "change";
            rule.expression = *rest;
            if (const std::size_t to = rest->find(" to "); to != std::string::npos && word == "change") {
                rule.expression = trimmed(rest->substr(0, to));
                rule.becomes = trimmed(rest->substr(to + 4));
            }
            if (const auto inRegisters = parseRegisters(rule, word); !inRegisters)
                return tl::unexpected(inRegisters.error());
            else if (*inRegisters)
                return {};
            std::vector<debug::Use> uses;
            Scope scope(*this, rule.chip);
            scope.evaluator.noteUses(&uses);
            auto value = scope.evaluator.evaluate(rule.expression);
            if (!value && !scope.evaluator.failedByValues())
                return tl::unexpected(value.error());
            if (!uses.empty() && (rule.onChange || (value && value->inMemory)))
                return follow(rule);
            if (!value)
                return tl::unexpected(value.error());
            if (!value->inMemory || value->space != debug::Space::data || value->bytes.empty())
                return fail(rule.expression, "stands nowhere that an instruction could write; expected a variable or a register");
            rule.last = value->bytes;
            rule.watches = {{value->address, value->bytes.size(), rule.reads, rule.writes}};
            placeRegisters(rule);
            return {};
        }
    // The code.
    rule.kind = Rule::Kind::code;
    if (text.starts_with("0x")) {
        char* end = nullptr;
        const unsigned long address = std::strtoul(text.c_str(), &end, 16);
        if (*end != 0 || address < device.codeBegin || address >= device.codeEnd)
            return fail(text, fmt::format("is not an address in the flash of {}; expected 0x{:04x} to 0x{:04x}", device.title, device.codeBegin, device.codeEnd - device.codeStep));
        rule.addresses = {device.codeAt(device.slotOf(static_cast<std::uint32_t>(address)))};
        return {};
    }
    if (const std::size_t colon = text.rfind(':'); colon != std::string::npos && colon > 0 && text[colon - 1] != ':') {
        rule.file = text.substr(0, colon);
        rule.line = std::atoi(text.c_str() + colon + 1);
        if (rule.line <= 0)
            return fail(text, "has no line number; expected one such as lock.c:41");
        rule.addresses = known.symbols.addressesOf(rule.file, rule.line);
        if (rule.addresses.empty())
            return fail(text, known.symbols.rows().empty() ? "cannot be found: the firmware has no line information; build it with -g" : "has no code, nor has any line after it in that file");
        return {};
    }
    const int function = known.symbols.functionByName(text);
    if (function < 0)
        return fail(text, "is neither a function of this firmware nor a known kind of stop; expected a line (lock.c:41), a function, an address, or words such as \"change ticks\"");
    rule.addresses = {known.symbols.afterPrologue(function)};
    if (const debug::LineRow* row = known.symbols.row(rule.addresses[0])) {
        rule.file = known.symbols.files()[row->file];
        rule.line = row->line;
    }
    // Inlined copies of it begin elsewhere too.
    for (const debug::Function& f : known.symbols.functions())
        if (f.caller >= 0 && f.name == text)
            rule.addresses.push_back(f.begin());
    return {};
}

void Debugger::setStops(const std::vector<bench::StopItem>& items)
{
    std::vector<StopState> before = std::exchange(stops_, {});
    for (const bench::StopItem& item : items) {
        StopState state;
        state.item = item;
        for (const StopState& old : before)
            if (old.item.at == item.at && old.item.chip == item.chip) {
                state.hits = old.hits;
                state.least = old.least;
                state.most = old.most;
                state.sum = old.sum;
            }
        stops_.push_back(std::move(state));
    }
    dirty_ = true;
    // What is wrong is said at once, not at the next run.
    arm();
}

void Debugger::readStops()
{
    dirty_ = false;
    std::vector<Rule> once;
    for (Rule& rule : rules_)
        if (rule.index == SIZE_MAX)
            once.push_back(std::move(rule));
    rules_.clear();
    for (std::size_t i = 0; i < stops_.size(); ++i) {
        StopState& stop = stops_[i];
        stop.problem.clear();
        stop.addresses.clear();
        stop.measures = stop.item.at.find(kMeasures) != std::string::npos;
        if (stop.measures) {
            readMeasurement(stop, i);
            continue;
        }
        auto rule = parse(stop.item);
        if (!rule) {
            stop.problem = rule.error().text();
            continue;
        }
        rule->index = i;
        rule->hits = stop.hits;
        stop.addresses = rule->addresses;
        stop.file = rule->file;
        stop.line = rule->line;
        if (!stop.item.off)
            rules_.push_back(std::move(*rule));
    }
    for (Rule& rule : once)
        rules_.push_back(std::move(rule));
}

// "A -> B". The end stands before the beginning, so that an event that is both closes one span and opens the next.
void Debugger::readMeasurement(StopState& stop, std::size_t index)
{
    const std::size_t arrow = stop.item.at.find(kMeasures);
    std::vector<Rule> sides;
    for (const int side : {2, 1}) {
        bench::StopItem half = stop.item;
        half.at = side == 1 ? stop.item.at.substr(0, arrow) : stop.item.at.substr(arrow + kMeasures.size());
        auto rule = parse(half);
        if (!rule) {
            stop.problem = rule.error().text();
            return;
        }
        rule->index = index;
        rule->side = side;
        sides.push_back(std::move(*rule));
    }
    stop.file = sides[1].file;
    stop.line = sides[1].line;
    if (!stop.item.off)
        for (Rule& rule : sides)
            rules_.push_back(std::move(rule));
}

// Tells the chips what to look for.
void Debugger::arm()
{
    if (dirty_)
        readStops();
    edgesWatched_ = std::any_of(rules_.begin(), rules_.end(), [](const Rule& r) { return r.kind == Rule::Kind::edge || r.kind == Rule::Kind::level || r.kind == Rule::Kind::trigger; });
    auto& chips = session_.world().chips();
    for (std::size_t c = 0; c < chips.size(); ++c) {
        std::vector<std::uint32_t> addresses;
        std::vector<chip::Watchpoint> watches;
        chip::ExceptionSet exceptions;
        bool resets = false;
        for (const Rule& rule : rules_) {
            if (rule.chip != c)
                continue;
            addresses.insert(addresses.end(), rule.addresses.begin(), rule.addresses.end());
            watches.insert(watches.end(), rule.watches.begin(), rule.watches.end());
            exceptions |= rule.exceptions;
            resets = resets || rule.kind == Rule::Kind::reset;
        }
        if (c == chip_ && motion_.kind == Motion::Kind::step)
            addresses.insert(addresses.end(), motion_.ends.begin(), motion_.ends.end());
        chips[c].chip->setBreakpoints(addresses);
        chips[c].chip->setWatchpoints(watches);
        chips[c].chip->stopAtExceptions(exceptions);
        chips[c].chip->stopAtResets(resets);
    }
}

void Debugger::disarm()
{
    for (auto& unit : session_.world().chips()) {
        unit.chip->setBreakpoints({});
        unit.chip->setWatchpoints({});
        unit.chip->stopAtExceptions({});
        unit.chip->stopAtResets(false);
    }
}

// "level is {chamber.cm}" with what stands there now.
std::string Debugger::say(const std::string& text, std::size_t index)
{
    Scope scope(*this, index);
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const std::size_t end = text[i] == '{' ? text.find('}', i) : std::string::npos;
        if (end == std::string::npos) {
            out += text[i];
            continue;
        }
        const auto value = scope.evaluator.evaluate(text.substr(i + 1, end - i - 1));
        out += value ? scope.evaluator.format(*value, debug::Radix::natural) : "(" + value.error().text() + ")";
        i = end;
    }
    return out;
}

// Whether a stop that has been met stops the bench: its condition, its count, and whether it only speaks.
bool Debugger::fires(Rule& rule, std::size_t index, const std::string& text)
{
    StopState* state = rule.index < stops_.size() ? &stops_[rule.index] : nullptr;
    if (!rule.item.when.empty() && index < session_.world().chips().size()) {
        const auto holds = Scope(*this, index).evaluator.isTrue(rule.item.when);
        if (!holds) {
            // A condition that cannot be worked out stops, and says so: silence would look like "never true".
            report_ = {index, fmt::format("the condition of \"{}\" cannot be worked out: {}", rule.item.at, holds.error().text()), rule.index};
            return true;
        }
        if (!*holds)
            return false;
    }
    if (rule.side != 0 && state != nullptr && index < session_.world().chips().size()) {
        const std::int64_t cycle = chip(index).cycles();
        if (rule.side == 1) {
            state->open = cycle;
        } else if (state->open) {
            const std::int64_t length = cycle - *std::exchange(state->open, std::nullopt);
            state->least = state->hits == 0 ? length : std::min(state->least, length);
            state->most = std::max(state->most, length);
            state->sum += length;
            ++state->hits;
        }
        return false;
    }
    ++rule.hits;
    if (state != nullptr)
        state->hits = rule.hits;
    if (rule.hits < rule.item.count)
        return false;
    if (!rule.item.say.empty()) {
        const std::string line = say(rule.item.say, index);
        log_.push_back(fmt::format("{}  {}", kernel::formatQuantity(kernel::seconds(session_.world().now()), kernel::Unit::second, 9), line));
        marks_.emplace_back(session_.world().now(), line);
        return false;
    }
    report_ = {index, text, rule.index};
    return true;
}

// A stop has come about in the midst of a run; the run ends at the next boundary, and looks. Of one stop the first time counts.
void Debugger::notice(const Rule& rule, std::string why)
{
    const auto index = static_cast<std::size_t>(&rule - rules_.data());
    if (std::none_of(pending_.begin(), pending_.end(), [index](const auto& p) { return p.first == index; }))
        pending_.emplace_back(index, std::move(why));
}

void Debugger::edgeSeen(bench::NetId net, bench::NetState state, Time at)
{
    if (!edgesWatched_ || motion_.kind == Motion::Kind::none)
        return;
    const bool high = state == bench::NetState::high;
    for (Rule& rule : rules_) {
        if (rule.kind == Rule::Kind::trigger) {
            for (std::size_t i = 0; i < rule.nets.size(); ++i) {
                // Of a pin that stands in a row twice the first place speaks for all.
                if (rule.nets[i] != net || std::find(rule.nets.begin(), rule.nets.begin() + static_cast<std::ptrdiff_t>(i), net) != rule.nets.begin() + static_cast<std::ptrdiff_t>(i))
                    continue;
                if (auto come = rule.trigger->edge(i, state, at)) {
                    notice(rule, std::move(*come));
                    session_.world().requestStop();
                }
            }
            continue;
        }
        if (rule.kind != Rule::Kind::edge && rule.kind != Rule::Kind::level)
            continue;
        const auto pin = session_.world().pin(rule.pin);
        if (!pin || session_.world().circuit().netOf(*pin) != net)
            continue;
        if (rule.kind == Rule::Kind::level) {
            const bool there = high == rule.level && (high || state == bench::NetState::low);
            if (!there)
                rule.since.reset();
            else if (!rule.since)
                rule.since = at;
            rule.done = rule.done && there;
            // advance() looks when it will have been long enough.
            session_.world().requestStop();
        } else if ((high && rule.rising) || (state == bench::NetState::low && rule.falling)) {
            notice(rule, fmt::format("{} {}", rule.pin.text(), high ? "has risen" : "has fallen"));
            session_.world().requestStop();
        }
    }
}

void Debugger::byteSeen(const SerialByte& byte)
{
    if (!byte.fromChip || motion_.kind == Motion::Kind::none || std::none_of(rules_.begin(), rules_.end(), [](const Rule& r) { return r.kind == Rule::Kind::serial; }))
        return;
    lines_.resize(std::max<std::size_t>(lines_.size(), byte.uart + 1));
    std::string& line = lines_[byte.uart];
    line += static_cast<char>(byte.byte);
    if (line.size() > kLineKept)
        line.erase(0, kLineKept / 2);
    for (Rule& rule : rules_)
        if (rule.kind == Rule::Kind::serial && (!rule.uart || *rule.uart == byte.uart) && line.ends_with(rule.text)) {
            notice(rule, fmt::format("{} has sent \"{}\"", session_.world().uarts()[byte.uart].name, rule.text));
            session_.world().requestStop();
        }
}

void Debugger::findingSeen(const Finding& finding)
{
    if (motion_.kind == Motion::Kind::none)
        return;
    for (Rule& rule : rules_)
        if (rule.kind == Rule::Kind::finding && (rule.text.empty() || rule.text == finding.rule)) {
            notice(rule, finding.message);
            session_.world().requestStop();
        }
}

// The code of a line may lie in several stretches. Coming to a later one in the same frame is the same execution of it.
bool Debugger::beginsLine(Rule& rule, std::uint32_t address)
{
    if (rule.addresses.size() < 2)
        return true;
    const int function = program(rule.chip).symbols.functionAt(address);
    const std::uint32_t cfa = innermost(rule.chip).cfa;
    const auto before = std::exchange(rule.passed[function], std::pair(address, cfa));
    return before.second != cfa || address <= before.first;
}

// A value of several bytes is stored by as many instructions: its change is complete behind the last of them.
void Debugger::finishStore(std::size_t index, const chip::Watchpoint& watch)
{
    const chip::Mcu& core = chip(index);
    for (std::uint64_t i = core.device().storeBytes; i < watch.length; i += core.device().storeBytes) {
        const auto next = core.nextAccess();
        if (!next || !next->store || next->address < watch.address || next->address >= watch.address + watch.length || core.exceptionPending())
            return;
        session_.advanceInstruction(index);
    }
}

// What a chip has stopped for: true where that ends the motion.
bool Debugger::decide(std::size_t index, const chip::StopInfo& stop)
{
    using Kind = chip::StopInfo::Kind;
    bool ends = false;
    const std::string& id = session_.world().chips()[index].id;
    switch (stop.kind) {
    case Kind::none: break;
    case Kind::breakpoint:
        for (Rule& rule : rules_)
            if (rule.kind == Rule::Kind::code && rule.chip == index && std::find(rule.addresses.begin(), rule.addresses.end(), stop.code) != rule.addresses.end() && beginsLine(rule, stop.code))
                ends = fires(rule, index, rule.index == SIZE_MAX ? std::string() : fmt::format("{}: stop at {}", id, rule.item.at)) || ends;
        if (!ends && index == chip_ && motion_.kind == Motion::Kind::step && endsStep(stop.code)) {
            report_ = {index, {}, SIZE_MAX};
            ends = true;
        }
        ends = ends || localsChanged(index) || runTouching(index);
        break;
    case Kind::access: {
        const std::string by = session_.place(id, stop.code).brief();
        const std::string where = !stop.by.empty() ? stop.by : by.empty() ? fmt::format("0x{:04x}", stop.code) : by;
        for (Rule& rule : rules_) {
            if ((rule.kind != Rule::Kind::access && rule.kind != Rule::Kind::registers) || rule.chip != index || rule.watches.empty())
                continue;
            if (rule.follower) {
                ends = followed(rule, stop, where) || ends;
                continue;
            }
            const chip::Watchpoint& w = rule.watches[0];
            if (stop.address < w.address || stop.address >= w.address + w.length || (stop.write ? !w.writes : !w.reads))
                continue;
            if (rule.kind == Rule::Kind::registers) {
                ends = touched(rule, stop.code, !stop.write, stop.write) || ends;
                continue;
            }
            if (rule.stack) {
                ends = fires(rule, index, fmt::format("{}: the stack has grown below {} at {}", id, rule.expression, where)) || ends;
                continue;
            }
            if (!rule.onChange) {
                ends = fires(rule, index, fmt::format("{} has {} {}", where, stop.write ? "written" : "read", rule.expression)) || ends;
                continue;
            }
            finishStore(index, w);
            std::vector<std::uint8_t> now;
            for (std::uint64_t i = 0; i < w.length; ++i)
                now.push_back(chip(index).readData(w.address + i));
            if (std::exchange(rule.last, now) == now)
                continue;
            if (!rule.becomes.empty()) {
                const auto is = Scope(*this, index).evaluator.isTrue("(" + rule.expression + ") == (" + rule.becomes + ")");
                if (is && !*is)
                    continue;
            }
            ends = fires(rule, index, fmt::format("{} has changed {}", where, rule.expression)) || ends;
        }
        break;
    }
    case Kind::exception:
        for (Rule& rule : rules_)
            if (rule.kind == Rule::Kind::interrupt && rule.chip == index && rule.exceptions[stop.exception])
                ends = fires(rule, index, fmt::format("{}: interrupt {} is entered", id, chip(index).device().exceptions[stop.exception].name)) || ends;
            else if (rule.kind == Rule::Kind::registers && rule.chip == index && rule.exceptions[stop.exception])
                ends = touched(rule, stop.code, false, true) || ends;  // it pushes an address and clears I
        break;
    case Kind::reset:
        for (Rule& rule : rules_)
            if (rule.kind == Rule::Kind::reset && rule.chip == index)
                ends = fires(rule, index, id + " is reset") || ends;
        break;
    }
    return ends;
}

}  // namespace bramix::session
