// The chip as a debugger sees it.
#include <bit>

#include <fmt/format.h>

#include "chip/avr/chip.h"
#include "chip/avr/core/operands.h"
#include "chip/avr/device.h"
#include "chip/avr/family.h"

namespace bramix::chip::avr {

const Device& Chip::device() const { return deviceOf(table_); }

std::uint64_t Chip::readRegister(std::size_t index) const
{
    switch (index) {
    case kStatusRegister: return cpu_.sreg;
    case kStackRegister: return cpu_.sp;
    case kPcRegister: return std::uint64_t{cpu_.pc} * 2;
    default: return index < 32 ? cpu_.data[index] : 0;
    }
}

void Chip::writeRegister(std::size_t index, std::uint64_t value)
{
    const auto byte = [value](unsigned n) { return static_cast<std::uint8_t>(value >> (8 * n)); };
    switch (index) {
    case kStatusRegister: return poke(kSreg, byte(0));
    case kStackRegister:
        poke(kSph, byte(1));
        return poke(kSpl, byte(0));
    case kPcRegister: return setPc(static_cast<std::uint32_t>(value / 2));
    default:
        if (index < 32)
            poke(static_cast<std::uint16_t>(index), byte(0));
    }
}

std::size_t Chip::read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const
{
    const std::uint64_t size = device().sizeOf(space);
    const std::size_t count = at >= size ? 0 : static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size - at));
    for (std::size_t i = 0; i < count; ++i) {
        const std::uint64_t a = at + i;
        if (space == kDataSpace)
            out[i] = peek(static_cast<std::uint16_t>(a));
        else if (space == kFlashSpace)
            out[i] = a / 2 < cpu_.flash().size() ? static_cast<std::uint8_t>(cpu_.flash()[a / 2] >> (a % 2 * 8)) : std::uint8_t{0xFF};
        else
            out[i] = eeprom_->contents()[a];
    }
    return count;
}

bool Chip::write(SpaceId space, std::uint64_t at, std::uint8_t value)
{
    if (space == kFlashSpace || at >= device().sizeOf(space))
        return false;
    if (space == kDataSpace)
        poke(static_cast<std::uint16_t>(at), value);
    else
        eeprom_->programByte(static_cast<std::uint32_t>(at), value);
    return true;
}

ExceptionStatus Chip::exception(unsigned number) const
{
    const auto bit = [number](std::uint64_t set) { return number < 64 && ((set >> number) & 1) != 0; };
    const InterruptCount count = number < interruptCounts_.size() ? interruptCounts_[number] : InterruptCount{};
    return {bit(flags_), bit(enabledVectors_), bit(pending_), count.count, count.worstLatency, count.totalLatency};
}

std::optional<FaultInfo> Chip::fault() const
{
    const Fault& fault = cpu_.fault;
    std::string what;
    switch (fault.kind) {
    case FaultKind::none: return std::nullopt;
    case FaultKind::undefinedInstruction: what = fmt::format("undefined instruction 0x{:04x}", cpu_.flash()[fault.pc]); break;
    case FaultKind::erasedFlash: what = "execution of erased flash"; break;
    case FaultKind::outsideFlash: what = fmt::format("execution outside flash, at 0x{:04x}", fault.address); break;
    case FaultKind::outsideData: what = fmt::format("access outside data memory, at 0x{:04x}", fault.address); break;
    }
    return FaultInfo{what, fault.pc * 2, fault.cycle};
}

CodeView Chip::code() const
{
    static_assert(std::endian::native == std::endian::little, "a word of flash has its low byte first");
    return {{reinterpret_cast<const std::uint8_t*>(cpu_.flash().data()), cpu_.flash().size() * 2}, 0};
}

InstructionInfo Chip::instructionAt(std::uint32_t address) const
{
    const std::uint32_t word = address / 2;
    const Instruction i = cpu_.decodeAt(word);
    const std::size_t next = word + i.words;
    return infoOf(table_, i, address, next < cpu_.flash().size() && isTwoWords(cpu_.flash()[next]));
}

std::optional<MemoryAccess> Chip::nextAccess() const
{
    const auto access = dataAccess(cpu_, cpu_.decodeAt(cpu_.pc));
    return access ? std::optional(MemoryAccess{access->address, access->store}) : std::nullopt;
}

void Chip::setBreakpoints(std::span<const std::uint32_t> addresses)
{
    std::vector<std::uint32_t> words;
    for (const std::uint32_t a : addresses)
        words.push_back(a / 2);
    cpu_.setBreakpoints(words);
}

void Chip::setWatchpoints(std::span<const Watchpoint> watchpoints)
{
    std::vector<Watch> watches;
    for (const Watchpoint& w : watchpoints)
        if (w.address <= UINT16_MAX)
            watches.push_back({static_cast<std::uint16_t>(w.address), static_cast<std::uint16_t>(std::min<std::uint64_t>(w.length, 0x10000 - w.address)), w.reads, w.writes});
    cpu_.setWatches(watches);
}

void Chip::stopAtExceptions(const ExceptionSet& which)
{
    constexpr std::uint64_t kLow = UINT64_MAX;
    interruptStops_ = (which & ExceptionSet(kLow)).to_ullong();
}

StopInfo Chip::stopInfo() const
{
    const DebugStop& stop = cpu_.debugStop;
    StopInfo out;
    switch (stop.kind) {
    case DebugStop::Kind::none: return out;
    case DebugStop::Kind::breakpoint: out.kind = StopInfo::Kind::breakpoint; break;
    case DebugStop::Kind::access: out.kind = StopInfo::Kind::access; break;
    case DebugStop::Kind::interrupt: out.kind = StopInfo::Kind::exception; break;
    case DebugStop::Kind::reset: out.kind = StopInfo::Kind::reset; break;
    }
    out.code = stop.pc * 2;
    out.address = stop.address;
    out.before = stop.before;
    out.value = stop.value;
    out.write = stop.write;
    out.exception = stop.vector;
    return out;
}

}  // namespace bramix::chip::avr
