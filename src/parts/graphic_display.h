// The graphic display SSD1306, 128 by 64 dots, on a two-wire bus or SPI.
// Source: SSD1306 (Solomon Systech, rev 1.1), tables 9-1 "Command Table"; scrolling is accepted and stands still, and that is told.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins GND VCC SCL SDA; settings "address" (0x3C, 0x3D), "color".
kernel::Result<std::unique_ptr<Part>> makeTwoWireGraphicDisplay(PartContext& context);
// Pins GND VCC D0 D1 RES DC CS; setting "color".
kernel::Result<std::unique_ptr<Part>> makeSpiGraphicDisplay(PartContext& context);

}  // namespace bramix::parts
