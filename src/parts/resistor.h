// Parts that are a resistance: fixed, turned by hand, or set by light or temperature.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Settings "resistance" and "power". Pins 1, 2.
kernel::Result<std::unique_ptr<Part>> makeResistor(PartContext& context);
// Setting "resistance", control "position" 0 (wiper at A) to 1 (at B). Pins A, W, B.
kernel::Result<std::unique_ptr<Part>> makePotentiometer(PartContext& context);
// Setting "sense" = "light": R = R10 (lux / 10)^-gamma, control "light" in lux; "warmth": R = R25 exp(B (1/T - 1/298.15 K)), control "temperature" in °C.
kernel::Result<std::unique_ptr<Part>> makeSensingResistor(PartContext& context);

}  // namespace bramix::parts
