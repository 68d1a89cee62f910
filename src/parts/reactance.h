// Parts that keep energy: capacitors and inductors.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

// Settings "capacitance", "series" (equivalent series resistance), "type" ("ceramic", "film", "electrolytic": which has a right and a wrong way round) and "voltage". Pins 1 (+), 2.
kernel::Result<std::unique_ptr<Part>> makeCapacitor(PartContext& context);
// Settings "inductance", "winding". Pins 1, 2.
kernel::Result<std::unique_ptr<Part>> makeInductor(PartContext& context);

}  // namespace bramix::parts
