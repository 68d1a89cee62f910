// How toy code is debugged: text, functions found by following calls, and frames by the link register and what exceptions have pushed.
#pragma once

#include "debug/arch/architecture.h"

namespace bramix::toy {

[[nodiscard]] const debug::Architecture& architecture();

}  // namespace bramix::toy
