// The core of a RISC-V microcontroller: RV32IMC, machine and user mode, CSRs, traps, and the plain stepper that is the truth of what each instruction does
// ("The RISC-V Instruction Set Manual", volume I 20191213 and volume II 20211203).
//
// Exact: results, traps with their causes and values, CSRs. Cycles are a model, as no maker publishes them for this pipeline: see kCycles below.
// Loads and stores need not be aligned. Interrupts come from outside: the chip says which one is due.
// Invariant: between steps this structure is the whole state.
// Tested by tests/chip/riscv/core_test.cpp; run() against step() by tests/chip/riscv/engine_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <vector>

#include "chip/code_time.h"
#include "chip/base/page_map.h"
#include "chip/base/running_chip.h"
#include "chip/riscv/core/isa.h"

namespace bramix::chip::riscv {

enum Cause : std::uint32_t { kInstructionFault = 1, kIllegal = 2, kBreakpoint = 3, kLoadFault = 5, kStoreFault = 7, kCallFromUser = 8, kCallFromMachine = 11, kInterrupt = 0x80000000 };

// What stops an instruction.
struct Trap {
    std::uint32_t cause = 0, value = 0;
};

// What is not plain memory, and what is the chip's own. Addresses are aligned to the size (1, 2 or 4 bytes). Throws Trap where nothing answers.
class Bus {
public:
    virtual ~Bus() = default;
    virtual std::uint16_t fetch(std::uint32_t address) = 0;
    virtual std::uint32_t read(std::uint32_t address, unsigned size, std::int64_t cycle) = 0;
    virtual void write(std::uint32_t address, unsigned size, std::uint32_t value, std::int64_t cycle) = 0;
    // CSRs that are not the core's own; nothing, and false: there is none of this number.
    virtual std::optional<std::uint32_t> readCsr(unsigned number) = 0;
    virtual bool writeCsr(unsigned number, std::uint32_t value) = 0;
    // Interrupts may be due now that were not: an instruction has enabled them.
    virtual void interruptsEnabled() = 0;
    // A page of memory has been decoded: writing to it is to be told by Cpu::forgetCode().
    virtual void codeSeen(std::uint32_t /*address*/) {}
};

// Cycles of an instruction beyond one: a four-stage pipeline refills in two more after a taken branch or jump, and in one where the target is known early.
inline constexpr int kTakenBranch = 2, kJump = 1, kLoad = 1, kDivide = 31, kTrapEntry = 4, kMultiplyHigh = 1;

class Cpu : public Progress {
public:
    Cpu(Bus& bus, const PageMap& map) : bus_(bus), map_(map) {}

    void reset(std::uint32_t entry);
    // One instruction, or the trap that it makes.
    void step();
    // The same, one after another, from decoded pages (engine.cpp), until the cycle `target` stands at or has passed, or something has been entered, left, or gone to sleep. `target` is looked at
    // before each: what an instruction does may set it.
    void run(const std::int64_t& target);
    // What has been decoded is no longer what is there; of one page, or of all.
    void forgetCode(std::uint32_t address);
    void forgetAllCode();
    // Enters the handler of a trap or interrupt.
    void trap(std::uint32_t cause, std::uint32_t value);
    [[nodiscard]] bool interruptsOn() const { return (mstatus & 8U) != 0 || mode != 3; }
    // A CSR as a debugger reads and writes it.
    [[nodiscard]] std::optional<std::uint32_t> csr(unsigned number) const;
    bool setCsr(unsigned number, std::uint32_t value);

    std::array<std::uint32_t, 32> x{};
    std::uint32_t pc = 0;
    std::uint8_t mode = 3;  // 3 machine, 0 user
    std::uint32_t mstatus = 0, mtvec = 0, mscratch = 0, mepc = 0, mcause = 0, mtval = 0;
    std::uint32_t entries = 0;                // handlers that have not returned
    std::uint32_t lowestSp = UINT32_MAX;      // in the last run()
    bool leavesLoops = false;                 // run() ends behind a jump to itself, instead of waiting in it
    bool looped = false;                      // the last run() has ended so
    // Is told by run() when control comes to another part of the code, whose addresses go from codeBegin to codeEnd.
    CodeTime* codeTime = nullptr;
    std::uint32_t codeBegin = 0, codeEnd = 0;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(x, pc, mode, mstatus, mtvec, mscratch, mepc, mcause, mtval, entries);
    }

private:
    [[nodiscard]] std::uint32_t fetchWord();
    [[nodiscard]] std::uint32_t load(std::uint32_t address, unsigned size);
    void store(std::uint32_t address, unsigned size, std::uint32_t value);
    void execute(const Instruction& i);
    void system(const Instruction& i);
    const Instruction& compressed(std::uint32_t half);

    // An instruction as run() wants it: which of its pieces of code, operands.
    struct Decoded {
        std::uint8_t piece = 0, d = 0, a = 0, b = 0;
        std::int32_t imm = 0;
    };
    // The instructions of 4 KB by halfwords, and one more that leads to the next page.
    struct CodePage {
        std::uint32_t tag = 1;  // its address; 1: none
        const std::uint8_t* bytes = nullptr;
        std::vector<Decoded> code;
    };
    static constexpr std::size_t kCodePages = 64;
    [[nodiscard]] CodePage* pageOf(std::uint32_t address);
    [[nodiscard]] std::uint16_t partOf(std::uint32_t address) const { return codeTime->partAt(address - codeBegin < codeEnd - codeBegin ? (address - codeBegin) / 2 : UINT32_MAX); }
    // Whether what is decoded there goes to another part without a jump that looks for it.
    [[nodiscard]] bool slipsOut(const Decoded& code, std::uint32_t address) const;
    [[nodiscard]] static Decoded decodedAt(const CodePage& page, std::uint32_t offset);

    Bus& bus_;
    const PageMap& map_;
    std::uint32_t next_ = 0;
    int cycles_ = 1;
    std::vector<CodePage> pages_ = std::vector<CodePage>(kCodePages);
    std::uint32_t forgotten_ = 0;  // how often something was
};

// The exception of Device::exceptions for a cause.
[[nodiscard]] constexpr unsigned exceptionOf(std::uint32_t cause) { return (cause & kInterrupt) != 0 ? 32 + (cause & 31U) : 1 + (cause & 15U); }
[[nodiscard]] const char* nameOfCause(std::uint32_t cause);
// "mstatus"; null: none that is known.
[[nodiscard]] const char* nameOfCsr(unsigned number);

}  // namespace bramix::chip::riscv
