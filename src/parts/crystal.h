// A crystal. What it does is done by the chip whose oscillator it is wired to, which asks for its frequency; by itself it is nothing to the circuit.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeCrystal(PartContext& context);

}  // namespace bramix::parts
