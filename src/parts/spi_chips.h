// Chips on an SPI bus: the converter MCP3008, the serial flash W25Q32, an SD card.
// Sources: MCP3008 (DS21295), W25Q32JV (Winbond, revision F), SD Physical Layer Simplified Specification 3.01, part "SPI Mode".
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins CH0 … CH7 VDD VREF AGND CLK DOUT DIN CS GND.
kernel::Result<std::unique_ptr<Part>> makeConverter(PartContext& context);
// Pins CS DO WP GND DI CLK HOLD VCC; setting "contents": a file that it begins with.
kernel::Result<std::unique_ptr<Part>> makeSerialFlash(PartContext& context);
// Pins CS MOSI MISO SCK VCC GND; setting "image": the file with its blocks, or empty for a blank card of setting "size" megabytes. What firmware writes stays in the run.
kernel::Result<std::unique_ptr<Part>> makeSdCard(PartContext& context);

}  // namespace bramix::parts
