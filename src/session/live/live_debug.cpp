// What the debugger's views see of the chip that is looked at.
#include <algorithm>

#include "debug/function_map.h"
#include "session/live/live_session.h"

namespace bramix::session {

namespace {

constexpr int kDeepest = 3;              // levels of members shown
constexpr std::size_t kMostElements = 64;

debug::Radix radixOf(const std::string& name)
{
    return name == "hex" ? debug::Radix::hexadecimal : name == "binary" ? debug::Radix::binary : name == "decimal" ? debug::Radix::decimal : name == "character" ? debug::Radix::character : debug::Radix::natural;
}

// A value with what lies within it, marked where it differs from the last stop.
class Looker {
public:
    Looker(debug::Evaluator& evaluator, const std::map<std::string, std::string>& before, std::map<std::string, std::string>& now) : e_(evaluator), before_(before), now_(now) {}

    VariablePicture variable(const std::string& name, const std::string& expression, const kernel::Result<debug::Value>& value, debug::Radix radix, const std::string& path, int depth = 0)
    {
        VariablePicture out;
        out.name = name;
        out.expression = expression;
        if (!value) {
            out.known = false;
            // "ticks: is not kept ..." reads better without its name beside the name.
            const std::string text = value.error().text();
            out.value = text.starts_with(name + ": ") ? text.substr(name.size() + 2) : text;
            return out;
        }
        const debug::Types& types = e_.symbols().types();
        const debug::Type& type = types.resolved(value->type);
        out.type = types.name(value->type);
        out.value = e_.format(*value, radix);
        out.writable = value->canBeWritten() && type.kind != debug::Type::Kind::structure && type.kind != debug::Type::Kind::array;
        const auto old = before_.find(path);
        out.changed = old != before_.end() && old->second != out.value;
        now_[path] = out.value;
        if (depth >= kDeepest)
            return out;
        if (type.kind == debug::Type::Kind::structure) {
            const std::vector<debug::Member> members = type.members;
            for (const debug::Member& m : members)
                out.inner.push_back(variable(m.name, expression + "." + m.name, e_.member(*value, m), radix, path + "." + m.name, depth + 1));
        } else if (type.kind == debug::Type::Kind::array) {
            const std::size_t count = std::min<std::size_t>(type.count, kMostElements);
            for (std::size_t i = 0; i < count; ++i) {
                const std::string index = "[" + std::to_string(i) + "]";
                out.inner.push_back(variable(index, expression + index, e_.element(*value, i), radix, path + index, depth + 1));
            }
        } else if (type.kind == debug::Type::Kind::pointer && types.resolved(type.element).kind == debug::Type::Kind::structure && debug::unsignedOf(value->bytes) != 0) {
            out.inner.push_back(variable("*" + name, "(*" + expression + ")", e_.pointee(*value), radix, "*" + path, depth + 1));
        }
        return out;
    }

private:
    debug::Evaluator& e_;
    const std::map<std::string, std::string>& before_;
    std::map<std::string, std::string>& now_;
};

}  // namespace

namespace {

// Registers that lie together are read together.
RegisterBytes registerBytes(const bench::World::ChipUnit& unit)
{
    constexpr std::uint64_t kGap = 32, kMost = 256U << 10U;
    const chip::Device& device = *unit.device;
    RegisterBytes out;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> places;
    if (device.peripheralEnd > 0)
        places.emplace_back(0, device.peripheralEnd);
    for (const chip::PeripheralGroup& group : unit.registers().peripherals)
        for (const chip::PeripheralRegister& reg : group.registers)
            if (reg.address >= device.peripheralEnd)
                places.emplace_back(reg.address, reg.address + reg.bits / 8);
    std::sort(places.begin(), places.end());
    std::uint64_t all = 0;
    for (const auto& [begin, end] : places) {
        const bool joins = !out.blocks.empty() && begin <= out.blocks.back().begin + out.blocks.back().bytes.size() + kGap;
        if (!joins)
            out.blocks.push_back({begin, {}});
        auto& block = out.blocks.back();
        if (end - block.begin > block.bytes.size() && all < kMost) {
            all += end - block.begin - block.bytes.size();
            block.bytes.resize(end - block.begin);
        }
    }
    for (auto& block : out.blocks)
        block.bytes.resize(unit.chip->read(device.dataSpace, block.begin, block.bytes));
    return out;
}

}  // namespace

// The present becomes what the next stop is compared with.
void LiveSession::publishStop()
{
    if (session_ == nullptr || debugger_ == nullptr || debugger_->chosen() >= session_->world().chips().size() || !look_.on)
        return;
    const chip::Mcu& chip = *session_->world().chips()[debugger_->chosen()].chip;
    valuesBefore_ = valuesNow_;
    registersBefore_ = debug::registersOf(chip);
    ioBefore_ = registerBytes(session_->world().chips()[debugger_->chosen()]);
    const chip::Device& device = chip.device();
    ramBefore_.assign(device.regions.size(), {});
    for (std::size_t r = 0; r < device.regions.size(); ++r)
        if (const chip::MemoryRegion& region = device.regions[r]; region.kind == chip::RegionKind::ram) {
            ramBefore_[r].resize(region.size);
            ramBefore_[r].resize(chip.read(region.space, region.begin, ramBefore_[r]));
        }
}

void LiveSession::fillDebug(Picture& picture)
{
    bench::World& world = session_->world();
    DebugPicture& out = picture.debug;
    const std::size_t index = debugger_->chosen();
    out.reason = reason_;
    out.earliest = session_->earliest();
    out.latest = session_->latest();
    out.inPast = session_->latest() > world.now();
    out.slow = slow_.has_value();
    out.entersInterrupts = debugger_->entersInterrupts();
    for (const StopState& s : debugger_->stops())
        out.stops.push_back({s.item, s.file, s.line, s.addresses, s.hits, s.problem, s.measures, s.least, s.most, s.sum});
    if (index >= world.chips().size() || !look_.on)
        return;
    const bench::World::ChipUnit& unit = world.chips()[index];
    const chip::Mcu& chip = *unit.chip;
    out.there = true;
    out.chip = unit.id;
    out.device = &chip.device();
    out.firmwareFile = unit.firmwareFile;
    const std::span<const std::uint8_t> code = chip.code().bytes;
    if (code_ == nullptr || !std::equal(code_->begin(), code_->end(), code.begin(), code.end())) {
        code_ = std::make_shared<const std::vector<std::uint8_t>>(code.begin(), code.end());
        ++program_;
    }
    out.code = code_;
    out.program = program_;
    out.standing = !running_;
    out.registers = debug::registersOf(chip);
    for (std::size_t r = 0; r < debug::Registers::kMost; ++r)
        out.changedRegisters.set(r, out.registers.r[r] != registersBefore_.r[r]);
    if (const auto status = unit.device->registerOf(chip::CoreRole::status); status && !ramBefore_.empty())
        out.statusBefore = registersBefore_.r[*status];
    out.ownRegisters = unit.ownRegisters;
    out.io = registerBytes(unit);
    out.ioBefore = ioBefore_;
    out.lowestStack = static_cast<std::uint32_t>(chip.lowestStack().value_or(UINT32_MAX));
    out.dataEnd = unit.firmware.dataEnd;
    out.ramEnd = static_cast<std::uint32_t>(unit.device->ramEnd);
    const ChipTarget target(unit);
    Program& program = session_->program(unit.id);
    const std::vector<debug::Frame> frames = debugger_->frames();
    out.frame = std::min(look_.frame, frames.empty() ? 0 : frames.size() - 1);
    for (const debug::Frame& f : frames)
        out.frames.push_back({f.place.function, f.place.file, f.place.line, f.registers.pc, f.interrupt, f.inlined});
    debug::Evaluator evaluator(program.symbols, target, frames.empty() ? nullptr : &frames[out.frame]);
    std::map<std::string, std::string> now;
    Looker looker(evaluator, valuesBefore_, now);
    if (!running_ && !frames.empty())
        for (int f = frames[out.frame].function; f >= 0; f = program.symbols.functions()[static_cast<std::size_t>(f)].caller) {
            for (const int v : program.symbols.localsOf(f)) {
                const debug::Variable& variable = program.symbols.variables()[static_cast<std::size_t>(v)];
                out.locals.push_back(looker.variable(variable.name, variable.name, evaluator.read(variable), debug::Radix::natural, frames[out.frame].place.function + ":" + variable.name));
            }
            if (frames[out.frame].inlined)
                break;  // what it went into is the next frame
        }
    if (look_.globals)
        for (std::size_t v = 0; v < program.symbols.variables().size(); ++v) {
            const debug::Variable variable = program.symbols.variables()[v];
            const auto address = variable.fixedAddress();
            // Registers of the chip, which the run-time library describes as variables, have a view of their own.
            if (variable.function < 0 && !variable.name.starts_with("__") && !(address && *address >= debug::kElfData && *address < debug::kElfData + unit.device->peripheralEnd))
                out.globals.push_back(looker.variable(variable.name, variable.name, evaluator.read(variable), debug::Radix::natural, "::" + variable.name));
        }
    for (const bench::WatchItem& w : look_.watches)
        out.watches.push_back(looker.variable(w.expression, w.expression, evaluator.evaluate(w.expression), radixOf(w.radix), "?" + w.expression));
    if (!look_.hovered.empty() && !running_)
        out.hovered = looker.variable(look_.hovered, look_.hovered, evaluator.evaluate(look_.hovered), debug::Radix::natural, {});
    valuesNow_ = std::move(now);
    if (look_.memory && *look_.memory < chip.device().regions.size()) {
        const chip::MemoryRegion& region = chip.device().regions[*look_.memory];
        out.memoryRegion = *look_.memory;
        out.memory.resize(region.size);
        out.memory.resize(chip.read(region.space, region.begin, out.memory));
        if (*look_.memory < ramBefore_.size())
            out.memoryBefore = ramBefore_[*look_.memory];
    }
    const std::int64_t total = debugger_->chosen() < counts_.size() ? counts_[debugger_->chosen()]->total() : 0;
    const auto& exceptions = chip.device().exceptions;
    for (std::size_t v = 1; v < exceptions.size(); ++v) {
        const chip::ExceptionStatus c = chip.exception(static_cast<unsigned>(v));
        out.interrupts.push_back({exceptions[v].name, c.raised, c.enabled, c.pending, c.count, c.worstLatency,
                                  c.count == 0 ? 0 : static_cast<double>(c.totalLatency) / static_cast<double>(c.count)});
        if (debugger_->chosen() < counts_.size()) {
            const chip::CycleCounts& counts = *counts_[debugger_->chosen()];
            const chip::HandlerTimes& h = counts.handlers[v];
            session::InterruptPicture& p = out.interrupts.back();
            p.timed = h.times;
            p.longest = h.longest;
            p.meanLength = h.times == 0 ? 0 : static_cast<double>(h.cycles) / static_cast<double>(h.times);
            p.share = total == 0 ? 0 : static_cast<double>(h.cycles) / static_cast<double>(total);
        }
    }
    out.pins = chip.pins();
    fillCounts(out.counts);
}

void LiveSession::fillCounts(CountPicture& out) const
{
    const std::size_t index = debugger_->chosen();
    out.on = counting_;
    if (index >= counts_.size())
        return;
    const chip::CycleCounts& counts = *counts_[index];
    const debug::Symbols& symbols = session_->program(session_->world().chips()[index].id).symbols;
    out.asleep = counts.asleep;
    out.entries = counts.entries;
    out.total = counts.total();
    const chip::Device& device = *session_->world().chips()[index].device;
    const auto top = static_cast<std::uint32_t>(device.ramEnd);
    out.stackFrom = counts.stack.from();
    out.stackWidth = counts.stack.width();
    for (const std::uint32_t sp : counts.stack.lowest())
        out.stackDepth.push_back(sp > top ? 0 : top - sp);
    std::map<int, CountPicture::Row> rows;
    std::map<std::pair<std::uint32_t, int>, std::int64_t> lines;
    for (std::size_t slot = 0; slot < counts.cycles.size(); ++slot) {
        if (counts.cycles[slot] == 0)
            continue;
        const std::uint32_t address = device.codeAt(slot);
        const int f = symbols.outerFunctionAt(address);
        CountPicture::Row& row = rows[f];
        row.cycles += counts.cycles[slot];
        if (f >= 0 && symbols.functions()[static_cast<std::size_t>(f)].begin() == address)
            row.calls += counts.times[slot];
        if (const debug::LineRow* l = symbols.row(address); l != nullptr && l->address == address) {
            std::int64_t& times = lines[{l->file, l->line}];
            times = std::max(times, counts.times[slot]);
        }
    }
    for (auto& [f, row] : rows) {
        const std::string name = f < 0 ? "(no function)" : symbols.functions()[static_cast<std::size_t>(f)].name;
        const std::string_view handler = debug::handledBy(device, name);
        row.name = handler.empty() ? name : std::string(handler);
        out.functions.push_back(row);
    }
    std::sort(out.functions.begin(), out.functions.end(), [](const auto& a, const auto& b) { return a.cycles > b.cycles; });
    for (const auto& [place, times] : lines)
        out.lines.emplace_back(symbols.files()[place.first], place.second, times);
}

void LiveSession::watchValues(const std::vector<std::string>& expressions)
{
    post([this, expressions] {
        values_ = expressions;
        if (session_ != nullptr && !values_.empty())
            sampleValues();
    });
}

std::vector<Sample> LiveSession::takeSamples()
{
    const std::lock_guard lock(mutex_);
    return std::exchange(samples_, {});
}

void LiveSession::sampleValues()
{
    constexpr std::size_t kMostWaiting = 100'000;
    const Time now = session_->world().now();
    std::vector<Sample> fresh;
    for (std::uint32_t i = 0; i < values_.size(); ++i)
        if (const auto value = debugger_->number(values_[i]))
            fresh.push_back({i, now, *value});
    const std::lock_guard lock(mutex_);
    if (samples_.size() < kMostWaiting)
        samples_.insert(samples_.end(), fresh.begin(), fresh.end());
}

}  // namespace bramix::session
