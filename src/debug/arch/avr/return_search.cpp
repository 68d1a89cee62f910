#include "debug/arch/avr/return_search.h"

#include "chip/avr/device.h"

#include <set>
#include <vector>

namespace bramix::debug::avr {

namespace core = chip::avr;
using core::Op;

core::Instruction instructionAt(const Target& target, std::uint32_t address)
{
    const auto word = [&](std::uint32_t a) { return static_cast<std::uint16_t>(target.flash(a) | (target.flash(a + 1) << 8)); };
    return core::decode(core::tableOf(target.device()).core, address / 2, word(address), word(address + 2));
}

bool ReturnSearch::isReturnOf(const Symbols& symbols, const Target& target, std::uint32_t word, int function)
{
    if (word < 1 || word >= core::tableOf(target.device()).core.flashWords)
        return false;
    std::optional<std::uint32_t> called;
    if (word >= 2) {
        const core::Instruction two = instructionAt(target, (word - 2) * 2);
        if (two.op == Op::call && two.words == 2)
            called = two.target;
    }
    if (!called) {
        const core::Instruction one = instructionAt(target, (word - 1) * 2);
        if (one.op == Op::icall || one.op == Op::eicall)
            return true;
        if (one.op != Op::rcall || one.target == word)
            return false;
        called = one.target;
    }
    const int to = symbols.outerFunctionAt(*called * 2);
    return to == function || (to >= 0 && reaches(symbols, target, to, function));
}

// By jumps, or by running on over its end; through a few others at most.
bool ReturnSearch::reaches(const Symbols& symbols, const Target& target, int from, int to)
{
    const auto known = reaches_.find({from, to});
    if (known != reaches_.end())
        return known->second;
    constexpr int kThrough = 4;
    constexpr std::uint32_t kMostBytes = 4096;
    std::set<int> seen{from};
    std::vector<int> now{from};
    bool found = false;
    for (int round = 0; round < kThrough && !found && !now.empty(); ++round) {
        std::vector<int> next;
        const auto goesTo = [&](std::uint32_t address) {
            const int f = symbols.outerFunctionAt(address);
            found = found || f == to;
            if (f >= 0 && seen.insert(f).second)
                next.push_back(f);
        };
        for (const int f : now)
            for (const CodeRange& range : symbols.functions()[static_cast<std::size_t>(f)].ranges) {
                bool runsOn = true;
                for (std::uint32_t a = range.begin; a < range.end && a < range.begin + kMostBytes;) {
                    const core::Instruction i = instructionAt(target, a);
                    if (i.op == Op::rjmp || i.op == Op::jmp || i.op == Op::brbs || i.op == Op::brbc)
                        if (i.target * 2 < range.begin || i.target * 2 >= range.end)
                            goesTo(i.target * 2);
                    runsOn = i.op != Op::ret && i.op != Op::reti && i.op != Op::rjmp && i.op != Op::jmp && i.op != Op::ijmp && i.op != Op::eijmp;
                    a += 2U * i.words;
                }
                if (runsOn)
                    goesTo(range.end);
            }
        now = std::move(next);
    }
    return reaches_[{from, to}] = found;
}

std::optional<std::uint16_t> ReturnSearch::find(const Symbols& symbols, const Target& target, std::uint16_t sp, int function)
{
    constexpr std::uint32_t kMostBytes = 400;  // a frame of the library's is smaller
    const core::Core& core = core::tableOf(target.device()).core;
    const std::uint32_t bytes = core.longPc ? 3 : 2;
    for (std::uint32_t at = sp + 1U; at + bytes - 1 <= core.ramEnd && at < sp + kMostBytes; ++at) {
        std::uint32_t word = 0;
        for (std::uint32_t i = 0; i < bytes; ++i)
            word = (word << 8) | target.data(at + i);
        if (isReturnOf(symbols, target, word, function))
            return static_cast<std::uint16_t>(at);
    }
    return std::nullopt;
}

}  // namespace bramix::debug::avr
