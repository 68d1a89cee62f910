// What a session has noticed: by the world itself, and by reading its buses.
#include <algorithm>

#include <fmt/format.h>

#include "session/profile/function_times.h"
#include "session/lanes/lane_logs.h"
#include "session/session.h"

namespace bramix::session {

namespace {

// The first line of a decoder lane: "clock.SDA" of "i2c:SDA=clock.SDA,SCL=clock.SCL".
std::string lineOf(const std::string& lane)
{
    const std::size_t colon = lane.find(':') + 1;
    const std::string first = lane.substr(colon, lane.find(',', colon) - colon);
    return first.substr(first.find('=') + 1);
}

}  // namespace

// The buses of the bench, and what has been asked for beside them.
void Session::chooseWatched()
{
    watched_.clear();
    for (const BusLane& bus : buses_)
        watched_.push_back(bus.text);
    for (const std::string& lane : alsoWatched_)
        if (std::find(watched_.begin(), watched_.end(), lane) == watched_.end())
            watched_.push_back(lane);
}

void Session::alsoWatch(const std::vector<std::string>& lanes)
{
    if (lanes == alsoWatched_)
        return;
    alsoWatched_ = lanes;
    chooseWatched();
}

// As the bench file has it for the part, from its name on.
void Session::mute(Finding& f) const
{
    const bench::PartItem* part = document_.part(f.where.substr(0, f.where.find('.')));
    const auto reason = part == nullptr ? decltype(part->mute.begin()){} : part->mute.find(f.rule);
    f.muted = part == nullptr || reason == part->mute.end() ? std::string() : reason->second.empty() ? "muted" : reason->second;
}

// What lanes have said has room within what the tape may take, as much as it uses and at most a third of it; what functions had, a sixteenth.
void Session::setTapeBytes(std::size_t bytes)
{
    tapeBytes_ = bytes;
    laneLogs_->setBound(bytes / 3);
    functionTimes_->setBound(bytes / 16);
    tape_.setBound(bytes - std::min(logBytes_, bytes / 3 + bytes / 16));
}

const LaneLog* Session::laneLog(const std::string& lane) const { return laneLogs_->find(lane); }

bool Session::watchLines()
{
    if (!options_.record || building_)
        return false;
    const bool read = laneLogs_->follow(*this, watched_, options_.readEdges, [this](const std::string& lane, const tape::Decoded& wrong) {
        const bool unanswered = wrong.good;
        const std::string about = unanswered ? fmt::format("{} 0x{:02x}", lane, wrong.value) : lane;
        if (std::any_of(misread_.begin(), misread_.end(), [&](const Misread& m) { return m.lane == about; }))
            return;
        // Told of the line, so that it can be gone to and muted as any finding of its part.
        Finding f;
        f.severity = bench::Severity::warning;
        f.where = lineOf(lane);
        f.time = wrong.from;
        if (unanswered) {
            // A master in hardware has told of it already, with its code.
            const std::string address = fmt::format("0x{:02X}", wrong.value);
            if (const auto told = world_->findings(); std::any_of(told.begin(), told.end(), [&](const Finding& o) { return o.rule == "bus-no-answer" && o.message.find(address) != std::string::npos; }))
                return;
            f.rule = "bus-no-answer";
            f.message = fmt::format("{} is called at address {} (seven bits) and nobody answers; look at the part's address, its supply, and its SDA and SCL", f.where, address);
        } else {
            f.rule = "line-error";
            f.message = fmt::format("{} on {} reads what its protocol does not know: {}, {}; look at it on the tape", lane.substr(0, lane.find(':')), f.where, wrong.what, wrong.text);
        }
        mute(f);
        misread_.push_back({about, f, wrong.to});
        if (onFinding && !knows(f.time))
            onFinding(f);
    });
    constexpr std::size_t kNotWorthIt = 256U << 10U;
    if (read)
        laneBytes_ = laneLogs_->bytes();
    if (const std::size_t bytes = laneBytes_ + functionTimes_->bytes(); bytes > logBytes_ + kNotWorthIt || bytes + kNotWorthIt < logBytes_) {
        logBytes_ = bytes;
        setTapeBytes(tapeBytes_);
    }
    return read;
}

std::vector<Finding> Session::findings() const
{
    std::vector<Finding> out = world_->findings();
    for (const Misread& m : misread_)
        if (m.known <= world_->now()) {
            out.push_back(m.finding);
            mute(out.back());
        }
    for (const Finding& f : recorded_)
        if (f.time > world_->now() && std::none_of(out.begin(), out.end(), [&](const Finding& o) { return o.rule == f.rule && o.where == f.where; }))
            out.push_back(f);
    for (Finding& f : out)
        if (f.code)
            f.source = place(f.chip, *f.code).brief();
    for (Finding& f : out)
        if (f.otherCode)
            f.otherSource = place(f.otherChip, *f.otherCode).brief();
    return out;
}

std::string Session::faultText() const
{
    for (const bench::World::ChipUnit& unit : world_->chips()) {
        const auto fault = unit.chip->fault();
        if (!fault)
            continue;
        std::string text = fmt::format("{}: {}, by the instruction at 0x{:04x}, cycle {}", unit.id, fault->what, fault->code, fault->cycle);
        const std::string where = place(unit.id, fault->code).full();
        return where.empty() ? text : text + ", in " + where;
    }
    return {};
}

void Session::finding(const Finding& f)
{
    if (listener_ != nullptr && !building_)
        listener_->findingSeen(f);
    if (!onFinding || building_ || knows(f.time))
        return;
    Finding full = f;
    if (f.code)
        full.source = place(f.chip, *f.code).brief();
    onFinding(full);
}

}  // namespace bramix::session
