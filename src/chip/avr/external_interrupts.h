// External interrupts INTn and pin-change interrupts (ATmega328P datasheet ch. 13 "External Interrupts").
//
//   ISCn1:0   00 low level    01 any change    10 falling edge    11 rising edge
//
// Timing: a pin's change passes the port synchroniser (half to one and a half cycles). An edge then sets INTFn one clock later, a pin change
// sets PCIFn two clocks later (figure 13-1). A low level is no flag: the interrupt is pending as long as the pin is low.
// Tested by tests/chip/avr/external_interrupts_test.cpp.
#pragma once

#include <deque>

#include "chip/avr/peripheral.h"
#include "chip/avr/ports.h"

namespace bramix::chip::avr {

class ExternalInterrupts final : public StatefulPeripheral<ExternalInterrupts>, public PinWatcher {
public:
    ExternalInterrupts(const ChipTable& table, ChipServices& chip);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(control_, mask_, flags_, changeControl_, changeFlags_, changeMasks_, due_, alarm_);
    }

private:
    // A flag on its way through the synchroniser.
    struct Pending {
        kernel::Time at{};
        bool pinChange = false;
        std::uint8_t bit = 0;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(at, pinChange, bit);
        }
    };

    void later(kernel::Time changed, int clocks, bool pinChange, std::uint8_t bit);
    void flagsArrive(kernel::Time now);
    void updateInterrupts();
    [[nodiscard]] unsigned sense(std::size_t index) const;

    const ChipTable& table_;
    ChipServices& chip_;
    std::array<std::uint8_t, 2> control_{};  // EICRA, EICRB
    std::uint8_t mask_ = 0, flags_ = 0;
    std::uint8_t changeControl_ = 0, changeFlags_ = 0;
    std::array<std::uint8_t, 4> changeMasks_{};
    std::deque<Pending> due_;
    kernel::Alarm alarm_;
};

}  // namespace bramix::chip::avr
