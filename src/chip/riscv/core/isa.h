// The instruction set of RV32IMC with Zicsr and Zifencei ("The RISC-V Instruction Set Manual", volume I, 20191213; volume II, 20211203): one decoded form for the stepper, the debugger and the disassembler.
//
// A compressed instruction decodes to the instruction that it stands for (chapter 16), with size 2.
// Tested by tests/debug/riscv_disassembler_test.cpp against objdump.
#pragma once

#include <cstdint>

namespace bramix::chip::riscv {

enum class Op : std::uint8_t {
    undefined,
    lui, auipc, jal, jalr,
    beq, bne, blt, bge, bltu, bgeu,
    lb, lh, lw, lbu, lhu, sb, sh, sw,
    addi, slti, sltiu, xori, ori, andi, slli, srli, srai,
    add, sub, sll, slt, sltu, xor_, srl, sra, or_, and_,
    mul, mulh, mulhsu, mulhu, div, divu, rem, remu,
    fence, fencei, ecall, ebreak, mret, wfi,
    csrrw, csrrs, csrrc, csrrwi, csrrsi, csrrci,
    count
};

struct Instruction {
    Op op = Op::undefined;
    std::uint8_t d = 0, a = 0, b = 0;  // rd, rs1, rs2; CSR instructions with an immediate have it in a
    std::uint8_t size = 4;             // bytes
    std::int32_t imm = 0;              // also of a branch or jump, from the instruction's own address; CSR number
};

// `word` holds the instruction's first halfword in its lower half; the upper half is used where it is long.
[[nodiscard]] Instruction decode(std::uint32_t word);
[[nodiscard]] constexpr bool isLong(std::uint32_t word) { return (word & 3U) == 3U; }
[[nodiscard]] const char* mnemonic(Op op);

}  // namespace bramix::chip::riscv
