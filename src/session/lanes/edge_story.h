// Why an edge came: the source line and who had called it, or the part, and what moved it.
// Tested by tests/session/lanes/edge_story_test.cpp.
#pragma once

#include "session/replay/lookback.h"
#include "session/live/picture.h"
#include "session/session.h"

namespace bramix::session {

[[nodiscard]] EdgeStory storyOf(Session& session, Lookback& lookback, const bench::PinRef& pin, Time at);

}  // namespace bramix::session
