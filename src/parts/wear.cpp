#include "parts/wear.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace bramix::parts {

using kernel::Time;

Wear::Wear(PartContext& context, circuit::ElementId element, WearLimit limit)
    : id_(context.id), circuit_(context.circuit), element_(element), limit_(std::move(limit)), warnsOnly_(context.setting("overload") == "only warns"), remark_(context.remark),
      alarm_(context.queue, [this](Time due) { ring(due); })
{
    circuit_.watchElement(element_, *this);
    if (limit_.ohms > 0) {
        const double volts = std::sqrt(0.49 * limit_.watts * limit_.ohms);
        circuit_.setQuietRange(element_, -volts, volts);
    }
}

void Wear::advance(Time now)
{
    heat_ = load_ + (heat_ - load_) * std::exp(-kernel::seconds(now - since_) / limit_.seconds);
    since_ = now;
}

void Wear::elementChanged(circuit::ElementId, Time at)
{
    if (dead_)
        return;
    const double load = limit_.watts > 0 ? std::fabs(circuit_.watts(element_)) / limit_.watts : std::fabs(circuit_.current(element_).value) / limit_.amps;
    if (load == load_)
        return;
    // Nothing to keep account of while it is cool and stays so.
    if (load <= 1 && load_ <= 1 && heat_ <= 0.5) {
        load_ = load;
        since_ = at;
        heat_ = std::max(heat_, load * 0.5);
        return;
    }
    advance(at);
    load_ = load;
    if (load > 1)
        cause_ = circuit_.cause();
    arm(at);
}

void Wear::replace()
{
    dead_ = false;
    heat_ = load_ = 0;
    alarm_.disarm();
    circuit_.setBroken(element_, false, {});
}

// At which instant it passes 1, or its margin.
void Wear::arm(Time now)
{
    const double next = heat_ < 1 ? 1.0 : limit_.margin;
    if (load_ <= next || dead_)
        return alarm_.disarm();
    const double seconds = heat_ >= next ? 0 : limit_.seconds * std::log((load_ - heat_) / (load_ - next));
    alarm_.arm(now + std::max(kernel::Duration(static_cast<std::int64_t>(seconds * 1e12)), kernel::Duration(1'000'000)));
}

void Wear::ring(Time due)
{
    advance(due);
    const bool watts = limit_.watts > 0;
    const double limit = watts ? limit_.watts : limit_.amps;
    const kernel::Unit unit = watts ? kernel::Unit::watt : kernel::Unit::ampere;
    const std::string figures = fmt::format("{}, rated for {} at most", kernel::formatQuantity(load_ * limit, unit, 3), kernel::formatQuantity(limit, unit, 3));
    if (heat_ >= limit_.margin * 0.999 && !warnsOnly_) {
        dead_ = true;
        if (remark_)
            remark_({true, "part-destroyed", fmt::format("{} took {}: it has burnt through and is dead until it is replaced; {}", id_, figures, limit_.remedy), cause_});
        circuit_.setBroken(element_, true, cause_);
        return;
    }
    if (heat_ >= 0.999 && remark_)
        remark_({false, "part-over-limit", fmt::format("{} takes {}; {}", id_, figures, limit_.remedy), cause_});
    if (heat_ < limit_.margin * 0.999) {
        heat_ = std::max(heat_, 1.0);
        arm(due);
    }
}

}  // namespace bramix::parts
