#include <algorithm>

#include "chip/cortexm/core/isa.h"
#include "chip/cortexm/stm32f1/device.h"
#include "debug/arch/begin_frame.h"
#include "debug/arch/cortexm/architecture.h"

namespace bramix::debug::cortexm {

namespace core = chip::cortexm;
using core::Op;

namespace {

constexpr std::size_t kMostFrames = 64;
constexpr unsigned kSp = 13, kLr = 14, kPc = 15;

std::uint32_t wordAt(const Target& target, std::uint32_t address)
{
    std::uint32_t out = 0;
    for (unsigned i = 0; i < 4; ++i)
        out |= std::uint32_t{target.data(address + i)} << (8 * i);
    return out;
}

// Into a handler, into a thread on the main stack, on the process stack; what reset leaves in lr is none of them.
bool isExceptionReturn(std::uint32_t value) { return value == 0xFFFFFFF1U || value == 0xFFFFFFF9U || value == 0xFFFFFFFDU; }

// What the code of a function has pushed from its beginning up to pc.
struct Prologue {
    std::uint32_t depth = 0;                                  // how far the stack pointer lies below the CFA
    std::vector<std::pair<unsigned, std::uint32_t>> saved;    // register, distance below the CFA
};

Prologue readPrologue(const Target& target, std::uint32_t begin, std::uint32_t pc)
{
    Prologue out;
    constexpr int kMost = 24;
    for (int n = 0; begin < pc && n < kMost; ++n) {
        const auto half = [&](std::uint32_t a) { return static_cast<std::uint16_t>(target.data(a) | (target.data(a + 1) << 8)); };
        const core::Instruction i = core::decode(half(begin), half(begin + 2));
        if (i.op == Op::stm && i.n == kSp && !i.up && i.writeBack) {
            for (int r = 15; r >= 0; --r)
                if (((i.list >> r) & 1) != 0) {
                    out.depth += 4;
                    out.saved.emplace_back(static_cast<unsigned>(r), out.depth);
                }
        } else if (i.op == Op::str && i.n == kSp && i.writeBack && !i.up) {
            out.depth += i.imm;
            out.saved.emplace_back(i.d, out.depth);
        } else if (i.op == Op::sub && i.d == kSp && i.n == kSp && i.operand == core::Operand::immediate) {
            out.depth += i.imm;
        } else if (i.op == Op::b || i.op == Op::bl || i.op == Op::bx || i.op == Op::blx || i.op == Op::cbz || i.op == Op::cbnz || (i.op == Op::ldm && i.n == kSp)) {
            break;  // the prologue is over
        }
        begin += std::max<std::uint32_t>(i.size, 2);
    }
    return out;
}

}  // namespace

std::vector<Frame> unwind(const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most)
{
    std::vector<Frame> out;
    Registers regs = now;
    std::uint32_t exception = static_cast<std::uint32_t>(now.r[core::kXpsrRegister]) & 0x1FFU;
    bool afterCall = false, firstStack = true;
    while (out.size() < std::min(most, kMostFrames)) {
        const std::uint32_t look = afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc;
        Frame frame = beginFrame(symbols, regs, look, out);
        const int outer = frame.function;
        // Where the caller's registers are.
        Registers caller = regs;
        std::uint32_t cfa = regs.sp, returns = static_cast<std::uint32_t>(regs.r[kLr]);
        const auto save = [&](unsigned reg, std::uint32_t address) {
            if (reg >= 13 && reg != kLr)
                return;
            caller.r[reg] = wordAt(target, address);
            caller.known.set(reg);
            caller.savedAt[reg] = address;
            if (reg == kLr)
                returns = static_cast<std::uint32_t>(caller.r[reg]);
        };
        FrameTable::Rules rules;
        if (table.rulesAt(regs.pc, rules)) {
            const std::uint32_t base = rules.cfaRegister == kSp ? regs.sp : static_cast<std::uint32_t>(regs.r[rules.cfaRegister & 15U]);
            cfa = base + static_cast<std::uint32_t>(rules.cfaOffset);
            for (const auto& [reg, offset] : rules.saved)
                save(reg, cfa + static_cast<std::uint32_t>(offset));
        } else if (outer >= 0) {
            const Prologue prologue = readPrologue(target, symbols.functions()[static_cast<std::size_t>(outer)].begin(), regs.pc);
            cfa = regs.sp + prologue.depth;
            for (const auto& [reg, below] : prologue.saved)
                save(reg, cfa - below);
        }
        frame.cfa = cfa;
        const bool handles = isExceptionReturn(returns);
        if (handles && exception < target.device().exceptions.size())
            frame.interrupt = target.device().exceptions[exception].name;
        out.push_back(frame);
        if (outer < 0 || (!handles && (frame.place.function == "main" || cfa < regs.sp || returns < 2)))
            break;
        if (handles) {
            // What the exception has stacked, on the stack that was in use.
            const bool process = (returns & 4U) != 0;
            const std::uint32_t at = process && firstStack ? static_cast<std::uint32_t>(target.coreRegister(core::kPspRegister)) : cfa;
            firstStack = firstStack && !process;
            for (const auto& [reg, offset] : std::initializer_list<std::pair<unsigned, std::uint32_t>>{{0, 0}, {1, 4}, {2, 8}, {3, 12}, {12, 16}, {kLr, 20}})
                save(reg, at + offset);
            const std::uint32_t status = wordAt(target, at + 28);
            caller.pc = wordAt(target, at + 24) & ~1U;
            caller.sp = at + 32 + ((status >> 9 & 1U) != 0 ? 4U : 0U);
            caller.r[core::kXpsrRegister] = status;
            exception = status & 0x1FFU;
        } else {
            // What a called function may spoil is not known in its caller (AAPCS), unless it is saved.
            for (const unsigned reg : {0U, 1U, 2U, 3U, 12U})
                if (caller.savedAt[reg] == regs.savedAt[reg])
                    caller.known.reset(reg);
            caller.pc = returns & ~1U;
            caller.sp = cfa;
        }
        caller.r[kSp] = caller.sp;
        caller.r[kPc] = caller.pc;
        afterCall = !handles;
        regs = caller;
        if (symbols.outerFunctionAt(afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc) < 0)
            break;
    }
    return out;
}

}  // namespace bramix::debug::cortexm
