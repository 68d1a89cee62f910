// External interrupts INTn and pin-change interrupts (ATmega328P datasheet ch. 13 "External Interrupts"; ATmega2560 ch. 15; ATmega32
// "External Interrupts"; ATtiny85 ch. 9).
//
//   ISCn1:0   00 low level    01 any change    10 falling edge    11 rising edge     (ATmega32's ISC2: 0 falling, 1 rising)
//
// Timing: a pin's change passes the port synchroniser (half to one and a half cycles). An edge then sets INTFn one clock later, a pin change
// sets PCIFn two clocks later (figure 13-1). A low level is no flag: the interrupt is pending as long as the pin is low. While the I/O clock
// stands, levels and pin changes work on, edges only on the pins whose edge detectors need no clock (ATmega2560: INT0 to INT3; ATmega32: INT2).
// Tested by tests/chip/avr/chip_test.cpp.
#pragma once

#include <deque>

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class ExternalInterrupts final : public StatefulPeripheral<ExternalInterrupts>, public PinWatcher {
public:
    explicit ExternalInterrupts(ChipServices& chip);

    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;
    void clockStopped(std::int64_t) override {}
    void clockStarted(std::int64_t) override {}
    // Pin changes as a trigger of conversions.
    void awaitedChanged() override { updateInterrupts(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(due_, alarm_);
    }

private:
    struct Edge {
        InterruptSource source;
        PortPin pin;
        BitRef sense1, sense0;
        bool needsClock = true;
    };

    // A bit of a mask register, its pin, and the group that it belongs to.
    struct Change {
        BitRef mask;
        PortPin pin;
        std::uint8_t group = 0;
    };

    // A flag on its way through the synchroniser: of edges_ by index, or of groups_.
    struct Pending {
        kernel::Time at{};
        bool pinChange = false;
        std::uint8_t index = 0;

        template <class Archive>
        void state(Archive& ar)
        {
            ar(at, pinChange, index);
        }
    };

    // Which of edges_ and of changes_ a pin belongs to; -1 none.
    struct Interest {
        std::int8_t edge = -1;
        std::int8_t change = -1;
    };
    [[nodiscard]] static std::size_t place(PortPin pin) { return pin.port * 8U + pin.bit; }

    [[nodiscard]] unsigned sense(const Edge& e) const;
    void later(kernel::Time changed, int clocks, bool pinChange, std::size_t index);
    void flagsArrive(kernel::Time now);
    void updateInterrupts();

    std::vector<Edge> edges_;
    std::vector<Change> changes_;
    std::vector<InterruptSource> groups_;
    std::array<Interest, 12 * 8> interests_{};
    std::vector<std::pair<std::uint16_t, std::uint8_t>> storage_;  // registers and the bits there that are ours
    std::uint16_t flagsAt_ = 0, changeFlagsAt_ = 0;
    std::deque<Pending> due_;
    kernel::Alarm alarm_;
};

}  // namespace bramix::chip::avr
