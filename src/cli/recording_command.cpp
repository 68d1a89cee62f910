#include "cli/recording_command.h"

#include <algorithm>
#include <filesystem>
#include <sstream>

#include <fmt/format.h>

#include <unistd.h>

#include "cli/decode_output.h"
#include "cli/run_command.h"
#include "cli/run_options.h"
#include "session/lanes/read_lanes.h"
#include "session/recording/edges_export.h"
#include "session/recording/recording.h"

namespace bramix::cli {

using kernel::fail;
using kernel::Result;
using kernel::Time;

namespace {

// A folder that goes when this does.
class PassingFolder {
public:
    PassingFolder() : path_(std::filesystem::temp_directory_path() / fmt::format("bramix-recording-{}", getpid())) {}
    ~PassingFolder()
    {
        std::error_code none;
        std::filesystem::remove_all(path_, none);
    }
    PassingFolder(const PassingFolder&) = delete;
    PassingFolder& operator=(const PassingFolder&) = delete;
    [[nodiscard]] std::string path() const { return path_.string(); }

private:
    const std::filesystem::path path_;
};

void printWhatIsThere(const session::Session& session, bool canRunAgain)
{
    const tape::Tape& tape = session.tape();
    std::uint64_t edges = 0;
    std::size_t moving = 0;
    for (tape::ChannelId c = 0; c < tape.channelCount(); ++c) {
        edges += tape.count(c);
        moving += tape.count(c) > 1 ? 1 : 0;
    }
    fmt::print("{}\n", session.document().title);
    fmt::print("time       {} to {}\n", kernel::formatQuantity(kernel::seconds(tape.knownFrom()), kernel::Unit::second, 6), kernel::formatQuantity(kernel::seconds(session.latest()), kernel::Unit::second, 9));
    fmt::print("edges      {} on {} lines\n", edges, moving);
    fmt::print("bytes      {} on serial lines\n", session.serialLog().end() - session.serialLog().first());
    fmt::print("inputs     {}\n", session.inputs().size());
    fmt::print("findings   {}\n", session.findings().size());
    for (const bench::Finding& f : session.findings())
        fmt::print("  {:.9f} s  {}  {}: {}\n", kernel::seconds(f.time), f.rule, f.where, f.message);
    if (!canRunAgain)
        fmt::print("made across a change of wiring or firmware: it can be looked at, not run again\n");
}

Result<void> look(const RecordingOptions& options)
{
    auto recording = session::readRecording(options.file);
    if (!recording)
        return tl::unexpected(recording.error());
    auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue)
        return tl::unexpected(catalogue.error());
    const PassingFolder folder;
    const auto bench = session::unpackBench(*recording, folder.path());
    if (!bench)
        return tl::unexpected(bench.error());
    auto document = bench::loadDocument(*bench, nullptr);
    if (!document)
        return tl::unexpected(document.error());
    if (auto ok = bench::checkDocument(*document, *catalogue, options.file); !ok)
        return ok;
    session::SessionOptions how;
    how.folder = folder.path();
    how.confined = true;
    how.seed = recording->seed;
    auto session = session::Session::open(*document, *catalogue, how);
    if (!session)
        return tl::unexpected(session.error());
    const bool canRunAgain = recording->canRunAgain;
    (*session)->adopt(std::move(*recording));
    if (options.decode.empty() && options.edges.empty())
        printWhatIsThere(**session, canRunAgain);
    DecodeOutput out;
    if (auto ok = out.readTape(**session, options.decode, options.decoded); !ok)
        return ok;
    if (!out.finish((*session)->latest()))
        return fail(options.decoded, "could not be written to its end; expected room on the disk");
    if (options.edges.empty())
        return {};
    std::vector<bench::PinRef> pins;
    std::istringstream in(options.signals);
    for (std::string pattern; std::getline(in, pattern, ',');)
        for (const auto& [ref, pin] : (*session)->world().pins())
            if (matchesWildcard(pattern, ref.text()) && (*session)->channelOf(ref) != UINT32_MAX && std::find(pins.begin(), pins.end(), ref) == pins.end())
                pins.push_back(ref);
    if (pins.empty())
        return fail("--signals", fmt::format("\"{}\" is no pin of this bench", options.signals));
    return session::writeEdges(**session, options.edges, pins, Time{}, (*session)->latest());
}

}  // namespace

int recordingCommand(const RecordingOptions& options)
{
    const auto done = look(options);
    if (done)
        return kGoalReached;
    fmt::print(stderr, "{}\n", done.error().text());
    return kUnusableInput;
}

}  // namespace bramix::cli
