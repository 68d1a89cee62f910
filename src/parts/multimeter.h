// A multimeter with two leads.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Control "mode": 0 V, 1 A, 2 Ω, 3 continuity. Setting "shunt". Pins +, COM.
kernel::Result<std::unique_ptr<Part>> makeMultimeter(PartContext& context);

}  // namespace bramix::parts
