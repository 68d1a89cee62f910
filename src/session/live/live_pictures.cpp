// What a live session shows of the bench as it stands: pins, lights, parts, oscilloscope and meters.
#include <algorithm>
#include <cmath>
#include <set>

#include "session/live/live_session.h"

namespace bramix::session {

using kernel::seconds;

namespace {

// Changes between two pictures from which on a pin is too fast for the eye.
constexpr std::uint64_t kBusyChanges = 3;

// The series resistor of an LED; of what drives one, or is that resistor, the one that belongs to the first LED that it has to do with.
std::optional<bench::SeriesPath> seriesAt(const bench::World& world, const bench::Document& document, const bench::Catalogue& catalogue, const std::string& id)
{
    if (auto own = bench::seriesPath(world, document, catalogue, id))
        return own;
    std::set<bench::NetId> nets;
    for (const auto& [mine, pin] : world.pins())
        if (const bench::NetId net = world.circuit().netOf(pin); mine.part == id && !world.circuit().isRail(net))
            nets.insert(net);
    const auto isOn = [&](const std::string& part, const char* lead) {
        const auto pin = world.pin({part, lead});
        return pin && nets.contains(world.circuit().netOf(*pin));
    };
    // Resistors and LEDs at its pins; what has none of them there is done with.
    std::set<std::string> near;
    for (const bench::PartItem& item : document.parts) {
        const bench::PartKind* kind = catalogue.find(item.kind);
        if (kind != nullptr && ((kind->behaviour == "resistor" && (item.id == id || isOn(item.id, "1") || isOn(item.id, "2"))) || (kind->behaviour == "led" && (isOn(item.id, "A") || isOn(item.id, "K")))))
            near.insert(item.id);
    }
    for (const bench::PartItem& led : document.parts)
        if (const parts::Part* part = near.empty() ? nullptr : world.part(led.id); part != nullptr && part->diode() != nullptr)
            if (auto path = bench::seriesPath(world, document, catalogue, led.id); path && (near.contains(path->resistor) || near.contains(led.id)))
                return path;
    return std::nullopt;
}

}  // namespace

// Duties and mean currents come from the circuit's integrals over the time since the last picture.
void LiveSession::fillPins(Picture& picture)
{
    const bench::World& world = session_->world();
    const circuit::Circuit& circuit = world.circuit();
    const double span = seconds(world.now() - integralsAt_);
    const bool fresh = highBefore_.size() != circuit.netCount();
    if (fresh) {
        dutyLast_.assign(circuit.netCount(), 0);
        busyLast_.assign(circuit.netCount(), false);
        highBefore_.assign(circuit.netCount(), 0);
        changesBefore_.assign(circuit.netCount(), 0);
    }
    for (std::uint32_t i = 0; i < circuit.netCount(); ++i) {
        const circuit::NetId net{i};
        const double high = circuit.secondsHigh(net);
        const std::uint64_t changes = circuit.changes(net);
        if (!fresh && span > 0) {
            dutyLast_[i] = std::clamp((high - highBefore_[i]) / span, 0.0, 1.0);
            busyLast_[i] = changes - changesBefore_[i] >= kBusyChanges;
        }
        if (fresh || span > 0) {
            highBefore_[i] = high;
            changesBefore_[i] = changes;
        }
    }
    // What the pins of a chip carry together.
    std::map<std::uint32_t, std::pair<double, double>> groups;
    for (const auto& [ref, id] : world.pins())
        if (const std::uint32_t group = circuit.limitOf(id).group; group != circuit::Circuit::kNoGroup) {
            const double amps = circuit.current(id).value;
            (amps > 0 ? groups[group].first : groups[group].second) += std::abs(amps);
        }
    for (const auto& [ref, id] : world.pins()) {
        if (ref.part.find('/') != std::string::npos)
            continue;
        const circuit::NetId net = circuit.netOf(id);
        const auto index = static_cast<std::size_t>(net);
        const circuit::Drive drive = circuit.driveOf(id);
        PinPicture pin;
        pin.state = circuit.stateOf(net);
        pin.busy = busyLast_[index];
        pin.duty = dutyLast_[index];
        pin.volts = circuit.voltage(net).value;
        pin.amps = circuit.current(id).value;
        pin.drive = drive;
        if (const auto limit = circuit.limitOf(id); std::isfinite(limit.amps)) {
            pin.limitAmps = limit.amps;
            pin.togetherLimit = limit.together;
            pin.togetherAmps = std::max(groups[limit.group].first, groups[limit.group].second);
            if (const auto seen = world.analogReading(ref)) {
                pin.adcCount = seen->count;
                pin.adcReference = seen->reference;
            }
        }
        pin.supply = drive.ohms == 0;
        pin.drives = !drive.floating() && drive.ohms < 1000;
        pin.pullsUp = !drive.floating() && drive.ohms >= 1000;
        pin.net = circuit.name(net);
        if (std::find(probes_.begin(), probes_.end(), ref) != probes_.end())
            pin.into = world.leadAmps(ref);
        picture.pins.emplace(ref, std::move(pin));
    }
}

void LiveSession::fillLights(Picture& picture)
{
    const bench::World& world = session_->world();
    const auto& lights = world.lights();
    const double span = seconds(world.now() - integralsAt_);
    const bool fresh = chargeBefore_.size() != lights.size() || ampsLast_.size() != lights.size();
    if (fresh) {
        chargeBefore_.assign(lights.size(), 0);
        ampsLast_.assign(lights.size(), 0);
    }
    for (std::size_t i = 0; i < lights.size(); ++i) {
        const double charge = world.circuit().charge(lights[i].element);
        if (fresh || span <= 0)
            ampsLast_[i] = world.circuit().current(lights[i].element).value;
        if (span > 0 && !fresh)
            ampsLast_[i] = (charge - chargeBefore_[i]) / span;
        chargeBefore_[i] = charge;
        const double share = std::clamp(ampsLast_[i] / lights[i].fullAmps, 0.0, 1.0);
        // The eye sees brightness as about the cube root of the light.
        picture.lights.push_back({lights[i].part, lights[i].inner, lights[i].color, ampsLast_[i], std::cbrt(share)});
    }
    integralsAt_ = world.now();
}

void LiveSession::watchScope(const ScopeRequest& request)
{
    post([this, request] {
        if (session_ != nullptr && (request.single != scope_.single)) {
            singleAt_.reset();
            singleSince_ = session_->world().now();
        }
        scope_ = request;
        applyProbes();
        changed_ = true;
    });
}

void LiveSession::watchProbes(const std::vector<bench::PinRef>& pins, Duration span)
{
    post([this, pins, span] {
        probes_ = pins;
        probeSpan_ = span;
        applyProbes();
        changed_ = true;
    });
}

void LiveSession::watchPart(const std::string& part)
{
    post([this, part] {
        watchedPart_ = part;
        changed_ = true;
    });
}

void LiveSession::applyProbes()
{
    if (session_ == nullptr)
        return;
    std::vector<bench::PinRef> all = scope_.channels;
    all.insert(all.end(), probes_.begin(), probes_.end());
    for (const std::string& lane : tape_.reads.value_or(std::vector<std::string>{}))
        if (const auto spec = parseLane(lane); spec && spec->kind == LaneSpec::Kind::volts)
            all.push_back(spec->pins[0]);
    session_->setProbes(all);
}

// What the oscilloscope and the meters show of a bench that stands where they were not there yet.
void LiveSession::wantVoltages()
{
    std::vector<bench::PinRef> pins = scope_.channels;
    pins.insert(pins.end(), probes_.begin(), probes_.end());
    const Time now = session_->world().now();
    lookback_->setRunning(running_);
    lookback_->wantVolts(pins, now - std::max(scope_.channels.empty() ? Duration::zero() : 2 * scope_.span, probes_.empty() ? Duration::zero() : probeSpan_), now, true);
}

void LiveSession::fillProbes(Picture& picture)
{
    picture.probeSpan = probeSpan_;
    const Time now = session_->world().now();
    for (const bench::PinRef& pin : probes_)
        if (const tape::Waveform* w = lookback_->voltage(pin, now - probeSpan_, now); w != nullptr && !w->empty())
            if (const auto measures = w->measure(std::max(now - probeSpan_, w->knownFrom()), now))
                picture.probes.emplace(pin, *measures);
}

// The last trigger whose window is complete; without one, the latest.
void LiveSession::fillScope(Picture& picture)
{
    if (scope_.channels.empty() || scope_.columns == 0)
        return;
    const Time now = session_->world().now();
    ScopePicture& scope = picture.scope;
    scope.from = now - scope_.span;
    const auto before = Duration(static_cast<std::int64_t>(scope_.before * static_cast<double>(scope_.span.count())));
    if (scope_.trigger && *scope_.trigger < scope_.channels.size()) {
        const tape::Waveform* source = lookback_->voltage(scope_.channels[*scope_.trigger], now - 2 * scope_.span, now);
        std::optional<Time> at = scope_.single != 0 ? singleAt_ : std::nullopt;
        if (!at && source != nullptr && !source->empty()) {
            const Time from = scope_.single != 0 ? std::max(singleSince_, source->knownFrom()) : source->knownFrom();
            const Time complete = now - (scope_.span - before);
            if (scope_.single != 0) {
                singleAt_ = at = source->firstPassing(scope_.level, scope_.rising, from, complete);
            } else if (at = source->lastPassing(scope_.level, scope_.rising, from, complete); at) {
                // Of several edges within one window the first: where a burst begins, not where it ends.
                at = source->firstPassing(scope_.level, scope_.rising, std::max(from, *at - (scope_.span - before)), *at);
            }
        }
        scope.waiting = scope_.single != 0 && !at;
        if (at) {
            scope.triggered = true;
            scope.trigger = *at;
            scope.from = *at - before;
        }
    }
    scope.to = scope.from + scope_.span;
    for (const bench::PinRef& pin : scope_.channels) {
        ScopeChannel channel;
        channel.name = pin.text();
        if (const tape::Waveform* w = lookback_->voltage(pin, scope.from, scope.to)) {
            channel.columns = w->columns(scope.from, scope.to, scope_.columns);
            channel.measures = w->measure(scope.from, scope.to);
        }
        scope.channels.push_back(std::move(channel));
    }
}

void LiveSession::fillParts(Picture& picture) const
{
    const bench::World& world = session_->world();
    for (const bench::PartItem& item : session_->document().parts) {
        const parts::Part* part = world.part(item.id);
        if (part == nullptr) {  // a chip
            if (item.id == watchedPart_)
                if (auto series = seriesAt(world, session_->document(), catalogue_, item.id))
                    picture.parts[item.id].series = std::move(series);
            continue;
        }
        PartPicture p;
        p.dead = part->dead();
        p.face = part->face();
        p.dots = part->dots();
        p.angle = part->angle();
        if (const auto element = part->mainElement()) {
            p.measured = true;
            p.amps = world.circuit().current(*element).value;
            p.watts = world.circuit().watts(*element);
        }
        if (item.id == watchedPart_)
            p.series = seriesAt(world, session_->document(), catalogue_, item.id);
        picture.parts.emplace(item.id, std::move(p));
    }
}

}  // namespace bramix::session
