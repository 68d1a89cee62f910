// A 14-bit PIC controller: core, ports, timer 0, watchdog, interrupts, EEPROM, sleep and resets, configuration word (DS35007B, DS30487C, DS39582B).
//
// Registers of peripherals that are not modelled yet (timers 1 and 2, CCP, serial ports, converter, comparators) keep what is written, have no effect, and are told once.
// Tested by tests/chip/pic16/pic16_test.cpp.
#pragma once

#include <array>
#include <memory>
#include <vector>

#include "chip/base/pin_bank.h"
#include "chip/base/running_chip.h"
#include "chip/pic16/core/cpu.h"
#include "chip/pic16/device.h"

namespace bramix::chip::pic16 {

class Pic16 final : public RunningChip, private FileBus {
public:
    Pic16(const Model& model, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer);

    // "RB0": its number in the bank of pins, eight a port.
    [[nodiscard]] static std::optional<unsigned> pinNamed(const Model& model, std::string_view name);

    // Mcu.
    bool attachPin(std::string_view pin, circuit::PinId id) override;
    [[nodiscard]] bool hasResetInput() const override { return model_.id != "pic16f88" || (config_ & 0x20U) != 0; }
    void refreshPins() override { pins_.refresh(volts_); }
    [[nodiscard]] std::optional<double> outputOhms(circuit::PinId pin) const override { return pins_.pinAt(pin) ? std::optional(pins_.electrics().outputOhms) : std::nullopt; }
    [[nodiscard]] std::vector<PinStatus> pins() const override;
    [[nodiscard]] const std::vector<SerialPort>& serialPorts() const override { return noPorts_; }
    [[nodiscard]] SerialFormat serialFormat(std::size_t) const override { return {}; }
    [[nodiscard]] std::uint32_t sentBy(std::size_t) const override { return UINT32_MAX; }
    void loadProgram(const Firmware& firmware) override;
    [[nodiscard]] std::span<const std::uint8_t> nonVolatile() const override { return eeprom_; }
    [[nodiscard]] std::uint64_t nonVolatileRevision() const override { return eepromRevision_; }
    void programNonVolatile(const std::vector<std::uint8_t>& image) override;
    [[nodiscard]] bool inReset() const override { return RunningChip::inReset() || noClock_; }
    [[nodiscard]] bool faulted() const override { return false; }
    [[nodiscard]] bool halted() const override;
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

    // DebugPort.
    [[nodiscard]] std::uint32_t codeAddress() const override { return cpu_.pc; }
    // Grows downwards as calls go deeper, as stacks do; it is no address.
    [[nodiscard]] std::uint64_t stackPointer() const override { return 0x100U - cpu_.depth; }
    [[nodiscard]] std::optional<std::uint64_t> lowestStack() const override { return std::nullopt; }
    [[nodiscard]] bool exceptionPending() const override { return pending() && (cpu_.file[kIntcon] & 0x80U) != 0; }
    [[nodiscard]] std::optional<FaultInfo> fault() const override { return std::nullopt; }
    [[nodiscard]] std::uint64_t readRegister(std::size_t index) const override;
    void writeRegister(std::size_t index, std::uint64_t value) override;
    [[nodiscard]] std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const override;
    [[nodiscard]] std::uint8_t readData(std::uint64_t at) const override;
    [[nodiscard]] std::uint8_t readDataAt(std::uint64_t at, kernel::Time) const override { return readData(at); }
    bool write(SpaceId space, std::uint64_t at, std::uint8_t value) override;
    [[nodiscard]] CodeView code() const override { return {codeBytes_, 0, 2}; }
    [[nodiscard]] InstructionInfo instructionAt(std::uint32_t address) const override;
    [[nodiscard]] std::optional<MemoryAccess> nextAccess() const override;

private:
    enum : unsigned { kByPin = 1, kByWatchdog = 2 };
    // RunningChip
    void step() override
    {
        cpu_.step();
        // The instruction that was fetched before the request has run now.
        if (wasPending_ && (cpu_.file[kIntcon] & 0x80U) != 0)
            leaveSlice();
    }
    bool enterDue() override;
    [[nodiscard]] bool wakes() const override { return pending() || watchdogWakes_; }
    void wake() override;
    void fillMemories() override;
    void resetState(unsigned cause) override;
    [[nodiscard]] bool requested(unsigned exception) const override { return exception == 1 && pending(); }
    [[nodiscard]] bool enabled(unsigned exception) const override { return exception == 1 && (cpu_.file[kIntcon] & 0x80U) != 0; }
    friend class bramix::chip::RunningChip;
    void runCore() override { runPlain(*this); }
    [[nodiscard]] std::int64_t loopCycles() const
    {
        const std::uint16_t word = cpu_.program[cpu_.pc];
        return (word & 0x3800U) == 0x2800U && cpu_.target(word & 0x7FFU) == cpu_.pc ? 2 : 0;
    }
    void watchpointsChanged() override { cpu_.watched = !watchpoints_.empty(); }
    // FileBus
    std::uint8_t readSpecial(std::uint16_t address, std::int64_t cycle) override;
    void writeSpecial(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void watchdogCleared() override { feed(); }
    void sleepEntered() override;
    void interruptsEnabled() override
    {
        if (pending())
            leaveSlice();
    }
    void stackWrapped(bool over) override;
    void accessed(std::uint16_t address, std::uint8_t before, std::uint8_t value, bool write) override;

    template <class Archive>
    void state(Archive& ar)
    {
        baseState(ar);
        ar(cpu_, pins_, latches_, directions_, portB_, timerBase_, timerValue_, prescale_, oneLevel_, eeprom_, eepromRevision_, unlock_, eepromDone_, watchdog_, watchdogSince_, watchdogWakes_, pendingSince_, wasPending_, config_, noClock_, timerDue_);
    }

    [[nodiscard]] std::uint8_t peek(std::uint16_t own) const;
    void store(std::uint16_t own, std::uint8_t value);
    [[nodiscard]] std::uint8_t analogOf(std::size_t port) const;
    [[nodiscard]] std::uint8_t readPort(std::size_t port) const;
    void showPort(std::size_t port);
    void pinChanged(unsigned pin, bool level);
    void checkPortB();
    [[nodiscard]] bool pending() const;
    // After any change of a flag or its enable.
    void flagsChanged();
    void raise(std::uint8_t intconBit);
    // Timer 0.
    [[nodiscard]] bool timerExternal() const { return (option() & 0x20U) != 0; }
    [[nodiscard]] std::int64_t timerDivider() const { return (option() & 8U) != 0 ? 1 : std::int64_t{2} << (option() & 7U); }
    [[nodiscard]] std::uint8_t option() const { return cpu_.file[0x81]; }
    [[nodiscard]] std::uint8_t timerNow(std::int64_t cycle) const;
    void catchTimer(std::int64_t cycle);
    void setTimer(std::uint8_t value, std::int64_t from);
    void planTimer();
    // Watchdog.
    [[nodiscard]] bool watchdogOn() const;
    [[nodiscard]] kernel::Duration watchdogPeriod() const;
    void feed();
    void planWatchdog();
    void watchdogDue();
    void selectClock();
    [[nodiscard]] unsigned oscillator() const;
    void setUpMap();

    const Model& model_;
    Cpu cpu_;
    PinBank pins_;
    std::vector<std::uint8_t> codeBytes_, eeprom_;
    std::vector<SerialPort> noPorts_;
    unsigned config_ = 0x3FFF;
    bool noClock_ = false;
    std::array<std::uint8_t, 5> latches_{}, directions_{};
    std::uint8_t portB_ = 0;                       // RB7 to RB4 as they were read last
    std::int64_t timerBase_ = 0;                   // at this cycle timer 0 stood at timerValue_
    std::uint8_t timerValue_ = 0;
    std::uint32_t prescale_ = 0;                   // edges that its input has had towards the next count
    bool oneLevel_ = false;
    std::uint64_t eepromRevision_ = 0;
    std::uint8_t unlock_ = 0;
    kernel::Time watchdogSince_{};
    bool watchdogWakes_ = false;
    std::int64_t pendingSince_ = 0;
    bool wasPending_ = false;
    CycleAlarm timerDue_;
    kernel::Alarm eepromDone_, watchdog_;
};

}  // namespace bramix::chip::pic16
