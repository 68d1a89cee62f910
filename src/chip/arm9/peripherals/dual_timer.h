// The dual timer SP804 (ARM DDI 0271D): two counters that count down, free, periodic or once, 16 or 32 bits, prescaled by 1, 16 or 256.
// Tested by tests/chip/arm9/arm926_test.cpp.
#pragma once

#include <array>
#include <memory>

#include "chip/arm9/peripherals/host.h"
#include "chip/base/tick_counter.h"

namespace bramix::chip::arm9 {

class DualTimer final : public StatefulWords<DualTimer> {
public:
    DualTimer(Host& host, unsigned source);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        for (Half& h : halves_)
            ar(h.load, h.control, h.raw, h.counter, *h.zero);
    }

private:
    struct Half {
        std::uint32_t load = 0, control = 0x20;
        bool raw = false;
        TickCounter counter{kPeripheralHz};  // counts down to 0
        std::unique_ptr<kernel::Alarm> zero;
    };
    [[nodiscard]] static std::uint32_t maskOf(const Half& h) { return (h.control & 2U) != 0 ? 0xFFFFFFFFU : 0xFFFFU; }
    void plan(Half& h);
    void due(Half& h, kernel::Time at);
    void update();

    Host& host_;
    unsigned source_;
    std::array<Half, 2> halves_;
};

}  // namespace bramix::chip::arm9
