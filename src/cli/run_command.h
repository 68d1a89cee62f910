// `bramix-cli run`: everything between the options and the exit code.
#pragma once

#include <string>
#include <vector>

namespace bramix::cli {

// Exit codes are a contract (docs/command-line.md).
enum ExitCode : int { kGoalReached = 0, kLimitReached = 1, kUnusableInput = 2, kBug = 3, kFaulted = 4 };

struct RunOptions {
    std::string bench;
    std::string chip;
    std::string clock;
    std::vector<std::string> firmware;   // FILE or PART=FILE
    std::vector<std::string> allow;      // files outside the bench's folder that it may use
    std::string forTime;
    long long maxCycles = 0;             // 0: no limit
    std::string untilSerial;
    bool untilHalt = false;
    std::vector<std::string> serial;     // UART=WHERE
    std::vector<std::string> send;       // UART@TIME=TEXT
    std::vector<std::string> set;        // PART.CONTROL@TIME=VALUE
    std::vector<std::string> fuses;
    std::string gdb;
    std::string pace = "max";
    std::string vcd;
    std::string signals;
    std::string trace;                   // nets, pins and PART:current, comma separated
    std::string traceFile;
    std::vector<std::string> decode;     // as tape::parseDecoderSpec() reads them
    std::string record;
    std::string decoded;
    std::string report;
    unsigned long long seed = 1;
};

int runCommand(const RunOptions& options);

}  // namespace bramix::cli
