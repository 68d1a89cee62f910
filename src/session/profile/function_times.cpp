#include "session/profile/function_times.h"

#include <algorithm>

#include "debug/function_map.h"

namespace bramix::session {

using chip::CodeTime;
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

void FunctionTimes::listen(bench::World& world, const std::map<std::string, const debug::Symbols*>& symbols, kernel::Duration stretch)
{
    for (bench::World::ChipUnit& unit : world.chips()) {
        const auto known = symbols.find(unit.id);
        if (unit.firmwareFile.empty() || known == symbols.end())
            continue;
        const debug::FunctionMap map(*known->second, unit.chip->code(), *unit.device);
        Log& log = logs_[unit.id];
        if (log.names.empty())
            log.names = {"asleep", "in reset", ""};
        auto listener = std::make_unique<Listener>();
        listener->id = unit.id;
        listener->chip = unit.chip.get();
        listener->log = &log.shares;
        // Parts have the numbers of their names.
        std::vector<std::uint16_t> numbers;
        for (const std::string& name : map.names)
            numbers.push_back(numberOf(log.names, name));
        std::vector<std::uint16_t> partAt(map.at.size(), CodeTime::kElsewhere);
        for (std::size_t slot = 0; slot < partAt.size(); ++slot)
            if (map.at[slot] < numbers.size())
                partAt[slot] = numbers[map.at[slot]];
        listener->time = std::make_unique<CodeTime>(std::move(partAt), log.names.size(), 1,
                                               [l = listener.get()](std::int64_t from, std::int64_t to, std::span<const kernel::Share> shares) {
                                                   const kernel::ClockDomain& clock = l->chip->clock();
                                                   l->log->add(clock.timeOf({from}), clock.timeOf({to}), shares);
                                               });
        unit.chip->tellCodeTime(listener->time.get(), stretch);
        // Of a core that waits for its clock after a reset it has been told already.
        if (!log.shares.empty() && log.shares.end() == unit.chip->now())
            listener->time->begin(unit.chip->inReset() ? CodeTime::kInReset : listener->time->partAt(unit.chip->codeSlot()), unit.chip->cycles(), unit.chip->stretchOfCodeTime());
        listeners_.push_back(std::move(listener));
    }
    setBound(bound_);
}

void FunctionTimes::stop()
{
    for (const auto& listener : listeners_) {
        listener->time->cut(listener->chip->cycles(), listener->chip->stretchOfCodeTime());
        listener->chip->tellCodeTime(nullptr);
    }
    listeners_.clear();
}

std::vector<tape::ShareLog::Stretch> FunctionTimes::open(const Listener& listener)
{
    std::vector<tape::ShareLog::Stretch> out;
    for (const CodeTime::Stretch& cycles : listener.time->open(listener.chip->cycles()))
        out.push_back({listener.chip->clock().timeOf({cycles.from}), listener.chip->clock().timeOf({cycles.to}), cycles.shares});
    return out;
}

std::vector<CodeTime::State> FunctionTimes::states() const
{
    std::vector<CodeTime::State> out;
    for (const auto& listener : listeners_)
        out.push_back(listener->time->state());
    return out;
}

void FunctionTimes::setStates(const std::vector<CodeTime::State>& states)
{
    for (std::size_t i = 0; i < std::min(listeners_.size(), states.size()); ++i)
        listeners_[i]->time->setState(states[i]);
}

void FunctionTimes::leave()
{
    for (const auto& listener : listeners_)
        logs_[listener->id].last = open(*listener);
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
    const auto listener = std::find_if(listeners_.begin(), listeners_.end(), [&](const auto& l) { return l->id == chip; });
    const std::vector<tape::ShareLog::Stretch> last = behind ? log->second.last : listener == listeners_.end() ? std::vector<tape::ShareLog::Stretch>() : open(**listener);
    return {&log->second.names, log->second.shares.columns(from, to, count, last)};
}

std::map<std::string, FunctionTimes::Log> FunctionTimes::logs(bool behind) const
{
    std::map<std::string, Log> out = logs_;
    for (const auto& listener : listeners_)
        if (!behind)
            out[listener->id].last = open(*listener);
    return out;
}

void FunctionTimes::setLogs(std::map<std::string, Log> logs) { logs_ = std::move(logs); }

}  // namespace bramix::session
