// The lane of functions of a chip: who called whom, one by one, where a window is short (lookback.h); who had how much of each column at any length (function_times.h).
// Tested by tests/session/profile/function_times_test.cpp and tests/session/lanes/read_lanes_test.cpp.
#pragma once

#include <string>
#include <vector>

#include "session/replay/lookback.h"
#include "session/lanes/read_lanes.h"
#include "session/session.h"

namespace bramix::session {

// Longer windows show shares, and are not gone through.
[[nodiscard]] bool showsShares(const Window& window);

void readFunctions(const Session& session, const Lookback& lookback, const std::string& chip, const Window& window, ReadLane& lane);

// Who had how much of the time between two instants, the most first. Exact where the calls there are known one by one; else to within a column of the window that is looked at, or to
// 20 ms where the past cannot be run again.
[[nodiscard]] std::vector<FunctionShare> functionsBetween(const Session& session, const Lookback& lookback, const std::string& chip, Time from, Time to);

}  // namespace bramix::session
