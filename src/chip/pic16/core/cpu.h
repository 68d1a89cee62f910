// The core of a 14-bit PIC controller: W, file registers through banks, a hardware stack of eight, and the stepper (DS30487C chapters 2 and 16).
//
// Cycles are instruction cycles, four clocks of the oscillator each. Exact: results, flags, cycles, the stack's wrapping, what writing PCL does.
// File registers by their address of nine bits; what is special about one is the chip's.
// Invariant: between steps this structure is the whole state.
// Tested by tests/chip/pic16/core_test.cpp.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "chip/base/running_chip.h"
#include "chip/pic16/core/isa.h"

namespace bramix::chip::pic16 {

inline constexpr std::uint16_t kIndf = 0, kPcl = 2, kStatus = 3, kFsr = 4, kPclath = 0x0A, kIntcon = 0x0B, kNowhere = 0xFFFF;
enum : std::uint8_t { kC = 1, kDc = 2, kZ = 4, kPd = 8, kTo = 16 };

class FileBus {
public:
    virtual ~FileBus() = default;
    // Registers that are not plain, by their own address (that of the lowest bank that has them).
    virtual std::uint8_t readSpecial(std::uint16_t address, std::int64_t cycle) = 0;
    virtual void writeSpecial(std::uint16_t address, std::uint8_t value, std::int64_t cycle) = 0;
    virtual void watchdogCleared() = 0;
    virtual void sleepEntered() = 0;
    virtual void interruptsEnabled() = 0;
    virtual void stackWrapped(bool over) = 0;
    // One that a watchpoint may lie on; after the access.
    virtual void accessed(std::uint16_t address, std::uint8_t before, std::uint8_t value, bool write) = 0;
};

class Cpu : public Progress {
public:
    Cpu(FileBus& bus, std::size_t words) : program(words, 0x3FFF), bus_(bus) {}

    void step();
    // Enters the handler at 4.
    void interrupt();
    // The address of nine bits that an instruction's seven mean now.
    [[nodiscard]] std::uint16_t addressOf(std::uint8_t f) const { return f == kIndf ? static_cast<std::uint16_t>(file[kFsr] | ((file[kStatus] & 0x80U) << 1)) : static_cast<std::uint16_t>(f | ((file[kStatus] & 0x60U) << 2)); }
    [[nodiscard]] std::uint32_t target(std::uint16_t k) const { return (std::uint32_t{k} | std::uint32_t{file[kPclath] & 0x18U} << 8) & mask(); }
    [[nodiscard]] std::uint32_t mask() const { return static_cast<std::uint32_t>(program.size()) - 1; }
    void push(std::uint32_t address);
    std::uint32_t pop();

    std::vector<std::uint16_t> program;
    std::array<std::uint8_t, 512> file{};         // by own address
    std::array<std::uint16_t, 512> own{};         // the own address of each; kNowhere: it reads 0
    std::array<std::uint8_t, 512> special{};      // 1: not plain memory
    std::uint8_t w = 0;
    std::uint32_t pc = 0;
    std::array<std::uint16_t, 8> stack{};
    std::uint8_t depth = 0;                       // calls since a reset; the hardware's pointer is this modulo 8
    std::uint32_t handlers = 0;
    bool watched = false;                         // accesses are told

    template <class Archive>
    void state(Archive& ar)
    {
        ar(file, w, pc, stack, depth, handlers);
    }

private:
    [[nodiscard]] std::uint8_t readFile(std::uint16_t address);
    void writeFile(std::uint16_t address, std::uint8_t value);
    void setFlags(std::uint8_t mask, std::uint8_t value) { file[kStatus] = static_cast<std::uint8_t>((file[kStatus] & ~mask) | value); }
    void setZ(std::uint8_t value) { setFlags(kZ, value == 0 ? kZ : 0); }
    std::uint8_t add(std::uint8_t a, std::uint8_t b);
    std::uint8_t subtract(std::uint8_t from, std::uint8_t what);
    void execute(const Instruction& i);

    FileBus& bus_;
    std::uint32_t next_ = 0;
    int cycles_ = 1;
    bool givesFlags_ = false;
};

}  // namespace bramix::chip::pic16
