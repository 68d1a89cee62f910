#include "session/recording/edges_export.h"

#include <unistd.h>

#include <algorithm>
#include <array>
#include <filesystem>

#include <fmt/format.h>

#include "kernel/file_writer.h"
#include "session/lanes/merged_edges.h"
#include "session/lanes/read_lanes.h"
#include "tape/vcd.h"

namespace bramix::session {

using kernel::fail;

namespace {

struct Line {
    bench::PinRef pin;
    tape::State first = 0;
};

// Edge by edge to take(line, edge); false where it was stopped.
template <class Take>
bool each(const Session& session, const std::vector<tape::ChannelId>& channels, Time from, Time to, kernel::Progress* progress, Take&& take)
{
    constexpr std::uint64_t kLookEvery = 8192;
    Merged edges(session.tape(), channels, from, to);
    const double whole = std::max(1.0, static_cast<double>((std::min(to, session.latest()) - from).count()));
    std::size_t line = 0;
    std::uint64_t count = 0;
    tape::Edge edge;
    while (edges.take(line, edge)) {
        take(line, edge);
        if (progress == nullptr || ++count % kLookEvery != 0)
            continue;
        if (progress->stopped())
            return false;
        progress->at(static_cast<double>((edge.at - from).count()) / whole);
    }
    return true;
}

Result<void> stoppedAt(const std::string& file) { return fail(file, "was not written: it was stopped"); }

}  // namespace

Result<void> writeEdges(const Session& session, const std::string& file, const std::vector<bench::PinRef>& pins, Time from, Time to, kernel::Progress* progress)
{
    const Time begin = std::max(from, Time{});
    std::vector<Line> lines;
    std::vector<tape::ChannelId> channels;
    for (const bench::PinRef& pin : pins)
        if (const tape::ChannelId channel = session.channelOf(pin); channel != UINT32_MAX) {
            lines.push_back({pin, session.tape().stateAt(channel, begin)});
            channels.push_back(channel);
        }
    if (file.ends_with(".vcd")) {
        std::vector<std::string> names;
        std::vector<tape::State> initial;
        for (const Line& l : lines) {
            names.push_back(l.pin.text());
            initial.push_back(l.first);
        }
        // The dump is written beside the file, which it then replaces; what is no regular file is written to.
        std::error_code trouble;
        const bool inPlace = std::filesystem::exists(file, trouble) && !std::filesystem::is_regular_file(file, trouble);
        const std::string real = std::filesystem::is_symlink(file, trouble) ? std::filesystem::weakly_canonical(file, trouble).string() : file;
        const std::string aside = inPlace ? file : fmt::format("{}.new-{}", real, ::getpid());
        auto writer = tape::VcdWriter::create(aside, names, initial);
        if (!writer)
            return fail(file, "cannot be written");
        const bool whole = each(session, channels, begin, to, progress, [&](std::size_t line, const tape::Edge& edge) { (*writer)->change(line, edge.at, edge.state); });
        const bool written = (*writer)->finish(std::min(to, session.latest()));
        if (whole && written && !inPlace)
            std::filesystem::rename(aside, real, trouble);
        if (!inPlace && (!whole || !written || trouble))
            ::unlink(aside.c_str());
        if (!whole)
            return stoppedAt(file);
        return written && !trouble ? Result<void>{} : Result<void>(fail(file, "cannot be written"));
    }
    auto out = kernel::FileWriter::create(file);
    if (!out)
        return tl::unexpected(out.error());
    const auto exact = [](Time t) {
        const std::int64_t picos = t.time_since_epoch().count();
        return fmt::format("{}.{:012}", picos / kernel::kPicosPerSecond, picos % kernel::kPicosPerSecond);
    };
    static constexpr std::array kLevels{"0", "1", "z", "x", "fight"};
    const auto level = [&](tape::State s) { return kLevels[std::min<std::size_t>(s, kLevels.size() - 1)]; };
    (*out)->put("time_s,pin,level,cause\n");
    for (const Line& l : lines)
        (*out)->put(fmt::format("{},{},{},\n", exact(begin), l.pin.text(), level(l.first)));
    const bool whole = each(session, channels, begin, to, progress, [&](std::size_t line, const tape::Edge& edge) {
        std::string cause = causeOf(session, edge);
        std::replace(cause.begin(), cause.end(), '"', '\'');
        (*out)->put(fmt::format("{},{},{},{}\n", exact(edge.at), lines[line].pin.text(), level(edge.state), cause.empty() ? cause : "\"" + cause + "\""));
    });
    return whole ? (*out)->finish() : stoppedAt(file);
}

}  // namespace bramix::session
