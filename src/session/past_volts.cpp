#include "session/past_volts.h"

#include <algorithm>

namespace bramix::session {

void PastVolts::want(const std::vector<bench::PinRef>& pins, Time from, Time to)
{
    from = std::max({from, session_.earliest(), Time{}});
    to = std::min(to, session_.latest());
    resting_ = pins.empty();
    if (resting_)
        return;
    // One that is not wanted any more does not hinder the others.
    const bool same = course_ == session_.course() && std::all_of(pins.begin(), pins.end(), [&](const bench::PinRef& p) { return waveforms_.contains(p); });
    // Of a small part of what has been thinned, all there was is looked for once more.
    const bool coarse = std::any_of(waveforms_.begin(), waveforms_.end(), [from](const auto& w) { return w.second.exactFrom() > from; }) && (to - from) * 8 < to_ - from_;
    // What begins earlier, or so much later that what lies between would be in vain, is looked for anew.
    if (same && !coarse && from >= from_ && from <= std::max(known_, to_)) {
        to_ = std::max(to_, to);
        return;
    }
    course_ = session_.course();
    waveforms_.clear();
    ofNet_.clear();
    for (const bench::PinRef& pin : pins)
        waveforms_.emplace(pin, tape::Waveform::thinned(kMostPoints));
    // A little more than is seen, so that moving the view a little finds it there.
    from_ = known_ = std::max(session_.earliest(), from - std::min((to - from) / 4, from - Time{}));
    to_ = to;
    way_.again();
    stands_ = ended_ = false;
}

bool PastVolts::begin(std::chrono::steady_clock::time_point until)
{
    const auto there = way_.go(from_, until, [](bench::World& world) {
        for (const auto& [ref, id] : world.pins())
            world.probe(id, nullptr);
    });
    if (!there)
        ended_ = true;
    if (!there || !*there)
        return false;
    bench::World& world = way_.past().world();
    for (auto& [ref, waveform] : waveforms_)
        if (const auto pin = world.pin(ref)) {
            ofNet_[world.circuit().netOf(*pin)].push_back(&waveform);
            world.probe(*pin, this);
        }
    stands_ = true;
    return true;
}

bool PastVolts::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!stands_ && !begin(until))
        return true;
    const Time before = way_.past().world().now();
    way_.past().goOn(to_, until);
    way_.past().world().flushProbes();
    known_ = std::max(known_, way_.past().world().now());
    // It stands for good where it had time left, and did not go on.
    ended_ = ended_ || way_.past().world().faulted() || (known_ < to_ && way_.past().world().now() == before && std::chrono::steady_clock::now() < until);
    return true;
}

const tape::Waveform* PastVolts::of(const bench::PinRef& pin) const
{
    const auto found = waveforms_.find(pin);
    return found == waveforms_.end() || course_ != session_.course() ? nullptr : &found->second;
}

void PastVolts::piece(bench::NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant)
{
    const auto found = ofNet_.find(net);
    if (found == ofNet_.end())
        return;
    for (tape::Waveform* w : found->second)
        w->add(from, to, volts, constant);
}

}  // namespace bramix::session
