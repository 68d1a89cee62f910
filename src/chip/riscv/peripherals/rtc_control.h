// The always-on controller (ESP32-C3 TRM chapters 9 and 12): its watchdog, the super watchdog, the slow clock's counter, what the last reset was, registers that outlive one.
//
// Both watchdogs run from reset. The rest of its registers keep what is written, without effect.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <map>

#include "chip/base/tick_counter.h"
#include "chip/riscv/peripherals/watchdog.h"

namespace bramix::chip::riscv {

class RtcControl final : public StatefulWords<RtcControl> {
public:
    static constexpr unsigned kSource = 27;
    explicit RtcControl(Soc& soc);

    [[nodiscard]] std::uint32_t peek(std::uint32_t offset) const override;
    void write(std::uint32_t offset, std::uint32_t value) override;
    void reset() override;
    // What the next reset will have been.
    void setCause(unsigned cause) { cause_ = cause; }
    // Everything, as when its supply has come up.
    void powerOn();

    template <class Archive>
    void state(Archive& ar)
    {
        ar(kept_, stores_, config_, hold_, key_, superConfig_, superKey_, cause_, raw_, enable_, slow_, latched_, watchdog_, super_);
    }

private:
    void watch();
    void update();

    Soc& soc_;
    std::map<std::uint32_t, std::uint32_t> kept_;
    std::array<std::uint32_t, 8> stores_{};
    std::uint32_t config_ = 0, key_ = 0, superConfig_ = 0, superKey_ = 0, cause_ = 1, raw_ = 0, enable_ = 0;
    std::array<std::uint32_t, 4> hold_{};
    TickCounter slow_;
    std::int64_t latched_ = 0;
    Watchdog watchdog_, super_;
};

}  // namespace bramix::chip::riscv
