#include "session/lanes/usual_lanes.h"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

#include "session/session.h"
#include "tape/decode.h"

namespace bramix::session {

std::vector<BusLane> busLanes(const Session& session)
{
    // Rails and what is wired to nothing say nothing.
    const bench::World& world = session.world();
    std::map<bench::NetId, std::size_t> pinsOn;
    for (const auto& [ref, id] : world.pins())
        ++pinsOn[world.circuit().netOf(id)];
    const auto wired = [&](const bench::PinRef& ref) {
        const auto pin = world.pin(ref);
        return pin && pinsOn[world.circuit().netOf(*pin)] > 1 && !world.circuit().isRail(world.circuit().netOf(*pin));
    };
    std::vector<BusLane> out;
    std::set<std::pair<std::string, std::vector<tape::ChannelId>>> seen;
    for (const bench::PartItem& part : session.document().parts) {
        const bench::PartKind* kind = session.catalogue().find(part.kind);
        if (kind == nullptr || kind->reads.empty())
            continue;
        const auto spec = tape::parseDecoderSpec(kind->reads);
        if (!spec)
            continue;
        const tape::DecoderKind& decoder = *tape::decoderKind(spec->kind);
        std::string text = spec->kind + ":";
        std::vector<tape::ChannelId> channels;
        bool whole = true;
        for (std::size_t i = 0; i < spec->lines.size(); ++i) {
            const bool optional = decoder.roles[i].ends_with('?');
            const bench::PinRef pin{part.id, spec->lines[i]};
            if (spec->lines[i].empty() || !wired(pin)) {
                whole = whole && optional;
                channels.push_back(UINT32_MAX);
                continue;
            }
            channels.push_back(session.channelOf(pin));
            text += fmt::format("{}{}={}", text.ends_with(':') ? "" : ",", decoder.roles[i].substr(0, decoder.roles[i].size() - (optional ? 1 : 0)), pin.text());
        }
        for (const auto& [option, value] : spec->options)
            text += fmt::format(",{}={}", option, value);
        if (whole && seen.emplace(spec->kind, channels).second)
            out.push_back({text, channels[decoder.clock < channels.size() ? decoder.clock : 0]});
    }
    return out;
}

std::vector<std::string> usualReadLanes(const Session& session)
{
    std::vector<std::string> out;
    // What a servo's pulse or an encoder's steps are shows on their pins' own lanes.
    for (const BusLane& bus : session.buses())
        if (session.tape().count(bus.line) >= 2 && !bus.text.starts_with("servo:") && !bus.text.starts_with("quadrature:"))
            out.push_back(bus.text);
    for (std::size_t c = 0; c < session.world().chips().size(); ++c)
        if (session.tape().count(session.interruptsOf(c)) > 2)
            out.push_back("interrupts " + session.world().chips()[c].id);
    return out;
}

}  // namespace bramix::session
