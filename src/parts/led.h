// A light-emitting diode: pins A and K, setting "color". Forward voltage and efficiency follow the colour.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeLed(PartContext& context);

}  // namespace bramix::parts
