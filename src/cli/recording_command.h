// `bramix-cli recording`: what a recorded run holds, and what its lines say, without running anything.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <string>
#include <vector>

namespace bramix::cli {

struct RecordingOptions {
    std::string file;
    std::vector<std::string> decode;
    std::string decoded;              // CSV; - for standard output
    std::string edges;                // CSV, or VCD by its ending
    std::string signals = "*";
};

// An exit code.
[[nodiscard]] int recordingCommand(const RecordingOptions& options);

}  // namespace bramix::cli
