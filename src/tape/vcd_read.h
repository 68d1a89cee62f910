// Reads a Value Change Dump (IEEE Std 1364-2005, clause 18), such as a capture of a real board: its signals' edges as channels of a tape.
// Vectors become a channel a bit, "name[3]"; real numbers and strings are passed over. Times are exact to the picosecond; finer timescales are rounded down.
// Tested by tests/tape/vcd_read_test.cpp.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "kernel/progress.h"
#include "kernel/result.h"
#include "tape/tape.h"

namespace bramix::tape {

struct Capture {
    Tape tape{std::size_t{1} << 30U};
    std::vector<std::string> names;  // of its channels, by ChannelId: "scope.name"
    Time end{};
};

// An error names file and line, and what was expected.
[[nodiscard]] kernel::Result<std::shared_ptr<const Capture>> readVcd(const std::string& file, kernel::Progress* progress = nullptr);
[[nodiscard]] kernel::Result<std::shared_ptr<const Capture>> parseVcd(const std::string& name, std::string_view text, kernel::Progress* progress = nullptr);

}  // namespace bramix::tape
