// What is to be heard of a lane, all at one go: a decoder and the language of its parts, from the tape's beginning on.
#pragma once

#include "session/lanes/lane_logs.h"
#include "session/lanes/merged_edges.h"

namespace bramix::test {

// Up to an instant, what is under way then left out.
inline std::vector<tape::Decoded> heardUpTo(const session::Session& s, const std::string& lane, kernel::Time to)
{
    std::vector<tape::Decoded> out;
    const auto spec = *session::parseLane(lane);
    const auto decoder = std::move(*tape::makeDecoder(spec.decoder.kind, spec.decoder.options));
    session::PartLanguage language(session::devicesOn(s, spec.decoder));
    language.out = [&](const tape::Decoded& item) { out.push_back(item); };
    decoder->out = [&](const tape::Decoded& item) {
        out.push_back(item);
        language.take(item);
    };
    std::vector<tape::ChannelId> channels;
    for (const bench::PinRef& pin : spec.pins)
        channels.push_back(pin.part.empty() ? UINT32_MAX : s.channelOf(pin));
    for (std::size_t role = 0; role < channels.size(); ++role)
        if (channels[role] != UINT32_MAX && s.tape().stateAt(channels[role], kernel::Time{}) <= 1)
            decoder->edge(role, s.tape().stateAt(channels[role], kernel::Time{}) == 1, kernel::Time{});
    session::Merged edges(s.tape(), channels, kernel::Time{}, to, tape::decoderKind(spec.decoder.kind)->clock);
    std::size_t role = 0;
    for (tape::Edge edge; edges.take(role, edge);)
        if (edge.state <= 1)
            decoder->edge(role, edge.state == 1, edge.at);
    return out;
}

// The same from a log; nothing must have been forgotten.
inline std::vector<tape::Decoded> itemsOf(const session::LaneLog& log)
{
    std::vector<tape::Decoded> out;
    for (std::uint64_t i = log.items().first(); i < log.items().end(); ++i)
        out.push_back(log.items().item(i));
    return out;
}

}  // namespace bramix::test
