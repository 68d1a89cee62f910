#include "session/lanes/lane_logs.h"

#include <algorithm>
#include <set>

#include "session/lanes/merged_edges.h"

namespace bramix::session {

namespace {

// A millisecond's work lies between two marks.
constexpr std::size_t kMarkEvery = 50'000;
// Where the tape's beginning is forgotten, a decoder comes into the midst of something.
constexpr std::size_t kFindsItsFeet = 200;

}  // namespace

LaneLog::LaneLog(const Session& session, LaneSpec spec) : spec_(std::move(spec.decoder)), devices_(devicesOn(session, spec_)), clock_(tape::decoderKind(spec_.kind)->clock)
{
    for (const bench::PinRef& pin : spec.pins)
        channels_.push_back(pin.part.empty() ? UINT32_MAX : session.channelOf(pin));
    if (!devices_.empty())
        language_ = std::make_unique<PartLanguage>(devices_);
}

void LaneLog::connect(tape::Decoder& decoder, PartLanguage* language, const Take& take)
{
    if (language != nullptr)
        language->out = take;
    decoder.out = [language, &take](const tape::Decoded& item) {
        take(item);
        if (language != nullptr)
            language->take(item);
    };
}

bool BusCalls::take(const tape::Decoded& item)
{
    if (item.what != "address" || item.meaning || !item.good || item.value >= answered_.size())
        return false;
    if (!item.text.ends_with(", nack")) {
        answered_.set(item.value);
        times_ = 0;
        return false;
    }
    if (answered_.test(item.value))
        return false;
    times_ = address_ == item.value ? std::min(times_ + 1, 2 * kInARow) : 1;
    address_ = item.value;
    return times_ == kInARow;
}

void LaneLog::begin(const tape::Tape& tape)
{
    log_.clear();
    marks_.clear();
    decoder_ = std::move(*tape::makeDecoder(spec_.kind, spec_.options));
    if (!devices_.empty())
        language_ = std::make_unique<PartLanguage>(devices_);
    begin_ = at_ = tape.knownFrom();
    calls_ = {};
    generation_ = 0;
    heard_ = heardAtMark_ = 0;
    standAt(*decoder_, tape, channels_, at_);
}

// Where it goes on; known from last time, unless edges have been forgotten, or another course taken.
void LaneLog::findNext(const tape::Tape& tape)
{
    if (generation_ == tape.generation())
        return;
    generation_ = tape.generation();
    next_.assign(channels_.size(), 0);
    for (std::size_t i = 0; i < channels_.size(); ++i)
        if (channels_[i] != UINT32_MAX)
            next_[i] = tape.after(channels_[i], at_);
}

void LaneLog::mark()
{
    heardAtMark_ = heard_;
    marks_.push_back({at_, log_.end(), decoder_->copy(), language_ == nullptr ? nullptr : language_->copy(), calls_});
}

std::size_t LaneLog::edgesTo(const tape::Tape& tape, Time to) const
{
    std::size_t edges = 0;
    for (const tape::ChannelId c : channels_)
        if (c != UINT32_MAX && to > at_)
            edges += tape.after(c, to) - tape.after(c, at_);
    return edges;
}

bool LaneLog::follow(const tape::Tape& tape, Time to, std::size_t mostEdges, const Take& wrong)
{
    // Forgotten before it was heard: begun anew where the tape begins.
    if (decoder_ == nullptr || at_ < tape.knownFrom())
        begin(tape);
    while (log_.chunks() > 0 && log_.oldestEnds() < tape.knownFrom())
        forgetOldest();
    if (to <= at_)
        return false;
    // Most of the time nothing has been said.
    findNext(tape);
    bool any = false;
    for (std::size_t i = 0; i < channels_.size() && !any; ++i)
        any = channels_[i] != UINT32_MAX && next_[i] < tape.count(channels_[i]);
    if (!any) {
        at_ = to;
        return true;
    }
    const Take keep = [this](const tape::Decoded& item) {
        log_.add(item);
        if ((!item.good && (begin_ == Time{} || heard_ > kFindsItsFeet)) || calls_.take(item))
            wrong_.push_back(item);
    };
    connect(*decoder_, language_.get(), keep);
    Merged edges(tape, channels_, next_, to, clock_);
    std::size_t role = 0;
    tape::Edge edge;
    Time before = at_;
    const std::size_t last = heard_ + std::min(mostEdges, SIZE_MAX - heard_);
    std::size_t pause = std::min(last, heardAtMark_ + kMarkEvery);
    tape::Decoder& decoder = *decoder_;
    std::size_t* const next = next_.data();
    while (edges.take(role, edge)) {
        // Edges of one instant stay together.
        if (heard_ >= pause && edge.at > before) {
            at_ = edge.at - tape::Duration(1);
            if (heard_ - heardAtMark_ >= kMarkEvery)
                mark();
            if (heard_ >= last) {
                to = at_;
                break;
            }
            pause = std::min(last, heardAtMark_ + kMarkEvery);
        }
        before = edge.at;
        ++heard_;
        ++next[role];
        session::hear(decoder, role, edge);
    }
    at_ = to;
    decoder_->out = nullptr;
    if (language_ != nullptr)
        language_->out = nullptr;
    for (const tape::Decoded& item : std::exchange(wrong_, {}))
        wrong(item);
    return true;
}

void LaneLog::forgetOldest()
{
    log_.forgetOldest();
    std::erase_if(marks_, [this](const Mark& m) { return m.number < log_.first(); });
}

void LaneLog::dropAfter(Time t)
{
    if (decoder_ == nullptr || at_ <= t)
        return;
    while (!marks_.empty() && marks_.back().at > t)
        marks_.pop_back();
    if (marks_.empty()) {
        decoder_ = nullptr;  // from the beginning, when it goes on
        log_.clear();
        at_ = begin_;
        return;
    }
    const Mark& m = marks_.back();
    generation_ = 0;
    log_.dropFrom(m.number);
    at_ = m.at;
    decoder_ = m.decoder->copy();
    language_ = m.language == nullptr ? nullptr : m.language->copy();
    calls_ = m.calls;
    heardAtMark_ = heard_;
}

void LaneLog::tail(const tape::Tape& tape, Time to, const Take& take) const
{
    if (decoder_ == nullptr || to <= at_)
        return;
    const auto decoder = decoder_->copy();
    const auto language = language_ == nullptr ? nullptr : language_->copy();
    connect(*decoder, language.get(), take);
    Merged edges(tape, channels_, at_, to, clock_);
    std::size_t role = 0;
    tape::Edge edge;
    while (edges.take(role, edge))
        session::hear(*decoder, role, edge);
    decoder->finish(to);
}

bool LaneLogs::follow(const Session& session, const std::vector<std::string>& lanes, std::size_t mostEdges, const std::function<void(const std::string&, const tape::Decoded&)>& wrong)
{
    std::erase_if(lanes_, [&](const auto& l) { return std::find(lanes.begin(), lanes.end(), l.first) == lanes.end(); });
    // At the last instant itself more may come yet. What lies ahead after going back is known, too.
    const Time to = session.latest() - tape::Duration(1);
    const std::size_t each = mostEdges / std::max<std::size_t>(lanes.size(), 1);
    bool any = false;
    for (const std::string& text : lanes) {
        const auto [found, fresh] = lanes_.try_emplace(text);
        auto& [name, lane] = *found;
        if (fresh)
            if (auto spec = parseLane(text); spec && spec->kind == LaneSpec::Kind::decoded) {
                lane = std::make_shared<LaneLog>(session, std::move(*spec));
                for (const auto& [other, log] : lanes_)
                    if (other != text && log != nullptr && log->reads(*lane)) {
                        lane = log;
                        break;
                    }
            }
        // What another name of it has been followed for is told by that one alone.
        if (lane != nullptr && lane->follow(session.tape(), to, each, [&](const tape::Decoded& item) { wrong(text, item); }))
            any = true;
    }
    for (std::size_t all = any ? bytes() : 0; all > bound_; all = bytes()) {
        LaneLog* oldest = nullptr;
        for (const auto& [name, lane] : lanes_)
            if (lane != nullptr && lane->items().chunks() > 0 && (oldest == nullptr || lane->items().oldestEnds() < oldest->items().oldestEnds()))
                oldest = lane.get();
        if (oldest == nullptr)
            break;
        oldest->forgetOldest();
    }
    return any;
}

void LaneLogs::dropAfter(Time t)
{
    for (const auto& [name, lane] : lanes_)
        if (lane != nullptr)
            lane->dropAfter(t);
}

const LaneLog* LaneLogs::find(const std::string& lane) const
{
    const auto found = lanes_.find(lane);
    return found == lanes_.end() ? nullptr : found->second.get();
}

std::size_t LaneLogs::bytes() const
{
    std::size_t sum = 0;
    std::set<const LaneLog*> counted;
    for (const auto& [name, lane] : lanes_)
        sum += lane == nullptr || !counted.insert(lane.get()).second ? 0 : lane->bytes();
    return sum;
}

}  // namespace bramix::session
