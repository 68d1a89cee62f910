#include "debug/arch/link_unwind.h"

#include <algorithm>

#include "debug/arch/begin_frame.h"

namespace bramix::debug {

std::uint32_t wordAt(const Target& target, std::uint32_t address)
{
    std::uint32_t out = 0;
    for (unsigned i = 0; i < 4; ++i)
        out |= std::uint32_t{target.data(address + i)} << (8 * i);
    return out;
}

std::vector<Frame> unwindByLink(const LinkMachine& machine, const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most)
{
    constexpr std::size_t kMostFrames = 64;
    std::vector<Frame> out;
    Registers regs = now;
    bool afterCall = false;
    unsigned inner = 0;
    while (out.size() < std::min(most, kMostFrames)) {
        const std::uint32_t look = afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc;
        Frame frame = beginFrame(symbols, regs, look, out);
        const int outer = frame.function;
        Registers caller = regs;
        std::uint32_t cfa = regs.sp, returns = static_cast<std::uint32_t>(regs.r[machine.link]);
        const auto save = [&](unsigned reg, std::uint32_t address) {
            if (reg >= machine.registers || reg == machine.stack)
                return;
            caller.r[reg] = wordAt(target, address);
            caller.known.set(reg);
            caller.savedAt[reg] = address;
            if (reg == machine.link)
                returns = static_cast<std::uint32_t>(caller.r[reg]);
        };
        FrameTable::Rules rules;
        if (table.rulesAt(look, rules)) {
            const std::uint32_t base = rules.cfaRegister == machine.stack || rules.cfaRegister >= machine.registers ? regs.sp : static_cast<std::uint32_t>(regs.r[rules.cfaRegister]);
            cfa = base + static_cast<std::uint32_t>(rules.cfaOffset);
            for (const auto& [reg, offset] : rules.saved)
                save(reg, cfa + static_cast<std::uint32_t>(offset));
        } else if (outer >= 0) {
            const Prologue prologue = machine.readPrologue(target, symbols.functions()[static_cast<std::size_t>(outer)].begin(), regs.pc);
            cfa = regs.sp + prologue.depth;
            for (const auto& [reg, below] : prologue.saved)
                save(reg, cfa - below);
        }
        frame.cfa = cfa;
        std::string exception;
        Registers interrupted = caller;
        interrupted.sp = cfa;
        const bool handles = machine.leaveException && machine.leaveException(target, frame, returns, inner, interrupted, exception);
        frame.interrupt = exception;
        const bool first = out.empty();
        out.push_back(frame);
        if (outer < 0 || (!handles && (frame.place.function == "main" || cfa < regs.sp || returns < 2 || (!first && (returns & ~machine.codeBit) == regs.pc && cfa == regs.sp))))
            break;
        if (handles) {
            caller = interrupted;
            ++inner;
        } else {
            // What a called function may spoil is not known in its caller, unless it is saved.
            for (const unsigned reg : machine.scratch)
                if (caller.savedAt[reg] == regs.savedAt[reg])
                    caller.known.reset(reg);
            caller.pc = returns & ~machine.codeBit;
            caller.sp = cfa;
        }
        caller.r[machine.stack] = caller.sp;
        caller.r[machine.counter] = caller.pc;
        afterCall = !handles;
        regs = caller;
        if (symbols.outerFunctionAt(afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc) < 0)
            break;
    }
    return out;
}

}  // namespace bramix::debug
