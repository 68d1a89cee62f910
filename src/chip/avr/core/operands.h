// What an instruction reads and writes without naming an address: registers, flags, the stack pointer; and the data address that it goes to.
// From the operand columns of the AVR Instruction Set Manual, rev. 0856. For whoever wants to know where a register may change before anything runs.
// Tested by tests/chip/avr/core/operands_test.cpp, by running every instruction.
#pragma once

#include <cstdint>
#include <optional>

#include "chip/avr/core/cpu.h"
#include "chip/avr/core/isa.h"

namespace bramix::chip::avr {

struct Operands {
    std::uint32_t reads = 0;   // bit by register r0 to r31; pairs used as an address count as read
    std::uint32_t writes = 0;
    bool readsFlags = false;   // any bit of SREG, by itself (not IN or OUT)
    bool writesFlags = false;
    bool stack = false;        // moves the stack pointer
};

[[nodiscard]] Operands operandsOf(const Instruction& i);

// The data address that an instruction about to run will load from or store to; stack and flash aside. Nothing where it goes to none.
struct DataAccess {
    std::uint16_t address = 0;
    bool store = false;
};
[[nodiscard]] std::optional<DataAccess> dataAccess(const Cpu& cpu, const Instruction& i);

}  // namespace bramix::chip::avr
