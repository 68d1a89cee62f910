// Supplies. A supply symbol: one pin V, held at the setting "voltage" without resistance. A bench supply: a pin V whose voltage is a
// live control ("volts", 0 to 15 V), behind 50 milliohms. Ground is 0 V.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeSupply(PartContext& context);
[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeBenchSupply(PartContext& context);

}  // namespace bramix::parts
