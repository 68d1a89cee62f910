#include "debug/arch/pic16/architecture.h"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "chip/pic16/core/cpu.h"
#include "chip/pic16/core/isa.h"
#include "chip/pic16/device.h"
#include "debug/arch/begin_frame.h"
#include "debug/arch/follow_code.h"

namespace bramix::debug::pic16 {

namespace core = chip::pic16;
using core::Instruction;
using core::Op;

namespace {

// The names that a register of seven bits has, bank by bank.
std::vector<std::string> namesOf(const chip::Device& device, std::uint8_t f)
{
    std::vector<std::string> out;
    for (const unsigned bank : {0U, 0x80U, 0x100U, 0x180U})
        if (const auto at = device.registers().at(bank | f); at.reg != nullptr && at.reg->address == (bank | f) && std::find(out.begin(), out.end(), at.reg->name) == out.end())
            out.push_back(at.reg->name);
    return out;
}

std::string variableAt(const Symbols* symbols, std::uint8_t f)
{
    if (symbols == nullptr)
        return {};
    std::string out;
    for (const unsigned bank : {0U, 0x80U, 0x100U, 0x180U})
        if (const std::string name = symbols->nameOf(bank | f, Space::data); !name.empty() && out.find(name) == std::string::npos)
            out += (out.empty() ? "" : " or ") + name;
    return out;
}

// The call stack is the hardware's: it is only read.
std::vector<Frame> unwind(const FrameTable&, const Symbols& symbols, const Target& target, const Registers& now, std::size_t most)
{
    std::vector<Frame> out;
    Registers regs = now;
    auto depth = static_cast<unsigned>(now.r[core::kDepthRegister]);
    bool afterCall = false;
    while (out.size() < std::min<std::size_t>(most, 64)) {
        Frame frame = beginFrame(symbols, regs, afterCall && regs.pc > 0 ? regs.pc - 1 : regs.pc, out);
        frame.cfa = 0x101U - depth;
        // The handler is the function that the vector leads to.
        constexpr std::uint32_t kVector = 4;
        const int at = symbols.outerFunctionAt(kVector);
        const bool handles = depth > 0 && frame.function >= 0 && frame.function == at && regs.pc >= kVector;
        if (handles)
            frame.interrupt = target.device().exceptions[1].name;
        out.push_back(frame);
        if (depth == 0)
            break;
        --depth;
        regs.pc = static_cast<std::uint32_t>(now.r[core::kFirstStack + depth % 8]);
        regs.sp = 0x100U - depth;
        regs.r[core::kPcRegister] = regs.pc;
        regs.r[core::kDepthRegister] = depth;
        for (const std::size_t reg : {core::kWRegister, core::kStatusRegister, core::kFsrRegister, core::kPclathRegister})
            regs.known.reset(reg);
        afterCall = !handles;
    }
    return out;
}

Symbols functionsOf(const chip::CodeView& code, const chip::Device& device)
{
    std::map<std::uint32_t, std::string> entries{{0, "reset"}};
    // A handler is there where something stands at its place.
    constexpr std::uint32_t kVector = 4;
    if (code.bytes.size() > 2 * kVector + 1 && (code.bytes[2 * kVector] != 0xFF || (code.bytes[2 * kVector + 1] & 0x3F) != 0x3F))
        entries[kVector] = "interrupt";
    return Symbols::ofFunctions(functionsByFlow(code, device, entries));
}

}  // namespace

InstructionText disassemble(const chip::Device& device, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols)
{
    InstructionText out;
    out.address = address;
    out.size = 1;
    const std::size_t at = std::size_t{address - code.begin} * 2;
    if (address < code.begin || at + 1 >= code.bytes.size()) {
        out.mnemonic = "outside flash";
        return out;
    }
    const Instruction i = core::decode(static_cast<std::uint16_t>(code.bytes[at] | code.bytes[at + 1] << 8));
    out.mnemonic = core::mnemonic(i.op);
    out.cycles = "1";
    const auto file = [&] {
        const std::vector<std::string> names = namesOf(device, i.f);
        if (names.size() == 1)
            return names.front();
        if (names.size() > 1)
            out.note = fmt::format("{} by bank", fmt::join(names, " or "));
        else if (const std::string variable = variableAt(symbols, i.f); !variable.empty())
            out.note = variable;
        return fmt::format("0x{:02x}", i.f);
    };
    const std::uint32_t to = (address & 0x1800U) | i.k;
    const auto leads = [&] {
        out.cycles = "2";
        if (symbols != nullptr)
            if (const std::string name = symbols->nameOf(to, Space::flash); !name.empty())
                out.note = "-> " + name;
        return fmt::format("0x{:04x}", to);
    };
    switch (i.op) {
    case Op::clrf: case Op::movwf: out.operands = file(); break;
    case Op::bcf: case Op::bsf: case Op::btfsc: case Op::btfss:
        out.operands = fmt::format("{}, {}", file(), i.bit);
        if (i.op == Op::btfsc || i.op == Op::btfss)
            out.cycles = "1/2";
        break;
    case Op::call: case Op::goto_: out.operands = leads(); break;
    case Op::retlw: out.cycles = "2", out.operands = fmt::format("0x{:02x}", i.k); break;
    case Op::return_: case Op::retfie: out.cycles = "2"; break;
    case Op::addlw: case Op::andlw: case Op::iorlw: case Op::movlw: case Op::sublw: case Op::xorlw: out.operands = fmt::format("0x{:02x}", i.k); break;
    case Op::tris: out.operands = fmt::format("0x{:02x}", i.f); break;
    case Op::clrw: case Op::nop: case Op::clrwdt: case Op::sleep: case Op::option: case Op::undefined: case Op::count: break;
    default:
        out.operands = fmt::format("{}, {}", file(), i.toFile ? "f" : "w");
        if (i.op == Op::decfsz || i.op == Op::incfsz)
            out.cycles = "1/2";
        break;
    }
    return out;
}

const Architecture& architecture()
{
    static const Architecture all{.family = "pic16", .disassemble = disassemble, .functionsOf = functionsOf, .symbolsBeside = symbolsBeside, .unwind = unwind};
    return all;
}

}  // namespace bramix::debug::pic16
