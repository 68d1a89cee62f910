#include "chip/toy/toy_debug.h"

#include <cstring>
#include <map>

#include <fmt/format.h>

#include "chip/families.h"
#include "chip/toy/toy.h"

namespace bramix::toy {

namespace {

std::uint32_t wordAt(const chip::CodeView& code, std::uint32_t address)
{
    std::uint32_t word = 0;
    if (address >= code.begin && address - code.begin + 4 <= code.bytes.size())
        std::memcpy(&word, &code.bytes[address - code.begin], sizeof word);
    return word;
}

debug::InstructionText disassemble(const chip::Device&, const chip::CodeView& code, std::uint32_t address, const debug::Symbols*)
{
    static constexpr const char* kNames[] = {"none", "nop", "ldi", "lui", "addi", "add", "sub", "ldw", "stw", "beq", "bne", "jmp", "call", "callr", "ret", "eret", "wfi", "push", "pop"};
    const std::uint32_t word = wordAt(code, address);
    debug::InstructionText out;
    out.address = address;
    out.size = 4;
    out.mnemonic = (word >> 24) < std::size(kNames) ? kNames[word >> 24] : ".word";
    out.operands = fmt::format("{}, {}, {}", (word >> 20) & 15U, (word >> 16) & 15U, word & 0xFFFFU);
    return out;
}

// What is called is a function, and so is what a row of the table leads to; each reaches up to the next.
debug::Symbols functionsOf(const chip::CodeView& code, const chip::Device& device)
{
    std::map<std::uint32_t, std::string> starts;
    std::uint32_t end = code.begin + static_cast<std::uint32_t>(code.bytes.size());
    while (end > code.begin && (wordAt(code, end - 4) == UINT32_MAX || wordAt(code, end - 4) == 0))
        end -= 4;
    for (unsigned n = 0; n < kExceptions; ++n)
        if (const std::uint32_t to = wordAt(code, code.begin + 4 * n); to >= code.begin && to < end)
            starts.try_emplace(to, n == 0 ? "main" : fmt::format("handler_{}", n));
    for (std::uint32_t a = code.begin + 4 * kExceptions; a < end; a += 4)
        if (const chip::InstructionInfo i = chip::decode(device, code, a); i.flow == chip::Flow::call && *i.target < end)
            starts.try_emplace(*i.target, fmt::format("code_{:04x}", *i.target));
    std::vector<debug::Function> out;
    for (auto it = starts.begin(); it != starts.end(); ++it) {
        debug::Function f;
        f.name = it->second;
        f.fromTable = f.fromCode = true;
        f.ranges = {{it->first, std::next(it) == starts.end() ? end : std::next(it)->first}};
        out.push_back(std::move(f));
    }
    return debug::Symbols::ofFunctions(std::move(out));
}

std::uint32_t memoryAt(const debug::Target& target, std::uint32_t address)
{
    std::uint32_t word = 0;
    for (unsigned i = 0; i < 4; ++i)
        word |= std::uint32_t{target.data(address + i)} << (8 * i);
    return word;
}

// A function keeps the link register itself, or has pushed it first of all; a handler stands on what the exception has pushed.
std::vector<debug::Frame> unwind(const debug::FrameTable&, const debug::Symbols& symbols, const debug::Target& target, const debug::Registers& now, std::size_t most)
{
    std::vector<debug::Frame> out;
    debug::Registers regs = now;
    bool afterCall = false;
    constexpr std::size_t kMost = 32;
    while (out.size() < std::min(most, kMost)) {
        debug::Frame frame;
        frame.registers = regs;
        frame.function = symbols.outerFunctionAt(afterCall ? regs.pc - 4 : regs.pc);
        if (frame.function < 0)
            break;
        const debug::Function& function = symbols.functions()[static_cast<std::size_t>(frame.function)];
        frame.place.function = function.name;
        // How much has been pushed on the way here.
        std::uint32_t depth = 0, linkBelow = 0;
        for (std::uint32_t a = function.begin(); a < regs.pc; a += 4) {
            std::uint32_t word = 0;
            for (unsigned i = 0; i < 4; ++i)
                word |= std::uint32_t{target.flash(a + i)} << (8 * i);
            const auto op = static_cast<Op>(word >> 24);
            if (op == Op::push) {
                depth += 4;
                if (((word >> 20) & 15U) == kLink)
                    linkBelow = depth;
            } else if (op == Op::pop) {
                depth -= 4;
                linkBelow = depth < linkBelow ? 0 : linkBelow;
            } else if (op == Op::ret || op == Op::eret) {
                depth = linkBelow = 0;
            }
        }
        const std::uint32_t cfa = regs.sp + depth;
        frame.cfa = cfa;
        for (const chip::Exception& e : target.device().exceptions)
            if (e.number > 0 && e.handlerName == function.name)
                frame.interrupt = e.name;
        debug::Registers caller = regs;
        if (!frame.interrupt.empty()) {
            frame.cfa = cfa + 12;
            caller.pc = memoryAt(target, cfa);
            caller.r[kLink] = memoryAt(target, cfa + 4);
            caller.sp = cfa + 12;
        } else {
            caller.pc = linkBelow != 0 ? memoryAt(target, cfa - linkBelow) : static_cast<std::uint32_t>(regs.r[kLink]);
            caller.sp = cfa;
        }
        caller.r[kStack] = caller.sp;
        out.push_back(frame);
        if (function.name == "main")
            break;
        afterCall = frame.interrupt.empty();
        regs = caller;
    }
    return out;
}

}  // namespace

const debug::Architecture& architecture()
{
    static const debug::Architecture all{.family = "toy", .disassemble = disassemble, .functionsOf = functionsOf, .unwind = unwind};
    return all;
}

}  // namespace bramix::toy
