// A resistor: pins 1 and 2, setting "resistance".
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeResistor(PartContext& context);

}  // namespace bramix::parts
