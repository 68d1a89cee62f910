// What the chip is to its peripherals; their clocks are not the core's.
#pragma once

#include <cstdint>
#include <string>

#include "chip/base/word_peripheral.h"
#include "kernel/event_queue.h"

namespace bramix::chip::arm9 {

inline constexpr std::uint64_t kPeripheralHz = 24'000'000;  // UARTCLK and TIMCLK

class Host {
public:
    virtual ~Host() = default;
    [[nodiscard]] virtual kernel::EventQueue& queue() = 0;
    [[nodiscard]] virtual kernel::Time instant() const = 0;
    // An interrupt source, by its number at the controller.
    virtual void setSource(unsigned source, bool high) = 0;
    virtual void remark(const char* rule, const std::string& text) = 0;
    [[nodiscard]] virtual std::uint32_t codeNow() const = 0;
};

// The eight identification registers at 0xFE0, as ARM's peripherals have them: part number, designer 0x41, revision; PrimeCell's 0xB105F00D.
[[nodiscard]] constexpr std::uint32_t identification(std::uint32_t offset, std::uint32_t part, std::uint32_t revision)
{
    const std::uint32_t cells[] = {part & 0xFFU, (part >> 8 & 15U) | 0x10U, revision << 4 | 4U, 0, 0x0D, 0xF0, 0x05, 0xB1};
    return offset >= 0xFE0 && offset < 0x1000 ? cells[(offset - 0xFE0) / 4] : 0;
}

}  // namespace bramix::chip::arm9
