#include <fmt/format.h>

#include "chip/riscv/core/cpu.h"
#include "chip/riscv/core/isa.h"
#include "debug/arch/riscv/architecture.h"

namespace bramix::debug::riscv {

namespace core = chip::riscv;
using core::Instruction;
using core::Op;

namespace {

constexpr const char* kRegisters[] = {"zero", "ra", "sp", "gp", "tp", "t0", "t1", "t2", "s0", "s1", "a0", "a1", "a2", "a3", "a4", "a5", "a6", "a7", "s2", "s3", "s4", "s5", "s6", "s7", "s8", "s9", "s10", "s11", "t3", "t4", "t5", "t6"};

std::string csrOf(std::int32_t number)
{
    const char* name = core::nameOfCsr(static_cast<unsigned>(number));
    return name == nullptr ? fmt::format("0x{:x}", number) : name;
}

void write(InstructionText& out, const Instruction& i, std::uint32_t address, const Symbols* symbols)
{
    const char *const d = kRegisters[i.d], *const a = kRegisters[i.a], *const b = kRegisters[i.b];
    out.mnemonic = core::mnemonic(i.op);
    out.cycles = "1";
    const auto as = [&](const char* mnemonic, std::string operands) {
        out.mnemonic = mnemonic;
        out.operands = std::move(operands);
    };
    const auto leads = [&](std::uint32_t to) {
        if (symbols != nullptr)
            if (const std::string name = symbols->nameOf(to, Space::flash); !name.empty())
                out.note = "-> " + name;
        return fmt::format("0x{:08x}", to);
    };
    const std::uint32_t target = address + static_cast<std::uint32_t>(i.imm);
    switch (i.op) {
    case Op::undefined: case Op::count: as("undefined", ""); break;
    case Op::lui: case Op::auipc: out.operands = fmt::format("{}, 0x{:x}", d, static_cast<std::uint32_t>(i.imm) >> 12); break;
    case Op::jal:
        out.cycles = "2";
        if (i.d == 0)
            as("j", leads(target));
        else if (i.d == 1)
            out.operands = leads(target);
        else
            out.operands = fmt::format("{}, {}", d, leads(target));
        break;
    case Op::jalr:
        out.cycles = "3";
        if (i.d == 0 && i.a == 1 && i.imm == 0)
            as("ret", "");
        else if (i.d == 0 && i.imm == 0)
            as("jr", a);
        else if (i.d == 0)
            as("jr", fmt::format("{}({})", i.imm, a));
        else if (i.d == 1 && i.imm == 0)
            out.operands = a;
        else if (i.d == 1)
            out.operands = fmt::format("{}({})", i.imm, a);
        else if (i.imm == 0)
            out.operands = fmt::format("{}, {}", d, a);
        else
            out.operands = fmt::format("{}, {}({})", d, i.imm, a);
        break;
    case Op::beq: case Op::bne: case Op::blt: case Op::bge: case Op::bltu: case Op::bgeu:
        out.cycles = "1/3";
        if (i.b == 0 && (i.op == Op::beq || i.op == Op::bne || i.op == Op::blt || i.op == Op::bge))
            as(i.op == Op::beq ? "beqz" : i.op == Op::bne ? "bnez" : i.op == Op::blt ? "bltz" : "bgez", fmt::format("{}, {}", a, leads(target)));
        else if (i.a == 0 && (i.op == Op::blt || i.op == Op::bge))
            as(i.op == Op::blt ? "bgtz" : "blez", fmt::format("{}, {}", b, leads(target)));
        else
            out.operands = fmt::format("{}, {}, {}", a, b, leads(target));
        break;
    case Op::lb: case Op::lh: case Op::lw: case Op::lbu: case Op::lhu: out.operands = fmt::format("{}, {}({})", d, i.imm, a), out.cycles = "2"; break;
    case Op::sb: case Op::sh: case Op::sw: out.operands = fmt::format("{}, {}({})", b, i.imm, a); break;
    case Op::addi:
        if (i.d == 0 && i.a == 0 && i.imm == 0)
            as("nop", "");
        else if (i.a == 0)
            as("li", fmt::format("{}, {}", d, i.imm));
        else if (i.imm == 0)
            as("mv", fmt::format("{}, {}", d, a));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, i.imm);
        break;
    case Op::xori:
        if (i.imm == -1)
            as("not", fmt::format("{}, {}", d, a));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, i.imm);
        break;
    case Op::sltiu:
        if (i.imm == 1)
            as("seqz", fmt::format("{}, {}", d, a));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, i.imm);
        break;
    case Op::andi:
        if (i.imm == 255)
            as("zext.b", fmt::format("{}, {}", d, a));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, i.imm);
        break;
    case Op::slti: case Op::ori: out.operands = fmt::format("{}, {}, {}", d, a, i.imm); break;
    case Op::slli: case Op::srli: case Op::srai: out.operands = fmt::format("{}, {}, 0x{:x}", d, a, i.imm); break;
    case Op::add:
        // A compressed move.
        if (i.a == 0 && i.size == 2)
            as("mv", fmt::format("{}, {}", d, b));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, b);
        break;
    case Op::sub:
        if (i.a == 0)
            as("neg", fmt::format("{}, {}", d, b));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, b);
        break;
    case Op::sltu:
        if (i.a == 0)
            as("snez", fmt::format("{}, {}", d, b));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, b);
        break;
    case Op::slt:
        if (i.b == 0)
            as("sltz", fmt::format("{}, {}", d, a));
        else if (i.a == 0)
            as("sgtz", fmt::format("{}, {}", d, b));
        else
            out.operands = fmt::format("{}, {}, {}", d, a, b);
        break;
    case Op::div: case Op::divu: case Op::rem: case Op::remu: out.operands = fmt::format("{}, {}, {}", d, a, b), out.cycles = "32"; break;
    case Op::fence: case Op::fencei: case Op::ecall: case Op::ebreak: case Op::mret: case Op::wfi: break;
    case Op::csrrw: case Op::csrrs: case Op::csrrc: {
        const char* const plain = i.op == Op::csrrw ? "csrw" : i.op == Op::csrrs ? "csrs" : "csrc";
        if (i.op == Op::csrrs && i.a == 0)
            as("csrr", fmt::format("{}, {}", d, csrOf(i.imm)));
        else if (i.d == 0)
            as(plain, fmt::format("{}, {}", csrOf(i.imm), a));
        else
            out.operands = fmt::format("{}, {}, {}", d, csrOf(i.imm), a);
        break;
    }
    case Op::csrrwi: case Op::csrrsi: case Op::csrrci: {
        const char* const plain = i.op == Op::csrrwi ? "csrwi" : i.op == Op::csrrsi ? "csrsi" : "csrci";
        if (i.d == 0)
            as(plain, fmt::format("{}, {}", csrOf(i.imm), i.a));
        else
            out.operands = fmt::format("{}, {}, {}", d, csrOf(i.imm), i.a);
        break;
    }
    default: out.operands = fmt::format("{}, {}, {}", d, a, b); break;
    }
}

}  // namespace

InstructionText disassemble(const chip::Device&, const chip::CodeView& code, std::uint32_t address, const Symbols* symbols)
{
    InstructionText out;
    out.address = address;
    if (address < code.begin || std::size_t{address} - code.begin + 1 >= code.bytes.size()) {
        out.mnemonic = "outside flash";
        return out;
    }
    std::uint32_t word = 0;
    for (std::size_t i = 0; i < 4 && address - code.begin + i < code.bytes.size(); ++i)
        word |= std::uint32_t{code.bytes[address - code.begin + i]} << (8 * i);
    const Instruction i = core::decode(word);
    out.size = i.size;
    write(out, i, address, symbols);
    return out;
}

}  // namespace bramix::debug::riscv
