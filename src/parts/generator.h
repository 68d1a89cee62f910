// A signal source on the bench: constant, pulses, sine, triangle, or from a file.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Settings "wave" ("constant", "square", "pulse", "sine", "triangle", "file"), "frequency", "low", "high" (volts), "duty" (percent), "inner" (resistance), "file"
// (lines of seconds and volts, joined by straight lines, repeated). Controls "frequency" (Hz) and "amplitude" (0 to 1). Pins S, GND.
kernel::Result<std::unique_ptr<Part>> makeGenerator(PartContext& context);

}  // namespace bramix::parts
