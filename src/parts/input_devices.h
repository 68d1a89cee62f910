// Things that a hand works: keypad, rotary encoder, joystick, DIP switches, limit switch.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins R1 … R4, C1 … C4; sixteen controls "1" … "D" as printed on it; setting "bounce".
kernel::Result<std::unique_ptr<Part>> makeKeypad(PartContext& context);
// Pins CLK DT SW + GND, with 10 kΩ from CLK and DT to +; controls "turn" (in detents, any number) and "pressed"; settings "bounce", "speed" (detents a second).
kernel::Result<std::unique_ptr<Part>> makeEncoder(PartContext& context);
// Pins GND + X Y SW; controls "x", "y" (-1 to 1), "pressed".
kernel::Result<std::unique_ptr<Part>> makeJoystick(PartContext& context);
// Pins 1A 1B … 8A 8B; controls "1" … "8".
kernel::Result<std::unique_ptr<Part>> makeDipSwitch(PartContext& context);
// Pins COM NO NC; control "pressed".
kernel::Result<std::unique_ptr<Part>> makeLimitSwitch(PartContext& context);

}  // namespace bramix::parts
