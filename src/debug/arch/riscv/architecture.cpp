#include "debug/arch/riscv/architecture.h"

#include "chip/riscv/core/isa.h"
#include "chip/riscv/esp32c3/device.h"
#include "debug/arch/link_unwind.h"

namespace bramix::debug::riscv {

namespace core = chip::riscv;
using core::Op;

namespace {

constexpr unsigned kRa = 1, kSp = 2;

Prologue readPrologue(const Target& target, std::uint32_t begin, std::uint32_t pc)
{
    Prologue out;
    constexpr int kMost = 24;
    for (int n = 0; begin < pc && n < kMost; ++n) {
        const core::Instruction i = core::decode(wordAt(target, begin));
        if (i.op == Op::addi && i.d == kSp && i.a == kSp && i.imm < 0)
            out.depth += static_cast<std::uint32_t>(-i.imm);
        else if (i.op == Op::sw && i.a == kSp && i.imm >= 0)
            out.saved.emplace_back(i.b, out.depth - static_cast<std::uint32_t>(i.imm));
        else if ((i.op >= Op::jal && i.op <= Op::bgeu) || i.op == Op::mret || (i.op == Op::addi && i.d == kSp && i.a == kSp))
            break;  // the prologue is over
        begin += i.size;
    }
    return out;
}

// A handler's return address is in mepc, not in ra: it is known by the mret that ends its function, and by mcause, whose exception is under way. Only the innermost one's mepc is
// still there.
bool leaveException(const Target& target, const Frame& frame, std::uint32_t, unsigned inner, Registers& caller, std::string& exception)
{
    const auto csr = [&](std::size_t which) { return static_cast<std::uint32_t>(target.coreRegister(core::kFirstCsr + which)); };
    constexpr std::size_t kTvec = 2, kEpc = 4, kCause = 5;
    if (inner != 0 || frame.function < 0)
        return false;
    // The function that mtvec leads to: itself, or by the row of its table.
    const std::uint32_t tvec = csr(kTvec), cause = csr(kCause), pc = frame.registers.pc;
    std::uint32_t entry = tvec & ~3U;
    if ((tvec & 1U) != 0) {
        entry = tvec & ~0xFFU;
        if ((cause & 0x80000000U) != 0)
            entry += 4 * (cause & 31U);
    }
    const core::Instruction first = core::decode(wordAt(target, entry));
    const std::uint32_t to = first.op == Op::jal && first.d == 0 ? entry + static_cast<std::uint32_t>(first.imm) : entry;
    // Somewhere up to the function's end stands its mret.
    bool within = pc == entry || pc == to;
    for (std::uint32_t at = to, n = 0; n < 2048 && !within; ++n) {
        const core::Instruction i = core::decode(wordAt(target, at));
        if (at <= pc && pc < at + i.size)
            within = true;
        if (i.op == Op::mret || i.op == Op::undefined)
            break;
        at += i.size;
    }
    if (!within)
        return false;
    const unsigned number = (cause & 0x80000000U) != 0 ? 32 + (cause & 31U) : 1 + (cause & 15U);
    exception = number < target.device().exceptions.size() ? target.device().exceptions[number].name : "trap";
    caller.pc = csr(kEpc);
    return true;
}

std::vector<Frame> unwind(const FrameTable& table, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most)
{
    static const LinkMachine machine{
        .stack = kSp, .link = kRa, .counter = static_cast<unsigned>(core::kPcRegister), .registers = 32, .scratch = {5, 6, 7, 10, 11, 12, 13, 14, 15, 16, 17, 28, 29, 30, 31}, .codeBit = 0, .readPrologue = readPrologue, .leaveException = leaveException};
    return unwindByLink(machine, table, symbols, target, now, most);
}

// GDB manual, G.5.12.
std::string_view debuggerFeature(const chip::CoreRegister& reg) { return reg.debuggerNumber <= 32 ? "org.gnu.gdb.riscv.cpu" : "org.gnu.gdb.riscv.csr"; }

}  // namespace

const Architecture& architecture()
{
    static const Architecture all{.family = "riscv", .disassemble = disassemble, .unwind = unwind, .debuggerFeature = debuggerFeature};
    return all;
}

}  // namespace bramix::debug::riscv
