// What every architecture begins a frame of its call stack with.
// Tested by tests/cli/gdb_test.cpp and tests/session/any_family_test.cpp.
#pragma once

#include "debug/frames.h"

namespace bramix::debug {

// The frame of the function that `look` lies in; those inlined into it there are put into `out` before, each at the place of the call within it. What
// lies beyond (CFA, exception) is left to the architecture.
[[nodiscard]] Frame beginFrame(const Symbols& symbols, const Registers& registers, std::uint32_t look, std::vector<Frame>& out);

}  // namespace bramix::debug
