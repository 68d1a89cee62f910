// What a live session shows of the tape: lanes, what decoders read, serial bytes, events; searches, captures, files.
#include <algorithm>

#include <fmt/format.h>

#include "session/live/live_session.h"
#include "session/lanes/edge_story.h"
#include "session/recording/edges_export.h"
#include "session/lanes/function_lane.h"
#include "session/recording/recording.h"

namespace bramix::session {

namespace {

// More edges than this in a lane and they are drawn, not told one by one.
constexpr std::size_t kToldEdges = 400;
constexpr std::size_t kToldBytes = 4000;

}  // namespace

void LiveSession::watchTape(const TapeRequest& request)
{
    post([this, request] {
        tape_ = request;
        applyProbes();
        changed_ = true;
    });
}

void LiveSession::fillReads(Picture& picture)
{
    std::vector<std::string> lanes;
    for (const std::string& lane : tape_.reads.value_or(std::vector<std::string>{std::string(kUsualLanes)})) {
        const std::vector<std::string> these = lane == kUsualLanes ? usualReadLanes(*session_) : std::vector<std::string>{lane};
        std::copy_if(these.begin(), these.end(), std::back_inserter(lanes), [&](const std::string& l) { return std::find(lanes.begin(), lanes.end(), l) == lanes.end(); });
    }
    lookback_->setRunning(running_);
    reader_.read(*session_, *lookback_, lanes, {picture.tapeFrom, picture.tapeTo, tape_.columns}, picture.reads);
    session_->alsoWatch(lanes);
}

// What came from outside, and what was noticed.
void LiveSession::fillEvents(Picture& picture) const
{
    constexpr std::size_t kMost = 300;
    const auto inside = [&](Time at) { return at >= picture.tapeFrom && at <= picture.tapeTo && picture.events.size() < kMost; };
    for (const Input& input : session_->inputs()) {
        if (!inside(input.at))
            continue;
        TapeEvent event{TapeEvent::Kind::input, input.at, {}, false};
        switch (input.kind) {
        case Input::Kind::control: event.text = fmt::format("{} set to {:g}", input.target, input.value); break;
        case Input::Kind::send: event.text = fmt::format("{} bytes sent to {}", input.text.size(), input.target); break;
        case Input::Kind::firmware: event.text = fmt::format("{} loaded into {}", input.text.substr(input.text.rfind('/') + 1), input.target); break;
        case Input::Kind::edit: event.text = "wiring changed"; break;
        case Input::Kind::replace: event.text = input.target + " replaced"; break;
        case Input::Kind::poke: event.text = fmt::format("memory of {} written by hand", input.target); break;
        case Input::Kind::coreRegister: event.text = fmt::format("{} of {} set to {:#x}", input.text, input.target, static_cast<std::uint64_t>(input.value)); break;
        }
        picture.events.push_back(std::move(event));
    }
    for (const auto& [at, line] : marks_)
        if (inside(at))
            picture.events.push_back({TapeEvent::Kind::mark, at, line, false});
    for (const Finding& f : picture.findings)
        if (!f.wiring && inside(f.time))
            picture.events.push_back({TapeEvent::Kind::finding, f.time, f.message, f.severity == bench::Severity::error});
}

void LiveSession::setCapture(std::shared_ptr<const tape::Capture> capture, Duration shift)
{
    post([this, capture = std::move(capture), shift] {
        capture_ = {capture, shift};
        if (session_ != nullptr)
            session_->setCapture(capture, shift);
    });
}

void LiveSession::search(const TapeQuery& query, std::function<void(Result<std::optional<TapeHit>>)> done)
{
    post([this, query, done = std::move(done)] { done(session_ == nullptr ? Result<std::optional<TapeHit>>(std::nullopt) : searchTape(*session_, query)); });
}

void LiveSession::whyEdge(const bench::PinRef& pin, Time at, std::function<void(EdgeStory)> done)
{
    post([this, pin, at, done = std::move(done)] {
        if (session_ != nullptr)
            done(storyOf(*session_, *lookback_, pin, at));
    });
}

void LiveSession::edgesMadeBy(const std::string& place, std::function<void(std::vector<MadeEdges>)> done)
{
    constexpr std::size_t kMost = 20'000'000;
    post([this, place, done = std::move(done)] {
        if (session_ != nullptr)
            done(session::edgesMadeBy(*session_, codeOfLine(*session_, place), kMost));
    });
}

void LiveSession::setTapeBytes(std::size_t bytes)
{
    post([this, bytes] {
        tapeBytes_ = bytes;
        if (session_ != nullptr)
            session_->setTapeBytes(bytes);
    });
}

void LiveSession::saveRecording(const std::string& file, std::function<void(std::string)> done)
{
    post([this, file, done = std::move(done)] {
        if (session_ == nullptr)
            return done("no bench");
        beginWork("Saving the recording");
        const auto saved = session_->saveRecording(file, marks_);
        endWork();
        done(saved ? std::string() : saved.error().text());
    });
}

void LiveSession::adopt(std::shared_ptr<Recording> recording)
{
    post([this, recording = std::move(recording)] {
        if (session_ == nullptr)
            return;
        marks_ = std::move(recording->marks);
        session_->adopt(std::move(*recording));
        wholeSerial_ = true;
    });
}

void LiveSession::writeEdges(const std::string& file, const std::vector<bench::PinRef>& lanes, Time from, Time to, std::function<void(std::string)> done)
{
    post([this, file, lanes, from, to, done = std::move(done)] {
        if (session_ == nullptr)
            return done("no bench");
        beginWork("Saving the edges");
        const auto saved = session::writeEdges(*session_, file, lanes, from, to, &progress_);
        endWork();
        done(saved ? std::string() : saved.error().text());
    });
}

void LiveSession::readAll(const std::string& lane, Time from, Time to, std::size_t most, std::function<void(Result<std::vector<tape::Decoded>>)> done)
{
    post([this, lane, from, to, most, done = std::move(done)] {
        if (session_ == nullptr)
            return done(std::vector<tape::Decoded>{});
        done(session::readAll(*session_, lane, from, std::min(to, session_->latest()), most));
    });
}

// What each UART has said: byte by byte where there are few, else where in the window there is something. Those that have never said anything have no lane, but
// for the first.
void LiveSession::fillSerialLanes(Picture& picture) const
{
    constexpr std::size_t kMostLanes = 4;
    for (std::size_t u = 0; u < session_->world().uarts().size() && picture.serialLanes.size() < kMostLanes; ++u)
        if (u == 0 || session_->world().chips()[session_->world().uarts()[u].chip].chip->serialFormat(session_->world().uarts()[u].index).transmits)
            fillSerialLane(picture, u);
}

void LiveSession::fillSerialLane(Picture& picture, std::size_t index) const
{
    const SerialLog& log = session_->serialLog();
    const auto& uart = session_->world().uarts()[index];
    const chip::SerialFormat format = session_->world().chips()[uart.chip].chip->serialFormat(uart.index);
    const Duration frame = format.bit * static_cast<std::int64_t>(1 + format.dataBits + format.stopBits);
    const auto told = [index](const SerialByte& b) { return b.uart == index && b.fromChip; };
    const std::uint64_t first = log.after(picture.tapeFrom), last = log.after(picture.tapeTo + frame);
    picture.serialLanes.push_back({uart.name, {}});
    auto& runs = picture.serialLanes.back().runs;
    const auto put = [&](Time from, Time to) {
        if (runs.empty() || from > runs.back().to + frame / 2 || (!runs.back().text.empty() && runs.back().text.back() == '\n'))
            runs.push_back({from, to, {}});
        runs.back().to = to;
    };
    if (last - first <= kToldBytes) {
        for (std::uint64_t i = first; i < last; ++i)
            if (told(log[i])) {
                put(log[i].at - frame, log[i].at);
                runs.back().text += static_cast<char>(log[i].byte);
            }
        return;
    }
    const Duration column = (picture.tapeTo - picture.tapeFrom) / static_cast<std::int64_t>(tape_.columns);
    for (std::size_t c = 0; c < tape_.columns; ++c) {
        const Time from = picture.tapeFrom + column * static_cast<std::int64_t>(c);
        std::uint64_t i = log.after(from);
        constexpr std::uint64_t kLookedAt = 16;  // bytes of other lines in between
        for (const std::uint64_t end = std::min(i + kLookedAt, log.end()); i < end && log[i].at <= from + column; ++i)
            if (told(log[i])) {
                put(from, from + column);
                break;
            }
    }
}

void LiveSession::fillTape(Picture& picture)
{
    const tape::Tape& tape = session_->tape();
    const Time now = session_->world().now();
    const Duration span = std::max(tape_.to - tape_.from, Duration(1000));
    picture.tapeTo = tape_.follow ? now : tape_.to;
    picture.tapeFrom = picture.tapeTo - span;
    picture.tapeKnownFrom = tape.knownFrom();
    picture.latest = session_->latest();
    if (tape_.columns == 0)
        return;
    for (const bench::PinRef& ref : tape_.lanes) {
        LanePicture lane;
        lane.name = ref.text();
        const tape::ChannelId channel = session_->channelOf(ref);
        if (channel != UINT32_MAX) {
            lane.before = tape.stateAt(channel, picture.tapeFrom);
            lane.columns = tape.columns(channel, picture.tapeFrom, picture.tapeTo, tape_.columns);
            const std::size_t first = tape.after(channel, picture.tapeFrom);
            const std::size_t last = tape.after(channel, picture.tapeTo);
            for (std::size_t i = first; i < last && last - first <= kToldEdges; ++i) {
                const tape::Edge edge = tape.edge(channel, i);
                std::string cause = causeOf(*session_, edge);
                lane.edges.push_back({edge.at, edge.state, std::move(cause)});
            }
        }
        picture.lanes.push_back(std::move(lane));
    }
    fillSerialLanes(picture);
    fillReads(picture);
    fillEvents(picture);
    if (!tape_.measureFunctions.empty())
        picture.measuredFunctions = functionsBetween(*session_, *lookback_, tape_.measureFunctions, tape_.measureFrom, tape_.measureTo);
    if (tape_.measure)
        if (const tape::ChannelId channel = session_->channelOf(*tape_.measure); channel != UINT32_MAX) {
            constexpr std::size_t kMostMeasured = 100'000;  // in each picture
            picture.measured = tape::measurePulses(tape, channel, tape_.measureFrom, tape_.measureTo, kMostMeasured);
        }
}

}  // namespace bramix::session
