// Character displays with the HD44780 controller, 16x2 and 20x4: on its own bus of four or eight bits, or behind a PCF8574 expander on a two-wire bus.
//
// The controller: 80 bytes of display RAM, 64 of character RAM, entry mode, shifts, cursor and blink, one or two lines; it takes 37 microseconds for an instruction, 41 for
// data and 1.52 ms to clear or go home, and is busy for 10 ms after power-up (data sheet, tables 6 and "Initializing by Instruction"). What is written while it is busy is lost, and told;
// so is a pulse of E shorter than 230 ns.
// Contrast follows VCC - VO: nothing shows below 2.5 V, all dots darken above 5.2 V.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins GND VCC VO RS RW E D0 … D7 A K; setting "size": "16x2" or "20x4".
kernel::Result<std::unique_ptr<Part>> makeCharacterDisplay(PartContext& context);
// Pins GND VCC SDA SCL; settings "size", "address". P0 RS, P1 RW, P2 E, P3 backlight, P4 … P7 data.
kernel::Result<std::unique_ptr<Part>> makeTwoWireCharacterDisplay(PartContext& context);

}  // namespace bramix::parts
