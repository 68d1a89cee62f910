// When a chip runs at all, and how fast: power, the reset line, brown-out, the causes of a reset, the clock.
#include "chip/avr/chip.h"

#include <algorithm>

#include <fmt/format.h>

#include "chip/avr/core/heard_bus.h"
#include "kernel/random.h"

namespace bramix::chip::avr {

namespace {

// After every reset, whatever SUT adds (table 9-4).
constexpr std::int64_t kResetClocks = 14;

// Table 29-5: power-on threshold falling and rising; the brown-out detector's hysteresis.
constexpr double kPowerOffVolts = 1.3, kPowerOnVolts = 1.4;
constexpr double kBrownOutHysteresis = 0.05;

}  // namespace

void Chip::powerOn()
{
    // SRAM comes up with whatever it comes up with; registers are cleared for the sake of a readable start.
    std::fill(cpu_.data.begin(), cpu_.data.end(), std::uint8_t{0});
    kernel::Random noise(options_.seed, "sram");
    for (std::size_t i = table_.core.ramStart; i < cpu_.data.size(); ++i)
        cpu_.data[i] = static_cast<std::uint8_t>(noise.next());
    cpu_.forgetWrites();
    cpu_.lowestSp = UINT16_MAX;
    pendingReset_ = 0;
    resetCore(kPowerOnReset);
    brownOut_ = supplyVolts_ < brownOutVolts();
    powered_ = supplyVolts_ > kPowerOffVolts;
    inReset_ = !resetLine_ || brownOut_ || !powered_;
    if (!inReset_ && !options_.startsAtOnce && !clockless_)
        beginAfter(system_->startDelay(), system_->startClocks() + kResetClocks);
    else if (!inReset())
        cpu_.moved(cpu_.cycle);
    reckonConsumption();
}

void Chip::resetCore(std::uint8_t cause)
{
    pending_ = enabledVectors_ = flags_ = 0;
    if (cpu_.codeTime != nullptr)
        cpu_.codeTime->cut(cpu_.cycle, stretchOfCodeTime());
    const std::uint8_t flagsBefore = registers_[resetFlagsAt_] & resetFlagBits_;
    std::fill(registers_.begin(), registers_.end(), std::uint8_t{0});
    registers_[resetFlagsAt_] = cause == kPowerOnReset ? cause : static_cast<std::uint8_t>(flagsBefore | cause);
    accessCycle_ = cpu_.cycle;
    awaited_ = 0;
    shared_ = own_ = {};
    shared_.zeroCycle = own_.zeroCycle = cpu_.cycle;
    for (Peripheral* p : peripherals_) {
        p->forgetStops();
        p->reset();
    }
    cpu_.reset();
    if (cpu_.counts != nullptr)
        cpu_.counts->forgetOpen();
    if (fuse("BOOTRST") == 0)
        cpu_.pc = selfProgramming_->bootStart() / 2 % table_.core.flashWords;
    checkSpeed();
    if (heard_ != nullptr)
        heard_->tell(cpu_.cycle);
}

void Chip::resetBy(ResetCause cause) { requestReset(cause); }

void Chip::requestReset(std::uint8_t cause)
{
    // It may come in the middle of an instruction; the core stops behind it.
    pendingReset_ |= cause;
    cpu_.stopBy(INT64_MIN);
    if (!executing_)
        takeReset();
}

void Chip::takeReset()
{
    const std::uint8_t cause = std::exchange(pendingReset_, std::uint8_t{0});
    if (stopAtReset_ && debugStop().kind == DebugStop::Kind::none)
        cpu_.debugStop = {DebugStop::Kind::reset, cpu_.pc, 0, 0, cause, false, 0};
    resetCore(cause);
    observer_.resetTaken(cause, queue_.now());
    inReset_ = !resetLine_ || brownOut_ || !powered_;
    if (!inReset_)
        beginAfter(options_.startsAtOnce ? kernel::Duration{} : system_->startDelay(), kResetClocks);
    reckonConsumption();
}

// The core starts so much later than now.
void Chip::beginAfter(kernel::Duration delay, std::int64_t clocks)
{
    cpu_.cycle = std::max(cpu_.cycle, clock_.firstCycleAtOrAfter(queue_.now() + delay).n) + clocks;
    shared_.zeroCycle = own_.zeroCycle = cpu_.cycle;
    cpu_.moved(cpu_.cycle);
}

void Chip::setResetLine(bool high)
{
    if (high == resetLine_)
        return;
    resetLine_ = high;
    if (!high)
        requestReset(kExternalReset);
    else
        updateHold();
}

// Something that held the chip in reset has gone.
void Chip::updateHold()
{
    const bool held = !resetLine_ || brownOut_ || !powered_;
    if (!inReset_ || held)
        return;
    inReset_ = false;
    beginAfter(options_.startsAtOnce ? kernel::Duration{} : system_->startDelay(), kResetClocks);
    reckonConsumption();
}

double Chip::brownOutVolts() const
{
    if (names_.reg("MCUCSR") != 0)  // the ATmega32 has an enable fuse of its own
        return fuse("BODEN") == 0 ? table_.brownOutVolts[fuse("BODLEVEL") & 1U] : 0;
    return table_.brownOutVolts[fuse("BODLEVEL") & 7U];
}

void Chip::setSupply(double volts)
{
    if (volts == supplyVolts_)
        return;
    supplyVolts_ = volts;
    ports_->refresh();
    if (volts < kPowerOffVolts && powered_) {
        powered_ = false;
        requestReset(kPowerOnReset);
    } else if (volts > kPowerOnVolts && !powered_) {
        powered_ = true;
        powerOn();
        inReset_ = true;
        updateHold();
    }
    const double level = brownOutVolts();
    if (!brownOut_ && powered_ && volts < level) {
        brownOut_ = true;
        if (!inReset_)
            note("brown-out", fmt::format("{} was reset while it ran: its supply fell to {:.3g} V, below its brown-out level of {:.3g} V; give it a supply of less internal resistance, or more capacitance", table_.title, volts, level));
        requestReset(kBrownOutReset);
    } else if (brownOut_ && volts > level + kBrownOutHysteresis) {
        brownOut_ = false;
        updateHold();
    }
    checkSpeed();
    reckonConsumption();
}

// A reset keeps the clocks going: it takes what idle takes.
void Chip::reckonConsumption(std::int64_t cycle)
{
    const bool still = !powered_ || clockless_;
    const bool deep = cpu_.sleeping && !inReset_ && sleepMode_ >= Sleep::powerSave;
    const bool idle = inReset_ || cpu_.sleeping;
    const SupplyRow& row = table_.supply;
    const double siemens = still || deep ? row.downSiemens(!still && watchdog_->running()) : idle ? row.idleSiemens(clock_.hz()) : row.activeSiemens(clock_.hz());
    const bool differs = siemens != consumption_.siemens();
    consumption_.change(siemens, supplyVolts_, std::max(clock_.timeOf({cycle}), queue_.now()));
    if (differs)
        observer_.loadChanged();
}

void Chip::setClock(std::uint64_t hz)
{
    clockless_ = hz == 0;
    if (clockless_) {
        note("no-clock", fmt::format("{} has no clock: its fuses choose an oscillator (CKSEL = 0b{:04b}) for which nothing is wired to XTAL1 and XTAL2; it stands still", table_.title, fuse("CKSEL") & 15U));
        cpu_.stopBy(INT64_MIN);
        return;
    }
    if (hz == clock_.hz())
        return;
    const std::int64_t cycle = cycleNow();
    // What was under way is told in the old clock's time.
    if (cpu_.codeTime != nullptr)
        cpu_.codeTime->cut(cycle, stretchOfCodeTime(hz));
    clock_.restart(clock_.timeOf({cycle}), {cycle}, hz);
    for (Peripheral* p : peripherals_)
        p->clockChanged(cycle);
    cpu_.stopBy(INT64_MIN);
    checkSpeed();
    reckonConsumption();
}

// Figure 29-1 "Maximum Frequency vs. VCC"; the ATmega2560 and ATmega32 are made for 16 MHz from 4.5 V on.
void Chip::checkSpeed()
{
    const bool large = table_.core.longPc || table_.oldWatchdog;
    const double v = supplyVolts_;
    const double most = large ? (v >= 4.5 ? 16e6 : v >= 2.7 ? 8e6 : 4e6) : v >= 4.5 ? 20e6 : v >= 2.7 ? 10e6 + (v - 2.7) / 1.8 * 10e6 : 4e6 + std::max(0.0, v - 1.8) / 0.9 * 6e6;
    if (powered_ && v > kPowerOffVolts && !clockless_ && static_cast<double>(clock_.hz()) > most * 1.001 && static_cast<double>(clock_.hz()) <= 1e9)
        note("clock-too-fast", fmt::format("{} runs at {:g} MHz, but at {:g} V it is made for {:.3g} MHz at most", table_.title, static_cast<double>(clock_.hz()) / 1e6, v, most / 1e6));
}

}  // namespace bramix::chip::avr
