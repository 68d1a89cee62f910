// Several LEDs in one body: two- and three-colour LEDs, bar graphs, seven-segment digits.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins R, G (or "red", "green" of a two-colour one), B, COM; setting "common": "cathode" or "anode".
kernel::Result<std::unique_ptr<Part>> makeColorLed(PartContext& context);
// Ten bars, pins A1 … A10 and K1 … K10; setting "color".
kernel::Result<std::unique_ptr<Part>> makeBarGraph(PartContext& context);
// Segments a … g and dp; one digit with COM, or digits 1 … 4; settings "common", "color", "digits".
kernel::Result<std::unique_ptr<Part>> makeSevenSegment(PartContext& context);

}  // namespace bramix::parts
