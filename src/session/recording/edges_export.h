// The edges of pins on the tape as a file: comma separated, or a value change dump (IEEE 1364) where the file's name ends in .vcd.
//
// As CSV: time, pin, level, and who did it, in order of time; the first row of each pin is its level at the beginning. However long the run was, little
// memory is taken. The file is there as a whole or not at all.
// Tested by tests/session/lanes/read_lanes_test.cpp.
#pragma once

#include <string>
#include <vector>

#include "kernel/progress.h"
#include "session/session.h"

namespace bramix::session {

// An error where the file cannot be written, or where the progress was asked to stop: then the file is as it was.
[[nodiscard]] Result<void> writeEdges(const Session& session, const std::string& file, const std::vector<bench::PinRef>& pins, Time from, Time to, kernel::Progress* progress = nullptr);

}  // namespace bramix::session
