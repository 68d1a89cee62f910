// The chip as a debugger sees it.
#include "chip/avr/chip.h"
#include "chip/avr/device.h"

namespace bramix::chip::avr {

const Device& Chip::device() const { return deviceOf(table_); }

std::uint64_t Chip::cycles() const { return static_cast<std::uint64_t>(cpu_.cycle); }

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

}  // namespace bramix::chip::avr
