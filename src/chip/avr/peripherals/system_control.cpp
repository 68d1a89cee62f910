#include "chip/avr/peripherals/system_control.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

namespace {

// The calibration byte of our chips, at which the oscillator has its nominal frequency, and the shape of the curve about it
// (ATmega328P figure 33-58, linearised): half by half, relative to the nominal frequency.
constexpr std::uint8_t kCalibration = 0x8C;
double calibrationFactor(std::uint8_t osccal)
{
    const auto curve = [](unsigned value) { return value < 0x80 ? 4.2 + 4.6 * value / 127.0 : 7.3 + 7.2 * (value - 0x80) / 127.0; };
    return curve(osccal) / curve(kCalibration);
}

constexpr kernel::Duration kPllLock = std::chrono::microseconds(100);

}  // namespace

SystemControl::SystemControl(ChipServices& chip, std::uint64_t crystalHz)
    : StatefulPeripheral(chip), crystalHz_(crystalHz), lockAlarm_(chip.queue(), [this](kernel::Time) { chip_.put(pllLock_, pllRuns()); })
{
    const Names& names = chip.names();
    mcucr_ = names.reg("MCUCR");
    mcusr_ = names.reg({"MCUSR", "MCUCSR"});
    smcr_ = names.reg("SMCR");
    clkpr_ = names.reg("CLKPR");
    osccal_ = names.reg("OSCCAL");
    pllcsr_ = names.reg("PLLCSR");
    se_ = names.bit("SE");
    ivsel_ = names.bit("IVSEL");
    ivce_ = names.bit("IVCE");
    gicr_ = ivsel_.address == mcucr_ ? 0 : ivsel_.address;
    pud_ = names.bit("PUD");
    jtd_ = names.bit("JTD");
    clkpce_ = names.bit("CLKPCE");
    pllEnable_ = names.bit("PLLE");
    pllLock_ = names.bit("PLOCK");
    for (unsigned i = 0; i < 3; ++i)
        sm_[i] = names.bit(fmt::format("SM{}", i));
    for (const char* flag : {"PORF", "EXTRF", "BORF", "WDRF", "JTRF"})
        resetFlags_ |= names.bit(flag).mask;
    for (const BitRef b : {se_, sm_[0], sm_[1], sm_[2], pud_, ivsel_, ivce_, names.bit("BODS"), names.bit("BODSE")})
        if (b.address == mcucr_)
            mcucrBits_ |= b.mask;
    for (const char* reg : {"PRR", "PRR0", "PRR1"})
        if (const std::uint16_t address = names.reg(reg); address != 0)
            powerRegisters_.push_back(address);
    for (const std::uint16_t address : {mcucr_, mcusr_, smcr_, clkpr_, osccal_, gicr_, pllcsr_, pud_.address})
        if (address != 0)
            chip.claim(*this, address);
    for (const std::uint16_t address : powerRegisters_)
        chip.claim(*this, address);
}

// SM2:0, table 10-2. The ATtiny85 has two bits, in which 2 is power-down too.
unsigned SystemControl::sleepBits() const { return (chip_.is(sm_[0]) ? 1U : 0U) | (chip_.is(sm_[1]) ? 2U : 0U) | (chip_.is(sm_[2]) ? 4U : 0U); }

Sleep SystemControl::sleepMode() const
{
    switch (sleepBits()) {
    case 0: return Sleep::idle;
    case 1: return Sleep::noiseReduction;
    case 3:
    case 7: return Sleep::powerSave;
    default: return Sleep::powerDown;
    }
}

bool SystemControl::isStandby() const { return sleepBits() >= 6; }

ClockSource SystemControl::clockSource() const { return chip_.table().clockSources[chip_.fuse("CKSEL") & 15U]; }

std::uint64_t SystemControl::sourceHz() const
{
    const double factor = calibrationFactor(chip_.reg(osccal_));
    const auto internal = [&](double hz) { return static_cast<std::uint64_t>(std::llround(hz * factor)); };
    switch (clockSource()) {
    case ClockSource::crystal:
    case ClockSource::external:
    case ClockSource::externalRc: return crystalHz_;
    case ClockSource::watch: return crystalHz_ == 0 ? 0 : 32'768;
    case ClockSource::rc8: return internal(8e6);
    case ClockSource::rc128k: return 128'000;
    case ClockSource::rc1: return internal(1e6);
    case ClockSource::rc2: return internal(2e6);
    case ClockSource::rc4: return internal(4e6);
    case ClockSource::rc6: return internal(6.4e6);
    case ClockSource::pll: return internal(16e6);
    case ClockSource::reserved: return 0;
    }
    return 0;
}

std::uint64_t SystemControl::hz() const
{
    const unsigned shift = clkpr_ == 0 ? 0 : std::min(chip_.reg(clkpr_) & 15U, 8U);
    return sourceHz() >> shift;
}

// Tables 9-3 to 9-12. Crystals by CKSEL0 and SUT; the watch crystal by CKSEL0; everything else six clocks.
std::int64_t SystemControl::startClocks() const
{
    const unsigned sut = chip_.fuse("SUT") & 3U;
    const bool slow = (chip_.fuse("CKSEL") & 1U) != 0;
    switch (clockSource()) {
    case ClockSource::crystal: return slow ? (sut == 0 ? 1'024 : 16'384) : (sut < 2 ? 258 : 1'024);
    case ClockSource::watch: return slow ? 32'768 : 1'024;
    case ClockSource::pll: return 1'024;
    default: return 6;
    }
}

kernel::Duration SystemControl::startDelay() const
{
    constexpr kernel::Duration kNone{}, kFast = std::chrono::microseconds(4'100), kSlow = std::chrono::milliseconds(65);
    const unsigned sut = chip_.fuse("SUT") & 3U;
    if (clockSource() == ClockSource::crystal) {
        if ((chip_.fuse("CKSEL") & 1U) != 0)
            return sut == 0 || sut == 3 ? kSlow : sut == 1 ? kNone : kFast;
        return sut == 1 ? kSlow : sut == 2 ? kNone : kFast;
    }
    return sut == 0 ? kNone : sut == 1 ? kFast : kSlow;
}

std::uint8_t SystemControl::read(std::uint16_t address, std::int64_t cycle)
{
    if (address == clkpr_ && !open(clockChangeAt_, cycle))
        chip_.put(clkpce_, false);
    if (address == ivce_.address && !open(vectorChangeAt_, cycle))
        chip_.put(ivce_, false);
    return chip_.reg(address);
}

void SystemControl::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == clkpr_) {
        writeClockDivision(value, cycle);
        return;
    }
    if (address == ivsel_.address)
        writeVectorSelect(value, cycle);
    if (address == jtd_.address && jtd_.exists())
        writeJtagDisable(value, cycle);
    if (address == mcucr_) {
        store(address, value, static_cast<std::uint8_t>(mcucrBits_ & ~(ivsel_.address == mcucr_ ? ivsel_.mask | ivce_.mask : 0)));
    } else if (address == mcusr_) {
        // A reset flag can be cleared, not set.
        store(address, static_cast<std::uint8_t>(chip_.reg(address) & value), resetFlags_);
    } else if (address == smcr_) {
        store(address, value);
    } else if (address == osccal_) {
        store(address, value);
        chip_.setClock(hz());
    } else if (address == pllcsr_ && pllcsr_ != 0) {
        const bool was = pllRuns();
        store(address, value, static_cast<std::uint8_t>(~pllLock_.mask));
        if (pllRuns() && !was)
            lockAlarm_.arm(chip_.queue().now() + kPllLock);
        else if (!pllRuns())
            chip_.put(pllLock_, false);
    } else if (std::find(powerRegisters_.begin(), powerRegisters_.end(), address) != powerRegisters_.end()) {
        store(address, value);
        if (powerChanged)
            powerChanged(cycle);
    }
    if (address == pud_.address) {
        const bool was = chip_.is(pud_);
        store(address, value, pud_.mask);
        if (chip_.is(pud_) != was || address == mcucr_)
            chip_.ports().refresh();
    }
}

// 9.11: CLKPCE alone, then within four cycles CLKPS with CLKPCE clear.
void SystemControl::writeClockDivision(std::uint8_t value, std::int64_t cycle)
{
    if (value == clkpce_.mask) {
        clockChangeAt_ = cycle;
        chip_.put(clkpce_, true);
        return;
    }
    if (!open(clockChangeAt_, cycle) || (value & clkpce_.mask) != 0) {
        chip_.note("timed-sequence", "CLKPR was written without CLKPCE alone in the four cycles before: the clock does not change");
        return;
    }
    clockChangeAt_ = INT64_MIN / 2;
    store(clkpr_, value);
    chip_.setClock(hz());
}

void SystemControl::writeVectorSelect(std::uint8_t value, std::int64_t cycle)
{
    const bool wanted = (value & ivsel_.mask) != 0;
    if ((value & ivce_.mask) != 0) {
        vectorChangeAt_ = cycle;
        chip_.put(ivce_, true);
        return;
    }
    if (wanted != chip_.is(ivsel_)) {
        if (open(vectorChangeAt_, cycle))
            chip_.put(ivsel_, wanted);
        else
            chip_.note("timed-sequence", "IVSEL was written without IVCE in the four cycles before: the vectors stay where they are");
    }
    vectorChangeAt_ = INT64_MIN / 2;
    chip_.put(ivce_, false);
}

// The value must come twice within four cycles.
void SystemControl::writeJtagDisable(std::uint8_t value, std::int64_t cycle)
{
    const bool wanted = (value & jtd_.mask) != 0;
    if (wanted == chip_.is(jtd_))
        return;
    if (wanted == jtagWanted_ && open(jtagChangeAt_, cycle)) {
        chip_.put(jtd_, wanted);
        takePins();
        return;
    }
    jtagWanted_ = wanted;
    jtagChangeAt_ = cycle;
}

// Fuses give pins to the crystal and to JTAG, whose inputs are held up (TCK, TMS, TDI).
void SystemControl::takePins()
{
    const Names& names = chip_.names();
    Ports& ports = chip_.ports();
    const bool jtag = jtd_.exists() && chip_.fuse("JTAGEN") == 0 && !chip_.is(jtd_);
    for (const char* function : {"TCK", "TMS", "TDI", "TDO"})
        if (const PortPin pin = names.pin(function); pin.exists() && jtd_.exists())
            ports.setOverride(pin, Override::taken, jtag, function != std::string_view("TDO"), Force::input);
    const ClockSource source = clockSource();
    const bool crystal = source == ClockSource::crystal || source == ClockSource::watch;
    ports.setOverride(names.pin("XTAL1"), Override::taken, crystal || source == ClockSource::external, false, Force::input);
    ports.setOverride(names.pin("XTAL2"), Override::taken, crystal, false, Force::input);
}

void SystemControl::reset()
{
    clockChangeAt_ = vectorChangeAt_ = jtagChangeAt_ = INT64_MIN / 2;
    chip_.reg(osccal_) = kCalibration;
    if (clkpr_ != 0)
        chip_.reg(clkpr_) = chip_.fuse("CKDIV8") == 0 ? 3 : 0;
    lockAlarm_.disarm();
    if (clockSource() == ClockSource::pll) {
        chip_.put(pllEnable_, true);
        chip_.put(pllLock_, true);
    }
    takePins();
    chip_.setClock(hz());
    if (powerChanged)
        powerChanged(chip_.cycleNow());
}

}  // namespace bramix::chip::avr
