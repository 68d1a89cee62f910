// Chips on a two-wire bus: the EEPROM 24C32, the clocks DS1307 and DS3231, the port expander MCP23017.
// Sources: AT24C32 (Atmel 0336), DS1307 (Maxim 19-6198), DS3231 (19-5170), MCP23017 (DS20001952).
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins A0 A1 A2 GND SDA SCL WP VCC. 4096 bytes in pages of 32; a write takes 5 ms, in which it does not answer. Setting "contents": a file that it begins with.
kernel::Result<std::unique_ptr<Part>> makeTwoWireEeprom(PartContext& context);
// Pins SDA SCL SQW VCC GND; settings "model" ("DS1307", "DS3231"), "start" ("2026-03-01 06:00:00"), "running" ("yes", "no": a fresh cell); control "temperature" of the DS3231.
kernel::Result<std::unique_ptr<Part>> makeClock(PartContext& context);
// Pins GPA0 … 7, GPB0 … 7, INTA INTB RESET SCL SDA A0 A1 A2 VCC GND.
kernel::Result<std::unique_ptr<Part>> makePortExpander(PartContext& context);

}  // namespace bramix::parts
