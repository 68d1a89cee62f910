// A microcontroller around an ARM926EJ-S: core, 64 MB of RAM at 0, three PL011, one PL190, two SP804.
//
// A program begins in supervisor mode with interrupts off, in RAM where its image says; a boot monitor has left UART0 enabled. Everything else in the address space answers with a
// bus error.
// Tested by tests/chip/arm9/arm926_test.cpp.
#pragma once

#include <array>
#include <memory>
#include <vector>

#include "chip/arm9/arm926/device.h"
#include "chip/arm9/core/cpu.h"
#include "chip/arm9/peripherals/dual_timer.h"
#include "chip/arm9/peripherals/interrupt_controller.h"
#include "chip/arm9/peripherals/uart.h"
#include "chip/base/pin_bank.h"
#include "chip/base/running_chip.h"

namespace bramix::chip::arm9 {

class Arm926 final : public RunningChip, private Bus, private Host {
public:
    Arm926(const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer);

    // "U0TX": transmit and receive of each UART in turn.
    [[nodiscard]] static std::optional<unsigned> pinNamed(std::string_view name);
    [[nodiscard]] Cpu& cpu() { return cpu_; }

    // Mcu.
    bool attachPin(std::string_view pin, circuit::PinId id) override;
    void refreshPins() override { pins_.refresh(volts_); }
    [[nodiscard]] std::optional<double> outputOhms(circuit::PinId pin) const override;
    [[nodiscard]] std::vector<PinStatus> pins() const override;
    [[nodiscard]] const std::vector<SerialPort>& serialPorts() const override;
    [[nodiscard]] SerialFormat serialFormat(std::size_t port) const override { return uarts_[port]->format(); }
    [[nodiscard]] std::uint32_t sentBy(std::size_t port) const override { return uarts_[port]->sentBy(); }
    void loadProgram(const Firmware& firmware) override;
    [[nodiscard]] bool faulted() const override { return !fault_.empty(); }
    [[nodiscard]] bool halted() const override;
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

    // DebugPort.
    [[nodiscard]] std::uint32_t codeAddress() const override { return cpu_.r[15]; }
    [[nodiscard]] std::uint64_t stackPointer() const override { return cpu_.r[13]; }
    [[nodiscard]] std::optional<std::uint64_t> lowestStack() const override { return std::nullopt; }  // each mode has its own
    [[nodiscard]] bool exceptionPending() const override { return (controller_.irq() && (cpu_.cpsr & kIrqOff) == 0) || (controller_.fiq() && (cpu_.cpsr & kFiqOff) == 0); }
    [[nodiscard]] std::optional<FaultInfo> fault() const override;
    [[nodiscard]] std::uint64_t readRegister(std::size_t index) const override;
    void writeRegister(std::size_t index, std::uint64_t value) override;
    [[nodiscard]] std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const override;
    [[nodiscard]] std::uint8_t readData(std::uint64_t at) const override;
    [[nodiscard]] std::uint8_t readDataAt(std::uint64_t at, kernel::Time) const override { return readData(at); }
    bool write(SpaceId space, std::uint64_t at, std::uint8_t value) override;
    [[nodiscard]] CodeView code() const override;
    [[nodiscard]] InstructionInfo instructionAt(std::uint32_t address) const override;
    [[nodiscard]] std::optional<MemoryAccess> nextAccess() const override;

    [[nodiscard]] kernel::EventQueue& queue() override { return queue_; }

private:
    static constexpr unsigned kUarts = 3;
    // RunningChip
    void step() override;
    bool enterDue() override;
    [[nodiscard]] bool wakes() const override { return controller_.irq() || controller_.fiq(); }
    void fillMemories() override;
    void resetState(unsigned cause) override;
    [[nodiscard]] bool requested(unsigned exception) const override { return exception == kIrqVector ? controller_.irq() : exception == kFiqVector && controller_.fiq(); }
    [[nodiscard]] bool enabled(unsigned exception) const override { return exception == kIrqVector ? (cpu_.cpsr & kIrqOff) == 0 : exception != kFiqVector || (cpu_.cpsr & kFiqOff) == 0; }
    friend class bramix::chip::RunningChip;
    void runCore() override { runPlain(*this); }
    [[nodiscard]] std::int64_t loopCycles() const { return jumpsToItself() ? kSpinCycles : 0; }
    void watchpointsChanged() override;
    // Bus
    std::uint32_t fetch(std::uint32_t address, unsigned size) override;
    std::uint32_t read(std::uint32_t address, unsigned size, std::int64_t cycle) override;
    void write(std::uint32_t address, unsigned size, std::uint32_t value, std::int64_t cycle) override;
    void interruptsEnabled() override
    {
        if (wakes())
            leaveSlice();
    }
    // Host
    [[nodiscard]] kernel::Time instant() const override { return std::max(queue_.now(), clock_.timeOf({cycleNow()})); }
    void setSource(unsigned source, bool high) override { controller_.setSource(source, high); }
    void remark(const char* rule, const std::string& text) override;
    [[nodiscard]] std::uint32_t codeNow() const override { return cpu_.current; }

    template <class Archive>
    void state(Archive& ar)
    {
        baseState(ar);
        ar(cpu_, ram_, pins_, controller_, timers_[0], timers_[1], *uarts_[0], *uarts_[1], *uarts_[2], fault_, faultAt_, faultCycle_, irqWas_, fiqWas_);
    }
    struct Slot {
        std::uint32_t base;
        WordPeripheral* what;
    };
    [[nodiscard]] WordPeripheral* at(std::uint32_t address) const;
    void linesChanged();
    // The next instruction is a jump to itself.
    [[nodiscard]] bool jumpsToItself() const;
    static constexpr std::int64_t kSpinCycles = 3;

    PageMap map_;
    MappedRam ram_;
    Cpu cpu_;
    PinBank pins_;
    InterruptController controller_;
    std::array<DualTimer, 2> timers_;
    std::array<std::unique_ptr<Uart>, kUarts> uarts_;
    std::vector<Slot> slots_;
    mutable std::vector<SerialPort> serialPorts_;

    std::vector<std::uint8_t> program_;        // of the image, from address 0
    std::vector<Firmware::Chunk> chunks_;
    std::uint32_t entry_ = 0;
    mutable std::vector<std::uint8_t> shown_;  // program memory as it stands
    mutable std::int64_t shownAt_ = -1;
    bool irqWas_ = false, fiqWas_ = false;
    std::string fault_;
    std::uint32_t faultAt_ = 0;
    std::int64_t faultCycle_ = 0;
};

}  // namespace bramix::chip::arm9
