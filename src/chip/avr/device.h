// An AVR chip's table as the Device that everything above the family reads.
// Sources: as table.h; the debugger's numbers and bases are those of GDB and binutils for this family (registers 0 to 34; data from 0x800000, EEPROM from 0x810000).
// Tested by tests/chip/avr/tables_test.cpp, and with a real debugger by tests/cli/gdb_test.cpp.
#pragma once

#include "chip/avr/fuses.h"
#include "chip/avr/table.h"
#include "chip/device.h"

namespace bramix::chip::avr {

// Spaces: 0 data, 1 flash, 2 EEPROM. Registers: r0 to r31, SREG, SP, PC; the last is a byte address.
inline constexpr SpaceId kDataSpace = 0, kFlashSpace = 1, kEepromSpace = 2;
inline constexpr std::size_t kStatusRegister = 32, kStackRegister = 33, kPcRegister = 34;

[[nodiscard]] const Device& deviceOf(const ChipTable& table);
// The table behind a Device of this family.
[[nodiscard]] const ChipTable& tableOf(const Device& device);
// Its option bytes are fuse bytes: low, high, extended, lock.
[[nodiscard]] FuseBytes fusesOf(const OptionBytes& bytes);

}  // namespace bramix::chip::avr
