#include "debug/arch/arm9/architecture.h"

#include <bit>

#include <fmt/format.h>

#include "chip/arm9/arm926/device.h"
#include "chip/arm9/core/cpu.h"
#include "debug/arch/follow_code.h"
#include "debug/arch/link_unwind.h"

namespace bramix::debug::arm9 {

namespace core = chip::arm9;

namespace {

constexpr unsigned kSp = 13, kLr = 14, kPc = 15;

// Words pushed from the beginning of a function up to the present place; of Thumb, by what stands for it in ARM.
Prologue readPrologue(const Target& target, std::uint32_t begin, std::uint32_t pc)
{
    Prologue out;
    const bool thumb = (target.coreRegister(core::kCpsrRegister) & core::kThumb) != 0;
    constexpr int kMost = 24;
    for (int n = 0; begin < pc && n < kMost; ++n) {
        std::uint32_t w = wordAt(target, begin);
        begin += thumb ? 2 : 4;
        if (thumb) {
            const core::Expanded e = core::expandThumb(static_cast<std::uint16_t>(w));
            if (e.kind != core::Expanded::Kind::arm)
                break;
            w = e.word;
        }
        if ((w & 0x0FFF0000U) == 0x092D0000U) {  // STMDB sp!
            for (int r = 15; r >= 0; --r)
                if (((w >> r) & 1U) != 0) {
                    out.depth += 4;
                    out.saved.emplace_back(static_cast<unsigned>(r), out.depth);
                }
        } else if ((w & 0x0FFF0FFFU) == 0x052D0004U) {  // STR r, [sp, #-4]!
            out.depth += 4;
            out.saved.emplace_back(w >> 12 & 15U, out.depth);
        } else if ((w & 0x0FFFF000U) == 0x024DD000U) {  // SUB sp, sp, #
            out.depth += std::rotr(w & 0xFFU, static_cast<int>((w >> 8 & 15U) * 2));
        } else if ((w & 0x0E000000U) == 0x0A000000U || (w & 0x0FFFFFF0U) == 0x012FFF10U || (w & 0x0FFF0000U) == 0x08BD0000U) {
            break;  // the prologue is over
        }
    }
    return out;
}

// The rows of the vector table, and where each leads to.
std::uint32_t handlerOf(const Target& target, unsigned vector)
{
    // High vectors where the low ones are not there is nothing that can be told from here.
    const std::uint32_t at = 4 * vector, w = wordAt(target, at);
    if ((w & 0x0E000000U) == 0x0A000000U)
        return at + 8 + static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6);
    if ((w & 0x0FFFF000U) == 0x059FF000U)
        return wordAt(target, at + 8 + (w & 0xFFFU)) & ~1U;
    return at;
}

std::size_t indexOf(std::uint32_t mode, unsigned number)
{
    // System and user mode have the same registers.
    const std::uint32_t wanted = mode == core::kSystem ? core::kUser : mode;
    for (std::size_t b = 0; b < core::bankedRegisters().size(); ++b)
        if (core::bankedRegisters()[b].mode == wanted && core::bankedRegisters()[b].number == number)
            return core::kFirstBanked + b;
    return 0;
}

std::vector<Frame> unwind(const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most)
{
    // A handler is the function that its mode's vector leads to; what it has interrupted goes on in the mode that SPSR says, on that mode's own stack.
    const auto leave = [&symbols](const Target& from, const Frame& frame, std::uint32_t returns, unsigned, Registers& caller, std::string& exception) {
        const auto cpsr = static_cast<std::uint32_t>(frame.registers.r[core::kCpsrRegister]);
        const std::uint32_t mode = cpsr & 0x1FU;
        struct Row {
            std::uint32_t mode;
            unsigned vector;
            std::uint32_t back;
        };
        static constexpr Row kRows[] = {{core::kIrq, core::kIrqVector, 4}, {core::kFiq, core::kFiqVector, 4}, {core::kAbort, core::kDataVector, 8}, {core::kAbort, core::kPrefetchVector, 4}, {core::kUndefined, core::kUndefinedVector, 0}, {core::kSupervisor, core::kCallVector, 0}};
        for (const Row& row : kRows) {
            if (row.mode != mode)
                continue;
            const std::uint32_t handler = handlerOf(from, row.vector);
            if (frame.function < 0 || symbols.outerFunctionAt(handler) != frame.function)
                continue;
            exception = from.device().exceptions[row.vector].name;
            // lr runs ahead of what was interrupted, until the handler itself takes that off.
            bool corrected = row.back == 0;
            const std::uint32_t begin = symbols.functions()[static_cast<std::size_t>(frame.function)].begin();
            for (std::uint32_t at = begin; at < frame.registers.pc && at < begin + 16; at += 4)
                corrected = corrected || (wordAt(from, at) & 0x0FFFF000U) == 0x024EE000U;  // SUB lr, lr, #
            caller.pc = (corrected ? returns : returns - row.back) & ~1U;
            const auto spsr = static_cast<std::uint32_t>(from.coreRegister(indexOf(mode, 16)));
            const std::uint32_t before = spsr & 0x1FU;
            caller.r[core::kCpsrRegister] = spsr;
            if (before != mode) {
                caller.sp = static_cast<std::uint32_t>(from.coreRegister(indexOf(before, kSp)));
                caller.r[kLr] = from.coreRegister(indexOf(before, kLr));
                caller.savedAt[kLr] = 0;
            }
            return true;
        }
        return false;
    };
    LinkMachine machine{.stack = kSp, .link = kLr, .counter = kPc, .registers = 16, .scratch = {0, 1, 2, 3, 12}, .codeBit = 1, .readPrologue = readPrologue, .leaveException = leave};
    return unwindByLink(machine, table, symbols, target, now, most);
}

// GDB manual, G.5.3.
std::string_view debuggerFeature(const chip::CoreRegister& reg)
{
    constexpr int kCpsr = 25;
    return reg.debuggerNumber <= kCpsr ? "org.gnu.gdb.arm.core" : "arm.banked-registers";
}

Symbols functionsOf(const chip::CodeView& code, const chip::Device& device)
{
    std::size_t first = 0;
    while (first < code.bytes.size() && code.bytes[first] == 0xFF)
        ++first;
    if (first >= code.bytes.size())
        return {};
    return Symbols::ofFunctions(functionsByFlow(code, device, {{static_cast<std::uint32_t>(first) & ~3U, "begin"}}));
}

}  // namespace

const Architecture& architecture()
{
    static const Architecture all{.family = "arm9", .disassemble = disassemble, .functionsOf = functionsOf, .unwind = unwind, .debuggerFeature = debuggerFeature};
    return all;
}

}  // namespace bramix::debug::arm9
