// What the chip is to its peripherals. They reckon in time, not in cycles: their clocks are not the core's.
#pragma once

#include <cstdint>
#include <string>

#include "chip/base/word_peripheral.h"
#include "kernel/event_queue.h"

namespace bramix::chip::riscv {

inline constexpr std::uint64_t kFastRcHz = 17'500'000, kSlowRcHz = 136'000;  // internal oscillators (data sheet 3.2.2)

class Soc {
public:
    virtual ~Soc() = default;
    [[nodiscard]] virtual kernel::EventQueue& queue() = 0;
    // Of the access or event in hand.
    [[nodiscard]] virtual kernel::Time instant() const = 0;
    [[nodiscard]] virtual std::uint64_t crystalHz() const = 0;
    [[nodiscard]] virtual std::uint64_t busHz() const = 0;  // APB_CLK
    // An interrupt source of the matrix, by its number (TRM table 8-1).
    virtual void setSource(unsigned source, bool high) = 0;
    virtual void remark(const char* rule, const std::string& text) = 0;
    // Code address of the instruction in progress.
    [[nodiscard]] virtual std::uint32_t codeNow() const = 0;
    // A watchdog's or a program's reset, by the number that the reset state register shows (TRM table 6-1); at the end of the instruction.
    virtual void wantReset(unsigned cause) = 0;
};

}  // namespace bramix::chip::riscv
