// The vectored interrupt controller PL190 (ARM DDI 0181E): 32 sources, sixteen vectored by priority, each IRQ or FIQ.
// Tested by tests/chip/arm9/arm926_test.cpp.
#pragma once

#include <array>
#include <functional>

#include "chip/arm9/peripherals/host.h"

namespace bramix::chip::arm9 {

class InterruptController final : public StatefulWords<InterruptController> {
public:
    // `changed` hears that the two lines to the core may be others.
    explicit InterruptController(std::function<void()> changed) : changed_(std::move(changed)) {}

    void setSource(unsigned source, bool high);
    [[nodiscard]] bool irq() const { return highest() < level(); }
    [[nodiscard]] bool fiq() const { return (raw() & enable_ & select_) != 0; }
    [[nodiscard]] std::uint32_t raw() const { return lines_ | soft_; }
    [[nodiscard]] std::uint32_t enabled() const { return enable_; }

    std::uint32_t read(std::uint32_t offset) override;
    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(lines_, soft_, enable_, select_, protection_, default_, addresses_, controls_, active_, depth_);
    }

private:
    static constexpr unsigned kVectors = 16, kNone = kVectors + 1;
    // The most urgent request: a vector's number, 16 for those without one, kNone.
    [[nodiscard]] unsigned highest() const;
    // Of what is being served.
    [[nodiscard]] unsigned level() const { return depth_ == 0 ? kNone : active_[depth_ - 1]; }

    std::function<void()> changed_;
    std::uint32_t lines_ = 0, soft_ = 0, enable_ = 0, select_ = 0, protection_ = 0, default_ = 0;
    std::array<std::uint32_t, kVectors> addresses_{}, controls_{};
    std::array<std::uint8_t, kVectors + 1> active_{};
    std::uint8_t depth_ = 0;
};

}  // namespace bramix::chip::arm9
