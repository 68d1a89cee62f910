// bramix-cli sweep: figures of a bench over one of its settings, as CSV.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <string>
#include <vector>

namespace bramix::cli {

struct SweepOptions {
    std::string bench;
    std::string vary;               // "supply1.volts=0..5"
    std::string curves;             // "r1.resistance=100,220,4k7", or empty
    int points = 101;
    bool ratio = false;             // equal ratios in place of equal steps
    std::vector<std::string> plot;  // "d1:current", "r1.2", "d1.A:d1.K", "d1:power"
    std::vector<std::string> set;   // "PART.CONTROL=VALUE"
    std::vector<std::string> hold;  // "PART.PIN=LEVEL": what a chip's pin drives
    std::vector<std::string> allow; // files outside the bench's folder that it may use
    std::string csv = "-";
};

// The exit code: 0, or unusable input with one line on standard error.
int sweepCommand(const SweepOptions& options);

}  // namespace bramix::cli
