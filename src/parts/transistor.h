// Transistors as switches and amplifiers.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Settings: "polarity" ("NPN", "PNP"), "gain", "turn-on" (base-emitter voltage at 1 mA of collector current), "limit". Pins B, C, E.
kernel::Result<std::unique_ptr<Part>> makeBipolar(PartContext& context);
// Settings: "polarity" ("N", "P"), "threshold", "on" (resistance) at "drive" (gate voltage), "limit". Pins G, D, S.
kernel::Result<std::unique_ptr<Part>> makeMosfet(PartContext& context);

}  // namespace bramix::parts
