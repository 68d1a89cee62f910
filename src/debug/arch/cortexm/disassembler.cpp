#include <bit>

#include <fmt/format.h>

#include "chip/cortexm/core/isa.h"
#include "debug/arch/cortexm/architecture.h"

namespace bramix::debug::cortexm {

namespace core = chip::cortexm;
using core::Instruction;
using core::Op;
using core::Operand;
using core::Shift;

namespace {

constexpr const char* kConditions[] = {"eq", "ne", "cs", "cc", "mi", "pl", "vs", "vc", "hi", "ls", "ge", "lt", "gt", "le", "", ""};
constexpr const char* kShifts[] = {"lsl", "lsr", "asr", "ror", "rrx"};

std::string reg(unsigned n)
{
    static constexpr const char* kNames[] = {"sp", "lr", "pc"};
    return n < 13 ? fmt::format("r{}", n) : kNames[n - 13];
}

std::string shiftOf(const Instruction& i)
{
    if (i.shift == Shift::rrx)
        return ", rrx";
    return i.amount == 0 ? std::string() : fmt::format(", {} #{}", kShifts[static_cast<unsigned>(i.shift)], i.amount);
}

std::string listOf(std::uint16_t list)
{
    std::string out;
    for (unsigned n = 0; n < 16; ++n)
        if (((list >> n) & 1) != 0)
            out += (out.empty() ? "" : ", ") + reg(n);
    return "{" + out + "}";
}

// "[r3, #4]!", "[r3], #4", "[r3, r2, lsl #1]".
std::string addressOf(const Instruction& i)
{
    if (i.operand == Operand::shifted)
        return fmt::format("[{}, {}{}]", reg(i.n), reg(i.m), i.amount == 0 ? std::string() : fmt::format(", lsl #{}", i.amount));
    const std::string offset = i.imm == 0 && i.up ? std::string() : fmt::format(", #{}{}", i.up ? "" : "-", i.imm);
    if (!i.index)
        return fmt::format("[{}], #{}{}", reg(i.n), i.up ? "" : "-", i.imm);
    return fmt::format("[{}{}]{}", reg(i.n), offset, i.writeBack ? "!" : "");
}

class Text {
public:
    Text(const chip::CodeView& code, const Symbols* symbols) : code_(code), symbols_(symbols) {}

    InstructionText of(std::uint32_t address)
    {
        InstructionText out;
        out.address = address;
        if (!has(address)) {
            out.mnemonic = "outside flash";
            return out;
        }
        const Instruction i = at(address);
        out.size = i.size;
        condition_ = conditionAt(address);
        inIt_ = condition_ != nullptr;
        if (condition_ == nullptr)
            condition_ = "";
        out.cycles = "1";
        write(out, i, address);
        return out;
    }

private:
    [[nodiscard]] bool has(std::uint32_t a) const { return a >= code_.begin && std::size_t{a} - code_.begin + 1 < code_.bytes.size(); }
    [[nodiscard]] std::uint16_t half(std::uint32_t a) const { return has(a) ? static_cast<std::uint16_t>(code_.bytes[a - code_.begin] | (code_.bytes[a - code_.begin + 1] << 8)) : std::uint16_t{0xFFFF}; }
    [[nodiscard]] Instruction at(std::uint32_t a) const { return core::decode(half(a), half(a + 2)); }

    // Whether an instruction begins there, or the second half of a wide one stands there: a halfword that cannot begin a wide one ends an instruction, and from there on they follow each other in pairs.
    [[nodiscard]] bool begins(std::uint32_t address) const
    {
        bool even = true;
        for (std::uint32_t a = address; a >= code_.begin + 2 && core::isWide(half(a - 2)); a -= 2)
            even = !even;
        return even;
    }

    // The condition that an IT block before gives to an instruction; null: it stands in none.
    [[nodiscard]] const char* conditionAt(std::uint32_t address) const
    {
        constexpr std::uint32_t kFarthest = 2 + 3 * 4;
        for (std::uint32_t back = 2; back <= kFarthest && address >= code_.begin + back; back += 2) {
            const Instruction it = at(address - back);
            if (it.op != Op::it || !begins(address - back))
                continue;
            // Instruction by instruction from there: it must come to this one within the block.
            const unsigned length = 4 - static_cast<unsigned>(std::countr_zero(it.imm & 15U));
            std::uint32_t a = address - back + 2;
            for (unsigned n = 0; n < length; ++n) {
                if (a == address) {
                    const unsigned lowest = n == 0 ? it.condition & 1U : (it.imm >> (4 - n)) & 1U;
                    return kConditions[(it.condition & 14U) | lowest];
                }
                a += at(a).size;
            }
        }
        return nullptr;
    }

    void leads(InstructionText& out, std::uint32_t to) const
    {
        out.operands += fmt::format("0x{:08x}", to);
        if (symbols_ != nullptr)
            if (const std::string name = symbols_->nameOf(to, Space::flash); !name.empty())
                out.note = "-> " + name;
    }

    [[nodiscard]] std::string suffixed(const char* name, const Instruction& i) const
    {
        const bool flags = i.flags == core::Flags::always || (i.flags == core::Flags::outsideIt && !inIt_);
        const bool always = i.op == Op::tst || i.op == Op::teq || i.op == Op::cmp || i.op == Op::cmn;
        return std::string(name) + (flags && !always ? "s" : "") + condition_;
    }

    void write(InstructionText& out, const Instruction& i, std::uint32_t address)
    {
        const std::string d = reg(i.d), n = reg(i.n), m = reg(i.m);
        out.mnemonic = suffixed(core::mnemonic(i.op), i);
        const auto operand = [&] { return i.operand == Operand::immediate ? fmt::format("#{}", i.imm) : m + shiftOf(i); };
        switch (i.op) {
        case Op::mov:
            if (i.operand == Operand::byRegister) {
                out.mnemonic = suffixed(kShifts[static_cast<unsigned>(i.shift)], i);
                out.operands = fmt::format("{}, {}, {}", d, m, n);
            } else if (i.operand == Operand::shifted && (i.amount != 0 || i.shift == Shift::rrx)) {
                out.mnemonic = suffixed(kShifts[static_cast<unsigned>(i.shift)], i);
                out.operands = i.shift == Shift::rrx ? d + ", " + m : fmt::format("{}, {}, #{}", d, m, i.amount);
            } else {
                // Sixteen bits of an immediate at once are MOVW.
                if (i.operand == Operand::immediate && i.size == 4 && i.flags == core::Flags::never && !i.carries && i.imm > 0xFF && i.imm <= 0xFFFF)
                    out.mnemonic = suffixed("movw", i);
                out.operands = d + ", " + operand();
            }
            break;
        case Op::mvn: out.operands = d + ", " + operand(); break;
        case Op::movt: out.operands = fmt::format("{}, #{}", d, i.imm); break;
        case Op::tst: case Op::teq: case Op::cmp: case Op::cmn: out.operands = n + ", " + operand(); break;
        case Op::add: case Op::sub: case Op::and_: case Op::bic: case Op::orr: case Op::orn: case Op::eor: case Op::adc: case Op::sbc: case Op::rsb:
            if (i.op == Op::add && i.n == core::kPc && i.operand == Operand::immediate) {
                out.operands = fmt::format("{}, pc, #{}", d, i.imm);
                leadsAsNote(out, ((address + 4) & ~3U) + i.imm);
            } else {
                out.operands = fmt::format("{}, {}, {}", d, n, operand());
            }
            break;
        case Op::bfi: out.operands = fmt::format("{}, {}, #{}, #{}", d, n, i.amount, i.imm); break;
        case Op::bfc: out.operands = fmt::format("{}, #{}, #{}", d, i.amount, i.imm); break;
        case Op::sbfx: case Op::ubfx: out.operands = fmt::format("{}, {}, #{}, #{}", d, n, i.amount, i.imm); break;
        case Op::ssat: case Op::usat: out.operands = fmt::format("{}, #{}, {}{}", d, i.imm, m, shiftOf(i)); break;
        case Op::mul: case Op::sdiv: case Op::udiv:
            out.operands = fmt::format("{}, {}, {}", d, n, m);
            out.cycles = i.op == Op::mul ? "1" : "2-12";
            break;
        case Op::mla: case Op::mls: out.operands = fmt::format("{}, {}, {}, {}", d, n, m, reg(i.a)), out.cycles = "2"; break;
        case Op::smull: case Op::umull: case Op::smlal: case Op::umlal: out.operands = fmt::format("{}, {}, {}, {}", reg(i.a), d, n, m), out.cycles = "4-5"; break;
        case Op::clz: case Op::rbit: case Op::rev: case Op::rev16: case Op::revsh: out.operands = d + ", " + m; break;
        case Op::sxtb: case Op::sxth: case Op::uxtb: case Op::uxth: out.operands = d + ", " + m + (i.amount == 0 ? std::string() : fmt::format(", ror #{}", i.amount)); break;
        case Op::ldr: case Op::ldrb: case Op::ldrh: case Op::ldrsb: case Op::ldrsh: case Op::str: case Op::strb: case Op::strh:
            out.operands = d + ", " + addressOf(i);
            out.cycles = "2";
            if (i.n == core::kPc)
                leadsAsNote(out, ((address + 4) & ~3U) + (i.up ? i.imm : 0U - i.imm));
            break;
        case Op::ldrd: case Op::strd: out.operands = fmt::format("{}, {}, {}", d, reg(i.a), addressOf(i)), out.cycles = "3"; break;
        case Op::ldrex: case Op::ldrexb: case Op::ldrexh: out.operands = d + ", " + addressOf(i), out.cycles = "2"; break;
        case Op::strex: case Op::strexb: case Op::strexh: out.operands = fmt::format("{}, {}, {}", d, reg(i.a), addressOf(i)), out.cycles = "2"; break;
        case Op::ldm: case Op::stm: {
            const bool load = i.op == Op::ldm;
            out.cycles = fmt::format("{}", 1 + std::popcount(i.list));
            if (i.n == core::kSp && i.writeBack && i.up == load) {
                out.mnemonic = suffixed(load ? "pop" : "push", i);
                out.operands = listOf(i.list);
            } else {
                out.mnemonic = suffixed(load ? i.up ? "ldmia" : "ldmdb" : i.up ? "stmia" : "stmdb", i);
                out.operands = fmt::format("{}{}, {}", n, i.writeBack ? "!" : "", listOf(i.list));
            }
            break;
        }
        case Op::b:
            out.mnemonic = i.condition == core::kAlways ? std::string("b") + condition_ : std::string("b") + kConditions[i.condition];
            out.cycles = i.condition == core::kAlways ? "3" : "1/3";
            leads(out, address + 4 + i.imm);
            break;
        case Op::bl: out.cycles = "3"; leads(out, address + 4 + i.imm); break;
        case Op::bx: case Op::blx: out.operands = m, out.cycles = "3"; break;
        case Op::cbz: case Op::cbnz:
            out.operands = n + ", ";
            out.cycles = "1/3";
            leads(out, address + 4 + i.imm);
            break;
        case Op::tbb: out.operands = fmt::format("[{}, {}]", n, m), out.cycles = "4"; break;
        case Op::tbh: out.operands = fmt::format("[{}, {}, lsl #1]", n, m), out.cycles = "4"; break;
        case Op::it: {
            std::string letters;
            for (int b = 3; b > std::countr_zero(i.imm & 15U); --b)
                letters += (((i.imm >> b) ^ i.condition) & 1U) == 0 ? 't' : 'e';
            out.mnemonic = "it" + letters;
            out.operands = i.condition == core::kAlways ? "al" : kConditions[i.condition];
            break;
        }
        case Op::svc: out.operands = fmt::format("#{}", i.imm); break;
        case Op::bkpt: out.operands = fmt::format("0x{:04x}", i.imm); break;
        case Op::cps:
            out.mnemonic = (i.imm & 16U) != 0 ? "cpsid" : "cpsie";
            out.operands = std::string((i.imm & 2U) != 0 ? "i" : "") + ((i.imm & 1U) != 0 ? "f" : "");
            break;
        case Op::mrs: out.operands = d + ", " + special(i.imm), out.cycles = "2"; break;
        case Op::msr: out.operands = special(i.imm) + ", " + n, out.cycles = "2"; break;
        case Op::dsb: case Op::dmb: case Op::isb: out.operands = "sy"; break;
        case Op::undefined: case Op::coprocessor:
            out.mnemonic = i.size == 4 ? ".word" : ".short";
            out.operands = i.size == 4 ? fmt::format("0x{:04x}{:04x}", half(address), half(address + 2)) : fmt::format("0x{:04x}", half(address));
            out.cycles.clear();
            break;
        default: break;
        }
    }

    void leadsAsNote(InstructionText& out, std::uint32_t to) const
    {
        out.note = fmt::format("0x{:08x}", to);
        // What stands there is what one wants to know of a literal.
        if (has(to + 2)) {
            const std::uint32_t value = half(to) | std::uint32_t{half(to + 2)} << 16;
            out.note = fmt::format("0x{:08x}", value);
            if (symbols_ != nullptr)
                if (const std::string name = symbols_->nameOf(value & ~1U, Space::data); !name.empty())
                    out.note += " " + name;
        }
    }

    static std::string special(std::uint32_t number)
    {
        switch (number) {
        case 0: return "CPSR";
        case 3: return "PSR";
        case 5: return "IPSR";
        case 8: return "MSP";
        case 9: return "PSP";
        case 16: return "PRIMASK";
        case 17: return "BASEPRI";
        case 18: return "BASEPRI_MAX";
        case 19: return "FAULTMASK";
        case 20: return "CONTROL";
        default: return fmt::format("{}", number);
        }
    }

    const chip::CodeView& code_;
    const Symbols* symbols_;
    const char* condition_ = "";
    bool inIt_ = false;
};

}  // namespace

InstructionText disassemble(const chip::Device&, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols) { return Text(code, symbols).of(address); }

}  // namespace bramix::debug::cortexm
