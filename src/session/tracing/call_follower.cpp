#include "session/tracing/call_follower.h"

#include <algorithm>
#include <utility>

#include "session/debugger/debugger.h"

namespace bramix::session {

Result<void> CallFollower::begin(const Program& program, const bench::World::ChipUnit& unit, Time at, std::vector<Span>& spans)
{
    from_ = at;
    map_ = debug::FunctionMap(program.symbols, unit.chip->code(), *unit.device);
    if (map_.names.empty())
        return kernel::fail({}, "the firmware tells no functions");
    const std::vector<debug::Frame> frames = program.frames.unwind(program.symbols, ChipTarget(unit), debug::registersOf(*unit.chip));
    for (auto f = frames.rbegin(); f != frames.rend(); ++f) {
        if (f->inlined)
            continue;
        const std::uint16_t number = map_.of(f->registers.pc);
        spans.push_back({at, at, static_cast<std::uint32_t>(stack_.size()), nameOf(number)});
        // What calls it is the next one outwards that is not inlined.
        const auto outer = std::find_if(f.base(), frames.end(), [](const debug::Frame& frame) { return !frame.inlined; });
        stack_.push_back({number, f->cfa - unit.device->returnBytes, spans.size() - 1, outer == frames.end() ? UINT32_MAX : outer->registers.pc});
    }
    standBefore(unit);
    spBefore_ = static_cast<std::uint32_t>(unit.chip->stackPointer());
    return {};
}

void CallFollower::standBefore(const bench::World::ChipUnit& unit)
{
    pcBefore_ = unit.chip->codeAddress();
    instructionsBefore_ = unit.chip->instructions();
    if (unit.device->returnBytes == 0)
        next_ = unit.chip->instructionAt(pcBefore_);
}

bool CallFollower::look(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most)
{
    return unit.device->returnBytes == 0 ? lookByFlow(unit, spans, most) : lookByStack(unit, spans, most);
}

bool CallFollower::push(std::vector<Span>& spans, std::size_t most, Time now, const Open& open)
{
    if (spans.size() >= most)
        return false;
    spans.push_back({now, now, static_cast<std::uint32_t>(stack_.size()), nameOf(open.function)});
    stack_.push_back(open);
    stack_.back().span = spans.size() - 1;
    return true;
}

bool CallFollower::lookByFlow(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most)
{
    const Time now = unit.chip->now();
    const std::uint32_t pc = unit.chip->codeAddress();
    const bool sleeping = unit.chip->isSleeping();
    const std::uint16_t function = map_.of(pc);
    if (asleep_ && !sleeping)
        spans[*std::exchange(asleep_, std::nullopt)].to = now;
    bool room = true;
    if (unit.chip->instructions() == instructionsBefore_) {
        // No instruction has run, but control is elsewhere: an exception has been entered.
        if (pc != pcBefore_)
            room = push(spans, most, now, {function, 0, 0, pcBefore_});
    } else if (next_.isCall()) {
        room = push(spans, most, now, {function, 0, 0, pcBefore_ + next_.size});
    } else {
        if (next_.isReturn())
            if (const auto frame = std::find_if(stack_.rbegin(), stack_.rend(), [pc](const Open& open) { return open.returnsTo == pc; }); frame != stack_.rend())
                for (auto left = frame - stack_.rbegin() + 1; left > 0; --left) {
                    spans[stack_.back().span].to = now;
                    stack_.pop_back();
                }
        // Who is jumped to returns to where the other one would have.
        if (stack_.empty() || stack_.back().function != function) {
            const std::uint32_t returnsTo = stack_.empty() ? UINT32_MAX : stack_.back().returnsTo;
            if (!stack_.empty()) {
                spans[stack_.back().span].to = now;
                stack_.pop_back();
            }
            room = push(spans, most, now, {function, 0, 0, returnsTo});
        }
    }
    if (!room)
        return false;
    standBefore(unit);
    if (sleeping && !asleep_) {
        asleep_ = spans.size();
        spans.push_back({now, now, static_cast<std::uint32_t>(stack_.size()), "asleep", true});
    }
    return true;
}

bool CallFollower::lookByStack(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most)
{
    const Time now = unit.chip->now();
    const std::uint32_t pc = unit.chip->codeAddress();
    const auto stack = static_cast<std::uint32_t>(unit.chip->stackPointer());
    const bool sleeping = unit.chip->isSleeping();
    if (asleep_ && !sleeping)
        spans[*std::exchange(asleep_, std::nullopt)].to = now;
    while (stack_.size() > 1 && stack > stack_.back().sp) {
        spans[stack_.back().span].to = now;
        stack_.pop_back();
    }
    const std::uint16_t function = map_.of(pc);
    if (stack_.size() == 1 && stack > stack_[0].sp) {
        // Out of the outermost that was known. Where it has not only given room on the stack back, its caller has stood below it all the time.
        if (function != stack_[0].function && function != kNoFunction) {
            spans[stack_[0].span].to = now;
            for (Span& s : spans)
                ++s.depth;
            spans.insert(spans.begin(), {from_, now, 0, map_.names[function]});
            stack_[0] = {function, stack, 0};
        }
        stack_[0].sp = stack;
    }
    const bool called = stack < spBefore_ && (stack_.empty() || function != stack_.back().function || pc < unit.device->codeStep || map_.of(pc - unit.device->codeStep) != function);
    const bool jumped = !called && (stack_.empty() || function != stack_.back().function);
    // Who is jumped to returns to where the other one would have.
    std::uint32_t sp = stack;
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
    spBefore_ = stack;
    if (sleeping && !asleep_) {
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
