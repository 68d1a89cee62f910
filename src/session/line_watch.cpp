#include "session/line_watch.h"

#include <algorithm>

#include "session/merged_edges.h"

namespace bramix::session {

namespace {

// So many edges behind, and it is better to begin anew near the present.
constexpr std::size_t kTooFarBehind = 200'000;
constexpr std::size_t kLeadEdges = 200;

}  // namespace

bool LineWatch::follow(const Session& session, const std::vector<std::string>& lanes, std::size_t mostEdges, const std::function<void(const std::string&, const tape::Decoded&)>& wrong)
{
    std::erase_if(lines_, [&](const auto& l) { return std::find(lanes.begin(), lanes.end(), l.first) == lanes.end(); });
    const tape::Tape& tape = session.tape();
    // Before the present; what lies further ahead after going back has been read already.
    const Time to = session.world().now();
    bool any = false;
    for (const std::string& text : lanes) {
        const auto [found, fresh] = lines_.try_emplace(text);
        Line& line = found->second;
        if (fresh) {
            const auto spec = parseLane(text);
            if (spec && spec->kind == LaneSpec::Kind::decoded) {
                line.spec = *spec;
                for (const bench::PinRef& pin : spec->pins)
                    line.channels.push_back(pin.part.empty() ? UINT32_MAX : session.channelOf(pin));
            }
        }
        const std::vector<tape::ChannelId>& channels = line.channels;
        if (channels.empty() || (to <= line.at && line.course == session.course()))
            continue;
        const auto behind = [&](Time from) {
            std::size_t edges = 0;
            for (const tape::ChannelId c : channels)
                edges += c == UINT32_MAX ? 0 : tape.after(c, to) - std::min(tape.after(c, from), tape.after(c, to));
            return edges;
        };
        if (line.decoder == nullptr || line.course != session.course() || (mostEdges != SIZE_MAX && behind(line.at) > kTooFarBehind)) {
            const bool first = line.decoder == nullptr && (mostEdges == SIZE_MAX || behind(Time{}) <= kTooFarBehind);
            auto made = tape::makeDecoder(line.spec.decoder.kind, line.spec.decoder.options);
            if (!made)
                continue;
            line.decoder = std::move(*made);
            line.course = session.course();
            line.at = first ? Time{} : to;
            line.sure = line.at;
            for (const tape::ChannelId c : channels)
                if (c != UINT32_MAX && !first)
                    if (const std::size_t after = tape.after(c, line.at); after > kLeadEdges)
                        line.at = std::min(line.at, tape.edge(c, after - kLeadEdges).at);
            line.decoder->out = [&line](const tape::Decoded& item) {
                if (!item.good && item.from >= line.sure)
                    line.wrong.push_back(item);
            };
            for (std::size_t role = 0; role < channels.size(); ++role)
                if (channels[role] != UINT32_MAX && tape.stateAt(channels[role], line.at) <= 1)
                    line.decoder->edge(role, tape.stateAt(channels[role], line.at) == 1, line.at);
        }
        if (to <= line.at)
            continue;
        any = true;
        Merged edges(tape, channels, line.at, to, tape::decoderKind(line.spec.decoder.kind)->clock);
        std::size_t role = 0, taken = 0;
        tape::Edge edge;
        Time reached = to;
        while (edges.take(role, edge)) {
            if (++taken > mostEdges && edge.at > line.at) {
                // Edges of one instant stay together.
                reached = edge.at - Duration(1);
                break;
            }
            if (edge.state <= 1)
                line.decoder->edge(role, edge.state == 1, edge.at);
        }
        line.at = reached;
        for (const tape::Decoded& item : std::exchange(line.wrong, {}))
            wrong(text, item);
    }
    return any;
}

}  // namespace bramix::session
