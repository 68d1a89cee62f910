// A whole AVR microcontroller, built from its table: core, peripherals, interrupts, sleep, clocks, reset and supply.
//
// It runs ahead of the world to the earliest alarm of the queue: run() executes until then, and every access to a register
// first rings what is due up to its own cycle, so that pins and registers change in their true order.
//
// Invariant: between calls of run(), the queue's present is not later than the end of the last instruction.
// Tested by tests/chip/avr/chip_test.cpp and by the tests of each peripheral.
#pragma once

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "chip/avr/peripherals/adc.h"
#include "chip/avr/peripherals/comparator.h"
#include "chip/avr/core/cpu.h"
#include "chip/avr/peripherals/eeprom.h"
#include "chip/avr/peripherals/external_interrupts.h"
#include "chip/avr/fuses.h"
#include "chip/avr/peripherals/high_speed_timer.h"
#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"
#include "chip/avr/peripherals/prescaler_control.h"
#include "chip/avr/peripherals/self_programming.h"
#include "chip/avr/peripherals/spi.h"
#include "chip/avr/peripherals/system_control.h"
#include "chip/avr/peripherals/timer.h"
#include "chip/avr/peripherals/twi.h"
#include "chip/avr/peripherals/usart.h"
#include "chip/avr/peripherals/usi.h"
#include "chip/avr/peripherals/watchdog.h"
#include "chip/mcu.h"
#include "circuit/circuit.h"

namespace bramix::chip::avr {

struct ChipOptions {
    std::uint64_t clockHz = 0;       // of the crystal or clock on XTAL; 0: the chip's usual one
    bool hasCrystal = true;          // something oscillates there
    std::optional<FuseBytes> fuses{};  // absent: those of a chip on nothing (idealFuses)
    bool startsAtOnce = true;        // an ideal reset: no start-up time at power-up
    double supplyVolts = 5.0;
    double pullUpOhms = 35'000;      // of the pins' pull-ups: 20 to 50 kΩ
    std::uint32_t actor = 0;         // who this chip is in a Cause
    std::uint64_t seed = 1;          // of what SRAM holds at power-up
};

class HeardBus;

class Chip final : public IoBus, public ChipServices, public Mcu {
public:
    Chip(const ChipTable& table, const ChipOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer);
    ~Chip() override;

    // A port pin ("PB5"), AREF or AVCC; RESET where a fuse has made it a port pin.
    bool attachPin(std::string_view name, circuit::PinId id) override;
    [[nodiscard]] bool hasResetInput() const override { return fuse("RSTDISBL") != 0; }
    [[nodiscard]] static PortPin portPin(const ChipTable& table, std::string_view name);

    // Flash from address 0; `bootCode`: the image has code in the boot section, so erased flash runs on into it.
    void loadFlash(std::vector<std::uint16_t> words, bool bootCode);

    void powerOn() override;
    void startAt(kernel::Time t) override
    {
        if (cpu_.codeTime != nullptr)
            cpu_.codeTime->cut(cpu_.cycle, stretchOfCodeTime());
        cpu_.cycle = 0;
        if (cpu_.codeTime != nullptr)
            cpu_.codeTime->begin(CodeTime::kInReset, 0, stretchOfCodeTime());
        clock_.restart(t, {0}, clock_.hz());
    }
    // When it rises, the core starts after the time that the fuses say.
    void setResetLine(bool high) override;
    // The voltage between VCC and GND, now. Below the power-on threshold everything is lost; below the brown-out level, if the fuses
    // say so, the chip is held in reset.
    void setSupply(double volts) override;
    [[nodiscard]] double supplySiemens() const override { return consumption_.siemens(); }
    [[nodiscard]] double chargeTaken() const override { return consumption_.coulombs(now()); }
    void refreshPins() override { ports_->refresh(); }
    [[nodiscard]] std::optional<double> outputOhms(circuit::PinId pin) const override { return ports_->outputOf(pin); }
    [[nodiscard]] std::optional<AnalogReading> analogReading(circuit::PinId pin) const override;
    [[nodiscard]] std::vector<PinStatus> pins() const override;  // in the order of the ports
    [[nodiscard]] const std::vector<SerialPort>& serialPorts() const override;
    [[nodiscard]] SerialFormat serialFormat(std::size_t port) const override;
    [[nodiscard]] std::uint32_t sentBy(std::size_t port) const override { return usarts_[port]->sentBy(); }
    void loadProgram(const Firmware& firmware) override;
    [[nodiscard]] bool hasChangedProgram() const override { return cpu_.flashPatched(); }
    [[nodiscard]] std::span<const std::uint8_t> nonVolatile() const override { return eeprom_->contents(); }
    [[nodiscard]] std::uint64_t nonVolatileRevision() const override { return eeprom_->revision(); }
    void programNonVolatile(const std::vector<std::uint8_t>& image) override { eeprom_->program(image); }

    void run(kernel::Time until) override;
    void runAlone(kernel::Time until, const bool& stop) override;
    [[nodiscard]] bool liesStill() const override { return cpu_.sleeping && !interruptDue(); }
    void sleepTo(kernel::Time until) override;
    void yield() override
    {
        yields_ = true;
        cpu_.stopBy(INT64_MIN);
    }
    void stepInstruction(kernel::Time until) override;

    [[nodiscard]] Cpu& cpu() { return cpu_; }
    [[nodiscard]] const Cpu& cpu() const { return cpu_; }
    [[nodiscard]] kernel::Time now() const override { return clock_.timeOf({cpu_.cycle}); }
    [[nodiscard]] const Adc& adc() const { return *adc_; }
    [[nodiscard]] bool faulted() const override { return cpu_.stopped(); }
    [[nodiscard]] bool inReset() const override { return inReset_ || clockless_; }
    // For a debugger. Stops at instruction boundaries; the run that has ended there goes on as if nothing had been.
    [[nodiscard]] const DebugStop& debugStop() const { return cpu_.debugStop; }
    void clearDebugStop() { cpu_.debugStop = {}; }
    void setChangeListener(std::function<void(kernel::Time)> changed) override;
    // Ends the run when one of these vectors is entered; bit by vector number.
    void stopAtInterrupts(std::uint64_t vectors) { interruptStops_ = vectors; }
    // From inside or outside.
    void stopAtResets(bool stop) override { stopAtReset_ = stop; }
    void countInto(CycleCounts* counts) override { cpu_.countInto(counts); }
    void tellCodeTime(CodeTime* to, kernel::Duration stretch = kUsualStretch) override;
    [[nodiscard]] std::uint32_t codeSlot() const override { return cpu_.pc; }
    [[nodiscard]] std::int64_t stretchOfCodeTime() const override { return stretchOfCodeTime(clock_.hz()); }
    // In cycles of a clock of its own that is not set yet.
    [[nodiscard]] std::int64_t stretchOfCodeTime(std::uint64_t hz) const
    {
        constexpr std::int64_t kFewest = 64;
        return std::max(static_cast<std::int64_t>(static_cast<double>(hz) * kernel::seconds(codeTimeStretch_)), kFewest);
    }
    [[nodiscard]] const InterruptCount& interruptCount(std::uint8_t vector) const { return interruptCounts_[vector]; }
    [[nodiscard]] std::uint64_t pendingInterrupts() const { return pending_; }
    [[nodiscard]] std::uint64_t enabledInterrupts() const { return enabledVectors_; }
    [[nodiscard]] std::uint64_t raisedInterrupts() const { return flags_; }
    // Writes as a debugger does: a register through its peripheral, as an instruction would at this moment.
    void poke(std::uint16_t address, std::uint8_t value) { cpu_.poke(address, value); }
    void setPc(std::uint32_t word)
    {
        cpu_.pc = cpu_.current = word;
        if (!inReset())
            cpu_.moved(cpu_.cycle);
    }

    [[nodiscard]] bool halted() const override;
    void stopWhenHalted(bool stop) override { cpu_.stopAtHalt = stop; }
    [[nodiscard]] bool stopsWhenHalted() const override { return cpu_.stopAtHalt; }
    // Where the static data of the firmware end, so that a stack that grows into them is told. 0: not known.
    void setDataEnd(std::uint16_t address) { cpu_.dataEnd = address; }

    [[nodiscard]] std::size_t usartCount() const { return usarts_.size(); }
    [[nodiscard]] const Usart& usart(std::size_t index) const { return *usarts_[index]; }
    [[nodiscard]] Eeprom& eeprom() { return *eeprom_; }
    [[nodiscard]] const Eeprom& eeprom() const { return *eeprom_; }
    [[nodiscard]] const FuseBytes& fuses() const { return fuses_; }

    // Reads a register as a debugger does: without side effects where the peripheral allows it.
    [[nodiscard]] std::uint8_t peek(std::uint16_t address) const;
    // The same in the midst of an instruction, of a register of a peripheral, at a cycle to which everything due has come.
    [[nodiscard]] std::uint8_t peekRegister(std::uint16_t address, std::int64_t cycle) const;

    // DebugPort (chip_debug.cpp)
    [[nodiscard]] const Device& device() const override;
    [[nodiscard]] std::int64_t cycles() const override { return cpu_.cycle; }
    [[nodiscard]] std::int64_t instructions() const override { return cpu_.instructions; }
    [[nodiscard]] std::uint32_t codeAddress() const override { return cpu_.pc * 2; }
    [[nodiscard]] std::uint64_t stackPointer() const override { return cpu_.sp; }
    [[nodiscard]] std::optional<std::uint64_t> lowestStack() const override { return cpu_.lowestSp == UINT16_MAX ? std::nullopt : std::optional<std::uint64_t>(cpu_.lowestSp); }
    [[nodiscard]] bool isSleeping() const override { return cpu_.sleeping; }
    [[nodiscard]] bool exceptionPending() const override { return pending_ != 0; }
    [[nodiscard]] ExceptionStatus exception(unsigned number) const override;
    [[nodiscard]] std::optional<FaultInfo> fault() const override;
    [[nodiscard]] std::uint8_t readData(std::uint64_t at) const override { return at <= UINT16_MAX ? peek(static_cast<std::uint16_t>(at)) : std::uint8_t{0}; }
    [[nodiscard]] std::uint8_t readDataAt(std::uint64_t at, kernel::Time when) const override { return at < ownerAt_.size() ? peekRegister(static_cast<std::uint16_t>(at), clock_.firstCycleAtOrAfter(when).n) : readData(at); }
    [[nodiscard]] CodeView code() const override;
    [[nodiscard]] InstructionInfo instructionAt(std::uint32_t address) const override;
    [[nodiscard]] std::optional<MemoryAccess> nextAccess() const override;
    void setBreakpoints(std::span<const std::uint32_t> addresses) override;
    void setWatchpoints(std::span<const Watchpoint> watchpoints) override;
    void stopAtExceptions(const ExceptionSet& which) override;
    [[nodiscard]] bool hasStopped() const override { return cpu_.debugStop.kind != DebugStop::Kind::none; }
    [[nodiscard]] StopInfo stopInfo() const override;
    void resume(bool passBreakpoint) override
    {
        clearDebugStop();
        if (passBreakpoint)
            cpu_.passBreakpoint();
    }
    [[nodiscard]] std::uint64_t readRegister(std::size_t index) const override;
    void writeRegister(std::size_t index, std::uint64_t value) override;
    [[nodiscard]] std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const override;
    bool write(SpaceId space, std::uint64_t at, std::uint8_t value) override;

    // IoBus
    std::uint8_t ioRead(std::uint16_t address, std::int64_t cycle) override;
    void ioWrite(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void ioWriteBit(std::uint16_t address, std::uint8_t bit, bool value, std::int64_t cycle) override;
    void interruptsEnabled(std::int64_t cycle) override;
    [[nodiscard]] bool interruptPending() const override { return pending_ != 0; }
    void sleepInstruction(std::int64_t cycle) override;
    void watchdogReset(std::int64_t cycle) override;
    void storeProgramMemory(std::int64_t cycle) override;
    std::uint8_t loadProgramMemory(std::uint32_t byteAddress, std::int64_t cycle) override;
    void erasedFlash(std::int64_t cycle) override;
    void unwrittenRead(std::uint16_t address) override;
    void stackInData(std::uint16_t sp) override;
    void interruptReturned(std::int64_t cycle) override { observer_.exceptionReturned(clock_.timeOf({cycle})); }

    // ChipServices
    void claim(Peripheral& who, std::uint16_t address) override;
    void claimVector(Peripheral& who, std::uint8_t vector) override;
    void claimPower(Peripheral& who, BitRef bit) override;
    void setInterrupt(std::uint8_t vector, bool flag, bool enabled) override;
    void awaitTrigger(std::uint8_t vector) override;
    void comparatorChanged(bool level, kernel::Time at) override;
    [[nodiscard]] const kernel::ClockDomain& clock() const override { return clock_; }
    [[nodiscard]] std::int64_t cycleNow() const override { return accessCycle_ > cpu_.cycle ? accessCycle_ : cpu_.cycle; }
    [[nodiscard]] kernel::EventQueue& queue() override { return queue_; }
    // The code that last wrote the compare register which has this pin, by its byte address.
    [[nodiscard]] std::optional<std::uint32_t> compareSetBy(PortPin pin) const
    {
        for (const auto& timer : timers_)
            if (const auto code = timer->compareSetBy(pin))
                return code;
        return std::nullopt;
    }
    [[nodiscard]] Ports& ports() override { return *ports_; }
    [[nodiscard]] const Ports& ports() const { return *ports_; }
    [[nodiscard]] double supplyVolts() const override { return supplyVolts_; }
    [[nodiscard]] unsigned fuse(std::string_view name) const override { return fuseField(table_, fuses_, name); }
    void haltCore(int cycles) override { cpu_.stall += cycles; }
    void resetBy(ResetCause cause) override;
    void setClock(std::uint64_t hz) override;
    void note(const char* rule, const std::string& text) override;
    [[nodiscard]] circuit::Cause cause() const override { return {options_.actor, cpu_.current * 2}; }
    [[nodiscard]] const std::uint32_t& codeWord() const override { return cpu_.current; }
    [[nodiscard]] std::optional<std::uint8_t> lookedBits() const override;

    void save(kernel::SaveArchive& ar) override { state(ar); }
    void load(kernel::LoadArchive& ar) override { state(ar); }
    template <class Archive>
    void state(Archive& ar)
    {
        ar(cpu_, clock_, registers_, fuses_, pending_, enabledVectors_, flags_, inReset_, resetLine_, brownOut_, powered_, clockless_, supplyVolts_, pendingReset_, accessCycle_, awaited_,
           sleepMode_, noted_, badVectors_, shared_, own_, pendingSince_, interruptCounts_, consumption_);
        for (const auto& p : peripherals_) {
            if constexpr (Archive::kLoading)
                p->load(ar);
            else
                p->save(ar);
        }
    }

private:
    class SharedRegister;

    struct Power {
        Peripheral* who = nullptr;
        BitRef bit;
    };

    template <class P, class... Args>
    std::unique_ptr<P> make(Args&&... args);
    void enterPendingInterrupt();
    bool comesLater();
    void checkHandler(std::uint8_t vector);
    void wake();
    void resetCore(std::uint8_t cause);
    void requestReset(std::uint8_t cause);
    void takeReset();
    void updateHold();
    void beginAfter(kernel::Duration delay, std::int64_t clocks);
    [[nodiscard]] double brownOutVolts() const;
    template <class Due>
    void runSlices(kernel::Time until, const Due& due);
    template <class Due>
    void slices(kernel::Time until, const Due& due);
    void catchUp(std::int64_t cycle);
    void afterAccess();
    void powerChanged(std::int64_t cycle);
    [[nodiscard]] bool interruptDue() const { return pending_ != 0 && (cpu_.sreg & kI) != 0 && !cpu_.holdInterrupts; }
    [[nodiscard]] std::int64_t targetCycle(kernel::Time until);
    std::uint8_t readPlain(std::uint16_t address);
    void writePlain(std::uint16_t address, std::uint8_t value);
    void noteOnce(std::uint16_t address, const char* rule, const std::string& text);
    void checkSpeed();
    void reckonConsumption() { reckonConsumption(cycleNow()); }
    void reckonConsumption(std::int64_t cycle);

    const ChipOptions options_;
    kernel::EventQueue& queue_;
    McuObserver& observer_;
    kernel::ClockDomain clock_;
    FuseBytes fuses_;
    Cpu cpu_;
    Prescaler shared_;
    Prescaler own_;
    std::vector<Peripheral*> ownerAt_;  // by data address; null is plain storage
    std::vector<Peripheral*> ownerOf_;  // by vector
    std::vector<const RegisterRow*> rowAt_;
    std::vector<std::uint8_t> bitsAt_;  // which bits of each register exist
    std::vector<std::uint8_t> flagsAt_;  // which bits are cleared by writing 1, in registers that hold others too
    std::vector<Power> powers_;
    std::vector<std::unique_ptr<SharedRegister>> sharedRegisters_;
    std::vector<Peripheral*> peripherals_;

    std::unique_ptr<HeardBus> heard_;  // null: nobody hears
    std::unique_ptr<Ports> ports_;
    std::unique_ptr<SystemControl> system_;
    std::vector<std::unique_ptr<Timer>> timers_;
    std::unique_ptr<HighSpeedTimer> highSpeedTimer_;
    std::unique_ptr<PrescalerControl> prescalers_;
    std::vector<std::unique_ptr<Usart>> usarts_;
    mutable std::vector<SerialPort> serialPorts_;
    std::unique_ptr<ExternalInterrupts> external_;
    std::unique_ptr<Spi> spi_;
    std::unique_ptr<Twi> twi_;
    std::unique_ptr<Usi> usi_;
    std::unique_ptr<Adc> adc_;
    std::unique_ptr<Comparator> comparator_;
    std::unique_ptr<Eeprom> eeprom_;
    std::unique_ptr<SelfProgramming> selfProgramming_;
    std::unique_ptr<Watchdog> watchdog_;
    Timer* captureTimer_ = nullptr;
    circuit::Circuit& circuit_;
    circuit::PinId aref_ = circuit::kNoPin;
    circuit::PinId avcc_ = circuit::kNoPin;
    BitRef watchdogResets_;  // WDE
    std::uint16_t resetFlagsAt_ = 0;
    std::uint8_t resetFlagBits_ = 0;

    std::uint64_t pending_ = 0;         // vectors whose flag and enable bit are set
    std::uint64_t enabledVectors_ = 0;  // vectors whose enable bit is set
    std::array<std::int64_t, 64> pendingSince_{};  // cycle at which each came to be pending
    std::array<InterruptCount, 64> interruptCounts_{};
    std::uint64_t interruptStops_ = 0;
    bool stopAtReset_ = false;
    kernel::Duration codeTimeStretch_ = kUsualStretch;
    std::uint64_t flags_ = 0;           // vectors whose flag is set, as last told
    std::uint64_t badVectors_ = 0;      // vectors whose handler has been looked at
    bool inReset_ = false;
    bool resetLine_ = true;
    bool brownOut_ = false;
    bool powered_ = true;
    bool clockless_ = false;            // nothing oscillates
    double supplyVolts_ = 5.0;
    Consumption consumption_;
    std::uint8_t pendingReset_ = 0;     // causes of a reset that waits for the end of the instruction
    bool executing_ = false;
    bool yields_ = false;
    std::int64_t accessCycle_ = 0;
    kernel::Time seenDue_{};            // the alarm that the present deadline takes account of; derived
    Sleep sleepMode_ = Sleep::idle;     // of the sleep in progress
    std::vector<std::uint8_t> noted_;
    bool ranOverErased_ = false;
};

// A microcontroller of this family as what it is; any other throws std::bad_cast.
[[nodiscard]] inline Chip& chipOf(Mcu& mcu) { return dynamic_cast<Chip&>(mcu); }
[[nodiscard]] inline const Chip& chipOf(const Mcu& mcu) { return dynamic_cast<const Chip&>(mcu); }

}  // namespace bramix::chip::avr
