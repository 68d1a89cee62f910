#include "session/replay/past_shares.h"

#include <algorithm>

namespace bramix::session {

void PastShares::want(Time from, Time to, Duration column)
{
    const PastSearch::Window window = search_.within(from, to);
    search_.wake();
    if (stretch_ > Duration{} && stretch_ <= column && search_.serves(window))
        return search_.extend(window.to);
    times_.stop();
    times_.clear();
    // Each half as long as the one before, so that zooming in a little does not begin anew.
    constexpr Duration kShortest = std::chrono::microseconds(10);
    for (stretch_ = kShortest; stretch_ * 4 <= column; stretch_ *= 2)
        ;
    search_.beginBefore(window);
    way_.again();
    ++searches_;
}

bool PastShares::begin(std::chrono::steady_clock::time_point until)
{
    const auto there = way_.go(search_.from(), until);
    if (!there)
        search_.end();
    if (!there || !*there)
        return false;
    bench::World& world = way_.past().world();
    std::map<std::string, const debug::Symbols*> symbols;
    for (const bench::World::ChipUnit& unit : world.chips())
        symbols[unit.id] = &session_.program(unit.id).symbols;
    times_.listen(world, symbols, stretch_);
    search_.stand();
    return true;
}

bool PastShares::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!search_.stands() && !begin(until))
        return true;
    ++searches_;
    PastWorld& past = way_.past();
    const Time before = past.world().now();
    past.goOn(search_.to(), until);
    search_.comeTo(past.world(), past.world().now() != before, until);
    return true;
}

}  // namespace bramix::session
