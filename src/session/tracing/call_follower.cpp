#include "session/tracing/call_follower.h"

#include <utility>

#include "session/debugger/debugger.h"

namespace bramix::session {

Result<void> CallFollower::begin(const Program& program, const bench::World::ChipUnit& unit, Time at, std::vector<Span>& spans)
{
    from_ = at;
    map_ = debug::FunctionMap(program.symbols, unit.chip->cpu().flash(), *unit.table);
    if (map_.names.empty())
        return kernel::fail({}, "the firmware tells no functions");
    const std::vector<debug::Frame> frames = program.frames.unwind(program.symbols, ChipTarget(unit), registersOf(*unit.chip));
    const int bytes = unit.table->core.longPc ? 3 : 2;
    for (auto f = frames.rbegin(); f != frames.rend(); ++f) {
        if (f->inlined)
            continue;
        const std::uint16_t number = map_.of(f->registers.pc / 2);
        spans.push_back({at, at, static_cast<std::uint32_t>(stack_.size()), nameOf(number)});
        stack_.push_back({number, static_cast<std::uint16_t>(f->cfa - bytes), spans.size() - 1});
    }
    spBefore_ = unit.chip->cpu().sp;
    return {};
}

bool CallFollower::look(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most)
{
    const chip::avr::Cpu& cpu = unit.chip->cpu();
    const Time now = unit.chip->now();
    if (asleep_ && !cpu.sleeping)
        spans[*std::exchange(asleep_, std::nullopt)].to = now;
    while (stack_.size() > 1 && cpu.sp > stack_.back().sp) {
        spans[stack_.back().span].to = now;
        stack_.pop_back();
    }
    const std::uint16_t function = map_.of(cpu.pc);
    if (stack_.size() == 1 && cpu.sp > stack_[0].sp) {
        // Out of the outermost that was known. Where it has not only given room on the stack back, its caller has stood below it all the time.
        if (function != stack_[0].function && function != kNoFunction) {
            spans[stack_[0].span].to = now;
            for (Span& s : spans)
                ++s.depth;
            spans.insert(spans.begin(), {from_, now, 0, map_.names[function]});
            stack_[0] = {function, cpu.sp, 0};
        }
        stack_[0].sp = cpu.sp;
    }
    const bool called = cpu.sp < spBefore_ && (stack_.empty() || function != stack_.back().function || cpu.pc == 0 || map_.of(cpu.pc - 1) != function);
    const bool jumped = !called && (stack_.empty() || function != stack_.back().function);
    // Who is jumped to returns to where the other one would have.
    std::uint16_t sp = cpu.sp;
    if (jumped && !stack_.empty()) {
        spans[stack_.back().span].to = now;
        sp = stack_.back().sp;
        stack_.pop_back();
    }
    if (called || jumped) {
        if (spans.size() >= most)
            return false;
        spans.push_back({now, now, static_cast<std::uint32_t>(stack_.size()), nameOf(function)});
        stack_.push_back({function, sp, spans.size() - 1});
    }
    spBefore_ = cpu.sp;
    if (cpu.sleeping && !asleep_) {
        asleep_ = spans.size();
        spans.push_back({now, now, static_cast<std::uint32_t>(stack_.size()), "asleep", true});
    }
    return true;
}

void CallFollower::close(std::vector<Span>& spans, Time at) const
{
    for (const Open& open : stack_)
        spans[open.span].to = at;
    if (asleep_)
        spans[*asleep_].to = at;
}

void CallFollower::renumber(const std::vector<std::size_t>& now)
{
    for (Open& open : stack_)
        open.span = now[open.span];
    if (asleep_)
        asleep_ = now[*asleep_];
}

}  // namespace bramix::session
