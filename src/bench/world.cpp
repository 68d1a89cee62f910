#include "bench/world.h"

#include <algorithm>
#include <numeric>

#include <fmt/format.h>

namespace bramix::bench {

using kernel::fail;

namespace {

// The reset pin's own pull-up (30 to 60 kΩ, ATmega328P datasheet table 32-1) and what a finger or a debugger puts on it.
constexpr circuit::Drive kResetPullUp{5.0, 45'000};
constexpr circuit::Drive kResetHeld{0.0, 10};
constexpr circuit::Thresholds kResetThresholds{1.0, 3.0};

constexpr const char* kResetControl = "RESET";

}  // namespace

// A chip's reset line: listens to the net, keeps it up, and can hold it down.
class World::ResetPin final : public circuit::PinListener {
public:
    ResetPin(circuit::Circuit& circuit, PinId pin, PinId hold, chip::avr::Chip& chip, Cause cause) : circuit_(circuit), hold_(hold), chip_(chip), cause_(cause)
    {
        circuit.listen(pin, *this, kResetThresholds);
        circuit.drive(pin, kResetPullUp, cause);
    }

    void hold(bool low) { circuit_.drive(hold_, low ? kResetHeld : circuit::kFloating, cause_); }
    void pinChanged(PinId, bool level, Time) override { chip_.setResetLine(level); }

private:
    circuit::Circuit& circuit_;
    PinId hold_;
    chip::avr::Chip& chip_;
    Cause cause_;
};

// Building happens in the order of the document, so that equal documents give equal worlds.
struct World::Builder {
    World& world;
    const Document& document;
    const Catalogue& catalogue;
    const WorldOptions& options;

    std::vector<PinRef> refs;
    std::map<PinRef, std::size_t> indexOf;
    std::vector<std::size_t> parent;
    std::map<std::size_t, std::string> nameOfRoot;

    std::size_t root(std::size_t i)
    {
        while (parent[i] != i)
            i = parent[i] = parent[parent[i]];
        return i;
    }

    void add(const std::string& part, const PartKind& kind)
    {
        for (const PinKind& p : kind.pins) {
            indexOf[{part, p.name}] = refs.size();
            parent.push_back(refs.size());
            refs.push_back({part, p.name});
        }
        for (const InnerPart& inner : kind.inner)
            if (const PartKind* k = catalogue.find(inner.kind))
                add(part + "/" + inner.id, *k);
    }

    [[nodiscard]] std::size_t index(const PinRef& ref) const
    {
        const PartItem* part = document.part(ref.part);
        const PartKind* kind = part == nullptr ? nullptr : catalogue.find(part->kind);
        const PinKind* pin = kind == nullptr ? nullptr : kind->pin(ref.pin);
        return indexOf.at({ref.part, pin == nullptr ? ref.pin : pin->name});
    }

    // The lower index stays root, so that a net is named after its first pin.
    void join(std::size_t a, std::size_t b)
    {
        a = root(a);
        b = root(b);
        parent[std::max(a, b)] = std::min(a, b);
    }

    void joinAll()
    {
        for (const PartItem& part : document.parts)
            for (const auto& group : catalogue.find(part.kind)->joins)
                for (std::size_t i = 1; i < group.size(); ++i)
                    join(innerIndex(part.id, group[0]), innerIndex(part.id, group[i]));
        for (const WireItem& w : document.wires)
            join(index(w.from), index(w.to));
        std::map<std::string, std::size_t> byName;
        for (const NetItem& n : document.nets)
            for (const PinRef& pin : n.pins) {
                const auto [entry, isNew] = byName.try_emplace(n.name, index(pin));
                if (!isNew)
                    join(entry->second, index(pin));
            }
        for (const auto& [name, pin] : byName)
            nameOfRoot.try_emplace(root(pin), name);
    }

    [[nodiscard]] std::size_t innerIndex(const std::string& part, const std::string& text) const
    {
        const std::size_t point = text.find('.');
        const PinRef ref = point == std::string::npos ? PinRef{part, text} : PinRef{part + "/" + text.substr(0, point), text.substr(point + 1)};
        const auto found = indexOf.find(ref);
        kernel::check(found != indexOf.end(), "a manifest joins a pin that is not there");
        return found->second;
    }

    void makeNets()
    {
        std::map<std::size_t, NetId> netOf;
        for (std::size_t i = 0; i < refs.size(); ++i) {
            const std::size_t r = root(i);
            if (!netOf.contains(r)) {
                const auto named = nameOfRoot.find(r);
                netOf[r] = world.circuit_.addNet(named != nameOfRoot.end() ? named->second : refs[r].text());
            }
            const PinId id = world.circuit_.addPin(netOf[r], refs[i].text());
            world.pins_[refs[i]] = id;
            if (world.circuit_.pinsOf(netOf[r]).size() > 1)
                world.wired_.insert(netOf[r]);
        }
    }

    // Supplies before anything is solved.
    void addSupplies(const std::string& part, const PartKind& kind)
    {
        for (const PinKind& p : kind.pins) {
            const PinId id = world.pins_.at({part, p.name});
            if (p.supplyVolts || p.ground)
                world.circuit_.addSupply(world.circuit_.netOf(id), {p.supplyVolts.value_or(0)}, id);
        }
    }

    Result<void> addPart(const std::string& id, const PartKind& kind, const std::map<std::string, std::string>& set, std::uint32_t actor, const std::string& owner, const std::string& inner)
    {
        if (kind.behaviour.empty())
            return {};
        parts::PartContext context{
            .id = id,
            .queue = world.queue_,
            .circuit = world.circuit_,
            .cause = {actor, Cause::kNoCode},
            .seed = options.seed,
            .pin = [&](std::string_view name) { return world.pins_.at({id, std::string(name)}); },
            .setting =
                [&](std::string_view name) {
                    const auto given = set.find(std::string(name));
                    const SettingKind* known = kind.setting(name);
                    return given != set.end() ? given->second : known != nullptr ? known->standard : std::string();
                },
        };
        auto part = parts::makePart(kind.behaviour, context);
        if (!part)
            return tl::unexpected(part.error());
        if (const parts::Part::Light* light = (*part)->light())
            world.lights_.push_back({owner, inner, context.setting("color"), light->element, light->fullAmps});
        for (const ControlKind& c : kind.controls)
            world.controlsOf_[id].push_back(c.name);
        world.kindOf_[id] = kind.id;
        world.parts_.emplace_back(id, std::move(*part));
        return {};
    }

    void addChip(const PartItem& item, const PartKind& kind, std::uint32_t actor)
    {
        ChipUnit unit;
        unit.id = item.id;
        unit.table = kind.chip;
        chip::avr::ChipOptions chipOptions;
        chipOptions.clockHz = kind.clockHz;
        chipOptions.actor = actor;
        chipOptions.seed = options.seed;
        if (const auto clock = item.set.find("clock"); clock != item.set.end())
            chipOptions.clockHz = static_cast<std::uint64_t>(kernel::parseQuantity(clock->second, kernel::Unit::hertz).value_or(0));
        chip::avr::ChipObserver& observer = world;
        unit.chip = std::make_unique<chip::avr::Chip>(*kind.chip, chipOptions, world.queue_, world.circuit_, observer);
        chip::avr::Chip& chip = *unit.chip;
        for (const PinKind& p : kind.pins) {
            const PinId id = world.pins_.at({item.id, p.name});
            if (p.chipPin == "RESET") {
                const PinId hold = world.circuit_.addPin(world.circuit_.netOf(id), item.id + ".reset-control");
                world.resetPins_.push_back(std::make_unique<ResetPin>(world.circuit_, id, hold, chip, Cause{actor, Cause::kNoCode}));
            } else if (!p.chipPin.empty()) {
                chip.attachPin(p.chipPin, id);
            }
        }
        world.resetControls_.push_back(1);
        world.controlsOf_[item.id].push_back(kResetControl);
        chip.ports().floatingRead = [w = &world, &chip](chip::avr::PortPin pin) {
            const PinId id = chip.ports().idOf(pin);
            if (w->wired_.contains(w->circuit_.netOf(id)))
                w->report({Severity::warning, "floating-input", w->pinName(id),
                           fmt::format("{} is read while nothing drives it: what it reads means nothing; switch its pull-up on or give it a resistor", w->pinName(id)), w->now(),
                           chip.cause().code, w->chips_[w->running_].id, {}});
        };
        world.chips_.push_back(std::move(unit));
        addUarts(item, kind, world.chips_.size() - 1, actor);
    }

    void addUarts(const PartItem& item, const PartKind& kind, std::size_t chipIndex, std::uint32_t actor)
    {
        for (std::size_t i = 0; i < kind.chip->usarts.size(); ++i) {
            const chip::avr::UsartRow& row = kind.chip->usarts[i];
            const auto netOf = [&](chip::avr::PortPin port) { return world.circuit_.netOf(world.chips_[chipIndex].chip->ports().idOf(port)); };
            Uart uart;
            uart.name = fmt::format("{}.{}", item.id, row.name);
            uart.chip = chipIndex;
            uart.index = i;
            const PinId listen = world.circuit_.addPin(netOf(row.txd), uart.name + ".in");
            const PinId drive = world.circuit_.addPin(netOf(row.rxd), uart.name + ".out");
            const auto baud = item.set.find("baud");
            parts::PartContext context{
                .id = uart.name,
                .queue = world.queue_,
                .circuit = world.circuit_,
                .cause = {actor, Cause::kNoCode},
                .seed = options.seed,
                .pin = [&](std::string_view name) { return name == "R" ? listen : drive; },
                .setting = [&](std::string_view) { return baud != item.set.end() ? baud->second : std::string("follow"); },
            };
            auto line = parts::makePart("serial-line", context);
            if (!line) {
                problem = line.error();
                continue;
            }
            uart.line.reset(static_cast<parts::SerialLine*>(line->release()));
            world.uarts_.push_back(std::move(uart));
        }
    }

    void connectUarts()
    {
        for (std::size_t u = 0; u < world.uarts_.size(); ++u) {
            World* w = &world;
            Uart& uart = world.uarts_[u];
            uart.line->follow = [w, u] { return w->lineFormat(w->uarts_[u], false); };
            uart.line->received = [w, u](std::uint8_t byte, bool good, Time at) {
                if (w->observer_ != nullptr)
                    w->observer_->serialByte(u, byte, good, true, at);
            };
            uart.line->sending = [w, u](std::uint8_t byte, Time at) {
                if (w->observer_ != nullptr)
                    w->observer_->serialByte(u, byte, true, false, at);
            };
        }
    }

    Result<void> run()
    {
        for (const PartItem& part : document.parts)
            add(part.id, *catalogue.find(part.kind));
        joinAll();
        makeNets();
        std::uint32_t actor = 0;
        for (const PartItem& part : document.parts) {
            const PartKind& kind = *catalogue.find(part.kind);
            addSupplies(part.id, kind);
            if (auto ok = addPart(part.id, kind, part.set, actor, part.id, ""); !ok)
                return ok;
            for (const InnerPart& inner : kind.inner)
                if (auto ok = addPart(part.id + "/" + inner.id, *catalogue.find(inner.kind), inner.set, actor, part.id, inner.id); !ok)
                    return ok;
            if (kind.chip != nullptr)
                addChip(part, kind, actor);
            ++actor;
        }
        if (problem.what.empty() == false)
            return tl::unexpected(problem);
        connectUarts();
        world.circuit_.seal(&world);
        // A board's serial bridge is powered with the board, and its line idles high.
        for (const Uart& uart : world.uarts_)
            if (catalogue.find(document.part(world.chips_[uart.chip].id)->kind)->listed)
                uart.line->connect();
        std::size_t chip = 0;
        for (const PartItem& part : document.parts) {
            if (catalogue.find(part.kind)->chip == nullptr)
                continue;
            if (!part.firmware.empty()) {
                const bool absolute = part.firmware.front() == '/';
                if (auto ok = world.loadFirmware(chip, absolute || options.folder.empty() ? part.firmware : options.folder + "/" + part.firmware); !ok)
                    return ok;
            } else {
                world.report({Severity::note, "no-firmware", part.id, fmt::format("{} has no firmware and stands still; load an ELF or Intel HEX file into it", part.id), {}, {}, {}, {}});
            }
            ++chip;
        }
        for (const NetItem& n : document.nets)
            if (n.pins.size() == 1)
                world.report({Severity::note, "net-alone", n.name, fmt::format("net {} joins {} to nothing else; give another pin the same name", n.name, n.pins[0].text()), {}, {}, {}, {}});
        return {};
    }

    kernel::Error problem{};
};

World::World(WorldObserver* observer) : observer_(observer), circuit_(queue_), stopAlarm_(queue_, [this](Time) { stop_ = true; }) {}

World::~World() = default;

Result<std::unique_ptr<World>> World::build(const Document& document, const Catalogue& catalogue, const WorldOptions& options, WorldObserver* observer)
{
    std::unique_ptr<World> world(new World(observer));
    world->folder_ = options.folder;
    Builder builder{*world, document, catalogue, options, {}, {}, {}, {}};
    if (auto ok = builder.run(); !ok)
        return tl::unexpected(ok.error());
    return world;
}

Result<void> World::loadFirmware(std::size_t index, const std::string& file)
{
    ChipUnit& unit = chips_[index];
    auto firmware = chip::loadFirmware(file, *unit.table);
    if (!firmware)
        return tl::unexpected(firmware.error());
    if (unit.firmwareFile.empty())
        unit.chip->startAt(now());  // it has stood still so far
    unit.firmware = std::move(*firmware);
    unit.firmwareFile = file;
    unit.chip->loadFlash(unit.firmware.words(), unit.firmware.bootCode);
    unit.chip->powerOn();
    if (!unit.firmware.builtFor.empty() && unit.firmware.builtFor != unit.table->id)
        report({Severity::error, "firmware-other-chip", unit.id,
                fmt::format("{} was built for {}, but {} is a {}: registers and vectors may lie elsewhere; build it with -mmcu={}", file, unit.firmware.builtFor, unit.id, unit.table->title,
                            unit.table->id),
                now(), {}, {}, {}});
    return {};
}

parts::LineFormat World::lineFormat(const Uart& uart, bool towardsChip) const
{
    const chip::avr::Chip& chip = *chips_[uart.chip].chip;
    const chip::avr::UartFormat f = chip.usart(uart.index).format();
    parts::LineFormat out;
    out.bit = chip.clock().span(f.cyclesPerBit);
    out.dataBits = f.dataBits;
    out.parity = static_cast<parts::LineFormat::Parity>(f.parity);
    out.stopBits = f.stopBits;
    out.active = towardsChip ? f.receives : f.transmits;
    return out;
}

void World::runChips(Time until)
{
    if (chips_.size() == 1) {
        running_ = 0;
        if (runs(chips_[0]))
            chips_[0].chip->run(until);
        return;
    }
    // Several chips go in step: always the one that is furthest behind, up to the first clock at which it is not.
    while (!stop_) {
        const Time limit = std::min(until, queue_.nextDue());
        ChipUnit* slowest = nullptr;
        Time second = limit;
        for (ChipUnit& unit : chips_) {
            if (!runs(unit))
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
            return;
        running_ = static_cast<std::size_t>(slowest - chips_.data());
        slowest->chip->run(std::min(limit, second + Duration(1)));
        if (slowest->chip->faulted())
            return;
    }
}

void World::runUntil(Time goal)
{
    stop_ = false;
    for (;;) {
        runChips(std::min(goal, queue_.nextDue()));
        if (faulted() || halted()) {
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

void World::stepInstruction()
{
    if (chips_.empty() || !runs(chips_[0])) {
        runUntil(now() + std::chrono::microseconds(1));
        return;
    }
    running_ = 0;
    chip::avr::Chip& chip = *chips_[0].chip;
    constexpr Duration kLongestSleep = std::chrono::milliseconds(100);
    chip.stepInstruction(now() + kLongestSleep);
    queue_.advanceTo(chip.now());
    for (std::size_t i = 1; i < chips_.size(); ++i) {
        running_ = i;
        if (runs(chips_[i]))
            chips_[i].chip->run(chip.now());
    }
}

void World::requestStop() { stopAlarm_.arm(queue_.now()); }

void World::stopWhenHalted(bool stop)
{
    for (ChipUnit& unit : chips_)
        unit.chip->stopWhenHalted(stop);
}

bool World::halted() const { return !chips_.empty() && chips_[0].chip->cpu().stopAtHalt && chips_[0].chip->halted(); }

bool World::faulted() const
{
    return std::any_of(chips_.begin(), chips_.end(), [](const ChipUnit& unit) { return unit.chip->faulted(); });
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

Result<void> World::setControl(std::string_view part, std::string_view control, double value)
{
    for (std::size_t i = 0; i < chips_.size(); ++i)
        if (chips_[i].id == part && control == kResetControl) {
            resetControls_[i] = value != 0 ? 1 : 0;
            if (i < resetPins_.size())
                resetPins_[i]->hold(value == 0);
            return {};
        }
    for (auto& [id, p] : parts_)
        if (id == part) {
            const auto& known = controlsOf_[id];
            if (std::find(known.begin(), known.end(), control) == known.end())
                return fail(std::string(part), fmt::format("has no live control \"{}\"; it has {}", control, known.empty() ? "none" : fmt::format("{}", fmt::join(known, ", "))));
            p->setControl(control, value);
            return {};
        }
    return fail(std::string(part), "is not a part with live controls on this bench");
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

std::optional<PinId> World::pin(const PinRef& ref) const
{
    const auto found = pins_.find(ref);
    return found == pins_.end() ? std::nullopt : std::optional(found->second);
}

std::optional<std::size_t> World::uartByName(std::string_view name) const
{
    for (std::size_t i = 0; i < uarts_.size(); ++i)
        if (uarts_[i].name == name)
            return i;
    // Without the part where there is only one that it could be.
    std::optional<std::size_t> only;
    for (std::size_t i = 0; i < uarts_.size(); ++i)
        if (uarts_[i].name.substr(uarts_[i].name.find('.') + 1) == name) {
            if (only)
                return std::nullopt;
            only = i;
        }
    return only;
}

std::string World::pinName(PinId pin) const { return circuit_.name(pin); }

void World::adopt(World& old)
{
    const auto carry = [](auto& from, auto& to) {
        kernel::SaveArchive save;
        save(from);
        const kernel::Snapshot snapshot = save.take();
        kernel::LoadArchive load(snapshot);
        load(to);
    };
    WorldObserver* const silent = std::exchange(observer_, nullptr);
    carry(old.queue_, queue_);
    for (auto& [id, part] : parts_)
        for (auto& [oldId, oldPart] : old.parts_)
            if (oldId == id && old.kindOf_[id] == kindOf_[id]) {
                kernel::SaveArchive save;
                oldPart->save(save);
                const kernel::Snapshot snapshot = save.take();
                kernel::LoadArchive load(snapshot);
                part->load(load);
            }
    for (std::size_t i = 0; i < chips_.size(); ++i) {
        chips_[i].chip->startAt(queue_.now());
        for (std::size_t j = 0; j < old.chips_.size(); ++j)
            if (chips_[i].id == old.chips_[j].id && chips_[i].table == old.chips_[j].table && chips_[i].firmwareFile == old.chips_[j].firmwareFile) {
                if (!old.chips_[j].firmwareFile.empty()) {
                    // The image that runs, even where the file has changed since.
                    chips_[i].firmware = old.chips_[j].firmware;
                    chips_[i].chip->loadFlash(chips_[i].firmware.words(), chips_[i].firmware.bootCode);
                }
                carry(*old.chips_[j].chip, *chips_[i].chip);
                resetControls_[i] = old.resetControls_[j];
                resetPins_[i]->hold(resetControls_[i] == 0);
            }
    }
    for (Uart& uart : uarts_)
        for (Uart& oldUart : old.uarts_)
            if (oldUart.name == uart.name)
                carry(*oldUart.line, *uart.line);
    observer_ = silent;
    told_ = old.told_;
    findings_ = old.findings_;
}

void World::report(Finding finding)
{
    if (!told_.insert({finding.rule, finding.where}).second)
        return;
    findings_.push_back(finding);
    if (observer_ != nullptr)
        observer_->finding(finding);
}

void World::netChanged(NetId net, NetState state, Time at, Cause cause)
{
    if (observer_ != nullptr)
        observer_->edge(net, state, at, cause);
}

void World::trouble(circuit::Trouble what, NetId net, PinId pin, PinId other, double amps, Time at, Cause cause)
{
    const std::string name = circuit_.name(net);
    const std::string current = kernel::formatQuantity(amps, kernel::Unit::ampere, 3);
    Finding f{Severity::error, {}, name, {}, at, {}, {}, {}};
    if (cause.code != Cause::kNoCode && !chips_.empty()) {
        f.code = cause.code;
        f.chip = chips_[running_].id;
    }
    switch (what) {
    case circuit::Trouble::conflict:
        f.rule = "outputs-fight";
        f.message = fmt::format("{} and {} drive net {} against each other, {} flows; make one of them an input, or put a resistor between", pinName(pin),
                                other == circuit::kNoPin ? "another output" : pinName(other), name, current);
        break;
    case circuit::Trouble::supplyShort:
        f.rule = "supply-short";
        f.message = fmt::format("{} and {} are supplies of different voltage on one net: a short circuit; remove the wire between them", pinName(pin), pinName(other));
        break;
    case circuit::Trouble::pinOverload:
        f.rule = "pin-overload";
        f.where = pinName(pin);
        f.message = fmt::format("{} carries {}, more than its absolute maximum of 40 mA; put a resistor in series", pinName(pin), current);
        break;
    case circuit::Trouble::noSolution:
        f.rule = "no-solution";
        f.message = fmt::format("the circuit around net {} could not be solved; its voltages are not to be trusted", name);
        break;
    case circuit::Trouble::oscillation:
        f.rule = "oscillation";
        f.message = fmt::format("the circuit around net {} changes without end in one instant; it was stopped there", name);
        break;
    }
    report(std::move(f));
}

void World::chipNote(const char* rule, const std::string& text, std::uint32_t pc, Time at)
{
    const std::string id = chips_.size() > running_ ? chips_[running_].id : std::string("mcu");
    const std::string_view kind(rule);
    const Severity severity = kind.starts_with("uart-") ? Severity::warning : Severity::note;
    report({severity, rule, id + ": " + text.substr(0, text.find(' ')), text, at, pc, id, {}});
}

void World::chipInterrupt(std::uint8_t vector, Time at)
{
    if (observer_ != nullptr)
        observer_->interrupt(running_, vector, at);
}

}  // namespace bramix::bench
