// A supply symbol: one pin V, held at the setting "voltage" without resistance. Ground is 0 V.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeSupply(PartContext& context);

}  // namespace bramix::parts
