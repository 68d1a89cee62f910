#include "session/function_times.h"

#include <algorithm>

#include "debug/function_map.h"

namespace bramix::session {

using chip::avr::CodeTime;
using kernel::Time;

namespace {

std::uint16_t numberOf(std::vector<std::string>& names, const std::string& name)
{
    const auto there = std::find(names.begin() + CodeTime::kFirstPart, names.end(), name);
    if (there != names.end())
        return static_cast<std::uint16_t>(there - names.begin());
    if (names.size() >= UINT16_MAX)
        return CodeTime::kElsewhere;
    names.push_back(name);
    return static_cast<std::uint16_t>(names.size() - 1);
}

}  // namespace

void FunctionTimes::listen(bench::World& world, const std::map<std::string, const debug::Symbols*>& symbols)
{
    for (bench::World::ChipUnit& unit : world.chips()) {
        const auto known = symbols.find(unit.id);
        if (unit.firmwareFile.empty() || known == symbols.end())
            continue;
        const debug::FunctionMap map(*known->second, unit.chip->cpu().flash(), *unit.table);
        Log& log = logs_[unit.id];
        if (log.names.empty())
            log.names = {"asleep", "in reset", ""};
        auto ear = std::make_unique<Ear>();
        ear->id = unit.id;
        ear->chip = unit.chip.get();
        ear->log = &log.shares;
        ear->idOf = {CodeTime::kAsleep, CodeTime::kInReset, CodeTime::kElsewhere};
        const std::size_t most = std::min<std::size_t>(map.names.size(), UINT16_MAX - CodeTime::kFirstPart);
        for (std::size_t i = 0; i < most; ++i)
            ear->idOf.push_back(numberOf(log.names, map.names[i]));
        std::vector<std::uint16_t> partAt(map.at.size(), CodeTime::kElsewhere);
        for (std::size_t word = 0; word < partAt.size(); ++word)
            if (map.at[word] < most)
                partAt[word] = static_cast<std::uint16_t>(CodeTime::kFirstPart + map.at[word]);
        ear->time = std::make_unique<CodeTime>(std::move(partAt), CodeTime::kFirstPart + most, unit.chip->stretchOfCodeTime(),
                                               [e = ear.get()](const CodeTime::Stretch& s) {
                                                   e->shares.clear();
                                                   for (const CodeTime::Share& share : s.shares)
                                                       e->shares.push_back({e->idOf[share.part], share.cycles});
                                                   const kernel::ClockDomain& clock = e->chip->clock();
                                                   e->log->add(clock.timeOf({s.from}), clock.timeOf({s.to}), e->shares);
                                               });
        unit.chip->tellCodeTime(ear->time.get());
        ears_.push_back(std::move(ear));
    }
    setBound(bound_);
}

void FunctionTimes::stop()
{
    for (const auto& ear : ears_) {
        ear->time->cut(ear->chip->cpu().cycle, ear->chip->stretchOfCodeTime());
        ear->chip->tellCodeTime(nullptr);
    }
    ears_.clear();
}

std::vector<tape::ShareLog::Stretch> FunctionTimes::open(const Ear& ear)
{
    std::vector<tape::ShareLog::Stretch> out;
    for (const CodeTime::Stretch& cycles : ear.time->open(ear.chip->cpu().cycle)) {
        out.push_back({ear.chip->clock().timeOf({cycles.from}), ear.chip->clock().timeOf({cycles.to}), {}});
        for (const CodeTime::Share& s : cycles.shares)
            out.back().shares.push_back({ear.idOf[s.part], s.cycles});
    }
    return out;
}

std::vector<CodeTime::State> FunctionTimes::states() const
{
    std::vector<CodeTime::State> out;
    for (const auto& ear : ears_)
        out.push_back(ear->time->state());
    return out;
}

void FunctionTimes::setStates(const std::vector<CodeTime::State>& states)
{
    for (std::size_t i = 0; i < std::min(ears_.size(), states.size()); ++i)
        ears_[i]->time->setState(states[i]);
}

void FunctionTimes::leave()
{
    for (const auto& ear : ears_)
        logs_[ear->id].last = open(*ear);
}

void FunctionTimes::dropAfter(Time t)
{
    for (auto& [id, log] : logs_) {
        log.shares.dropAfter(t);
        log.last = {};
    }
}

void FunctionTimes::clear() { logs_.clear(); }

void FunctionTimes::setBound(std::size_t bytes)
{
    bound_ = bytes;
    for (auto& [id, log] : logs_)
        log.shares.setBound(bytes / logs_.size());
}

std::size_t FunctionTimes::bytes() const
{
    std::size_t sum = 0;
    for (const auto& [id, log] : logs_)
        sum += log.shares.bytes();
    return sum;
}

FunctionTimes::Shares FunctionTimes::columns(const std::string& chip, Time from, Time to, std::size_t count, bool behind) const
{
    const auto log = logs_.find(chip);
    if (log == logs_.end())
        return {};
    const auto ear = std::find_if(ears_.begin(), ears_.end(), [&](const auto& e) { return e->id == chip; });
    const std::vector<tape::ShareLog::Stretch> last = behind ? log->second.last : ear == ears_.end() ? std::vector<tape::ShareLog::Stretch>() : open(**ear);
    return {&log->second.names, log->second.shares.columns(from, to, count, last)};
}

std::map<std::string, FunctionTimes::Log> FunctionTimes::logs(bool behind) const
{
    std::map<std::string, Log> out = logs_;
    for (const auto& ear : ears_)
        if (!behind)
            out[ear->id].last = open(*ear);
    return out;
}

void FunctionTimes::setLogs(std::map<std::string, Log> logs) { logs_ = std::move(logs); }

}  // namespace bramix::session
