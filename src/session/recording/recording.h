// A run in one file: the tape with its causes, serial bytes, interrupts, which functions had the time, findings, what was said and done, measured voltages, and the bench with its
// firmware. Opened again, all of it is there without anything being run; the present stands at the beginning, the whole run lies ahead of it, and going to an
// instant runs the bench there, as it ran.
//
// Where wiring or firmware was changed in the middle, the run cannot be had again from its beginning: such a recording can be looked at, and begins anew when it
// is run. The file is one of sections with versions (docs/recording-format.md): one of another form, of another version of a section, or damaged, is refused in one line.
// Tested by tests/session/recording/recording_test.cpp.
#pragma once

#include <map>
#include <string>
#include <utility>
#include <vector>

#include "kernel/progress.h"
#include "session/bench_files.h"
#include "session/profile/function_times.h"
#include "session/session.h"

namespace bramix::session {

struct Recording {
    std::string bench;                  // the document, as its file has it
    std::vector<BenchFile> files;
    std::uint64_t seed = 1;
    Time latest{};
    bool canRunAgain = true;
    std::vector<Input> inputs;
    std::vector<Finding> findings;
    std::vector<std::pair<Time, std::string>> marks;  // what stops have said
    std::vector<SerialByte> bytes;
    std::vector<std::pair<bench::PinRef, tape::Waveform>> waveforms;
    std::map<std::string, FunctionTimes::Log> functions;  // by chip
    tape::Tape tape;
};

// Session::saveRecording() writes them, Session::adopt() makes one that was read the past of a session that has just begun.
[[nodiscard]] Result<Recording> readRecording(const std::string& file, kernel::Progress* progress = nullptr);

// Puts the bench and its files into a folder of their own; gives the bench file. What is there already is overwritten.
[[nodiscard]] Result<std::string> unpackBench(const Recording& recording, const std::string& folder);

}  // namespace bramix::session
