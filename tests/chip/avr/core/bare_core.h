// A core on nothing: I/O is plain memory, and the callbacks only note that they came.
#pragma once

#include <array>
#include <cstdint>

#include "chip/avr/core/cpu.h"

namespace bramix::test {

using namespace bramix::chip::avr;

class PlainBus : public IoBus {
public:
    std::uint8_t ioRead(std::uint16_t address, std::int64_t cycle) override
    {
        happen(address + cycle);
        return memory[address];
    }
    void ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override
    {
        happen(address + value + cycle);
        memory[address] = value;
    }
    void ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle) override
    {
        happen(address + bit + cycle);
        memory[address] = static_cast<std::uint8_t>((memory[address] & ~(1 << bit)) | (value ? 1 << bit : 0));
    }
    void interruptsEnabled(std::int64_t) override { ++enables; }
    [[nodiscard]] bool interruptPending() const override { return pending; }
    void sleepInstruction(std::int64_t) override { ++sleeps; }
    void watchdogReset(std::int64_t) override { ++watchdogResets; }
    void storeProgramMemory(std::int64_t) override { ++stores; }
    std::uint8_t loadProgramMemory(std::uint32_t, std::int64_t) override { return 0; }
    void erasedFlash(std::int64_t) override {}
    void unwrittenRead(std::uint16_t) override { ++unwrittenReads; }
    void stackInData(std::uint16_t) override {}

    // What an access to a peripheral may bring about: something due soon, or at once, or a core that stands for a while. It depends on the exact cycle,
    // so that a cycle wrong by one shows.
    Cpu* lively = nullptr;
    void happen(std::int64_t seed)
    {
        if (lively == nullptr)
            return;
        switch (seed * 0x9E37 % 31) {
        case 0: lively->stopBy(INT64_MIN); break;
        case 1: lively->stopBy(lively->cycle + 9); break;
        case 2: lively->stall += 3; break;
        default: break;
        }
    }

    std::array<std::uint8_t, 0x200> memory{};
    bool pending = false;
    int enables = 0, sleeps = 0, watchdogResets = 0, stores = 0, unwrittenReads = 0;
};

// 16 K words, 2 K of SRAM: the size of an ATmega328P.
inline constexpr Core kSmallCore{.flashWords = 0x4000, .ramStart = 0x100, .ramEnd = 0x8FF};
// 128 K words and a 22-bit program counter: the size of an ATmega2560.
inline constexpr Core kLargeCore{.flashWords = 0x20000, .ramStart = 0x200, .ramEnd = 0x21FF, .longPc = true, .hasElpm = true, .hasEind = true};

}  // namespace bramix::test
