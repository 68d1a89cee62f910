#include "bench/wiring_checks.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace bramix::bench {

namespace {

using circuit::NetId;

struct Lead {
    const PartItem* part;
    const PartKind* kind;
    const PinKind* pin;
};

class Checks {
public:
    explicit Checks(const Wiring& wiring) : wiring_(wiring)
    {
        for (const PartItem& part : wiring.document.parts)
            if (const PartKind* kind = wiring.catalogue.find(part.kind); kind != nullptr && !kind->plugs)
                for (const PinKind& pin : kind->pins)
                    if (const auto net = netOf(part.id, pin.name))
                        leads_[*net].push_back({&part, kind, &pin});
    }

    std::vector<Finding> runPowered()
    {
        checkLevels();
        checkFed();
        return std::move(out_);
    }

    std::vector<Finding> run()
    {
        for (const PartItem& part : wiring_.document.parts)
            if (const PartKind* kind = wiring_.catalogue.find(part.kind); kind != nullptr && kind->chip == nullptr && !kind->plugs)
                checkPart(part, *kind);
        checkGround();
        checkBuses();
        checkOutputs();
        return std::move(out_);
    }

private:
    void tell(Severity severity, const char* rule, const std::string& where, std::string message) { out_.push_back({.severity = severity, .rule = rule, .where = where, .message = std::move(message), .wiring = true}); }

    [[nodiscard]] std::optional<NetId> netOf(const std::string& part, const std::string& pin) const
    {
        const auto id = wiring_.pin({part, pin});
        return id ? std::optional(wiring_.circuit.netOf(*id)) : std::nullopt;
    }
    // Another part, or another pin of this one, is on this net too.
    [[nodiscard]] bool joined(const PartItem& part, const PinKind& pin) const
    {
        const auto net = netOf(part.id, pin.name);
        return net && leads_.at(*net).size() > 1;
    }

    // Small letters are milli, and an address without 0x is decimal: both are often meant otherwise.
    void checkUnits(const PartItem& part, const PartKind& kind)
    {
        for (const auto& [name, value] : part.set) {
            const SettingKind* setting = kind.setting(name);
            if (setting == nullptr || value.empty())
                continue;
            if (setting->type == "ohm" && value.back() == 'm')
                tell(Severity::note, "doubtful-unit", part.id, fmt::format("{}.{} is {}, which is in milliohms; a megohm is written {}M", part.id, name, value, value.substr(0, value.size() - 1)));
            if (name == "address" && value.find_first_not_of("0123456789") == std::string::npos)
                tell(Severity::note, "doubtful-unit", part.id, fmt::format("{}.{} is {} in decimal, which is 0x{:02X}; with 0x in front it is hexadecimal", part.id, name, value, std::stoul(value.substr(0, 6))));
        }
    }

    void checkPart(const PartItem& part, const PartKind& kind)
    {
        checkUnits(part, kind);
        const auto wired = static_cast<std::size_t>(std::count_if(kind.pins.begin(), kind.pins.end(), [&](const PinKind& p) { return joined(part, p); }));
        if (wired == 0) {
            if (kind.pins.size() > 1)
                tell(Severity::note, "part-unwired", part.id, fmt::format("{} is wired to nothing", part.id));
            return;
        }
        if (kind.pins.size() == 2 && wired == 1) {
            const PinKind& loose = joined(part, kind.pins[0]) ? kind.pins[1] : kind.pins[0];
            tell(Severity::warning, "lead-loose", part.id + "." + loose.name, fmt::format("{}.{} is wired to nothing, so no current can pass through {}; give it its wire", part.id, loose.name, part.id));
        }
        for (const char* supply : kSupplyPins)
            if (const PinKind* pin = kind.pin(supply); pin != nullptr && !pin->supplyVolts && !pin->ground && !joined(part, *pin) && kind.behaviour != "bench-supply" && kind.behaviour != "joystick" && kind.behaviour != "encoder")
                tell(Severity::error, "no-supply", part.id, fmt::format("{} has nothing on its supply pin {} and cannot work; wire it to a supply or to ground", part.id, supply));
        for (const PinKind& pin : kind.pins)
            if (!pin.must.empty() && !joined(part, pin))
                tell(Severity::warning, "input-open", part.id + "." + pin.name, fmt::format("{}.{} is left open: {}", part.id, pin.name, pin.must));
        if (kind.behaviour == "led" && wired == 2) {
            const auto anode = netOf(part.id, "A");
            const auto cathode = netOf(part.id, "K");
            std::set<NetId> seen;
            if (*anode == *cathode)
                tell(Severity::warning, "part-shorted", part.id, fmt::format("both leads of {} are on one net: it can never shine", part.id));
            else if (isFirm(*anode, seen) && (seen.clear(), isFirm(*cathode, seen)))
                tell(Severity::error, "led-without-resistor", part.id, fmt::format("nothing limits the current of {}: between two firm voltages it takes what they give; put a resistor in series", part.id));
        }
        if (kind.behaviour == "led" && wired == 2) {
            checkNeverForward(part);
            checkDirection(part);
        }
        if ((kind.behaviour == "inductor" || kind.behaviour == "relay") && joined(part, *kind.pin("1")) && joined(part, *kind.pin("2")))
            checkCoil(part, "1", "2");
        if (kind.behaviour == "motor" && wired == 2)
            checkCoil(part, "+", "-");
    }

    // The least and the greatest voltage that a net can come to, through resistors: of fixed voltages, and of chips' pins whatever firmware does. Nothing where
    // anything else has a say.
    std::optional<std::pair<double, double>> range(NetId net, const std::string& without, std::set<NetId>& seen) const
    {
        if (wiring_.circuit.isRail(net)) {
            const double volts = wiring_.circuit.voltage(net).value;
            return std::pair(volts, volts);
        }
        std::pair<double, double> out{INFINITY, -INFINITY};
        if (!seen.insert(net).second)
            return out;  // what lies beyond has been looked at
        const auto found = leads_.find(net);
        if (found == leads_.end())
            return std::nullopt;
        for (const Lead& lead : found->second) {
            if (lead.part->id == without || (lead.kind->behaviour == "multimeter"))
                continue;
            std::optional<std::pair<double, double>> other;
            if (lead.kind->chip != nullptr && !lead.pin->chipPin.empty()) {
                other = std::pair(0.0, supplyOf(lead).value_or(5));
            } else if (lead.kind->behaviour == "resistor") {
                const auto far = netOf(lead.part->id, lead.pin->name == "1" ? "2" : "1");
                other = far ? range(*far, without, seen) : std::nullopt;
            }
            if (!other)
                return std::nullopt;
            out = {std::min(out.first, other->first), std::max(out.second, other->second)};
        }
        return out;
    }

    // An LED whose anode can never come above its cathode, whatever its pins do.
    void checkNeverForward(const PartItem& led)
    {
        constexpr double kLeastForward = 1.0;
        std::set<NetId> seen;
        const auto anode = range(*netOf(led.id, "A"), led.id, seen);
        seen.clear();
        const auto cathode = range(*netOf(led.id, "K"), led.id, seen);
        const auto known = [](const auto& r) { return r && r->first <= r->second; };
        if (known(anode) && known(cathode) && anode->second - cathode->first < kLeastForward && cathode->second - anode->first > kLeastForward)
            tell(Severity::warning, "reversed-polarity", led.id, fmt::format("{} lies the wrong way round: its anode comes to {:.3g} V at most and its cathode to {:.3g} V at least, so it never shines; turn it round", led.id, anode->second, cathode->first));
    }

    // An LED that lies the wrong way round and that nothing on this bench could turn about.
    void checkDirection(const PartItem& led)
    {
        const NetId anode = *netOf(led.id, "A");
        const NetId cathode = *netOf(led.id, "K");
        const double volts = wiring_.circuit.voltage(anode).value - wiring_.circuit.voltage(cathode).value;
        if (volts > -0.5)
            return;
        static const std::set<std::string, std::less<>> kSteady{"led", "resistor", "diode", "potentiometer", "sensing-resistor", "battery", "bench-supply"};
        for (const circuit::ElementId e : wiring_.circuit.neighbours(wiring_.circuit.isRail(anode) ? cathode : anode)) {
            const std::string& name = wiring_.circuit.name(e);
            const PartItem* part = wiring_.document.part(name.substr(0, name.find(' ')));
            const PartKind* kind = part == nullptr ? nullptr : wiring_.catalogue.find(part->kind);
            if (kind == nullptr || !kSteady.contains(kind->behaviour))
                return;
        }
        for (const NetId net : {anode, cathode})
            for (const Lead& lead : leads_.at(net))
                if (lead.kind->chip != nullptr && !wiring_.circuit.isRail(net))
                    return;
        if (std::any_of(out_.begin(), out_.end(), [&](const Finding& f) { return f.where == led.id && f.rule == "reversed-polarity"; }))
            return;
        tell(Severity::warning, "reversed-polarity", led.id, fmt::format("{} lies the wrong way round, with {:.3g} V against it: it never shines; turn it round", led.id, -volts));
    }

    // Held at a voltage by something that gives as much current as it is asked for.
    bool isFirm(NetId net, std::set<NetId>& seen) const
    {
        if (!seen.insert(net).second)
            return false;
        if (wiring_.circuit.isRail(net))
            return true;
        const auto found = leads_.find(net);
        if (found == leads_.end())
            return false;
        for (const Lead& lead : found->second) {
            const std::string& b = lead.kind->behaviour;
            const std::string& pin = lead.pin->name;
            if (lead.kind->chip != nullptr && (!lead.pin->chipPin.empty() || lead.pin->supplyVolts))
                return true;
            if (lead.pin->supplyVolts || lead.pin->ground || b == "bench-supply" || b == "battery" || b == "supply" || ((b == "op-amp" || b == "comparator") && pin == "OUT"))
                return true;
            // Through what hardly resists.
            static const std::map<std::string, std::vector<std::vector<std::string>>, std::less<>> kThrough{
                {"push-button", {{"1", "2"}}}, {"slide-switch", {{"C", "A"}, {"C", "B"}}}, {"bipolar", {{"C", "E"}}}, {"mosfet", {{"D", "S"}}}, {"diode", {{"A", "K"}}}};
            const auto through = kThrough.find(b);
            if (through == kThrough.end())
                continue;
            for (const auto& pair : through->second)
                for (std::size_t i = 0; i < 2; ++i)
                    if (pair[i] == pin)
                        if (const auto other = netOf(lead.part->id, pair[1 - i]); other && isFirm(*other, seen))
                            return true;
        }
        return false;
    }

    // A coil that something switches wants a diode across it.
    void checkCoil(const PartItem& coil, const char* one, const char* other)
    {
        const NetId a = *netOf(coil.id, one);
        const NetId b = *netOf(coil.id, other);
        bool switched = false;
        bool guarded = false;
        for (const NetId net : {a, b})
            for (const Lead& lead : leads_.at(net)) {
                const std::string& kind = lead.kind->behaviour;
                switched = switched || kind == "bipolar" || kind == "mosfet" || kind == "push-button" || kind == "slide-switch";
                guarded = guarded || kind == "bridge";  // has its own
                if (kind == "diode") {
                    const auto anode = netOf(lead.part->id, "A");
                    const auto cathode = netOf(lead.part->id, "K");
                    guarded = guarded || (anode && cathode && ((*anode == a && *cathode == b) || (*anode == b && *cathode == a)));
                }
            }
        if (switched && !guarded)
            tell(Severity::warning, "coil-without-diode", coil.id, fmt::format("{} is switched and has no diode across it: switched off, it kicks to hundreds of volts; put a diode across it, cathode to the plus side", coil.id));
    }

    void checkGround()
    {
        bool floats = false;
        std::set<double> rails;
        for (const auto& [net, leads] : leads_)
            for (const Lead& lead : leads) {
                // One fixed voltage alone drives nothing: it takes another, which as a rule is ground.
                if (leads.size() > 1 && wiring_.circuit.isRail(net) && (lead.pin->ground || lead.kind->behaviour == "supply"))
                    rails.insert(lead.pin->ground ? 0 : wiring_.circuit.voltage(net).value);
                if (rails.contains(0) || rails.size() > 1)
                    return;
                floats = floats || !rails.empty() || ((lead.kind->behaviour == "battery" || lead.kind->behaviour == "generator" || lead.kind->behaviour == "current-source" || lead.kind->behaviour == "voltage-source") && leads.size() > 1);
            }
        if (floats)
            tell(Severity::warning, "no-ground", "bench", "nothing on this bench is joined to ground, so its voltages have nothing to be measured from; put a ground where they shall be 0 V");
    }

    // The data and clock line of a two-wire bus need a resistor each to the supply.
    void checkBuses()
    {
        for (const auto& [net, leads] : leads_) {
            std::string line;
            std::set<std::string> members;
            for (const Lead& lead : leads)
                if (const char* function = busLine(lead); function != nullptr) {
                    line = function;
                    members.insert(lead.part->id);
                }
            if (members.size() > 1 && !wiring_.circuit.isRail(net) && wiring_.circuit.neighbours(net).empty())
                tell(Severity::warning, "bus-without-pull-up", wiring_.circuit.name(net),
                     fmt::format("net {} is {} of {} and nothing pulls it up; put 4.7 kΩ to the supply", wiring_.circuit.name(net), line, fmt::join(members, ", ")));
        }
    }

    // "SDA" or "SCL" of a part or a chip that has such a bus, or null.
    [[nodiscard]] static const char* busLine(const Lead& lead)
    {
        for (const char* function : {"SDA", "SCL"})
            if ((" " + lead.pin->about + " ").find(std::string(" ") + function + " ") != std::string::npos || lead.pin->name == function)
                return function;
        return nullptr;
    }

    // Two that drive one net all the time are against each other sooner or later, whatever firmware does.
    void checkOutputs()
    {
        for (const auto& [net, leads] : leads_) {
            std::vector<std::string> drivers;
            for (const Lead& lead : leads)
                if (lead.pin->output && !letsGo(lead))
                    drivers.push_back(lead.part->id + "." + lead.pin->name);
            if (drivers.size() > 1)
                tell(Severity::error, "outputs-joined", drivers[1], fmt::format("{} are outputs on one net: as soon as they differ they fight; give each its own net", fmt::join(drivers, " and ")));
        }
    }

    // Its outputs may float: something else than ground is on its output enable.
    [[nodiscard]] bool letsGo(const Lead& lead) const
    {
        const auto enable = lead.kind->pin("OE") == nullptr ? std::nullopt : netOf(lead.part->id, "OE");
        return enable && !(wiring_.circuit.isRail(*enable) && wiring_.circuit.voltage(*enable).value < 0.5);
    }

    // Supply pins that are wired, but to nothing that would feed them: to other parts' supply pins alone.
    void checkFed()
    {
        constexpr double kUnfedVolts = 0.3;
        std::set<std::string> told;
        for (const auto& [net, leads] : leads_) {
            if (leads.size() < 2 || wiring_.circuit.isRail(net) || std::fabs(wiring_.circuit.voltage(net).value) > kUnfedVolts)
                continue;
            const auto& pins = wiring_.circuit.pinsOf(net);
            if (std::any_of(pins.begin(), pins.end(), [&](circuit::PinId p) { return !wiring_.circuit.driveOf(p).floating(); }))
                continue;
            for (const Lead& lead : leads) {
                if (!isSupplyPin(lead) || !told.insert(lead.part->id).second)
                    continue;
                const auto& around = wiring_.circuit.neighbours(net);
                const bool onlyLoads = std::all_of(around.begin(), around.end(), [&](circuit::ElementId e) {
                    const std::string& name = wiring_.circuit.name(e);
                    return name.ends_with(".supply") || name.ends_with(" line");
                });
                if (onlyLoads)
                    tell(Severity::error, "no-supply", lead.part->id, fmt::format("nothing feeds {}.{}: what it is joined to gives no voltage; wire it to a supply or to ground", lead.part->id, lead.pin->name));
            }
        }
    }

    [[nodiscard]] static bool isSupplyPin(const Lead& lead)
    {
        if (lead.pin->supplyVolts || lead.pin->ground || lead.kind->behaviour == "supply" || lead.kind->behaviour == "bench-supply")
            return false;
        return std::any_of(kSupplyPins.begin(), kSupplyPins.end(), [&](const char* name) { return lead.pin->name == name; });
    }

    // A part on a lower supply does not stand what one on a higher supply drives, or what a resistor to the higher supply pulls up.
    void checkLevels()
    {
        constexpr double kTolerated = 0.6;  // the protection diode begins to conduct
        for (const auto& [net, leads] : leads_) {
            if (wiring_.circuit.isRail(net))
                continue;
            const Lead* lowest = nullptr;
            double least = 0;
            for (const Lead& lead : leads)
                if (const auto volts = supplyOf(lead); volts && (lowest == nullptr || *volts < least)) {
                    lowest = &lead;
                    least = *volts;
                }
            if (lowest == nullptr)
                continue;
            const std::string pin = lowest->part->id + "." + lowest->pin->name;
            // Where the part on the lower supply is the one that drives, the other pin listens.
            if (lowest->pin->output || drivesNow(*lowest))
                continue;
            const Lead* driver = nullptr;
            for (const Lead& lead : leads)
                if (const auto volts = supplyOf(lead); volts && *volts > least + kTolerated && busLine(lead) == nullptr && (!lead.pin->chipPin.empty() || lead.pin->output || drivesNow(lead)))
                    driver = &lead;
            if (driver != nullptr) {
                tell(Severity::warning, "signal-too-high", pin,
                     fmt::format("{} is on {:.3g} V and {} on {:.3g} V drives it: more than its input stands; put a divider or a level shifter between", pin, least, driver->part->id + "." + driver->pin->name, *supplyOf(*driver)));
                continue;
            }
            for (const auto& [part, volts] : pullUps(net))
                if (volts > least + kTolerated && busLine(*lowest) != nullptr) {
                    tell(Severity::warning, "signal-too-high", pin, fmt::format("{} is on {:.3g} V and {} pulls it up to {:.3g} V: above the absolute maximum of its input; pull it up to its own supply", pin, least, part, volts));
                    break;
                }
        }
    }

    [[nodiscard]] bool drivesNow(const Lead& lead) const
    {
        const auto drive = wiring_.circuit.driveOf(*wiring_.pin({lead.part->id, lead.pin->name}));
        return !drive.floating() && drive.ohms < kStrongOhms;
    }

    // The voltage of what feeds the logic behind a signal pin; none for supply pins, for parts without a supply, and for supplies that are no fixed voltage.
    [[nodiscard]] std::optional<double> supplyOf(const Lead& lead) const
    {
        if (lead.pin->supplyVolts || lead.pin->ground || lead.kind->behaviour == "supply")
            return std::nullopt;
        for (const std::string& name : {std::string("VCC"), std::string("VDD"), lead.kind->chip == nullptr ? std::string() : lead.kind->chip->supply.plus}) {
            const PinKind* supply = lead.kind->pin(name);
            if (supply == lead.pin)
                return std::nullopt;
            if (supply != nullptr && !supply->supplyVolts)
                if (const auto net = netOf(lead.part->id, name); net && wiring_.circuit.isRail(*net) && wiring_.circuit.voltage(*net).value > 1)
                    return wiring_.circuit.voltage(*net).value;
        }
        // A board holds its chip's supply itself; its highest that the chip stands is what the port pins drive.
        if (lead.kind->chip == nullptr || lead.pin->chipPin.empty())
            return std::nullopt;
        double most = 0;
        for (const PinKind& pin : lead.kind->pins)
            if (const double volts = pin.supplyVolts.value_or(0); volts <= lead.kind->chip->highestVolts)
                most = std::max(most, volts);
        return most > 0 ? std::optional(most) : std::nullopt;
    }

    // Resistors from a net to fixed voltages.
    [[nodiscard]] std::vector<std::pair<std::string, double>> pullUps(NetId net) const
    {
        std::vector<std::pair<std::string, double>> out;
        for (const Lead& lead : leads_.at(net))
            if (lead.kind->behaviour == "resistor")
                for (const PinKind& other : lead.kind->pins)
                    if (&other != lead.pin)
                        if (const auto far = netOf(lead.part->id, other.name); far && wiring_.circuit.isRail(*far))
                            out.emplace_back(lead.part->id, wiring_.circuit.voltage(*far).value);
        return out;
    }

    static constexpr double kStrongOhms = 1000;
    static constexpr std::array kSupplyPins{"VCC", "VDD", "VS", "V+", "V-", "GND"};

    const Wiring& wiring_;
    std::map<NetId, std::vector<Lead>> leads_;
    std::vector<Finding> out_;
};

}  // namespace

std::vector<Finding> checkWiring(const Wiring& wiring) { return Checks(wiring).run(); }
std::vector<Finding> checkPowered(const Wiring& wiring) { return Checks(wiring).runPowered(); }

}  // namespace bramix::bench
