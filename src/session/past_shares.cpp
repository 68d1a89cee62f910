#include "session/past_shares.h"

#include <algorithm>

namespace bramix::session {

void PastShares::want(Time from, Time to, Duration column)
{
    from = std::max({from, session_.earliest(), Time{}});
    to = std::min(to, session_.latest());
    resting_ = false;
    const bool same = course_ == session_.course() && stretch_ > Duration{} && stretch_ <= column;
    if (same && from >= from_ && from <= std::max(known_, to_)) {
        to_ = std::max(to_, to);
        return;
    }
    course_ = session_.course();
    times_.stop();
    times_.clear();
    // Each half as long as the one before, so that zooming in a little does not begin anew.
    constexpr Duration kShortest = std::chrono::microseconds(10);
    for (stretch_ = kShortest; stretch_ * 4 <= column; stretch_ *= 2)
        ;
    // A little more than is seen, so that moving the view a little finds it there.
    from_ = known_ = std::max(session_.earliest(), from - std::min((to - from) / 4, from - Time{}));
    to_ = to;
    way_.again();
    ++searches_;
    stands_ = ended_ = false;
}

bool PastShares::begin(std::chrono::steady_clock::time_point until)
{
    const auto there = way_.go(from_, until);
    if (!there)
        ended_ = true;
    if (!there || !*there)
        return false;
    bench::World& world = way_.past().world();
    std::map<std::string, const debug::Symbols*> symbols;
    for (const bench::World::ChipUnit& unit : world.chips())
        symbols[unit.id] = &session_.program(unit.id).symbols;
    times_.listen(world, symbols, stretch_);
    stands_ = true;
    return true;
}

bool PastShares::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!stands_ && !begin(until))
        return true;
    ++searches_;
    PastWorld& past = way_.past();
    const Time before = past.world().now();
    past.goOn(to_, until);
    known_ = std::max(known_, std::min(past.world().now(), to_));
    // It stands for good where it had time left, and did not go on.
    ended_ = ended_ || past.world().faulted() || (known_ < to_ && past.world().now() == before && std::chrono::steady_clock::now() < until);
    return true;
}

}  // namespace bramix::session
