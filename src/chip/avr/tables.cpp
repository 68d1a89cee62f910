#include "chip/avr/table.h"

namespace bramix::chip::avr {

std::span<const ChipTable* const> allChips()
{
    static const std::array<const ChipTable*, 4> chips{&atmega328p(), &atmega2560(), &atmega32(), &attiny85()};
    return chips;
}

const ChipTable* findChip(std::string_view id)
{
    for (const ChipTable* chip : allChips())
        if (chip->id == id)
            return chip;
    return nullptr;
}

const RegisterRow* findRegister(const ChipTable& chip, std::uint16_t address)
{
    for (const RegisterRow& row : chip.registers)
        if (row.address == address)
            return &row;
    return nullptr;
}

}  // namespace bramix::chip::avr
