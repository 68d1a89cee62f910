// What `run --decode` gives out: decoders on lines of the bench, and a line for each thing that they read, on stderr or as CSV.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <cstdio>
#include <memory>
#include <string>
#include <vector>

#include "session/lanes/part_language.h"
#include "session/session.h"
#include "tape/decode.h"

namespace bramix::cli {

class DecodeOutput {
public:
    DecodeOutput() = default;
    DecodeOutput(const DecodeOutput&) = delete;
    DecodeOutput& operator=(const DecodeOutput&) = delete;
    ~DecodeOutput();

    // `specs` as tape::parseDecoderSpec() reads them; lines are pins or nets, those of a bare chip without its name. `file`: CSV, - for standard output; empty: words on stderr.
    [[nodiscard]] kernel::Result<void> open(session::Session& session, const std::vector<std::string>& specs, const std::string& file, bool bareChip);
    // The same of a tape that is there already: everything at once.
    [[nodiscard]] kernel::Result<void> readTape(session::Session& session, const std::vector<std::string>& specs, const std::string& file);
    // Gives out what is complete; false where the file could not be written to its end.
    [[nodiscard]] bool finish(kernel::Time now);

private:
    [[nodiscard]] kernel::Result<void> openFile(const std::string& file);
    void write(const std::string& name, const tape::Decoded& item);

    std::vector<std::unique_ptr<tape::Decoder>> decoders_;
    std::vector<std::unique_ptr<session::PartLanguage>> languages_;  // by decoders that have one
    std::FILE* csv_ = nullptr;
};

}  // namespace bramix::cli
