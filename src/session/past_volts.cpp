#include "session/past_volts.h"

#include <algorithm>

namespace bramix::session {

void PastVolts::want(const std::vector<bench::PinRef>& pins, Time from, Time to)
{
    from = std::max({from, session_.earliest(), Time{}});
    to = std::min(to, session_.latest());
    const bool same = course_ == session_.course() && waveforms_.size() == pins.size() && std::all_of(pins.begin(), pins.end(), [&](const bench::PinRef& p) { return waveforms_.contains(p); });
    // What begins earlier, or so much later that what lies between would be in vain, is looked for anew.
    if (same && from >= from_ && from <= std::max(known_, to_)) {
        to_ = std::max(to_, to);
        return;
    }
    course_ = session_.course();
    waveforms_.clear();
    ofNet_.clear();
    for (const bench::PinRef& pin : pins)
        waveforms_.try_emplace(pin);
    // A little more than is seen, so that moving the view a little finds it there.
    from_ = known_ = std::max(session_.earliest(), from - std::min((to - from) / 4, from - Time{}));
    to_ = to;
    recalled_ = placed_ = false;
    ended_ = to - from > kLongest || session_.history().empty();
}

bool PastVolts::begin(std::chrono::steady_clock::time_point until)
{
    if (past_ == nullptr || !past_->fits()) {
        auto made = PastWorld::build(session_, catalogue_);
        if (!made) {
            ended_ = true;
            return false;
        }
        past_ = std::move(*made);
        recalled_ = false;
    }
    if (!recalled_) {
        bench::World& world = past_->world();
        for (const auto& [ref, id] : world.pins())
            world.probe(id, nullptr);
        if (!past_->recall(from_)) {
            ended_ = true;
            return false;
        }
        recalled_ = true;
    }
    if (!past_->goOn(from_, until))
        return false;
    for (auto& [ref, waveform] : waveforms_)
        if (const auto pin = past_->world().pin(ref)) {
            ofNet_[past_->world().circuit().netOf(*pin)].push_back(&waveform);
            past_->world().probe(*pin, this);
        }
    placed_ = true;
    return true;
}

bool PastVolts::work(std::chrono::steady_clock::duration budget)
{
    if (!busy())
        return false;
    const auto until = std::chrono::steady_clock::now() + budget;
    if (!placed_ && !begin(until))
        return true;
    const Time before = past_->world().now();
    past_->goOn(to_, until);
    past_->world().flushProbes();
    known_ = std::max(known_, past_->world().now());
    ended_ = ended_ || past_->world().faulted() || (known_ < to_ && past_->world().now() == before);
    return true;
}

const tape::Waveform* PastVolts::of(const bench::PinRef& pin) const
{
    const auto found = waveforms_.find(pin);
    return found == waveforms_.end() ? nullptr : &found->second;
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
