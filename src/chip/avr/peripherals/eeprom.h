// The EEPROM (ATmega328P datasheet ch. 8.4, 8.6; ATmega2560 ch. 8; ATmega32 and ATtiny85 "EEPROM Data Memory").
//
// Writing is a timed sequence: EEPE within four cycles of EEMPE. It then takes its time by the internal oscillator, whatever the system clock: 3.4 ms,
// or 1.8 ms to erase or write only. The core stands for two cycles when a write begins, for four at a read.
// Invariant: contents outlive every reset; `revision` grows with each byte written, so that whoever keeps them in a file sees when to.
// Tested by tests/chip/avr/peripherals/eeprom_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"

namespace bramix::chip::avr {

class Eeprom final : public StatefulPeripheral<Eeprom> {
public:
    explicit Eeprom(ChipServices& chip);

    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void reset() override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    [[nodiscard]] const std::vector<std::uint8_t>& contents() const { return contents_; }
    // What a programmer would write before power-up. Longer images are cut, shorter ones leave the rest as it is.
    void program(const std::vector<std::uint8_t>& image);
    void programByte(std::uint32_t address, std::uint8_t value) { contents_[address] = value; }
    [[nodiscard]] std::uint64_t revision() const { return revision_; }
    [[nodiscard]] bool busy() const { return alarm_.armed(); }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(contents_, revision_, enabledAt_, busyAddress_, busyValue_, alarm_);
    }

private:
    [[nodiscard]] std::size_t address() const;
    [[nodiscard]] bool armed(std::int64_t cycle) const { return cycle - enabledAt_ <= kWindowCycles; }
    void begin(std::int64_t cycle);
    void updateInterrupt();

    static constexpr std::int64_t kWindowCycles = 4;

    std::uint16_t eecr_ = 0, eedr_ = 0, eearl_ = 0, eearh_ = 0;
    BitRef master_, program_, readEnable_, enable_, mode0_, mode1_;
    std::uint8_t vector_ = 0;

    std::vector<std::uint8_t> contents_;
    std::uint64_t revision_ = 0;
    std::int64_t enabledAt_ = INT64_MIN / 2;  // cycle at which EEMPE was set
    std::uint32_t busyAddress_ = 0;
    std::uint8_t busyValue_ = 0;
    kernel::Alarm alarm_;  // in time, not in cycles: the write runs by an oscillator of its own
};

}  // namespace bramix::chip::avr
