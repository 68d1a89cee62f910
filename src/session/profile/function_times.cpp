#include "session/profile/function_times.h"

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

void FunctionTimes::listen(bench::World& world, const std::map<std::string, const debug::Symbols*>& symbols, kernel::Duration stretch)
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
        // Parts have the numbers of their names.
        std::vector<std::uint16_t> numbers;
        for (const std::string& name : map.names)
            numbers.push_back(numberOf(log.names, name));
        std::vector<std::uint16_t> partAt(map.at.size(), CodeTime::kElsewhere);
        for (std::size_t word = 0; word < partAt.size(); ++word)
            if (map.at[word] < numbers.size())
                partAt[word] = numbers[map.at[word]];
        ear->time = std::make_unique<CodeTime>(std::move(partAt), log.names.size(), 1,
                                               [e = ear.get()](std::int64_t from, std::int64_t to, std::span<const kernel::Share> shares) {
                                                   const kernel::ClockDomain& clock = e->chip->clock();
                                                   e->log->add(clock.timeOf({from}), clock.timeOf({to}), shares);
                                               });
        unit.chip->tellCodeTime(ear->time.get(), stretch);
        // Of a core that waits for its clock after a reset it has been told already.
        const chip::avr::Cpu& cpu = unit.chip->cpu();
        if (!log.shares.empty() && log.shares.end() == unit.chip->now())
            ear->time->begin(unit.chip->inReset() ? CodeTime::kInReset : ear->time->partAt(cpu.pc), cpu.cycle, unit.chip->stretchOfCodeTime());
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
    for (const CodeTime::Stretch& cycles : ear.time->open(ear.chip->cpu().cycle))
        out.push_back({ear.chip->clock().timeOf({cycles.from}), ear.chip->clock().timeOf({cycles.to}), cycles.shares});
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
