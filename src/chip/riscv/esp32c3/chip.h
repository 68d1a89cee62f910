// The ESP32-C3: core, flash through the cache's MMU, SRAM, interrupt matrix, clocks, GPIO with IO MUX and matrix, serial ports, timers, watchdogs, LED PWM, remote control
// transmitter, analog to digital converter (Technical Reference Manual v0.7).
//
// There is no mask ROM: the chip begins where an ELF file says, or at 0x42000008 of an image that has the mark of direct boot, or by the header of an application image. A call into
// the ROM is told. Registers of what is not modelled keep what is written, have no effect, and are told once.
// Tested by tests/chip/riscv/esp32c3_test.cpp.
#pragma once

#include <array>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "chip/base/page_map.h"
#include "chip/base/running_chip.h"
#include "chip/riscv/core/cpu.h"
#include "chip/riscv/esp32c3/device.h"
#include "chip/riscv/peripherals/gpio.h"
#include "chip/riscv/peripherals/led_pwm.h"
#include "chip/riscv/peripherals/remote_control.h"
#include "chip/riscv/peripherals/rtc_control.h"
#include "chip/riscv/peripherals/sar_adc.h"
#include "chip/riscv/peripherals/system_timer.h"
#include "chip/riscv/peripherals/timer_group.h"
#include "chip/riscv/peripherals/uart.h"

namespace bramix::chip::riscv {

class Esp32c3 final : public RunningChip, private Bus, private Soc {
public:
    Esp32c3(const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer);

    // "GPIO8".
    [[nodiscard]] static std::optional<unsigned> padNamed(std::string_view name);
    [[nodiscard]] Cpu& cpu() { return cpu_; }

    // Mcu.
    [[nodiscard]] bool inReset() const override { return RunningChip::inReset() || !options_.hasCrystal; }
    bool attachPin(std::string_view pin, circuit::PinId id) override;
    void refreshPins() override { gpio_.pins.refresh(volts_); }
    [[nodiscard]] std::optional<double> outputOhms(circuit::PinId pin) const override { return gpio_.pins.pinAt(pin) ? std::optional(gpio_.pins.electrics().outputOhms) : std::nullopt; }
    [[nodiscard]] std::optional<AnalogReading> analogReading(circuit::PinId pin) const override;
    [[nodiscard]] std::vector<PinStatus> pins() const override;
    [[nodiscard]] const std::vector<SerialPort>& serialPorts() const override;
    [[nodiscard]] SerialFormat serialFormat(std::size_t port) const override { return uarts_[port]->format(); }
    [[nodiscard]] std::uint32_t sentBy(std::size_t port) const override { return uarts_[port]->sentBy(); }
    void loadProgram(const Firmware& firmware) override;
    [[nodiscard]] bool faulted() const override { return !fault_.empty(); }
    [[nodiscard]] bool halted() const override;
    void stopWhenHalted(bool stop) override
    {
        RunningChip::stopWhenHalted(stop);
        cpu_.leavesLoops = stop;
    }
    void tellCodeTime(CodeTime* to, kernel::Duration stretch) override
    {
        RunningChip::tellCodeTime(to, stretch);
        cpu_.codeTime = to;
        cpu_.codeBegin = device_.codeBegin;
        cpu_.codeEnd = device_.codeEnd;
        cpu_.forgetAllCode();
    }
    void save(kernel::SaveArchive& ar) override;
    void load(kernel::LoadArchive& ar) override;

    // DebugPort.
    [[nodiscard]] std::uint32_t codeAddress() const override { return cpu_.pc; }
    [[nodiscard]] std::uint64_t stackPointer() const override { return cpu_.x[2]; }
    [[nodiscard]] bool exceptionPending() const override { return due() != 0; }
    [[nodiscard]] std::optional<FaultInfo> fault() const override;
    [[nodiscard]] std::uint64_t readRegister(std::size_t index) const override;
    void writeRegister(std::size_t index, std::uint64_t value) override;
    [[nodiscard]] std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const override;
    [[nodiscard]] std::uint8_t readData(std::uint64_t at) const override;
    [[nodiscard]] std::uint8_t readDataAt(std::uint64_t at, kernel::Time) const override { return readData(at); }
    bool write(SpaceId space, std::uint64_t at, std::uint8_t value) override;
    [[nodiscard]] CodeView code() const override { return {flash_, kCodeWindow}; }
    [[nodiscard]] InstructionInfo instructionAt(std::uint32_t address) const override;
    [[nodiscard]] std::optional<MemoryAccess> nextAccess() const override;

    [[nodiscard]] kernel::EventQueue& queue() override { return queue_; }

private:
    // RunningChip
    void step() override;
    bool enterDue() override;
    [[nodiscard]] bool wakes() const override { return due() != 0 || resetWanted_ != 0; }
    void fillMemories() override;
    void resetState(unsigned cause) override;
    [[nodiscard]] bool requested(unsigned exception) const override { return exception >= 32 && ((pendingLines() >> (exception - 32)) & 1U) != 0; }
    [[nodiscard]] bool enabled(unsigned exception) const override { return exception >= 32 && ((interruptEnable_ >> (exception - 32)) & 1U) != 0; }
    void runCore() override;
    void watchpointsChanged() override;
    void clockChanged() override;
    // Bus
    std::uint16_t fetch(std::uint32_t address) override;
    std::uint32_t read(std::uint32_t address, unsigned size, std::int64_t cycle) override;
    void write(std::uint32_t address, unsigned size, std::uint32_t value, std::int64_t cycle) override;
    std::optional<std::uint32_t> readCsr(unsigned number) override;
    bool writeCsr(unsigned number, std::uint32_t value) override;
    void interruptsEnabled() override
    {
        if (due() != 0)
            leaveSlice();
    }
    void codeSeen(std::uint32_t address) override;
    // Soc
    [[nodiscard]] kernel::Time instant() const override { return std::max(queue_.now(), clock_.timeOf({cycleNow()})); }
    [[nodiscard]] std::uint64_t crystalHz() const override { return options_.clockHz != 0 ? options_.clockHz : kCrystalHz; }
    [[nodiscard]] std::uint64_t busHz() const override;
    void setSource(unsigned source, bool high) override;
    void remark(const char* rule, const std::string& text) override;
    [[nodiscard]] std::uint32_t codeNow() const override { return cpu_.current; }
    void wantReset(unsigned cause) override;

    static constexpr unsigned kSources = 62;
    struct Slot {
        std::uint32_t base, size;
        WordPeripheral* what;
    };
    [[nodiscard]] const Slot* slotAt(std::uint32_t address) const;
    [[nodiscard]] std::uint32_t peekWord(std::uint32_t address) const;
    std::uint32_t readWord(std::uint32_t address);
    void writeWord(std::uint32_t address, std::uint32_t value);
    void writeMatrix(std::uint32_t offset, std::uint32_t value);
    [[nodiscard]] std::uint32_t peekMatrix(std::uint32_t offset) const;
    void selectClock();
    // CPU interrupts: asked for by level, or remembered from an edge.
    [[nodiscard]] std::uint32_t pendingLines() const { return ((lines_ & ~interruptType_) | (latched_ & interruptType_)) & ~1U; }
    // The one to be entered, masks by mstatus aside; 0: none.
    [[nodiscard]] unsigned due() const;
    void linesChanged();
    void placeFlash();
    void lookAtTrap();
    void boot();
    [[nodiscard]] const std::uint8_t* plain(std::uint32_t address) const;

    PageMap map_;
    MappedRam sram_, rtcSram_;
    Cpu cpu_;
    Gpio gpio_;
    std::array<std::unique_ptr<Uart>, 2> uarts_;
    SystemTimer systemTimer_;
    TimerGroup group0_, group1_;
    RtcControl rtc_;
    LedPwm ledPwm_;
    RemoteControl remote_;
    SarAdc adc_;
    std::vector<Slot> slots_;
    mutable std::vector<SerialPort> serialPorts_;

    std::vector<std::uint8_t> flash_;
    std::vector<Firmware::Chunk> chunks_;
    std::uint32_t entry_ = 0;
    std::array<std::uint32_t, 128> mmu_{};       // page of flash by page of the windows; bit 8: none
    std::array<std::uint32_t, 128> firstMmu_{};  // as an application image sets it up
    std::string noImage_;                        // why it cannot begin

    std::array<std::uint8_t, kSources> sources_{}, route_{};
    std::uint32_t interruptEnable_ = 0, interruptType_ = 0, threshold_ = 0, lines_ = 0, latched_ = 0;
    std::array<std::uint8_t, 32> priority_{};
    std::uint32_t cpuClock_ = 0xC, systemClock_ = 1;
    std::array<std::uint32_t, 4> fromCpu_{};
    std::map<std::uint32_t, std::uint32_t> kept_;   // registers of what is not modelled
    std::map<std::uint32_t, std::uint32_t> csrs_;   // of memory protection, triggers and counters
    std::int64_t counterBase_ = 0;
    unsigned resetWanted_ = 0;
    std::string fault_;
    std::uint32_t faultAt_ = 0;
    std::int64_t faultCycle_ = 0;
};

}  // namespace bramix::chip::riscv
