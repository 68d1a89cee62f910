// The registers of a chip's peripherals by peripheral, as the seam has them.
// Sources: as table.h.
// Tested by tests/chip/avr/tables_test.cpp.
#pragma once

#include "chip/avr/table.h"
#include "chip/registers.h"

namespace bramix::chip::avr {

[[nodiscard]] RegisterMap registerMap(const ChipTable& chip);

}  // namespace bramix::chip::avr
