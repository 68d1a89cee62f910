// A light-emitting diode: pins A and K, setting "color". Forward voltage and efficiency follow the colour.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeLed(PartContext& context);
// The curve of a typical LED of a colour; nothing for a word that is no colour.
std::optional<circuit::DiodeModel> typicalLed(std::string_view color);

}  // namespace bramix::parts
