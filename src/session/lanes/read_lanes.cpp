#include "session/lanes/read_lanes.h"

#include <algorithm>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "session/lanes/function_lane.h"
#include "session/profile/function_times.h"
#include "session/lanes/lane_logs.h"
#include "session/lanes/merged_edges.h"
#include "session/lanes/part_language.h"

namespace bramix::session {

using kernel::fail;

namespace {

// More edges than this in a window and bytes cannot be told apart; more items likewise.
constexpr std::size_t kMostEdges = 24'000;
constexpr std::size_t kMostItems = 6'000;
// A decoder listens so long before the window that it has found its feet.
constexpr std::size_t kLeadEdges = 1500;
constexpr std::size_t kMostValues = 4000;

std::vector<tape::ChannelId> channelsOf(const Session& session, const LaneSpec& spec)
{
    std::vector<tape::ChannelId> out;
    for (const bench::PinRef& pin : spec.pins)
        out.push_back(pin.part.empty() ? UINT32_MAX : session.channelOf(pin));
    return out;
}

// Where a decoder has to begin, so that it reads rightly from `from` on.
Time leadIn(const tape::Tape& tape, const std::vector<tape::ChannelId>& channels, Time from)
{
    Time begin{};
    for (const tape::ChannelId c : channels)
        if (c != UINT32_MAX)
            if (const std::size_t at = tape.after(c, from); at > kLeadEdges)
                begin = std::max(begin, tape.edge(c, at - kLeadEdges).at);
    return std::min(begin, from);
}

template <class Take>
void decode(const Session& session, const LaneSpec& spec, const std::vector<tape::ChannelId>& channels, Time begin, Time to, Take&& take)
{
    const tape::Tape& tape = session.tape();
    auto made = tape::makeDecoder(spec.decoder.kind, spec.decoder.options);
    if (!made)
        return;
    tape::Decoder& decoder = **made;
    bool goesOn = true;
    decoder.out = [&](const tape::Decoded& item) { goesOn = take(item) && goesOn; };
    standAt(decoder, tape, channels, begin);
    Merged edges(tape, channels, begin, to, tape::decoderKind(spec.decoder.kind)->clock);
    std::size_t line = 0;
    tape::Edge edge;
    while (goesOn && edges.take(line, edge))
        hear(decoder, line, edge);
    if (goesOn)
        decoder.finish(to);
}

std::string missingPin(const Session& session, const LaneSpec& spec)
{
    for (const bench::PinRef& pin : spec.pins)
        if (!pin.part.empty() && session.channelOf(pin) == UINT32_MAX)
            return pin.text() + " is not on this bench";
    return {};
}

// The lane's log, where that has in it what was said from one instant to another but for a little at the end.
const LaneLog* logOf(const Session& session, const std::string& text, Time from, Time to, std::size_t mostEdges)
{
    const LaneLog* const log = session.laneLog(text);
    const bool known = log != nullptr && (log->knownFrom() == Time{} || log->knownFrom() < from) && log->edgesTo(session.tape(), to) <= mostEdges;
    return known ? log : nullptr;
}

// Where something goes on in the lane, at any zoom: on the line that selects where there is one, else on the clock, else on the first. And what stands out.
void readCrowded(const Session& session, const LaneSpec& spec, const std::vector<tape::ChannelId>& channels, const LaneLog& log, const Window& window, ReadLane& lane)
{
    lane.crowded = true;
    const std::size_t clock = tape::decoderKind(spec.decoder.kind)->clock;
    const bool selected = spec.decoder.kind == "spi" && channels.size() > 3 && channels[3] != UINT32_MAX;
    const tape::ChannelId channel = channels[selected ? 3 : clock < channels.size() ? clock : 0];
    lane.columns = session.tape().columns(channel, window.from, window.to, std::max<std::size_t>(window.columns, 1));
    for (tape::Column& c : lane.columns)
        c.first = c.last = c.edges > 0 || (selected && c.first == 0) ? 1 : 0;
    lane.outstanding = log.items().outstanding(window.from, window.to, 1000);
}

// False: too much.
bool readLogged(const Session& session, const LaneLog& log, const Window& window, ReadLane& lane)
{
    const auto take = [&](const tape::Decoded& item) {
        if (item.to >= window.from && item.from <= window.to)
            (item.meaning ? lane.meaning : lane.items).push_back(item);
        return lane.items.size() <= kMostItems;
    };
    if (log.items().visit(window.from, window.to, take)) {
        log.tail(session.tape(), std::min(window.to, session.latest()), take);
        if (lane.items.size() <= kMostItems)
            return true;
    }
    lane.items.clear();
    lane.meaning.clear();
    return false;
}

void readDecoded(const Session& session, const std::string& text, const LaneSpec& spec, const Window& window, ReadLane& lane)
{
    const std::vector<tape::ChannelId> channels = channelsOf(session, spec);
    const tape::Tape& tape = session.tape();
    lane.name = spec.decoder.kind;
    std::vector<std::string> names;
    for (const tape::ChannelId c : channels)
        if (c != UINT32_MAX)
            names.push_back(tape.name(c));
    lane.lines = fmt::format("{}", fmt::join(names, " "));
    if (const LaneLog* log = logOf(session, text, window.from, std::min(window.to, session.latest()), kMostEdges); log != nullptr) {
        lane.speaks = log->speaks();
        if (!readLogged(session, *log, window, lane))
            readCrowded(session, spec, channels, *log, window, lane);
        return;
    }
    if (lane.crowded = Merged(tape, channels, window.from, window.to).left() > kMostEdges; lane.crowded)
        return;
    std::vector<PartLanguage::Device> devices = devicesOn(session, spec.decoder);
    lane.speaks = !devices.empty();
    PartLanguage language(std::move(devices));
    language.out = [&](const tape::Decoded& item) {
        if (item.to >= window.from)
            lane.meaning.push_back(item);
    };
    // What is under way at the right edge is read to its end.
    decode(session, spec, channels, leadIn(tape, channels, window.from), window.to, [&](const tape::Decoded& item) {
        if (item.to >= window.from)
            lane.items.push_back(item);
        if (lane.speaks)
            language.take(item);
        return true;
    });
}

void readInterrupts(const Session& session, const LaneSpec& spec, const Window& window, ReadLane& lane, std::size_t most = kMostValues)
{
    lane.name = "interrupts";
    lane.lines = spec.chip;
    const bench::World& world = session.world();
    std::size_t chip = 0;
    while (chip < world.chips().size() && world.chips()[chip].id != spec.chip)
        ++chip;
    if (chip == world.chips().size()) {
        lane.trouble = spec.chip + " is no chip of this bench";
        return;
    }
    const tape::ChannelId channel = session.interruptsOf(chip);
    const tape::Tape& tape = session.tape();
    const std::size_t first = tape.after(channel, window.from), last = tape.after(channel, window.to);
    if (lane.crowded = last - first > most; lane.crowded) {
        lane.columns = tape.columns(channel, window.from, window.to, window.columns);
        for (tape::Column& c : lane.columns) {
            c.first = c.first != 0 && c.first != 2 ? 1 : 0;
            c.last = c.last != 0 && c.last != 2 ? 1 : 0;
        }
        return;
    }
    Time since = first > 0 ? tape.edge(channel, first - 1).at : window.from;
    tape::State running = first > 0 ? tape.edge(channel, first - 1).state : 0;
    const auto& vectors = world.chips()[chip].chip->device().exceptions;
    const auto put = [&](Time to) {
        if (running == kResetMark)
            lane.items.push_back({since, since, "reset", 0, "reset", true});
        else if (running != 0 && running < vectors.size())
            lane.items.push_back({since, to, "interrupt", running, vectors[running].name, true});
    };
    for (std::size_t i = first; i < last; ++i) {
        const tape::Edge edge = tape.edge(channel, i);
        put(edge.at);
        since = edge.at;
        running = edge.state;
    }
    put(std::min(window.to, session.latest()));
}

void reckonBounds(ReadLane& lane)
{
    bool known = false;
    for (const tape::WaveColumn& c : lane.wave)
        if (c.known) {
            lane.low = known ? std::min(lane.low, c.least) : c.least;
            lane.high = known ? std::max(lane.high, c.most) : c.most;
            known = true;
        }
}

// One by one where there are few; else as a curve, or where it has no number, when it changed.
void readValues(const PastValues& values, const PastValues::Wish& wish, const Window& window, ReadLane& lane)
{
    const PastValues::Found* found = values.of(wish);
    if (found == nullptr)
        return;
    lane.trouble = found->trouble;
    lane.knownTo = values.knownTo(wish);
    if (found->movesIn(window.from, window.to))
        lane.every = found->looked;
    constexpr std::size_t kFew = 300;
    const auto& entries = found->values.entries();
    const auto [first, last] = found->values.between(window.from, window.to);
    bool single = last - first <= kFew;
    for (std::size_t i = first; i < last && single; ++i) {
        if (!entries[i].any)
            continue;
        const std::string words = values.words(wish, entries[i]);
        single = !words.empty();
        lane.items.push_back({entries[i].from, i + 1 < entries.size() ? entries[i + 1].from : lane.knownTo, "value", 0, words, true});
    }
    if (single)
        return;
    lane.items.clear();
    if (!found->number) {
        lane.crowded = true;
        lane.columns.resize(window.columns);
        const auto changes = found->values.changes(window.from, window.to, window.columns);
        for (std::size_t c = 0; c < changes.size(); ++c)
            lane.columns[c].first = lane.columns[c].last = changes[c] > 0 ? 1 : 0;
        return;
    }
    lane.wave = found->values.columns(window.from, window.to, window.columns, lane.knownTo);
    reckonBounds(lane);
}

// What was found by going through the window once more.
void readVariable(const Lookback& lookback, const LaneSpec& spec, const Window& window, ReadLane& lane)
{
    lane.name = spec.variable;
    lane.lines = spec.chip;
    const FoundSpans* found = lookback.found({spec.chip, spec.variable});
    if (found == nullptr || found->tooMany)
        return readValues(lookback.values(), {spec.chip, spec.variable}, window, lane);
    lane.trouble = found->trouble;
    lane.knownTo = lookback.knownTo({spec.chip, spec.variable});
    for (const Span& s : found->spans)
        if (s.to >= window.from && s.from <= window.to)
            lane.items.push_back({s.from, s.to, "value", s.depth, s.text, true});
}

void readValue(const Session& session, const LaneSpec& spec, const Window& window, ReadLane& lane)
{
    const std::vector<tape::ChannelId> channels = channelsOf(session, spec);
    const tape::Tape& tape = session.tape();
    lane.name = "value";
    std::vector<std::string> names;
    for (const bench::PinRef& pin : spec.pins)
        names.push_back(pin.pin);
    lane.lines = fmt::format("{}", fmt::join(names, " "));
    Merged edges(tape, channels, window.from, window.to);
    if (lane.crowded = edges.left() > kMostValues; lane.crowded)
        return;
    std::vector<tape::State> states;
    for (const tape::ChannelId c : channels)
        states.push_back(tape.stateAt(c, window.from));
    Time since = window.from;
    const auto put = [&](Time to) {
        if (to <= since)
            return;
        std::uint64_t value = 0;
        bool sure = true;
        for (std::size_t i = 0; i < states.size(); ++i) {
            value |= states[i] == 1 ? std::uint64_t{1} << i : 0;
            sure = sure && states[i] <= 1;
        }
        lane.items.push_back({since, to, "value", value, sure ? fmt::format("{:0{}X}", value, (states.size() + 3) / 4) : "?", sure});
    };
    std::size_t line = 0;
    tape::Edge edge;
    while (edges.take(line, edge)) {
        put(edge.at);
        since = edge.at;
        states[line] = edge.state;
    }
    put(std::min(window.to, session.latest()));
}

void readVolts(const Lookback& lookback, const LaneSpec& spec, const Window& window, ReadLane& lane)
{
    lane.name = "volts";
    lane.lines = spec.pins[0].text();
    const tape::Waveform* waveform = lookback.voltage(spec.pins[0], window.from, window.to);
    if (lookback.seeksVolts())
        lane.knownTo = waveform == nullptr ? window.from : waveform->knownTo();
    if (waveform == nullptr || window.columns == 0)
        return;
    lane.wave = waveform->columns(window.from, window.to, window.columns);
    reckonBounds(lane);
}

void readCapture(const Session& session, const LaneSpec& spec, const Window& window, ReadLane& lane)
{
    lane.name = "capture";
    lane.lines = spec.chip;
    const tape::Capture* capture = session.capture();
    const tape::ChannelId channel = capture == nullptr ? UINT32_MAX : capture->tape.find(spec.chip);
    if (channel == UINT32_MAX) {
        lane.trouble = capture == nullptr ? "no capture has been read in" : "the capture has no such signal";
        return;
    }
    constexpr std::size_t kFew = 400;
    const Duration shift = session.captureShift();
    lane.columns = capture->tape.columns(channel, window.from - shift, window.to - shift, std::max<std::size_t>(window.columns, 1));
    const std::size_t first = capture->tape.after(channel, window.from - shift), last = capture->tape.after(channel, window.to - shift);
    for (std::size_t i = first; i < last && last - first <= kFew; ++i)
        lane.edges.push_back(capture->tape.edge(channel, i).at + shift);
}

}  // namespace

Result<LaneSpec> parseLane(const std::string& text)
{
    LaneSpec spec;
    const auto pinOf = [&](const std::string& name) -> Result<bench::PinRef> {
        auto pin = bench::parsePinRef(name);
        return pin ? pin : Result<bench::PinRef>(fail(text, fmt::format("\"{}\" is no pin; expected PART.PIN", name)));
    };
    for (const std::string_view word : {"group ", "folded "})
        if (text.starts_with(word) && text.find_first_not_of(' ', word.size()) != std::string::npos) {
            spec.kind = LaneSpec::Kind::group;
            spec.folded = word == "folded ";
            spec.chip = text.substr(text.find_first_not_of(' ', word.size()));
            return spec;
        }
    constexpr std::string_view kVariable = "variable ";
    if (const std::size_t space = text.find(' ', kVariable.size()); text.starts_with(kVariable) && space != std::string::npos && space + 1 < text.size()) {
        spec.kind = LaneSpec::Kind::variable;
        spec.chip = text.substr(kVariable.size(), space - kVariable.size());
        spec.variable = text.substr(space + 1);
        return spec;
    }
    if (const std::size_t colon = text.find(':'); colon != std::string::npos) {
        spec.kind = LaneSpec::Kind::decoded;
        auto decoder = tape::parseDecoderSpec(text);
        if (!decoder)
            return tl::unexpected(decoder.error());
        spec.decoder = std::move(*decoder);
        for (const std::string& line : spec.decoder.lines) {
            if (line.empty()) {
                spec.pins.emplace_back();
                continue;
            }
            auto pin = pinOf(line);
            if (!pin)
                return tl::unexpected(pin.error());
            spec.pins.push_back(std::move(*pin));
        }
        return spec;
    }
    std::istringstream in(text);
    std::string first, word;
    in >> first;
    std::vector<std::string> rest;
    while (in >> word)
        rest.push_back(word);
    if (rest.empty()) {
        auto pin = pinOf(first);
        if (!pin)
            return fail(text, "expected PART.PIN, a decoder with its lines, or \"volts\", \"value\", \"interrupts\", \"functions\" or \"variable\" and what of");
        spec.pins.push_back(std::move(*pin));
        return spec;
    }
    if (first == "functions" && rest.size() == 1) {
        spec.kind = LaneSpec::Kind::functions;
        spec.chip = rest[0];
        return spec;
    }
    if (first == "capture" && rest.size() == 1) {
        spec.kind = LaneSpec::Kind::capture;
        spec.chip = rest[0];
        return spec;
    }
    if (first == "interrupts" && rest.size() == 1) {
        spec.kind = LaneSpec::Kind::interrupts;
        spec.chip = rest[0];
        return spec;
    }
    constexpr std::size_t kMostBits = 64;
    if ((first != "volts" || rest.size() != 1) && (first != "value" || rest.size() > kMostBits))
        return fail(text, "expected PART.PIN, a decoder with its lines, or \"volts\", \"value\", \"interrupts\", \"functions\" or \"variable\" and what of");
    spec.kind = first == "volts" ? LaneSpec::Kind::volts : LaneSpec::Kind::value;
    for (const std::string& name : rest) {
        auto pin = pinOf(name);
        if (!pin)
            return tl::unexpected(pin.error());
        spec.pins.push_back(std::move(*pin));
    }
    return spec;
}

void LaneReader::read(Session& session, Lookback& lookback, const std::vector<std::string>& lanes, const Window& window, std::vector<ReadLane>& out)
{
    std::vector<Lookback::Wish> wishes;
    std::vector<bench::PinRef> measured;
    bool showsColumns = false;
    for (const std::string& text : lanes) {
        const auto spec = parseLane(text);
        const FoundSpans* const calls = spec && spec->kind == LaneSpec::Kind::functions ? lookback.found({spec->chip, {}}) : nullptr;
        showsColumns = showsColumns || (spec && spec->kind == LaneSpec::Kind::functions && (showsShares(window) || (calls != nullptr && calls->tooMany)));
        if (spec && ((spec->kind == LaneSpec::Kind::functions && !showsShares(window)) || spec->kind == LaneSpec::Kind::variable))
            wishes.push_back({spec->chip, spec->variable});
        else if (spec && spec->kind == LaneSpec::Kind::volts)
            measured.push_back(spec->pins[0]);
    }
    lookback.want(wishes, window.from, window.to);
    lookback.wantVolts(measured, window.from, window.to, false);
    lookback.wantShares(window.from, window.to, showsColumns && window.columns > 0 ? (window.to - window.from) / static_cast<std::int64_t>(window.columns) : Duration{});
    for (const std::string& text : lanes) {
        const auto spec = parseLane(text);
        if (spec && (spec->kind == LaneSpec::Kind::pin || spec->kind == LaneSpec::Kind::group))
            continue;
        // New edges in the window, or others after going back, are seen by the counts of its lines.
        std::size_t edges = session.tape().knownFrom().time_since_epoch().count() == 0 ? 0 : 1;
        if (spec && spec->kind == LaneSpec::Kind::interrupts)
            for (std::size_t c = 0; c < session.world().chips().size(); ++c)
                edges += session.tape().after(session.interruptsOf(c), window.to);
        if (spec)
            for (const tape::ChannelId c : channelsOf(session, *spec))
                edges += c == UINT32_MAX ? 0 : session.tape().after(c, window.to) + 1;
        const LaneLog* const log = session.laneLog(text);
        std::uint64_t items = log == nullptr ? 0 : log->at() >= std::min(window.to, session.latest()) ? UINT64_MAX : log->items().end();
        // Shares of a window that lies behind are what they are, on one course.
        const bool shares = spec && spec->kind == LaneSpec::Kind::functions && showsShares(window);
        if (shares) {
            const auto [count, end] = session.functionTimes().known(spec->chip);
            items = lookback.shares().busy() ? ++looks_ : end >= window.to ? UINT64_MAX - session.course() - lookback.shares().searches() : count + lookback.shares().searches();
        }
        Kept& kept = kept_[text];
        const bool moves = spec && (spec->kind == LaneSpec::Kind::volts || spec->kind == LaneSpec::Kind::capture || (spec->kind == LaneSpec::Kind::functions && !shares) || spec->kind == LaneSpec::Kind::variable || window.to > session.world().now());
        if (kept.lane == nullptr || moves || !(kept.window == window) || kept.edges != edges || kept.items != items) {
            ReadLane lane;
            if (!spec) {
                lane.trouble = spec.error().text();
            } else if (lane.trouble = missingPin(session, *spec); lane.trouble.empty()) {
                switch (spec->kind) {
                case LaneSpec::Kind::pin: case LaneSpec::Kind::group: break;
                case LaneSpec::Kind::functions: readFunctions(session, lookback, spec->chip, window, lane); break;
                case LaneSpec::Kind::variable:
                    readVariable(lookback, *spec, window, lane);
                    if (lane.every > Duration{})
                        lane.lines = fmt::format("{}each {}", session.world().chips().size() > 1 ? spec->chip + ", " : std::string(), kernel::formatQuantity(kernel::seconds(lane.every), kernel::Unit::second));
                    break;
                case LaneSpec::Kind::decoded: readDecoded(session, text, *spec, window, lane); break;
                case LaneSpec::Kind::volts: readVolts(lookback, *spec, window, lane); break;
                case LaneSpec::Kind::value: readValue(session, *spec, window, lane); break;
                case LaneSpec::Kind::interrupts: readInterrupts(session, *spec, window, lane); break;
                case LaneSpec::Kind::capture: readCapture(session, *spec, window, lane); break;
                }
            }
            lane.text = text;
            kept = {window, edges, items, std::make_shared<const ReadLane>(std::move(lane))};
        }
        out.push_back(*kept.lane);
    }
    std::erase_if(kept_, [&](const auto& k) { return std::find(lanes.begin(), lanes.end(), k.first) == lanes.end(); });
}

Result<std::vector<tape::Decoded>> readAll(const Session& session, const std::string& text, Time from, Time to, std::size_t most)
{
    const auto spec = parseLane(text);
    if (!spec)
        return tl::unexpected(spec.error());
    std::vector<tape::Decoded> out;
    if (spec->kind == LaneSpec::Kind::interrupts) {
        ReadLane lane;
        readInterrupts(session, *spec, {from, to, 1}, lane, SIZE_MAX);
        if (lane.items.size() > most)
            lane.items.resize(most);
        return std::move(lane.items);
    }
    if (const std::string missing = missingPin(session, *spec); !missing.empty())
        return fail(text, missing);
    bool goesOn = true;
    const auto take = [&](const tape::Decoded& item) {
        if (goesOn && item.to >= from && item.from <= to)
            out.push_back(item);
        return goesOn = out.size() < most;
    };
    if (const LaneLog* log = logOf(session, text, from, to, SIZE_MAX); log != nullptr) {
        if (log->items().visit(from, to, take))
            log->tail(session.tape(), to, take);
        return out;
    }
    const auto read = decodeLane(session, text, from, to, SIZE_MAX, take);
    return read ? Result<std::vector<tape::Decoded>>(std::move(out)) : tl::unexpected(read.error());
}

Result<Time> decodeLane(const Session& session, const std::string& text, Time from, Time to, std::size_t mostEdges, const std::function<bool(const tape::Decoded&)>& take)
{
    const auto spec = parseLane(text);
    if (!spec)
        return tl::unexpected(spec.error());
    if (spec->kind != LaneSpec::Kind::decoded)
        return fail(text, "says nothing; expected a decoder with its lines");
    const std::vector<tape::ChannelId> channels = channelsOf(session, *spec);
    const tape::Tape& tape = session.tape();
    // Where so many edges end: the earliest of the lines.
    Time reached = to;
    for (const tape::ChannelId c : channels)
        if (c != UINT32_MAX)
            if (const std::size_t first = tape.after(c, from), end = tape.after(c, to); end > first && end - first > mostEdges)
                reached = std::min(reached, tape.edge(c, first + mostEdges).at);
    std::vector<PartLanguage::Device> devices = devicesOn(session, spec->decoder);
    const bool speaks = !devices.empty();
    PartLanguage language(std::move(devices));
    bool goesOn = true;
    language.out = [&](const tape::Decoded& item) { goesOn = goesOn && take(item); };
    decode(session, *spec, channels, leadIn(tape, channels, from), reached, [&](const tape::Decoded& item) {
        goesOn = goesOn && take(item);
        if (speaks && goesOn)
            language.take(item);
        return goesOn;
    });
    return reached;
}

std::string causeOf(const Session& session, const tape::Edge& edge)
{
    if (edge.actor >= session.document().parts.size())
        return {};
    const std::string& part = session.document().parts[edge.actor].id;
    if (edge.code == UINT32_MAX)
        return part;
    const std::string place = session.place(part, edge.code).full();
    return fmt::format("{}: {}", part, place.empty() ? fmt::format("0x{:04x}", edge.code) : place);
}

}  // namespace bramix::session
