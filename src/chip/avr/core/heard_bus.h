// A chip's registers as its core sees them, with somebody who hears of each access when it has been carried out.
//
// The idea: whoever wants to see a register whenever it changes need not make the chip slower that nobody looks at. This stands between the core and
// its chip only while somebody hears.
// Tested by tests/chip/avr/core/heard_bus_test.cpp.
#pragma once

#include <functional>
#include <utility>

#include "chip/avr/chip.h"

namespace bramix::chip::avr {

class HeardBus final : public IoBus {
public:
    HeardBus(Chip& chip, std::function<void(kernel::Time)> changed) : chip_(chip), changed_(std::move(changed)) {}

    // Something has changed at a cycle's beginning.
    void tell(std::int64_t cycle) { changed_(chip_.clock().timeOf({cycle})); }

    std::uint8_t ioRead(std::uint16_t address, std::int64_t cycle) override
    {
        const std::uint8_t value = chip_.ioRead(address, cycle);
        tell(cycle);
        return value;
    }
    void ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override
    {
        chip_.ioWrite(address, value, cycle);
        tell(cycle);
    }
    void ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle) override
    {
        chip_.ioWriteBit(address, bit, value, cycle);
        tell(cycle);
    }
    void interruptsEnabled(std::int64_t cycle) override { chip_.interruptsEnabled(cycle); }
    [[nodiscard]] bool interruptPending() const override { return chip_.interruptPending(); }
    void sleepInstruction(std::int64_t cycle) override
    {
        chip_.sleepInstruction(cycle);
        tell(cycle);
    }
    void watchdogReset(std::int64_t cycle) override { chip_.watchdogReset(cycle); }
    void storeProgramMemory(std::int64_t cycle) override
    {
        chip_.storeProgramMemory(cycle);
        tell(cycle);
    }
    std::uint8_t loadProgramMemory(std::uint32_t byteAddress, std::int64_t cycle) override { return chip_.loadProgramMemory(byteAddress, cycle); }
    void erasedFlash(std::int64_t cycle) override { chip_.erasedFlash(cycle); }
    void executing(std::uint32_t word) override { chip_.executing(word); }
    void unwrittenRead(std::uint16_t address) override { chip_.unwrittenRead(address); }
    void stackInData(std::uint16_t sp) override { chip_.stackInData(sp); }
    void interruptReturned(std::int64_t cycle) override { chip_.interruptReturned(cycle); }

private:
    Chip& chip_;
    std::function<void(kernel::Time)> changed_;
};

}  // namespace bramix::chip::avr
