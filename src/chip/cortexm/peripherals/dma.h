// The direct memory access controller (RM0008 chapter 13): seven channels, each of one request line or from memory to memory, priorities, circular mode, widths of 8, 16 and 32 bits on either side,
// half, full and error interrupts.
//
// One transfer takes kTransferCycles of the core's clock, arbitration among them; that the core waits for the bus meanwhile is not modelled.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include <array>
#include <cstdint>

#include "chip/cortexm/peripherals/peripheral.h"

namespace bramix::chip::cortexm {

class Dma final : public StatefulPeripheral<Dma> {
public:
    static constexpr unsigned kChannels = 7, kFirstInterrupt = 11;
    static constexpr std::int64_t kTransferCycles = 5;

    explicit Dma(Services& chip) : chip_(chip), work_(chip, [this](std::int64_t cycle) { workDue(cycle); }) {}

    // A peripheral's request on the line of a channel, from 0; it stands until what it asks for has been done.
    void request(unsigned channel, bool high);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(flags_, requests_, work_);
        for (Channel& c : channels_)
            ar(c.control, c.count, c.peripheral, c.memory, c.reload, c.fromPeripheral, c.fromMemory);
    }

private:
    struct Channel {
        std::uint32_t control = 0, count = 0, peripheral = 0, memory = 0;     // as written; the count is what is left
        std::uint32_t reload = 0, fromPeripheral = 0, fromMemory = 0;         // of the transfer in progress
    };
    [[nodiscard]] bool ready(unsigned channel) const;
    void schedule(std::int64_t cycle);
    void workDue(std::int64_t cycle);
    void transfer(unsigned channel);
    void raise(unsigned channel, std::uint32_t flag);
    void updateInterrupt(unsigned channel);

    Services& chip_;
    std::array<Channel, kChannels> channels_{};
    std::uint32_t flags_ = 0, requests_ = 0;
    CycleAlarm work_;
};

}  // namespace bramix::chip::cortexm
