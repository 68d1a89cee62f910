// From a document to a world: pins, nets, supplies, parts, chips and their serial lines.
#include <algorithm>

#include <fmt/format.h>

#include "bench/board_supply.h"
#include "bench/geometry.h"
#include "chip/families.h"
#include "chip/svd.h"
#include "bench/reset_pin.h"
#include "bench/toml_read.h"
#include "bench/wiring_checks.h"
#include "bench/world.h"

namespace bramix::bench {

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

    // "setting=value", or nothing.
    [[nodiscard]] bool holds(const PartItem& part, const std::string& when) const
    {
        if (when.empty())
            return true;
        const std::string name = when.substr(0, when.find('='));
        const auto given = part.set.find(name);
        const SettingKind* known = catalogue.find(part.kind)->setting(name);
        return (given != part.set.end() ? given->second : known != nullptr ? known->standard : std::string()) == when.substr(when.find('=') + 1);
    }

    void joinAll()
    {
        for (const PartItem& part : document.parts)
            for (const PartKind::Join& group : catalogue.find(part.kind)->joins)
                for (std::size_t i = 1; i < group.pins.size() && holds(part, group.when); ++i)
                    join(innerIndex(part.id, group.pins[0]), innerIndex(part.id, group.pins[i]));
        for (const auto& [lead, hole] : pluggedIn(document, catalogue))
            join(index(lead), index(hole));
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
        std::map<std::size_t, int> ends;
        for (std::size_t i = 0; i < refs.size(); ++i) {
            const std::size_t r = root(i);
            if (!netOf.contains(r)) {
                const auto named = nameOfRoot.find(r);
                netOf[r] = world.circuit_.addNet(named != nameOfRoot.end() ? named->second : refs[r].text());
            }
            const PinId id = world.circuit_.addPin(netOf[r], refs[i].text());
            if (const PartItem* owner = document.part(refs[i].part))
                if (const PinKind* pin = catalogue.find(owner->kind)->pin(refs[i].pin))
                    for (const std::string& alias : pin->aliases)
                        world.aliases_[{refs[i].part, alias}] = refs[i];
            world.pins_[refs[i]] = id;
            // The holes of a breadboard join, and are no end of anything.
            const PartItem* part = document.part(refs[i].part);
            const PartKind* kind = part == nullptr ? nullptr : catalogue.find(part->kind);
            if ((kind == nullptr || !kind->plugs) && ++ends[r] > 1)
                world.wired_.insert(netOf[r]);
        }
    }

    // Supplies before anything is solved.
    void addSupplies(const std::string& part, const PartKind& kind)
    {
        if (kind.behaviour == "supply")
            return;  // as its setting says: see addPart()
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
            .remark = [w = &world, id](const parts::Remark& r) { w->partRemark(id, r); },
            .files = world.files_,
        };
        const std::size_t elements = world.circuit_.elementCount(), pins = world.circuit_.pinCount();
        auto part = parts::makePart(kind.behaviour, context);
        if (!part)
            return tl::unexpected(part.error());
        world.added_.push_back({id, {elements, world.circuit_.elementCount(), pins, world.circuit_.pinCount()}});
        for (const parts::Part::Light& light : (*part)->lights())
            world.lights_.push_back({owner, inner.empty() ? light.name : inner, light.color, light.element, light.fullAmps});
        for (const ControlKind& c : kind.controls)
            world.controlsOf_[id].push_back(c.name);
        world.kindOf_[id] = kind.id;
        world.settingsOf_[id] = set;
        world.parts_.emplace_back(id, std::move(*part));
        return {};
    }

    // The frequency of a crystal whose two ends are on these pins, or 0.
    std::uint64_t crystalAt(const std::string& id, const PartKind& kind)
    {
        const auto rootOf = [&](std::string_view function) -> std::optional<std::size_t> {
            for (const PinKind& p : kind.pins)
                if (p.name == function || (" " + p.about + " ").find(" " + std::string(function) + " ") != std::string::npos)
                    return root(indexOf.at({id, p.name}));
            return std::nullopt;
        };
        const auto one = kind.chip->crystal ? rootOf(kind.chip->crystal->one) : std::nullopt;
        const auto two = kind.chip->crystal ? rootOf(kind.chip->crystal->two) : std::nullopt;
        if (!one || !two)
            return 0;
        for (const PartItem& part : document.parts) {
            const PartKind& other = *catalogue.find(part.kind);
            if (other.behaviour != "crystal")
                continue;
            const std::size_t a = root(indexOf.at({part.id, "1"}));
            const std::size_t b = root(indexOf.at({part.id, "2"}));
            if ((a == *one && b == *two) || (a == *two && b == *one)) {
                const auto given = part.set.find("frequency");
                return static_cast<std::uint64_t>(kernel::parseQuantity(given != part.set.end() ? given->second : other.setting("frequency")->standard, kernel::Unit::hertz).value_or(0) + 0.5);
            }
        }
        return 0;
    }

    void addChip(const PartItem& item, const PartKind& kind, std::uint32_t actor)
    {
        const std::size_t elements = world.circuit_.elementCount(), pins = world.circuit_.pinCount();
        ChipUnit unit;
        unit.id = item.id;
        unit.device = kind.chip;
        unit.ideal = kind.ideal;
        const chip::Device& device = *kind.chip;
        chip::McuOptions chipOptions;
        chipOptions.clockHz = kind.clockHz != 0 ? kind.clockHz : crystalAt(item.id, kind);
        chipOptions.hasCrystal = chipOptions.clockHz != 0;
        chipOptions.startsAtOnce = kind.ideal;
        chipOptions.actor = actor;
        chipOptions.seed = options.seed;
        if (const auto clock = item.set.find("clock"); clock != item.set.end())
            chipOptions.clockHz = static_cast<std::uint64_t>(kernel::parseQuantity(clock->second, kernel::Unit::hertz).value_or(0));
        if (const auto given = item.set.find("pull-up"); given != item.set.end()) {
            const auto ohms = kernel::parseQuantity(given->second, kernel::Unit::ohm);
            if (!ohms || *ohms < device.leastPullUpOhms || *ohms > device.mostPullUpOhms) {
                problem = {.where = item.id + ".pull-up", .what = fmt::format("\"{}\"; expected {} to {}", given->second, kernel::formatQuantity(device.leastPullUpOhms, kernel::Unit::ohm), kernel::formatQuantity(device.mostPullUpOhms, kernel::Unit::ohm)), .next = {}};
                return;
            }
            chipOptions.pullUpOhms = *ohms;
        }
        chipOptions.options = kind.options;
        for (const auto& [name, value] : item.set)
            if (const SettingKind* s = kind.setting(name); s != nullptr && s->type == "fuse")
                (void)chip::setOption(device, chipOptions.options, name, value);  // checkDocument has seen to it
        const PinKind* vcc = nullptr;
        const PinKind* ground = nullptr;
        for (const PinKind& p : kind.pins) {
            if (p.chipPin == device.supply.plus && !p.supplyVolts)
                vcc = &p;
            if (p.chipPin == device.supply.minus && !p.ground)
                ground = &p;
        }
        const bool wiredSupply = vcc != nullptr && ground != nullptr;
        chipOptions.supplyVolts = wiredSupply ? 0 : device.supply.usualVolts;
        world.chipIds_.push_back(item.id);
        world.listeners_.push_back(std::make_unique<ChipListener>(world, world.chipIds_.size() - 1));
        unit.chip = chip::makeMcu(device, chipOptions, world.queue_, world.circuit_, *world.listeners_.back());
        chip::Mcu& chip = *unit.chip;
        std::unique_ptr<ResetPin> reset;
        for (const PinKind& p : kind.pins) {
            const PinId id = world.pins_.at({item.id, p.name});
            if (device.resetInput && p.chipPin == device.resetInput->pin && chip.hasResetInput()) {
                const PinId hold = world.circuit_.addPin(world.circuit_.netOf(id), item.id + ".reset-control");
                reset = std::make_unique<ResetPin>(world.circuit_, id, hold, chip, Cause{actor, Cause::kNoCode});
            } else if (!p.chipPin.empty()) {
                chip.attachPin(p.chipPin, id);
            }
        }
        world.supplyPins_.push_back(nullptr);
        if (wiredSupply)
            world.supplyPins_.back() = std::make_unique<SupplyPins>(world.queue_, world.circuit_, world.pins_.at({item.id, vcc->name}), world.pins_.at({item.id, ground->name}), chip, reset.get(), item.id);
        if (wiredSupply)
            world.supplyPins_.back()->wrong = [w = &world, id = item.id](const char* rule, std::string message) { w->report({.severity = Severity::error, .rule = rule, .where = id, .message = std::move(message), .time = w->now(), .chip = id}); };
        world.resetPins_.push_back(std::move(reset));
        world.resetControls_.push_back(1);
        world.controlsOf_[item.id].push_back(kResetControl);
        world.chips_.push_back(std::move(unit));
        addUarts(item, kind, world.chips_.size() - 1, actor);
        addBoardSupply(item, kind, actor);
        world.added_.push_back({item.id, {elements, world.circuit_.elementCount(), pins, world.circuit_.pinCount()}});
    }

    void addBoardSupply(const PartItem& item, const PartKind& kind, std::uint32_t actor)
    {
        const auto setting = [&](const char* name) {
            const auto given = item.set.find(name);
            return given != item.set.end() ? given->second : kind.setting(name)->standard;
        };
        if (kind.setting("usb-limit") == nullptr || kind.pin("VIN") == nullptr || options.steady)
            return;
        BoardSupplySettings s;
        s.fromVin = setting("supply") == "VIN";
        const auto read = [&](const char* name, kernel::Unit unit, double least, double most, double& into) {
            const auto value = kernel::parseQuantity(setting(name), unit);
            if (!value || *value < least || *value > most)
                problem = {.where = item.id + "." + name, .what = fmt::format("\"{}\"; expected {} to {}", setting(name), kernel::formatQuantity(least, unit), kernel::formatQuantity(most, unit)), .next = {}};
            else
                into = *value;
        };
        read("usb-limit", kernel::Unit::ampere, 0.01, 10, s.usbLimit);
        read("usb-resistance", kernel::Unit::ohm, 0, 100, s.usbOhms);
        read("regulator-limit", kernel::Unit::ampere, 0.01, 10, s.regulatorLimit);
        read("regulator-drop", kernel::Unit::volt, 0, 5, s.regulatorDrop);
        read("regulator-power", kernel::Unit::watt, 0.01, 100, s.regulatorWatts);
        read("3v3-limit", kernel::Unit::ampere, 0.001, 10, s.limit3);
        const auto at = [&](const char* pin) { return world.pins_.at({item.id, pin}); };
        const auto load = world.circuit_.addResistor(world.circuit_.netOf(at("VIN")), world.circuit_.netOf(at("GND")), {1e9}, item.id + ".supply");
        world.boardSupplies_.push_back(std::make_unique<BoardSupply>(world, world.chips_.size() - 1, item.id, at("5V"), kind.pin("3V3") == nullptr ? std::nullopt : std::optional(at("3V3")), at("VIN"), load, Cause{actor, Cause::kNoCode}, s));
    }

    void addUarts(const PartItem& item, const PartKind& kind, std::size_t chipIndex, std::uint32_t actor)
    {
        const std::vector<chip::SerialPort>& ports = world.chips_[chipIndex].chip->serialPorts();
        for (std::size_t i = 0; i < ports.size(); ++i) {
            // One that no pin shows has no line.
            if (ports[i].transmit == circuit::kNoPin || ports[i].receive == circuit::kNoPin)
                continue;
            Uart uart;
            uart.name = fmt::format("{}.{}", item.id, ports[i].name);
            uart.chip = chipIndex;
            uart.index = i;
            const PinId listen = world.circuit_.addPin(world.circuit_.netOf(ports[i].transmit), uart.name + ".in");
            const PinId drive = world.circuit_.addPin(world.circuit_.netOf(ports[i].receive), uart.name + ".out");
            const auto baud = item.set.find("baud");
            parts::PartContext context{
                .id = uart.name,
                .queue = world.queue_,
                .circuit = world.circuit_,
                .cause = {actor, Cause::kNoCode},
                .seed = options.seed,
                .pin = [&](std::string_view name) { return name == "R" ? listen : drive; },
                .setting = [&](std::string_view name) { return name != "baud" ? std::string() : baud != item.set.end() ? baud->second : std::string("follow"); },
                .remark = {},
                .files = {},
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
            uart.line->otherRate = [w, u](double heard, double expected, Time at) {
                Finding f;
                f.severity = Severity::warning;
                f.rule = "serial-rate";
                f.where = w->uarts_[u].name;
                f.time = at;
                f.message = fmt::format("{} sends at about {:.0f} baud, measured, and its serial line is set to {:.0f}: what comes is garbled, as on a wire; set both to one rate, or the line to follow", f.where, heard, expected);
                w->report(std::move(f));
            };
            uart.line->sending = [w, u](std::uint8_t byte, Time at) {
                if (w->observer_ != nullptr)
                    w->observer_->serialByte(u, byte, true, false, at);
            };
        }
    }

    // Where a hand has left them.
    void placeControls()
    {
        for (const PartItem& part : document.parts)
            for (const auto& [name, value] : part.controls)
                (void)world.setControl(part.id, name, value);  // checkDocument has seen to it
    }

    // Those that turn by themselves. An operating point is taken as a hand has left them.
    Result<void> makeFollowers()
    {
        for (const PartItem& part : document.parts)
            for (const auto& [name, given] : part.follow) {
                const ControlKind& control = *catalogue.find(part.kind)->control(name);
                FollowItem item = given;
                if (!item.csv.empty()) {
                    const auto path = world.files_.path(item.csv);
                    if (!path)
                        return tl::unexpected(path.error());
                    const std::string& file = *path;
                    const auto text = readTextFile(file);
                    if (!text)
                        return tl::unexpected(text.error());
                    auto curve = parseCurve(file, *text);
                    if (!curve)
                        return tl::unexpected(curve.error());
                    item.curve = std::move(*curve);
                }
                if (item.empty())
                    continue;
                World* w = &world;
                world.followers_[{part.id, name}] =
                    std::make_unique<Follower>(world.queue_, std::move(item), control.least, control.most, world.control(part.id, name), kernel::Random(options.seed, part.id + "." + name),
                                               [w, id = part.id, name = name](double value) {
                                                   for (auto& [owner, p] : w->parts_)
                                                       if (owner == id)
                                                           p->setControl(name, value);
                                               });
            }
        return {};
    }

    void watchLoads()
    {
        for (std::size_t c = 0; c < world.chips_.size(); ++c) {
            if (world.supplyPins_[c] == nullptr)
                continue;
            std::vector<PinId> pins;
            for (const PinKind& p : catalogue.find(document.part(world.chips_[c].id)->kind)->pins)
                if (const PinId id = world.pins_.at({world.chips_[c].id, p.name}); world.circuit_.limitOf(id).group != circuit::Circuit::kNoGroup)
                    pins.push_back(id);
            world.supplyPins_[c]->watchPins(pins);
        }
    }

    // Parts that would answer at once.
    void checkBusAddresses()
    {
        std::map<std::pair<NetId, std::uint8_t>, std::string> taken;
        for (const auto& [id, part] : world.parts_)
            for (const std::uint8_t address : part->busAddresses())
                if (const auto data = world.pin({id, "SDA"})) {
                    const auto [entry, isFirst] = taken.try_emplace({world.circuit_.netOf(*data), address}, id);
                    if (!isFirst)
                        world.report({.severity = Severity::error, .rule = "bus-address-twice", .where = id,
                                      .message = fmt::format("{} and {} both answer to 0x{:02X} on one bus: their answers mix; give one another address", entry->second, id, address), .wiring = true});
                }
    }

    // Without them the chip's own are as good as ever: a description that cannot be read is told, and stops nothing.
    void readRegisters(const PartItem& part, ChipUnit& unit)
    {
        const auto path = world.files_.path(part.registers);
        const auto text = path ? kernel::readFile(*path, chip::kLargestSvd) : Result<std::string>(tl::unexpected(path.error()));
        auto map = text ? chip::readSvd(*path, *text) : Result<chip::RegisterMap>(tl::unexpected(text.error()));
        if (!map)
            return world.report({.severity = Severity::error, .rule = "registers-unreadable", .where = part.id, .message = fmt::format("{}: {} shows the registers that Bramix knows of it", map.error().text(), part.id), .wiring = true});
        unit.ownRegisters = std::make_shared<const chip::RegisterMap>(std::move(*map));
    }

    Result<void> run()
    {
        if (options.steady)
            world.circuit_.beSteady();
        world.queue_.advanceTo(options.from);
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
        for (const PartItem& part : document.parts)
            for (const auto& [rule, reason] : part.mute)
                world.mutes_[{part.id, rule}] = reason;
        watchLoads();
        world.circuit_.seal(&world);
        if (options.steady) {
            for (const auto& [id, part] : world.parts_)
                part->wired();
            placeControls();
            return {};
        }
        const Wiring wiring{document, catalogue, world.circuit_, [this](const PinRef& ref) { return world.pin(ref); }};
        for (const Finding& f : checkWiring(wiring))
            world.report(f);
        for (const auto& [id, part] : world.parts_)
            part->wired();
        placeControls();
        if (auto ok = makeFollowers(); !ok)
            return ok;
        checkBusAddresses();
        for (const Finding& f : checkPowered(wiring))
            world.report(f);
        // A board's serial bridge is powered with the board, and its line idles high.
        for (const Uart& uart : world.uarts_)
            if (uart.name == world.chips_[uart.chip].id + "." + catalogue.find(document.part(world.chips_[uart.chip].id)->kind)->bridge)
                uart.line->connect();
        for (const auto& supply : world.supplyPins_)
            if (supply != nullptr)
                supply->look();
        for (const auto& supply : world.boardSupplies_)
            supply->look();
        std::size_t chip = 0;
        for (const PartItem& part : document.parts) {
            if (catalogue.find(part.kind)->chip == nullptr)
                continue;
            if (!part.registers.empty())
                readRegisters(part, world.chips_[chip]);
            if (!part.firmware.empty()) {
                const auto path = world.files_.path(part.firmware);
                if (auto ok = path ? world.loadFirmware(chip, *path) : Result<void>(tl::unexpected(path.error())); !ok) {
                    if (!options.keepGoing)
                        return ok;
                    world.chips_[chip].unreadable = true;
                    world.report({.severity = Severity::error, .rule = "firmware-unreadable", .where = part.id, .message = fmt::format("{}: {} keeps what it ran before, if anything", ok.error().text(), part.id), .wiring = true});
                }
            } else {
                world.report({Severity::note, "no-firmware", part.id, fmt::format("{} has no firmware and stands still; load an ELF or Intel HEX file into it", part.id), {}});
            }
            ++chip;
        }
        world.reportUnpowered();
        for (const NetItem& n : document.nets)
            if (n.pins.size() == 1)
                world.report({Severity::note, "net-alone", n.name, fmt::format("net {} joins {} to nothing else; give another pin the same name", n.name, n.pins[0].text()), {}});
        return {};
    }

    kernel::Error problem{};
};

Result<std::unique_ptr<World>> World::build(const Document& document, const Catalogue& catalogue, const WorldOptions& options, WorldObserver* observer)
{
    std::unique_ptr<World> world(new World(observer));
    world->files_ = {options.folder, options.confined, options.allowed};
    Builder builder{*world, document, catalogue, options, {}, {}, {}, {}};
    if (auto ok = builder.run(); !ok)
        return tl::unexpected(ok.error());
    return world;
}

}  // namespace bramix::bench
