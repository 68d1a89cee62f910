// Supplies. A supply symbol: one pin V, held at the setting "voltage" without resistance. A bench supply: a pin V whose voltage is a
// live control ("volts", 0 to 15 V), behind 50 milliohms, up to a current that is a live control too ("amps"). A battery and a current source float. Ground is 0 V.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeSupply(PartContext& context);
[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeBenchSupply(PartContext& context);
// Settings "voltage", "inner" (resistance). Pins +, -.
[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeBattery(PartContext& context);
// Settings "current", "compliance" (the greatest voltage that it reaches). Control "amps". Out of +, back into -.
[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeCurrentSource(PartContext& context);
[[nodiscard]] kernel::Result<std::unique_ptr<Part>> makeVoltageSource(PartContext& context);

}  // namespace bramix::parts
