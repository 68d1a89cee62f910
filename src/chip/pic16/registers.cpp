// File registers that are not plain memory, and what a debugger asks of the chip.
#include <algorithm>

#include <fmt/format.h>

#include "chip/pic16/chip.h"
#include "chip/pic16/family.h"

namespace bramix::chip::pic16 {

namespace {

constexpr std::uint16_t kTimer0 = 1, kOption = 0x81, kOscillator = 0x8F, kAnsel = 0x9B, kAdcon1 = 0x9F, kWatchdog = 0x105;

}  // namespace

std::uint8_t Pic16::peek(std::uint16_t a) const
{
    if (a == kTimer0)
        return timerNow(cycleNow());
    for (std::size_t p = 0; p < model_.ports.size(); ++p) {
        if (a == model_.ports[p].latch)
            return readPort(p);
        if (a == model_.ports[p].direction)
            return static_cast<std::uint8_t>(directions_[p] & model_.ports[p].pins);
    }
    if (a == model_.eepromControl + 1U)
        return 0;
    if (a == kOscillator && model_.hasInternalOscillator)
        return static_cast<std::uint8_t>((cpu_.file[kOscillator] & 0x73U) | 4U);
    return cpu_.file[a];
}

std::uint8_t Pic16::readSpecial(std::uint16_t a, std::int64_t cycle)
{
    catchUp(cycle);
    if (a == kIntcon || a == kTimer0)
        catchTimer(cycle);
    const std::uint8_t out = peek(a);
    for (std::size_t p = 0; p < model_.ports.size(); ++p)
        if (a == model_.ports[p].latch) {
            if (model_.ports[p].letter == 'B')
                portB_ = static_cast<std::uint8_t>(out & 0xF0U);
            for (unsigned b = 0; b < 8; ++b) {
                const unsigned pin = static_cast<unsigned>(p) * 8 + b;
                // A bit test or a read of the whole port looks at open inputs too; one that nothing can reach tells nothing.
                if (((directions_[p] & model_.ports[p].pins & ~analogOf(p)) >> b & 1U) != 0 && pins_.idOf(pin) != circuit::kNoPin && pins_.floats(pin)) {
                    const Instruction i = decode(cpu_.program[cpu_.current % cpu_.program.size()]);
                    const bool oneBit = i.op == Op::btfsc || i.op == Op::btfss;
                    if (oneBit ? i.bit == b : i.op != Op::bcf && i.op != Op::bsf)
                        observer_.uncertainRead(pins_.idOf(pin), true, pins_.thresholds(pin));
                }
            }
        }
    accessDone();
    return out;
}

void Pic16::writeSpecial(std::uint16_t a, std::uint8_t value, std::int64_t cycle)
{
    catchUp(cycle);
    store(a, value);
    accessDone();
}

void Pic16::store(std::uint16_t a, std::uint8_t value)
{
    auto& file = cpu_.file;
    const std::int64_t cycle = cycleNow();
    for (std::size_t p = 0; p < model_.ports.size(); ++p) {
        if (a == model_.ports[p].latch) {
            latches_[p] = value;
            return showPort(p);
        }
        if (a == model_.ports[p].direction) {
            directions_[p] = value;
            return showPort(p);
        }
    }
    if (a == model_.eepromControl) {
        std::uint8_t& control = file[a];
        const bool begins = (value & 2U) != 0 && (control & 2U) == 0;
        control = static_cast<std::uint8_t>((value & (model_.hasPeripheralInterrupts ? 0x8CU : 0x1CU)) | (control & 2U));
        const std::uint16_t data = model_.eepromData;
        if ((value & 1U) != 0) {
            if ((value & 0x80U) != 0 && model_.hasPeripheralInterrupts) {
                const std::uint32_t at = (std::uint32_t{file[data + 3U]} << 8 | file[data + 1U]) & cpu_.mask();
                file[data] = static_cast<std::uint8_t>(cpu_.program[at]);
                file[data + 2U] = static_cast<std::uint8_t>(cpu_.program[at] >> 8);
            } else {
                file[data] = file[data + 1U] < eeprom_.size() ? eeprom_[file[data + 1U]] : std::uint8_t{0};
            }
        }
        if (begins && (value & 0x80U) != 0) {
            remarkOnce(Weight::note, "not-modelled", "writing program memory by the firmware is not modelled yet: nothing is written");
        } else if (begins && (control & 4U) != 0 && unlock_ == 2) {
            // It is written while the program goes on.
            if (file[data + 1U] < eeprom_.size()) {
                eeprom_[file[data + 1U]] = file[data];
                ++eepromRevision_;
            }
            control |= 2;
            eepromDone_.arm(clock_.timeOf({cycle}) + std::chrono::milliseconds(4));
        } else if (begins) {
            remarkOnce(Weight::warning, "eeprom-locked", fmt::format("WR is set at 0x{:04x} without WREN and 0x55, 0xAA in EECON2 just before: nothing is written", cpu_.current));
        }
        unlock_ = 0;
        return flagsChanged();
    }
    if (a == model_.eepromControl + 1U) {
        unlock_ = value == 0x55 ? 1 : value == 0xAA && unlock_ == 1 ? 2 : 0;
        return;
    }
    switch (a) {
    case kTimer0:
        // It stands for two cycles.
        setTimer(value, cycle + 2);
        return planTimer();
    case kOption:
        catchTimer(cycle);
        file[a] = value;
        setTimer(timerValue_, cycle);
        planTimer();
        planWatchdog();
        for (std::size_t p = 0; p < model_.ports.size(); ++p)
            if (model_.ports[p].letter == 'B')
                showPort(p);
        return;
    case kIntcon:
        catchTimer(cycle);
        file[a] = value;
        planTimer();
        return flagsChanged();
    default: break;
    }
    const std::uint8_t before = file[a];
    file[a] = value;
    if (a == 0x0C || a == 0x0D || a == 0x8C || a == 0x8D)
        return flagsChanged();
    if (model_.hasInternalOscillator && a == kOscillator)
        return selectClock();
    if (model_.hasInternalOscillator && a == kWatchdog)
        return planWatchdog();
    const bool known = (model_.analog == AnalogBy::ansel && a == kAnsel) || (model_.analog == AnalogBy::adcon1 && a == kAdcon1) || a == 0x8E || a == 0x9C || a == 0x90;
    if (!known && value != before)
        remarkOnce(Weight::note, "not-modelled", fmt::format("the register at 0x{:02x} belongs to a peripheral that is not modelled yet: it keeps what is written, without effect", a));
}

void Pic16::accessed(std::uint16_t address, std::uint8_t before, std::uint8_t value, bool write)
{
    noteAccess(address, 1, before, value, write);
    // Mirrors are the same register.
    if (cpu_.own[address] != kNowhere && cpu_.own[address] != address)
        noteAccess(cpu_.own[address], 1, before, value, write);
}

// Debugging.

std::uint64_t Pic16::readRegister(std::size_t index) const
{
    switch (index) {
    case kWRegister: return cpu_.w;
    case kStatusRegister: return cpu_.file[kStatus];
    case kFsrRegister: return cpu_.file[kFsr];
    case kPclathRegister: return cpu_.file[kPclath];
    case kPcRegister: return cpu_.pc;
    case kDepthRegister: return cpu_.depth;
    default: return index - kFirstStack < 8 ? cpu_.stack[index - kFirstStack] : 0;
    }
}

void Pic16::writeRegister(std::size_t index, std::uint64_t value)
{
    const auto v = static_cast<std::uint8_t>(value);
    switch (index) {
    case kWRegister: cpu_.w = v; break;
    case kStatusRegister: cpu_.file[kStatus] = v; break;
    case kFsrRegister: cpu_.file[kFsr] = v; break;
    case kPclathRegister: cpu_.file[kPclath] = v & 0x1FU; break;
    case kPcRegister:
        cpu_.pc = cpu_.current = static_cast<std::uint32_t>(value) & cpu_.mask();
        moved();
        break;
    case kDepthRegister: cpu_.depth = v; break;
    default:
        if (index - kFirstStack < 8)
            cpu_.stack[index - kFirstStack] = static_cast<std::uint16_t>(value & 0x1FFFU);
    }
}

std::size_t Pic16::read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const
{
    const std::span<const std::uint8_t> memory = space == 1 ? std::span<const std::uint8_t>(codeBytes_) : eeprom_;
    if (space == 0) {
        for (std::size_t i = 0; i < out.size(); ++i)
            out[i] = readData(at + i);
        return std::min<std::size_t>(out.size(), at < 128U * model_.banks ? 128U * model_.banks - at : 0);
    }
    const std::uint64_t from = space == 1 ? at * 2 : at;
    const std::size_t count = from < memory.size() ? std::min<std::size_t>(out.size(), memory.size() - from) : 0;
    std::copy_n(memory.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(from, memory.size())), count, out.begin());
    return count;
}

std::uint8_t Pic16::readData(std::uint64_t at) const
{
    if (at >= 512)
        return 0;
    std::uint16_t own = cpu_.own[at];
    if (own == kIndf)
        own = cpu_.own[cpu_.addressOf(0)];
    if (own == kNowhere || own == kIndf)
        return 0;
    if (own == kPcl)
        return static_cast<std::uint8_t>(cpu_.pc);
    return cpu_.special[own] != 0 ? peek(own) : cpu_.file[own];
}

bool Pic16::write(SpaceId space, std::uint64_t at, std::uint8_t value)
{
    if (space == 2 && at < eeprom_.size()) {
        eeprom_[at] = value;
        return true;
    }
    if (space != 0 || at >= 512 || cpu_.own[at] == kNowhere || cpu_.own[at] == kIndf || cpu_.own[at] == kPcl)
        return false;
    const std::uint16_t own = cpu_.own[at];
    if (cpu_.special[own] != 0)
        store(own, value);
    else
        cpu_.file[own] = value;
    return true;
}

InstructionInfo Pic16::instructionAt(std::uint32_t address) const
{
    if (address >= cpu_.program.size())
        return {};
    InstructionInfo out = infoOf(decode(cpu_.program[address]), address, device_.codeEnd);
    // Where it is next, its page is known.
    if (address == cpu_.pc && out.target && (out.flow == Flow::call || out.flow == Flow::jump))
        out.target = cpu_.target(static_cast<std::uint16_t>(cpu_.program[address] & 0x7FFU));
    return out;
}

std::optional<MemoryAccess> Pic16::nextAccess() const
{
    const Instruction i = decode(cpu_.program[cpu_.pc]);
    if (i.op == Op::undefined || i.op == Op::nop || i.op == Op::clrw || (i.op >= Op::addlw && i.op <= Op::xorlw))
        return std::nullopt;
    if (i.op == Op::option || i.op == Op::tris)
        return MemoryAccess{i.op == Op::option ? 0x81U : 0x80U | (i.f & 7U), true};
    const bool stores = i.op == Op::movwf || i.op == Op::clrf || i.op == Op::bcf || i.op == Op::bsf || (i.op != Op::btfsc && i.op != Op::btfss && i.toFile);
    return MemoryAccess{cpu_.addressOf(i.f), stores};
}

}  // namespace bramix::chip::pic16
