// A microcontroller of the STM32F103 line: core, clocks, ports, external interrupts, serial ports, general-purpose timers, SysTick and cycle counter (RM0008, PM0056).
//
// What is not modelled yet (SPI, I2C, CAN, USB, TIM1, watchdogs, RTC, flash programming) reads as 0, keeps nothing, and is told once where firmware asks for it.
// Memory answers without wait states; the latency that FLASH_ACR sets is kept and has no effect.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include <array>
#include <memory>
#include <string>
#include <vector>

#include "chip/base/running_chip.h"
#include "chip/cortexm/core/cpu.h"
#include "chip/cortexm/peripherals/adc.h"
#include "chip/cortexm/peripherals/dma.h"
#include "chip/cortexm/peripherals/gpio.h"
#include "chip/cortexm/peripherals/timer.h"
#include "chip/cortexm/peripherals/usart.h"
#include "chip/cortexm/stm32f1/device.h"


namespace bramix::chip::cortexm {

class Stm32f1 final : public RunningChip, private Bus, public Services {
public:
    Stm32f1(const Model& model, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer);

    [[nodiscard]] static Pin pinNamed(std::string_view name);
    [[nodiscard]] Cpu& cpu() { return cpu_; }

    // Mcu: wiring and contents.
    bool attachPin(std::string_view pin, circuit::PinId id) override;
    void refreshPins() override { gpio_.refresh(volts_); }
    [[nodiscard]] std::optional<double> outputOhms(circuit::PinId pin) const override { return gpio_.pinAt(pin) ? std::optional(Gpio::kOutputOhms) : std::nullopt; }
    [[nodiscard]] std::optional<AnalogReading> analogReading(circuit::PinId pin) const override
    {
        const auto known = gpio_.pinAt(pin);
        return known ? adc_.reading(*known) : std::nullopt;
    }
    [[nodiscard]] std::vector<PinStatus> pins() const override;
    [[nodiscard]] const std::vector<SerialPort>& serialPorts() const override;
    [[nodiscard]] SerialFormat serialFormat(std::size_t port) const override { return usarts_[port]->format(); }
    [[nodiscard]] std::uint32_t sentBy(std::size_t port) const override { return usarts_[port]->sentBy(); }
    void loadProgram(const Firmware& firmware) override;
    [[nodiscard]] bool faulted() const override { return cpu_.lockedUp; }
    [[nodiscard]] bool halted() const override;
    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }

    // DebugPort.
    [[nodiscard]] std::uint32_t codeAddress() const override { return cpu_.pc(); }
    [[nodiscard]] std::uint64_t stackPointer() const override { return cpu_.r[13]; }
    [[nodiscard]] bool exceptionPending() const override { return cpu_.due() != 0; }
    [[nodiscard]] std::optional<FaultInfo> fault() const override;
    [[nodiscard]] std::uint64_t readRegister(std::size_t index) const override;
    void writeRegister(std::size_t index, std::uint64_t value) override;
    [[nodiscard]] std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const override;
    [[nodiscard]] std::uint8_t readData(std::uint64_t at) const override;
    [[nodiscard]] std::uint8_t readDataAt(std::uint64_t at, kernel::Time) const override { return readData(at); }
    bool write(SpaceId space, std::uint64_t at, std::uint8_t value) override;
    [[nodiscard]] CodeView code() const override { return {flash_, kFlashBase}; }
    [[nodiscard]] InstructionInfo instructionAt(std::uint32_t address) const override;
    [[nodiscard]] std::optional<MemoryAccess> nextAccess() const override;

    [[nodiscard]] kernel::EventQueue& queue() override { return queue_; }

private:
    // RunningChip
    friend class bramix::chip::RunningChip;
    enum : unsigned { kByPin = 1, kByProgram = 2 };
    void step() override;
    bool enterDue() override;
    [[nodiscard]] bool wakes() const override;
    void wake() override { cpu_.wake(); }
    void fillMemories() override { fillWithNoise(ram_); }
    void resetState(unsigned cause) override;
    [[nodiscard]] bool requested(unsigned exception) const override { return exceptions_.pending(exception); }
    [[nodiscard]] bool enabled(unsigned exception) const override { return exceptions_.enabled(exception); }
    void runCore() override { runPlain(*this); }
    [[nodiscard]] std::int64_t loopCycles() const;
    void clockChanged() override;
    // Bus
    std::uint16_t fetch(std::uint32_t address) override;
    std::uint32_t read(std::uint32_t address, unsigned size, std::int64_t cycle) override;
    void write(std::uint32_t address, unsigned size, std::uint32_t value, std::int64_t cycle) override;
    // Services
    [[nodiscard]] std::int64_t cycleNow() const override { return RunningChip::cycleNow(); }
    [[nodiscard]] std::int64_t cyclesPerBusClock(BusOf bus) const override;
    [[nodiscard]] std::int64_t cyclesPerTimerClock(BusOf bus) const override;
    void setInterrupt(unsigned number, bool high) override;
    void remark(const char* rule, const std::string& text) override;
    [[nodiscard]] std::uint32_t codeNow() const override { return cpu_.current; }
    void requestDma(unsigned channel, bool high) override { dma_.request(channel, high); }
    [[nodiscard]] std::optional<std::uint32_t> masterRead(const char* master, std::uint32_t address, unsigned size) override;
    bool masterWrite(const char* master, std::uint32_t address, unsigned size, std::uint32_t value) override;

    // A peripheral at its place, with the bit of the clock gate that it hangs on.
    struct Slot {
        std::uint32_t base = 0;
        std::uint32_t enable = 0;  // register of RCC: 0x14, 0x18, 0x1C
        unsigned bit = 0;
        Peripheral* what = nullptr;
        const char* name = "";
        int port = -1;             // of GPIO
    };

    template <class Archive>
    void state(Archive& ar);
    [[nodiscard]] bool loops() const;
    void tellFault();
    [[nodiscard]] const std::uint8_t* plain(std::uint32_t address, unsigned size) const;
    [[nodiscard]] const Slot* slotAt(std::uint32_t address) const;
    [[nodiscard]] bool clocked(const Slot& slot) const;
    [[nodiscard]] std::uint32_t peekWord(std::uint32_t address) const;
    std::uint32_t readWord(std::uint32_t address);
    void writeWord(std::uint32_t address, std::uint32_t value);
    [[nodiscard]] std::optional<std::uint32_t> peekPrivate(std::uint32_t address) const;
    void writePrivate(std::uint32_t address, std::uint32_t value);
    [[nodiscard]] std::uint32_t rccRead(std::uint32_t offset) const;
    void rccWrite(std::uint32_t offset, std::uint32_t value);
    void selectClock();
    [[nodiscard]] std::uint64_t pllHz() const;
    void afioWrite(std::uint32_t offset, std::uint32_t value);
    void remapPins();
    void extiWrite(std::uint32_t offset, std::uint32_t value);
    void pinChanged(Pin pin, bool level);
    void updateExti();
    // SysTick
    [[nodiscard]] std::uint32_t tickCount() const;
    void tickDue(std::int64_t cycle);
    void tickStart();

    const Model& model_;
    Exceptions exceptions_;
    Cpu cpu_;
    Gpio gpio_;
    std::vector<std::unique_ptr<Usart>> usarts_;
    std::vector<std::unique_ptr<Timer>> timers_;
    Adc adc_;
    Dma dma_;
    std::vector<Slot> slots_;
    std::vector<std::uint8_t> flash_;
    std::vector<std::uint8_t> ram_;
    mutable std::vector<SerialPort> serialPorts_;

    // RCC and FLASH; PWR, bit-band and the rest keep nothing.
    std::uint32_t rccCr_ = 0x83, rccCfgr_ = 0, rccCir_ = 0, apb2Reset_ = 0, apb1Reset_ = 0, ahbEnable_ = 0x14, apb2Enable_ = 0, apb1Enable_ = 0, rccBdcr_ = 0, rccCsr_ = 0x0C000000, flashAcr_ = 0x30;
    CycleAlarm hseReady_, pllReady_;
    // AFIO and EXTI.
    std::uint32_t evcr_ = 0, mapr_ = 0;
    std::array<std::uint32_t, 4> exticr_{};
    std::uint32_t imr_ = 0, emr_ = 0, rtsr_ = 0, ftsr_ = 0, extiPending_ = 0;
    // SysTick: at `tickBase_` the counter stood at `tickFrom_`.
    std::uint32_t tickControl_ = 0, tickLoad_ = 0, tickFrom_ = 0;
    bool tickFlag_ = false;
    std::int64_t tickBase_ = 0;
    CycleAlarm tick_;
    // DWT.
    std::uint32_t demcr_ = 0, dwtControl_ = 0x40000000;
    std::int64_t dwtBase_ = 0;
    std::uint32_t dwtFrom_ = 0;
};

}  // namespace bramix::chip::cortexm
