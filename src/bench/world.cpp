#include "bench/world.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

#include "bench/board_supply.h"
#include "bench/reset_pin.h"
#include "chip/families.h"

namespace bramix::bench {

using kernel::fail;

World::World(WorldObserver* observer) : observer_(observer), circuit_(queue_), stopAlarm_(queue_, [this](Time) { stopNow(); }) {}

World::~World() = default;

Result<void> World::loadFirmware(std::size_t index, const std::string& file)
{
    ChipUnit& unit = chips_[index];
    auto firmware = chip::loadFirmware(file, *unit.device);
    if (!firmware)
        return tl::unexpected(firmware.error());
    if (unit.firmwareFile.empty())
        unit.chip->startAt(now());  // it has stood still so far
    unit.firmware = std::move(*firmware);
    unit.firmwareFile = file;
    unit.chip->loadProgram(unit.firmware);
    // What an earlier run has kept goes before what the image brings.
    if (const std::string kept = eepromFile(index); !kept.empty() && std::filesystem::exists(kept)) {
        auto image = chip::loadFirmware(kept, *unit.device);
        if (!image)
            return tl::unexpected(image.error());
        image->flash.resize(unit.chip->nonVolatile().size(), 0xFF);
        unit.chip->programNonVolatile(image->flash);
    } else if (unit.firmware.eepromGiven) {
        unit.chip->programNonVolatile(unit.firmware.eeprom);
    }
    unit.chip->powerOn();
    if (!unit.firmware.builtFor.empty() && unit.firmware.builtFor != unit.device->id)
        report({Severity::error, "firmware-other-chip", unit.id,
                fmt::format("{} was built for {}, but {} is a {}: registers and vectors may lie elsewhere; build it with {}", file, unit.firmware.builtFor, unit.id, unit.device->title,
                            unit.device->compilerOption),
                now()});
    return {};
}

parts::LineFormat World::lineFormat(const Uart& uart, bool towardsChip) const
{
    const chip::SerialFormat f = chips_[uart.chip].chip->serialFormat(uart.index);
    parts::LineFormat out;
    out.bit = f.bit;
    out.dataBits = f.dataBits;
    out.parity = static_cast<parts::LineFormat::Parity>(f.parity);
    out.stopBits = f.stopBits;
    out.active = towardsChip ? f.receives : f.transmits;
    return out;
}

// Only chips that are alone ring alarms on the way; others go to the next.
void World::runChips(Time until)
{
    if (chips_.size() == 1) {
        running_ = 0;
        if (runs(chips_[0]))
            chips_[0].chip->runAlone(until, stop_);
        return;
    }
    // Several chips go in step: always the one that is furthest behind, up to the first clock at which it is not. One that sleeps holds nobody up:
    // whoever wakes it ends the run of the chip that is at work (chipWakes), and it goes on from that instant.
    Time limit = until;
    while (!stop_) {
        limit = std::min(until, queue_.nextDue());
        ChipUnit* slowest = nullptr;
        Time second = limit;
        for (ChipUnit& unit : chips_) {
            if (!runs(unit) || unit.chip->liesStill())
                continue;
            if (slowest == nullptr || unit.chip->now() < slowest->chip->now()) {
                if (slowest != nullptr)
                    second = std::min(second, slowest->chip->now());
                slowest = &unit;
            } else {
                second = std::min(second, unit.chip->now());
            }
        }
        if (slowest == nullptr || slowest->chip->now() >= limit)
            break;
        running_ = static_cast<std::size_t>(slowest - chips_.data());
        slowest->chip->run(std::min(limit, second + Duration(1)));
        if (standing()) {
            limit = std::min(limit, slowest->chip->now());
            break;
        }
    }
    if (stop_)
        limit = queue_.now();
    for (ChipUnit& unit : chips_)
        if (runs(unit) && unit.chip->liesStill())
            unit.chip->sleepTo(limit);
}

void World::runUntil(Time goal)
{
    stop_ = false;
    for (;;) {
        if (interrupt_ != nullptr && interrupt_->load(std::memory_order_relaxed)) [[unlikely]]
            return;
        runChips(goal);
        if (standing()) {
            queue_.advanceTo(std::min(goal, progress()));
            return;
        }
        // An access may have rung the alarm that the chips ran towards; time must not run ahead of them to the one after.
        const Time next = std::min({goal, queue_.nextDue(), slowestChip()});
        queue_.advanceTo(next);
        if (stop_ || (next >= goal && queue_.nextDue() > goal && slowestChip() >= goal))
            return;
    }
}

void World::stepInstruction(std::size_t index, Time until)
{
    if (index >= chips_.size() || !runs(chips_[index])) {
        runUntil(now() + std::chrono::microseconds(1));
        return;
    }
    running_ = index;
    chip::Mcu& chip = *chips_[index].chip;
    constexpr Duration kLongestSleep = std::chrono::milliseconds(100);
    chip.stepInstruction(std::min(now() + kLongestSleep, until));
    queue_.advanceTo(std::min({chip.now(), progress(), std::max(until, now())}));
    // Those that are behind come up to it.
    if (chips_.size() > 1)
        runUntil(chip.now());
}

void World::setChangeListener(const std::function<void(Time)>& changed)
{
    queue_.hear(changed);
    for (ChipUnit& unit : chips_)
        unit.chip->setChangeListener(changed);
}

std::optional<std::size_t> World::debugStop() const
{
    for (std::size_t i = 0; i < chips_.size(); ++i)
        if (chips_[i].chip->hasStopped())
            return i;
    return std::nullopt;
}

void World::resume(bool all)
{
    for (ChipUnit& unit : chips_) {
        if (!all && !unit.chip->hasStopped())
            continue;
        // What stood before the breakpoint's instruction goes on with it; an access or an exception may have come to one that is still to be met.
        unit.chip->resume(all || unit.chip->stopInfo().kind == chip::StopInfo::Kind::breakpoint);
    }
}

void World::requestStop() { stopAlarm_.arm(queue_.now()); }

void World::interruptBy(const std::atomic<bool>* flag)
{
    interrupt_ = flag;
    queue_.interruptBy(flag, [this] { stopNow(); });
}

// Alarms also ring in the midst of a chip's instructions, when it looks at a register: it must not go on to its next alarm then.
void World::stopNow()
{
    stop_ = true;
    if (running_ < chips_.size())
        chips_[running_].chip->yield();
}

void World::stopWhenHalted(bool stop)
{
    if (!chips_.empty())
        chips_[0].chip->stopWhenHalted(stop);  // the one that halted() asks about; the others spin on
}

bool World::halted() const { return !chips_.empty() && chips_[0].chip->stopsWhenHalted() && chips_[0].chip->halted(); }

bool World::faulted() const
{
    return std::any_of(chips_.begin(), chips_.end(), [](const ChipUnit& unit) { return unit.chip->faulted(); });
}

// A chip faulted, met what the debugger waits for, or is halted for good.
bool World::standing() const
{
    for (const ChipUnit& unit : chips_)
        if (unit.chip->faulted() || unit.chip->hasStopped())
            return true;
    return halted();
}

Time World::progress() const
{
    const Time slowest = slowestChip();
    return slowest == kernel::kNever ? queue_.now() : slowest;
}

Time World::slowestChip() const
{
    Time slowest = kernel::kNever;
    for (const ChipUnit& unit : chips_)
        if (runs(unit) || unit.chip->faulted())
            slowest = std::min(slowest, unit.chip->now());
    return slowest;
}

Result<void> World::knowsControl(std::string_view part, std::string_view control) const
{
    if (control == kResetControl && std::any_of(chips_.begin(), chips_.end(), [part](const ChipUnit& unit) { return unit.id == part; }))
        return {};
    const auto found = controlsOf_.find(std::string(part));
    if (found == controlsOf_.end())
        return fail(std::string(part), "is not a part with live controls on this bench");
    const auto& known = found->second;
    if (std::find(known.begin(), known.end(), control) == known.end())
        return fail(std::string(part), fmt::format("has no live control \"{}\"; it has {}", control, known.empty() ? "none" : fmt::format("{}", fmt::join(known, ", "))));
    return {};
}

Result<void> World::setControl(std::string_view part, std::string_view control, double value)
{
    if (auto known = knowsControl(part, control); !known)
        return known;
    for (std::size_t i = 0; i < chips_.size(); ++i)
        if (chips_[i].id == part && control == kResetControl) {
            resetControls_[i] = value != 0 ? 1 : 0;
            if (resetPins_[i] != nullptr)
                resetPins_[i]->hold(value == 0);
            return {};
        }
    for (auto& [id, p] : parts_)
        if (id == part)
            p->setControl(control, value);
    if (const auto follower = followers_.find({std::string(part), std::string(control)}); follower != followers_.end())
        follower->second->setBase(value);
    return {};
}

double World::control(std::string_view part, std::string_view control) const
{
    for (std::size_t i = 0; i < chips_.size(); ++i)
        if (chips_[i].id == part && control == kResetControl)
            return resetControls_[i];
    for (const auto& [id, p] : parts_)
        if (id == part)
            return p->control(control);
    return 0;
}

void World::send(std::size_t uart, std::string_view bytes) { uarts_[uart].line->send(bytes); }

void World::hold(const std::map<PinRef, circuit::Drive>& drives)
{
    const circuit::Circuit::Batch together(circuit_);
    for (const auto& [ref, drive] : drives)
        if (const auto id = pin(ref); id && std::any_of(chips_.begin(), chips_.end(), [&](const ChipUnit& unit) { return unit.id == ref.part; }) && circuit_.driveOf(*id).ohms != 0)
            circuit_.drive(*id, drive, {});
}

std::optional<PinId> World::pin(const PinRef& ref) const
{
    auto found = pins_.find(ref);
    if (found == pins_.end())
        if (const auto alias = aliases_.find(ref); alias != aliases_.end())
            found = pins_.find(alias->second);
    return found == pins_.end() ? std::nullopt : std::optional(found->second);
}

std::optional<std::size_t> World::uartByName(std::string_view name) const
{
    for (std::size_t i = 0; i < uarts_.size(); ++i)
        if (uarts_[i].name == name)
            return i;
    // Without the part where there is only one that it could be.
    std::optional<std::size_t> only;
    const auto alias = [this](const Uart& uart) { return chips_[uart.chip].chip->serialPorts()[uart.index].alias; };
    for (std::size_t i = 0; i < uarts_.size(); ++i)
        if (const std::string other = alias(uarts_[i]); !other.empty() && chips_[uarts_[i].chip].id + "." + other == name)
            return i;
    for (std::size_t i = 0; i < uarts_.size(); ++i)
        if (uarts_[i].name.substr(uarts_[i].name.find('.') + 1) == name || alias(uarts_[i]) == name) {
            if (only)
                return std::nullopt;
            only = i;
        }
    return only;
}

std::string World::pinName(PinId pin) const { return circuit_.name(pin); }

namespace {

bool samePath(const std::string& a, const std::string& b) { return std::filesystem::path(a).lexically_normal() == std::filesystem::path(b).lexically_normal(); }

}  // namespace

void World::adopt(World& old)
{
    const auto carry = [](auto& from, auto& to) {
        kernel::SaveArchive save;
        save(from);
        const kernel::Snapshot snapshot = save.take();
        kernel::LoadArchive load(snapshot);
        load(to);
    };
    const auto carryBoth = [](auto& from, auto& to) {
        kernel::SaveArchive save;
        from.save(save);
        const kernel::Snapshot snapshot = save.take();
        kernel::LoadArchive load(snapshot);
        to.load(load);
    };
    WorldObserver* const silent = std::exchange(observer_, nullptr);
    carry(old.queue_, queue_);
    for (auto& [id, part] : parts_)
        for (auto& [oldId, oldPart] : old.parts_)
            if (oldId == id && old.kindOf_[id] == kindOf_[id] && old.settingsOf_[id] == settingsOf_[id])
                carryBoth(*oldPart, *part);
    for (std::size_t i = 0; i < chips_.size(); ++i) {
        chips_[i].chip->startAt(queue_.now());
        chips_[i].chip->powerOn();
        for (std::size_t j = 0; j < old.chips_.size(); ++j)
            if (chips_[i].id == old.chips_[j].id && chips_[i].device == old.chips_[j].device && (chips_[i].unreadable || samePath(chips_[i].firmwareFile, old.chips_[j].firmwareFile))) {
                chips_[i].firmwareFile = old.chips_[j].firmwareFile;
                if (!old.chips_[j].firmwareFile.empty()) {
                    // The image that runs, even where the file has changed since.
                    chips_[i].firmware = old.chips_[j].firmware;
                    chips_[i].chip->loadProgram(chips_[i].firmware);
                }
                carryBoth(*old.chips_[j].chip, *chips_[i].chip);
                resetControls_[i] = old.resetControls_[j];
                if (resetPins_[i] != nullptr)
                    resetPins_[i]->hold(resetControls_[i] == 0);
            }
    }
    for (auto& [control, follower] : followers_) {
        const auto before = old.followers_.find(control);
        if (before != old.followers_.end() && before->second->item() == follower->item())
            carry(*before->second, *follower);
        else
            follower->startAt(queue_.now());
    }
    for (Uart& uart : uarts_)
        for (Uart& oldUart : old.uarts_)
            if (oldUart.name == uart.name)
                carry(*oldUart.line, *uart.line);
    circuit_.adopt(old.circuit_);
    // What a part took over is of the old circuit: it learns what it carries in this one.
    circuit_.tellElementsAgain();
    for (const auto& [id, part] : parts_)
        part->wired();
    observer_ = silent;
    for (const auto& supply : supplyPins_)
        if (supply != nullptr)
            supply->look();
    for (const auto& supply : boardSupplies_)
        supply->changed();
    // What the wires alone tell is told anew; the rest stays as it was noticed, unless it has been muted since.
    std::vector<Finding> wiring;
    std::copy_if(findings_.begin(), findings_.end(), std::back_inserter(wiring), [](const Finding& f) { return f.wiring; });
    findings_.clear();
    told_.clear();
    const auto again = [this](Finding f) {
        f.muted.clear();
        report(std::move(f));
    };
    WorldObserver* const listener = std::exchange(observer_, nullptr);
    std::for_each(wiring.begin(), wiring.end(), again);
    for (const Finding& f : old.findings_)
        if (!f.wiring)
            again(f);
    observer_ = listener;
}

void World::stateOfSupplies(kernel::SaveArchive& ar)
{
    for (const auto& supply : supplyPins_)
        if (supply != nullptr)
            ar(*supply);
    for (const auto& supply : boardSupplies_)
        ar(*supply);
}

void World::stateOfSupplies(kernel::LoadArchive& ar)
{
    for (const auto& supply : supplyPins_)
        if (supply != nullptr)
            ar(*supply);
    for (const auto& supply : boardSupplies_)
        ar(*supply);
    // Levels and limits of pins follow a chip's supply, which is another again.
    for (const ChipUnit& unit : chips_)
        unit.chip->refreshPins();
    for (const auto& reset : resetPins_)
        if (reset != nullptr)
            reset->refresh();
}

double World::chipAmps(std::size_t index) const
{
    const ChipUnit& unit = chips_[index];
    double amps = unit.chip->supplySiemens() * unit.chip->supplyVolts();
    for (const auto& [ref, id] : pins_)
        if (ref.part == unit.id && circuit_.limitOf(id).group != circuit::Circuit::kNoGroup)
            amps += std::max(0.0, circuit_.current(id).value);
    return amps;
}

std::optional<double> World::leadAmps(const PinRef& lead) const
{
    const auto found = pins_.find(lead);
    if (found == pins_.end())
        return std::nullopt;
    const NetId net = circuit_.netOf(found->second);
    const auto isOf = [&](const std::string& id) { return id == lead.part || id.starts_with(lead.part + "/"); };
    const auto chip = std::find_if(chips_.begin(), chips_.end(), [&](const ChipUnit& unit) { return unit.id == lead.part; });
    const bool supplies = circuit_.driveOf(found->second).ohms == 0;
    if (supplies) {
        // What a fixed voltage gives is what all others on its net take.
        if (circuit_.voltage(net).value == 0 || std::count_if(pins_.begin(), pins_.end(), [&](const auto& p) { return circuit_.netOf(p.second) == net && circuit_.driveOf(p.second).ohms == 0; }) > 1)
            return std::nullopt;
        double taken = 0;
        for (std::uint32_t e = 0; e < circuit_.elementCount(); ++e)
            taken += circuit_.taken(circuit::ElementId{e}, net).value;
        for (const PinId pin : circuit_.pinsOf(net))
            taken -= circuit_.current(pin).value;
        for (std::size_t c = 0; c < chips_.size(); ++c) {
            // A board feeds its chip by its greatest supply.
            if (supplyPins_[c] == nullptr ? chips_[c].id == lead.part && std::fabs(circuit_.voltage(net).value - chips_[c].chip->supplyVolts()) < 0.05 : circuit_.netOf(supplyPins_[c]->vcc()) == net)
                taken += chipAmps(c);
        }
        return -taken;
    }
    double into = 0;
    for (const auto& [id, added] : added_) {
        if (!isOf(id))
            continue;
        for (std::size_t e = added.fromElement; e < added.toElement; ++e)
            into += circuit_.taken(circuit::ElementId(static_cast<std::uint32_t>(e)), net).value;
        for (std::size_t p = added.fromPin; p < added.toPin; ++p)
            if (const PinId pin{static_cast<std::uint32_t>(p)}; circuit_.netOf(pin) == net)
                into -= circuit_.current(pin).value;
    }
    for (const auto& [ref, pin] : pins_)
        if (isOf(ref.part) && circuit_.netOf(pin) == net)
            into -= circuit_.current(pin).value;
    if (chip != chips_.end()) {
        const auto& supply = supplyPins_[static_cast<std::size_t>(chip - chips_.begin())];
        if (supply != nullptr && circuit_.netOf(supply->ground()) == net)
            return std::nullopt;
        if (supply != nullptr && circuit_.netOf(supply->vcc()) == net && !supply->gives())
            into += chipAmps(static_cast<std::size_t>(chip - chips_.begin()));
    }
    return into;
}

Result<void> World::keepContents()
{
    for (const auto& [id, part] : parts_)
        if (const auto contents = part->unsaved()) {
            if (auto ok = saveText(contents->file, contents->bytes); !ok)
                return ok;
            part->saved();
        }
    return {};
}

std::shared_ptr<const World::Moment> World::remember()
{
    auto moment = std::make_shared<Moment>();
    moment->at = now();
    for (const ChipUnit& unit : chips_)
        moment->chips.push_back(unit.chip->now());
    kernel::SaveArchive save;
    state(save);
    moment->state = save.take();
    moment->findings = findings_;
    moment->overloads = overloads_;
    moment->told = told_;
    return moment;
}

void World::recall(const Moment& moment)
{
    WorldObserver* const listener = std::exchange(observer_, nullptr);
    for (ChipUnit& unit : chips_)
        if (unit.chip->hasChangedProgram())
            unit.chip->loadProgram(unit.firmware);
    kernel::LoadArchive load(moment.state);
    state(load);
    findings_ = moment.findings;
    overloads_ = moment.overloads;
    told_ = moment.told;
    stop_ = false;
    observer_ = listener;
}

void World::installFirmware(std::size_t index, const chip::Firmware& firmware, const std::string& file)
{
    ChipUnit& unit = chips_[index];
    unit.firmware = firmware;
    unit.firmwareFile = file;
    unit.chip->loadProgram(firmware);
}

void World::report(Finding finding)
{
    // Once; but what was told as a warning, as from the wiring alone, is told again when it has become an error.
    const std::string grave = finding.rule + "!";
    if (told_.contains({grave, finding.where}) || !told_.insert({finding.severity == Severity::error ? grave : finding.rule, finding.where}).second)
        return;
    // A pin's finding is its part's; and a chip's own are told under its name and the peripheral's.
    if (const auto mute = mutes_.find({finding.where.substr(0, finding.where.find_first_of(".:/")), finding.rule}); mute != mutes_.end())
        finding.muted = mute->second.empty() ? "muted" : mute->second;
    findings_.push_back(finding);
    if (observer_ != nullptr)
        observer_->finding(finding);
}

void World::netChanged(NetId net, NetState state, Time at, Cause cause)
{
    for (const auto& supply : boardSupplies_)
        supply->changed();
    if (observer_ != nullptr)
        observer_->edge(net, state, at, cause);
}

const parts::Part* World::part(std::string_view id) const
{
    for (const auto& [name, part] : parts_)
        if (name == id)
            return part.get();
    return nullptr;
}

std::string World::why(const PinRef& pin) const
{
    if (const parts::Part* p = part(pin.part))
        return p->dead() ? "it has burnt through" : p->why(pin.pin);
    const auto at = pins_.find(pin);
    for (const Uart& uart : uarts_)
        if (at != pins_.end() && chips_[uart.chip].id == pin.part && circuit_.netOf(uart.line->output()) == circuit_.netOf(at->second))
            return uart.line->why("T");
    return {};
}

Result<void> World::replacePart(std::string_view id)
{
    for (auto& [name, part] : parts_)
        if (name == id) {
            part->replace();
            std::erase_if(told_, [&](const auto& t) { return t.second == id && (t.first.starts_with("part-destroyed") || t.first.starts_with("part-over-limit")); });
            return {};
        }
    return kernel::fail(std::string(id), "is not a part on this bench");
}

// The code that brought something about, and the chip that executed it.
void World::blame(Finding& f, Cause cause) const
{
    if (cause.code == Cause::kNoCode || chips_.empty())
        return;
    f.code = cause.code;
    f.chip = chips_[running_].id;
    for (const ChipUnit& unit : chips_)
        if (unit.chip->cause().actor == cause.actor)
            f.chip = unit.id;
}

// "r1, d1 and q1": the parts of an island.
std::string World::partsAround(NetId net) const
{
    std::set<std::string> names;
    for (const circuit::ElementId e : circuit_.neighbours(net))
        names.insert(circuit_.name(e).substr(0, circuit_.name(e).find(' ')));
    if (names.empty())
        return "net " + circuit_.name(net);
    std::string out;
    std::size_t i = 0;
    for (const std::string& name : names) {
        if (i == 8 && names.size() > 9)
            return out + fmt::format(" and {} more", names.size() - 8);
        out += (i == 0 ? "" : i + 1 == names.size() ? " and " : ", ") + name;
        ++i;
    }
    return out;
}

void World::partRemark(const std::string& part, const parts::Remark& remark)
{
    Finding f{remark.error ? Severity::error : Severity::warning, std::string(remark.rule), part, remark.message, now()};
    blame(f, remark.cause);
    report(std::move(f));
}

void World::trouble(circuit::Trouble what, NetId net, PinId pin, PinId other, double amps, Time at, Cause cause)
{
    const std::string name = circuit_.name(net);
    const std::string current = kernel::formatQuantity(amps, kernel::Unit::ampere, 3);
    Finding f{Severity::error, {}, name, {}, at};
    blame(f, cause);
    switch (what) {
    case circuit::Trouble::conflict:
        f.rule = "outputs-fight";
        f.message = fmt::format("{} and {} drive net {} against each other, {} flows; make one of them an input, or put a resistor between", pinName(pin),
                                other == circuit::kNoPin ? "another output" : pinName(other), name, current);
        // Whose code came last is at fault; what the other one drives, earlier code has made it.
        for (const PinId side : {pin, other})
            if (side != circuit::kNoPin && circuit_.driver(side) != Cause::kNoCode && (chipOf(side) != f.chip || circuit_.driver(side) != f.code)) {
                f.otherCode = circuit_.driver(side);
                f.otherChip = chipOf(side);
            }
        break;
    case circuit::Trouble::supplyShort:
        f.rule = "supply-short";
        f.message = fmt::format("{} and {} are supplies of different voltage on one net: a short circuit; remove the wire between them", pinName(pin), pinName(other));
        break;
    case circuit::Trouble::pinOverload:
        f.rule = "pin-overload";
        f.where = pinName(pin);
    {
        Overload& over = overloads_[pin];
        if (!over.on)
            over.since = at;
        over.on = true;
        over.worst = std::max(over.worst, std::fabs(amps));
        f.message = overloadText(pin, over);
        break;
    }
    case circuit::Trouble::groupOverload:
        f.rule = "port-overload";
        f.where = pinName(pin).substr(0, pinName(pin).find('.'));
        f.message = fmt::format("the pins of {} carry {} together, more than its absolute maximum of {}; let transistors carry the loads", f.where, current,
                                kernel::formatQuantity(circuit_.limitOf(pin).together, kernel::Unit::ampere));
        break;
    case circuit::Trouble::overVoltage:
        f.rule = "pin-over-voltage";
        f.where = pinName(pin);
        f.message = fmt::format("{} is driven to {}, beyond its chip's supply; its protection diodes conduct: use a divider, or a chip on the higher supply", pinName(pin),
                                kernel::formatQuantity(amps, kernel::Unit::volt, 3));
        break;
    case circuit::Trouble::noSolution:
        f.rule = "no-solution";
        f.message = fmt::format("the circuit of {} could not be solved; its voltages are not to be trusted", partsAround(net));
        break;
    case circuit::Trouble::oscillation:
        f.rule = "oscillation";
        f.message = fmt::format("the circuit of {} changes without end in one instant; it was stopped there: give the loop a delay", partsAround(net));
        break;
    }
    report(std::move(f));
}

void World::overloadEnded(PinId pin, Time at)
{
    Overload& over = overloads_[pin];
    over.before += at - over.since;
    over.on = false;
}

std::string World::overloadText(PinId pin, const Overload& over) const
{
    const Duration length = over.before + (over.on ? now() - over.since : Duration::zero());
    return fmt::format("{} carries {}, more than its absolute maximum of {}{}; put a resistor in series", pinName(pin), kernel::formatQuantity(over.worst, kernel::Unit::ampere, 3),
                       kernel::formatQuantity(circuit_.limitOf(pin).amps, kernel::Unit::ampere),
                       length > Duration::zero() ? fmt::format(", for {} in all{}", kernel::formatQuantity(kernel::seconds(length), kernel::Unit::second, 3), over.on ? " so far" : "") : "");
}

std::vector<Finding> World::findings() const
{
    std::vector<Finding> out = findings_;
    for (Finding& f : out)
        if (f.rule == "pin-overload")
            for (const auto& [pin, over] : overloads_)
                if (pinName(pin) == f.where)
                    f.message = overloadText(pin, over);
    return out;
}

std::string World::chipOf(PinId pin) const
{
    const std::string part = pinName(pin).substr(0, pinName(pin).find('.'));
    return std::find(chipIds_.begin(), chipIds_.end(), part) == chipIds_.end() ? std::string() : part;
}

std::optional<chip::AnalogReading> World::analogReading(const PinRef& ref) const
{
    const auto id = pin(ref);
    for (const ChipUnit& unit : chips_)
        if (id && unit.id == ref.part)
            return unit.chip->analogReading(*id);
    return std::nullopt;
}

void World::remark(std::size_t chip, chip::Weight weight, const char* rule, const std::string& text, std::uint32_t code, Time at)
{
    const std::string id = chipIds_[chip];
    const Severity severity = weight == chip::Weight::error ? Severity::error : weight == chip::Weight::note ? Severity::note : Severity::warning;
    report({severity, rule, id + ": " + text.substr(0, text.find(' ')), text, at, code, id});
}

void World::uncertainRead(std::size_t chip, PinId pin, bool floats, circuit::Thresholds thresholds)
{
    const NetId net = circuit_.netOf(pin);
    if (chip >= chips_.size() || !wired_.contains(net))
        return;
    const std::string name = pinName(pin);
    Finding f{.severity = floats ? Severity::warning : Severity::note, .rule = floats ? "floating-input" : "between-thresholds", .where = name, .message = {}, .time = now(), .code = chips_[chip].chip->cause().code, .chip = chipIds_[chip]};
    if (floats)
        f.message = fmt::format("{} is read while nothing drives it: what it reads means nothing; switch its pull-up on or give it a resistor", name);
    else
        f.message = fmt::format("{} is read at {}, between {} (low for sure) and {} (high for sure): it reads what it read before, and on silicon perhaps something else; give it a stronger drive or a comparator", name,
                                kernel::formatQuantity(circuit_.voltage(net).value, kernel::Unit::volt, 3), kernel::formatQuantity(thresholds.low, kernel::Unit::volt, 3), kernel::formatQuantity(thresholds.high, kernel::Unit::volt, 3));
    report(std::move(f));
}

// A chip with firmware and no supply stands still, and nothing else would say why.
void World::reportUnpowered()
{
    for (const ChipUnit& unit : chips_)
        if (!unit.firmwareFile.empty() && std::any_of(supplyPins_.begin(), supplyPins_.end(), [&](const auto& s) { return s != nullptr && s->isOf(*unit.chip) && !s->wired(); }))
            report({Severity::error, "no-supply", unit.id, fmt::format("{} has no supply and stands still; wire its {} and {}", unit.id, unit.device->supply.plus, unit.device->supply.minus), now(), {}, unit.id});
}

std::string World::eepromFile(std::size_t chip) const
{
    if (files_.folder.empty() || chips_[chip].ideal)
        return {};
    return files_.path(chips_[chip].id + ".eeprom.hex").value_or("");
}

}  // namespace bramix::bench
