// What belongs to the chip as a whole: clock sources and division, sleep modes, power reduction, reset flags, the place of the interrupt vectors,
// and the pins that fuses take away (ATmega328P datasheet ch. 9 to 12; ATmega2560 ch. 10 to 14; the same chapters of the others).
//
// Changes that must not happen by accident are timed sequences of four cycles: CLKPCE before CLKPS, IVCE before IVSEL, JTD written twice.
// The internal oscillator follows OSCCAL by the shape of its typical curve: two overlapping halves, 8 MHz at the calibration byte.
// Tested by tests/chip/avr/peripherals/system_control_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"

namespace bramix::chip::avr {

class SystemControl final : public StatefulPeripheral<SystemControl> {
public:
    // `crystalHz` is what the world puts on XTAL; 0 is nothing.
    SystemControl(ChipServices& chip, std::uint64_t crystalHz);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    [[nodiscard]] bool sleepEnabled() const { return chip_.is(se_); }
    [[nodiscard]] Sleep sleepMode() const;
    // Standby modes keep the oscillator running, so waking takes six clocks.
    [[nodiscard]] bool isStandby() const;
    [[nodiscard]] bool vectorsInBoot() const { return chip_.is(ivsel_); }
    [[nodiscard]] ClockSource clockSource() const;
    // Before division; 0 where nothing oscillates.
    [[nodiscard]] std::uint64_t sourceHz() const;
    [[nodiscard]] std::uint64_t hz() const;
    // Clocks of the source before the core starts: from power-up or deep sleep, and the time that SUT adds after a reset.
    [[nodiscard]] std::int64_t startClocks() const;
    [[nodiscard]] kernel::Duration startDelay() const;

    // Called where a power reduction bit has changed.
    std::function<void(std::int64_t cycle)> powerChanged;
    // The peripheral clock of the PLL (ATtiny85) may be taken from now on.
    [[nodiscard]] bool pllRuns() const { return chip_.is(pllEnable_); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(clockChangeAt_, vectorChangeAt_, jtagChangeAt_, jtagWanted_, lockAlarm_);
    }

private:
    [[nodiscard]] unsigned sleepBits() const;
    void writeClockDivision(std::uint8_t value, std::int64_t cycle);
    void writeVectorSelect(std::uint8_t value, std::int64_t cycle);
    void writeJtagDisable(std::uint8_t value, std::int64_t cycle);
    void takePins();
    static constexpr std::int64_t kWindowCycles = 4;
    [[nodiscard]] static bool open(std::int64_t since, std::int64_t cycle) { return cycle - since <= kWindowCycles; }

    const std::uint64_t crystalHz_;
    std::uint16_t mcucr_ = 0, mcusr_ = 0, smcr_ = 0, clkpr_ = 0, osccal_ = 0, gicr_ = 0, pllcsr_ = 0;
    std::vector<std::uint16_t> powerRegisters_;
    BitRef se_, ivsel_, ivce_, pud_, jtd_, clkpce_, pllEnable_, pllLock_;
    std::array<BitRef, 3> sm_{};
    std::uint8_t resetFlags_ = 0;
    std::uint8_t mcucrBits_ = 0, mcusrBits_ = 0;  // of these registers, those that are ours

    std::int64_t clockChangeAt_ = INT64_MIN / 2;
    std::int64_t vectorChangeAt_ = INT64_MIN / 2;
    std::int64_t jtagChangeAt_ = INT64_MIN / 2;
    bool jtagWanted_ = false;
    kernel::Alarm lockAlarm_;
};

}  // namespace bramix::chip::avr
