// A chip family that exists in tests alone, as unlike the first one as its few instructions allow: 32 bits, one address space, a link register, exceptions with priorities that
// nest, a bus master beside the core, and code in RAM. What runs on it does not know a family.
//
//   0x01000  16 KB flash: 40 words of exception handlers' addresses (word 0: where a reset goes), then code
//   0x20000  16 KB RAM
//   0x40000  peripherals: see Toy's registers
//
// An instruction is a word: opcode 31..24, d 23..20, a 19..16, immediate 15..0 (signed). Opcode 0 and those not listed are no instructions.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "chip/device.h"
#include "chip/family.h"

namespace bramix::toy {

inline constexpr std::uint32_t kFlash = 0x1000, kFlashBytes = 0x4000, kRam = 0x20000, kRamBytes = 0x4000, kPeripherals = 0x40000, kPeripheralBytes = 0x100;
inline constexpr unsigned kExceptions = 40, kTimerA = 1, kTimerB = 2, kDma = 3;
// Core registers by index.
inline constexpr std::size_t kLink = 10, kStack = 11, kPc = 12, kStatus = 13, kRegisters = 14;
// Of the status: flags, and the priority at which the core works.
inline constexpr std::uint32_t kZero = 0x80, kNegative = 0x40, kPriority = 0x0F;

enum class Op : std::uint8_t { none, nop, ldi, lui, addi, add, sub, ldw, stw, beq, bne, jmp, call, callr, ret, eret, wfi, push, pop, count };

// Registers of peripherals.
inline constexpr std::uint32_t kOut = kPeripherals, kDir = kPeripherals + 4, kIn = kPeripherals + 8, kTimerAPeriod = kPeripherals + 0x10, kTimerARun = kPeripherals + 0x14, kTimerBPeriod = kPeripherals + 0x18,
                               kTimerBRun = kPeripherals + 0x1C, kDmaFrom = kPeripherals + 0x20, kDmaTo = kPeripherals + 0x24, kDmaCount = kPeripherals + 0x28, kDmaGo = kPeripherals + 0x2C,
                               kEnable = kPeripherals + 0x30, kEnableHigh = kPeripherals + 0x34, kPend = kPeripherals + 0x38, kPendHigh = kPeripherals + 0x3C, kSend = kPeripherals + 0x40, kSending = kPeripherals + 0x44;
inline constexpr std::int64_t kCyclesOfABit = 16, kCyclesOfADmaWord = 4, kCyclesOfAnEntry = 6;
[[nodiscard]] constexpr unsigned priorityOf(unsigned exception) { return exception <= kDma ? exception : 1 + exception % 3; }

[[nodiscard]] const chip::Device& device();
[[nodiscard]] const chip::Family& family();
// Makes the family known to everything, once; before any catalogue is read.
void install();

// Words of code with labels, from an address on.
class Assembler {
public:
    explicit Assembler(std::uint32_t at = kFlash + 4 * kExceptions) : begin_(at) {}

    [[nodiscard]] std::uint32_t here() const { return begin_ + 4 * static_cast<std::uint32_t>(words_.size()); }
    void label(const std::string& name) { labels_[name] = here(); }
    [[nodiscard]] std::uint32_t at(const std::string& name) const { return labels_.at(name); }
    void put(Op op, unsigned d = 0, unsigned a = 0, int immediate = 0) { words_.push_back(static_cast<std::uint32_t>(op) << 24 | d << 20 | a << 16 | (static_cast<std::uint32_t>(immediate) & 0xFFFFU)); }
    // A branch, jump or call, to a label that may come later.
    void go(Op op, const std::string& to, unsigned d = 0, unsigned a = 0)
    {
        open_.emplace_back(words_.size(), to);
        put(op, d, a);
    }
    // A register becomes a whole word.
    void set(unsigned d, std::uint32_t value)
    {
        put(Op::ldi, d, 0, static_cast<std::int16_t>(value));
        put(Op::lui, d, 0, static_cast<std::int16_t>(value >> 16));
    }
    void store(std::uint32_t address, unsigned value, unsigned with)
    {
        set(with, address);
        put(Op::stw, value, with);
    }
    // All labels filled in.
    [[nodiscard]] const std::vector<std::uint32_t>& words();

private:
    std::uint32_t begin_;
    std::vector<std::uint32_t> words_;
    std::map<std::string, std::uint32_t> labels_;
    std::vector<std::pair<std::size_t, std::string>> open_;
};

// The image of a program as bytes of flash: handlers by exception number (label names), and where a reset goes ("main").
[[nodiscard]] std::vector<std::uint8_t> image(Assembler& code, const std::map<unsigned, std::string>& handlers);

}  // namespace bramix::toy
