// What a bench has to show by itself: its buses, by the parts that stand on them and say in their manifests how their lines are read, and the interrupts
// of its chips.
// Tested by tests/session/lanes/usual_lanes_test.cpp.
#pragma once

#include <string>
#include <vector>

#include "tape/tape.h"

namespace bramix::session {

class Session;

struct BusLane {
    std::string text;        // as read_lanes.h writes it: "i2c:SDA=clock.SDA,SCL=clock.SCL"
    tape::ChannelId line{};  // whose edges tell whether it is in use
};

// One for each bus, however many parts stand on it; on SPI one for each line that selects. What is not wired is left out.
[[nodiscard]] std::vector<BusLane> busLanes(const Session& session);

// The lanes of a bench for which nobody has chosen any: those of its buses that carry bytes and are in use, and the interrupts of its chips with firmware.
[[nodiscard]] std::vector<std::string> usualReadLanes(const Session& session);

}  // namespace bramix::session
