// Rectifier and Zener diodes. Pins A, K.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Settings: "forward" (voltage) at "current", "series" (resistance), "breakdown" (voltage; a Zener's is what it is for), "limit" (greatest lasting current).
kernel::Result<std::unique_ptr<Part>> makeDiode(PartContext& context);

}  // namespace bramix::parts
