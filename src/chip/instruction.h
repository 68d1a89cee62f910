// What an instruction does, as far as a debugger wants to know before it runs: where control goes, what it reads and writes.
// A family says it of its own code (family.h); whoever steps, traces or draws a call stack needs no opcodes.
#pragma once

#include <bitset>
#include <cstdint>
#include <optional>
#include <span>

namespace bramix::chip {

// Bit by index into Device::coreRegisters.
using RegisterSet = std::bitset<64>;

// Where control goes behind it.
enum class Flow : std::uint8_t {
    next,             // to the next instruction
    jump,             // to the target, always
    branch,           // to the target or to the next
    skip,             // to the target, which lies behind the instruction passed over, or to the next
    call,             // to the target; a return comes back behind it
    indirectJump,     // to where a register or a table says
    indirectCall,
    return_,          // to where a call came from
    exceptionReturn,  // to where an exception came from
    none,             // it is no instruction
};

struct InstructionInfo {
    Flow flow = Flow::none;
    std::uint32_t size = 0;                    // in code addresses; 0 where there is no memory
    std::optional<std::uint32_t> target{};     // of a jump, branch, skip or call
    RegisterSet reads{}, writes{};             // core registers that it names or implies: flags and stack pointer too
    bool stores = false;                       // into data memory: by address, by a push, by a call that leaves its return address there

    [[nodiscard]] bool isCall() const { return flow == Flow::call || flow == Flow::indirectCall; }
    [[nodiscard]] bool isReturn() const { return flow == Flow::return_ || flow == Flow::exceptionReturn; }
};

// Data that an instruction about to run will load or store by address.
struct MemoryAccess {
    std::uint64_t address = 0;
    bool store = false;
};

// Program memory as bytes, from the address of its first.
struct CodeView {
    std::span<const std::uint8_t> bytes{};
    std::uint32_t begin = 0;
    unsigned unitBytes = 1;  // Device::codeUnitBytes
};

}  // namespace bramix::chip
