#include "session/replay/past_volts.h"

#include <algorithm>

namespace bramix::session {

void PastVolts::want(const std::vector<bench::PinRef>& pins, Time from, Time to)
{
    if (pins.empty())
        return rest();
    search_.wake();
    const PastSearch::Window window = search_.within(from, to);
    // One that is not wanted any more does not hinder the others.
    const bool same = std::all_of(pins.begin(), pins.end(), [&](const bench::PinRef& p) { return waveforms_.contains(p); });
    // Of a small part of what has been thinned, all there was is looked for once more.
    const bool coarse = std::any_of(waveforms_.begin(), waveforms_.end(), [&](const auto& w) { return w.second.exactFrom() > window.from; }) && window.length() * 8 < search_.to() - search_.from();
    if (same && !coarse && search_.serves(window))
        return search_.extend(window.to);
    waveforms_.clear();
    ofNet_.clear();
    for (const bench::PinRef& pin : pins)
        waveforms_.emplace(pin, tape::Waveform::thinned(kMostPoints));
    search_.beginBefore(window);
    way_.again();
}

bool PastVolts::begin(std::chrono::steady_clock::time_point until)
{
    const auto there = way_.go(search_.from(), until, [](bench::World& world) {
        for (const auto& [ref, id] : world.pins())
            world.probe(id, nullptr);
    });
    if (!there)
        search_.end();
    if (!there || !*there)
        return false;
    bench::World& world = way_.past().world();
    for (auto& [ref, waveform] : waveforms_)
        if (const auto pin = world.pin(ref)) {
            ofNet_[world.circuit().netOf(*pin)].push_back(&waveform);
            world.probe(*pin, this);
        }
    search_.stand();
    return true;
}

bool PastVolts::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!search_.stands() && !begin(until))
        return true;
    const Time before = way_.past().world().now();
    way_.past().goOn(search_.to(), until);
    way_.past().world().flushProbes();
    search_.comeTo(way_.past().world(), way_.past().world().now() != before, until);
    return true;
}

const tape::Waveform* PastVolts::of(const bench::PinRef& pin) const
{
    const auto found = waveforms_.find(pin);
    return found == waveforms_.end() || !search_.isOfThisCourse() ? nullptr : &found->second;
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
