#include "session/lanes/edge_story.h"

#include <algorithm>

#include <fmt/format.h>

#include "kernel/units.h"
#include "session/lanes/read_lanes.h"

namespace bramix::session {

namespace {

std::string length(Duration d) { return kernel::formatQuantity(kernel::seconds(d), kernel::Unit::second, 3); }

// In the part's own words; then what it answered to: a hand on one of its controls, or the last edge before, on any other line of its.
void whyPart(const Session& session, Lookback& lookback, const bench::PartItem& part, tape::ChannelId own, Time at, EdgeStory& story)
{
    const bench::PartKind* kind = session.catalogue().find(part.kind);
    const std::vector<bench::PinKind> pins = kind == nullptr ? std::vector<bench::PinKind>() : kind->pins;
    // What it moved may lie behind something else, a resistor or a transistor: then its own pin is the one that moved right before.
    constexpr Duration kThrough = std::chrono::microseconds(1);
    const auto moved = [&](const bench::PinKind& pin) {
        const tape::ChannelId c = session.channelOf({part.id, pin.name});
        const std::size_t next = c == UINT32_MAX ? 0 : session.tape().after(c, at);
        return next > 0 && at - session.tape().edge(c, next - 1).at <= kThrough && session.tape().edge(c, next - 1).code == UINT32_MAX;
    };
    const bool onIt = std::any_of(pins.begin(), pins.end(), [&](const bench::PinKind& pin) { return session.channelOf({part.id, pin.name}) == own; });
    std::vector<bench::PinRef> its;
    for (const bench::PinKind& pin : pins)
        if (onIt ? session.channelOf({part.id, pin.name}) == own : moved(pin))
            its.push_back({part.id, pin.name});
    if (const auto words = its.empty() ? Result<std::vector<std::string>>() : lookback.whyAt(its, at); !words) {
        story.lines.push_back(words.error().text());
    } else if (const auto first = std::find_if(words->begin(), words->end(), [](const std::string& w) { return !w.empty(); }); first != words->end()) {
        const bench::PinRef& pin = its[static_cast<std::size_t>(first - words->begin())];
        story.lines.push_back(onIt ? *first : fmt::format("by its {}: {}", pin.pin, *first));
    }
    if (kind != nullptr && kind->chip != nullptr)
        return;  // a board's serial line answers to nothing on the bench
    // A contact bounces for milliseconds, a sensor answers within some; beyond that it was not this.
    constexpr Duration kHand = std::chrono::milliseconds(50), kAnswer = std::chrono::milliseconds(20);
    const Input* hand = nullptr;
    for (const Input& input : session.inputs())
        if (input.kind == Input::Kind::control && input.target.starts_with(part.id + ".") && input.at <= at && at - input.at <= kHand)
            hand = &input;
    if (hand != nullptr) {
        story.lines.push_back(fmt::format("{} was set to {:g}{}", hand->target, hand->value, at == hand->at ? " just then" : " " + length(at - hand->at) + " before"));
        return;
    }
    const tape::Tape& tape = session.tape();
    tape::ChannelId line = UINT32_MAX;
    tape::Edge last{};
    for (const bench::PinKind& pin : pins) {
        const tape::ChannelId c = session.channelOf({part.id, pin.name});
        if (c == UINT32_MAX || c == own || pin.ground || pin.supplyVolts)
            continue;
        const std::size_t next = tape.after(c, at);
        if (next == 0)
            continue;
        if (const tape::Edge e = tape.edge(c, next - 1); at - e.at <= kAnswer && (line == UINT32_MAX || e.at > last.at)) {
            line = c;
            last = e;
        }
    }
    if (line == UINT32_MAX)
        return;
    story.lines.push_back(fmt::format("{} {} {}", tape.name(line), last.state == 1 ? "rose" : last.state == 0 ? "fell" : "changed", at == last.at ? "in the same instant" : length(at - last.at) + " before"));
    if (const std::string by = causeOf(session, last); !by.empty())
        story.lines.push_back("by " + by);
}

// What has taken a chip's pin over from its port: a timer's output, a bus. Null: nothing has, or the line is none of the chip's.
const chip::PinStatus* holderOf(const Session& session, const bench::PartItem& part, tape::ChannelId channel, const std::vector<chip::PinStatus>& rows)
{
    const bench::PartKind* kind = session.catalogue().find(part.kind);
    if (kind == nullptr)
        return nullptr;
    for (const bench::PinKind& pin : kind->pins)
        if (session.channelOf({part.id, pin.name}) == channel)
            for (const chip::PinStatus& row : rows)
                if (row.name == (pin.chipPin.empty() ? pin.name : pin.chipPin) && !row.function.empty())
                    return &row;
    return nullptr;
}

}  // namespace

EdgeStory storyOf(Session& session, Lookback& lookback, const bench::PinRef& pin, Time at)
{
    EdgeStory story;
    const tape::ChannelId channel = session.channelOf(pin);
    const tape::Tape& tape = session.tape();
    const std::size_t next = channel == UINT32_MAX ? 0 : tape.after(channel, at);
    if (next == 0 || tape.edge(channel, next - 1).at != at) {
        story.lines.push_back("no edge there");
        return story;
    }
    const tape::Edge edge = tape.edge(channel, next - 1);
    const std::string cause = causeOf(session, edge);
    if (cause.empty() || edge.actor >= session.document().parts.size()) {
        story.lines.push_back("by the wiring itself: what is charged, or what was there when the bench was powered up");
        return story;
    }
    const bench::PartItem& part = session.document().parts[edge.actor];
    const debug::Place place = session.place(part.id, edge.code);
    const std::string code = place.brief().empty() || place.function.empty() ? std::string() : fmt::format("{}, {}", place.function, place.brief());
    story.lines.push_back(code.empty() ? "by " + cause : fmt::format("by {}: {}", part.id, code));
    if (edge.code == UINT32_MAX) {
        whyPart(session, lookback, part, channel, at, story);
        return story;
    }
    story.chip = part.id;
    story.place = place.brief();
    const auto scene = lookback.sceneAt(part.id, edge.code, at);
    if (!scene) {
        story.lines.push_back(scene.error().text());
        return story;
    }
    if (const chip::PinStatus* holder = holderOf(session, part, channel, scene->pins); holder != nullptr) {
        story.lines[0] = fmt::format("by {}: its {}", part.id, holder->function);
        if (const debug::Place setBy = holder->setBy == UINT32_MAX ? debug::Place{} : session.place(part.id, holder->setBy); !setBy.brief().empty()) {
            story.lines.push_back(fmt::format("its compare register set by {}, {}", setBy.function, setBy.brief()));
            story.place = setBy.brief();
        }
        story.lines.push_back(code.empty() ? fmt::format("while it ran 0x{:04x}", edge.code) : "while it ran " + code);
    }
    const std::vector<debug::Frame>& stack = scene->frames;
    constexpr std::size_t kMostFrames = 8;
    for (std::size_t i = 1; i < std::min(stack.size(), kMostFrames); ++i) {
        const debug::Frame& f = stack[i];
        const std::string& interrupt = stack[i - 1].interrupt;
        const std::string where = f.place.brief();
        story.lines.push_back(fmt::format("{} {}{}", interrupt.empty() ? "called from" : "interrupt " + interrupt + " in", f.place.function.empty() ? "startup" : f.place.function, where.empty() ? std::string() : ", " + where));
    }
    return story;
}

}  // namespace bramix::session
