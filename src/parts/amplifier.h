// Operational amplifier and comparator.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Settings "bandwidth", "slew" (V/µs), "headroom". Pins +, -, OUT, V+, V-.
kernel::Result<std::unique_ptr<Part>> makeOpAmp(PartContext& context);
// Settings "output" ("open collector", "push-pull"), "hysteresis", "delay". Pins +, -, OUT, V+, V-.
kernel::Result<std::unique_ptr<Part>> makeComparator(PartContext& context);

}  // namespace bramix::parts
