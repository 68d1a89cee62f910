// Addressable LEDs in a chain: WS2812 (one wire) and APA102 (clock and data), as a single one, a strip, a ring or a matrix.
// Sources: WS2812B (Worldsemi, v1.0: 0.4/0.85 µs and 0.8/0.45 µs, ±0.15 µs; reset above 50 µs), APA102 (Shiji, frames of 32 bits).
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Pins VCC GND DIN DOUT; settings "count", "shape" ("strip", "ring", "matrix").
kernel::Result<std::unique_ptr<Part>> makeOneWirePixels(PartContext& context);
// Pins VCC GND DI CI DO CO.
kernel::Result<std::unique_ptr<Part>> makeClockedPixels(PartContext& context);

}  // namespace bramix::parts
