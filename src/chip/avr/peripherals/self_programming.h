// Self-programming of flash (ATmega328P datasheet ch. 27 "Boot Loader Support", ATmega2560 ch. 29, ATmega32 "Boot Loader Support", ATtiny85 ch. 19).
//
// SPMCSR says what the next SPM, within four cycles, does: fill a word of the page buffer, erase a page, write it, open the RWW section again, set
// lock bits. After BLBSET or SIGRD, the next LPM within three cycles reads fuses and lock bits, or the signature row.
// Flash is in two parts: the last `bootBytes` of it (NRWW), during whose programming the core stands, and the rest (RWW), which cannot be read
// while RWWSB is set. SPM works in the boot section only, whose size BOOTSZ gives; chips without one allow it everywhere.
// Lock bits (tables 27-2, 27-3) forbid SPM to write a section, or LPM to read it from the other one.
// A page takes 4.5 ms to erase or write, the longest that the datasheet allows, so that firmware which does not wait is found out.
// Tested by tests/chip/avr/peripherals/self_programming_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"

namespace bramix::chip::avr {

class Cpu;

class SelfProgramming final : public StatefulPeripheral<SelfProgramming> {
public:
    SelfProgramming(ChipServices& chip, Cpu& cpu, std::array<std::uint8_t, 4>& fuses);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    void storeProgramMemory(std::int64_t cycle);
    // LPM, where it may not simply read flash.
    std::uint8_t loadProgramMemory(std::uint32_t byteAddress, std::int64_t cycle);
    // The instruction about to run lies in flash that is being programmed.
    void executing(std::uint32_t word);

    // Byte address at which the boot section begins; the end of flash where there is none.
    [[nodiscard]] std::uint32_t bootStart() const;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(page_, filled_, setAt_, alarm_);
        if constexpr (Archive::kLoading)
            updateLoads();
    }

private:
    [[nodiscard]] std::uint32_t nrwwStart() const { return chip_.table().flashBytes - chip_.table().bootBytes; }
    [[nodiscard]] bool inBoot(std::uint32_t byteAddress) const { return byteAddress >= bootStart(); }
    [[nodiscard]] bool window(std::int64_t cycle, std::int64_t cycles) const { return cycle - setAt_ <= cycles; }
    [[nodiscard]] bool mayProgram(std::uint32_t byteAddress) const;
    [[nodiscard]] bool mayRead(std::uint32_t byteAddress) const;
    [[nodiscard]] std::uint32_t z() const;
    void programPage(bool erase);
    void clearBuffer();
    void updateLoads();
    void updateInterrupt();

    Cpu& cpu_;
    std::array<std::uint8_t, 4>& fuses_;
    std::uint16_t spmcsr_ = 0;
    BitRef enable_, erase_, writePage_, lockBits_, reopen_, signature_, busySection_;
    InterruptSource source_;

    std::vector<std::uint16_t> page_;
    std::vector<std::uint8_t> filled_;
    std::int64_t setAt_ = INT64_MIN / 2;
    kernel::Alarm alarm_;
};

}  // namespace bramix::chip::avr
