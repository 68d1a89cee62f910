#include "bench/series_resistor.h"

#include <array>
#include <cmath>

#include "bench/world.h"

namespace bramix::bench {

using circuit::NetId;

namespace {

double across(const circuit::DiodeModel& diode, double amps) { return diode.ideality * circuit::kThermalVolts * std::log1p(amps / diode.saturationAmps) + amps * diode.seriesOhms; }

// Where a function that rises with x passes `target`.
template <class Function>
double solveRising(double low, double high, double target, Function&& f)
{
    for (int i = 0; i < 80; ++i) {
        const double mid = (low + high) / 2;
        (f(mid) < target ? low : high) = mid;
    }
    return (low + high) / 2;
}

double through(const circuit::DiodeModel& diode, double ohms, double volts)
{
    return volts <= 0 ? 0 : solveRising(0, volts / (ohms + diode.seriesOhms), volts, [&](double i) { return across(diode, i) + ohms * i; });
}

}  // namespace

double SeriesPath::besideAmps(double amps) const
{
    if (beside.empty())
        return 0;
    const auto all = [&](double others) {
        double sum = 0;
        for (const Beside& b : beside)
            sum += through(b.diode, b.ohms, volts - sharedOhms * (amps + others));
        return sum;
    };
    return solveRising(0, volts / std::max(sharedOhms, 1e-3), 0, [&](double others) { return others - all(others); });
}

std::optional<double> SeriesPath::ohmsFor(double amps) const
{
    const double needed = (volts - sharedOhms * besideAmps(amps) - across(diode, amps)) / amps - driveOhms;
    return needed > 0 ? std::optional(needed) : std::nullopt;
}

// What is left for the LED falls steadily with the current.
double SeriesPath::ampsWith(double series) const
{
    return solveRising(0, volts / (series + driveOhms + diode.seriesOhms), volts, [&](double i) { return across(diode, i) + i * (driveOhms + series) + sharedOhms * besideAmps(i); });
}

double nearestPreferred(double ohms, int series)
{
    static constexpr std::array kE24{1.0, 1.1, 1.2, 1.3, 1.5, 1.6, 1.8, 2.0, 2.2, 2.4, 2.7, 3.0, 3.3, 3.6, 3.9, 4.3, 4.7, 5.1, 5.6, 6.2, 6.8, 7.5, 8.2, 9.1};
    const double decade = std::pow(10.0, std::floor(std::log10(ohms)));
    double best = decade;
    const auto take = [&](double value) {
        if (std::fabs(std::log(value / ohms)) < std::fabs(std::log(best / ohms)))
            best = value;
    };
    for (int i = 0; i <= series; ++i) {
        if (i == series)
            take(decade * 10);
        else if (series == 96)  // the finer series are rounded powers; the coarser ones are not quite
            take(decade * std::round(std::pow(10.0, i / 96.0) * 100) / 100);
        else
            take(decade * kE24[static_cast<std::size_t>(i * 24 / series)]);
    }
    return std::round(best * 1e6) / 1e6;
}

namespace {

struct Firm {
    double volts;
    double ohms;
    bool output;  // of a chip
};

// A net that is a supply, or a chip's output: 0 V for the end where current leaves, the chip's supply for the other.
std::optional<Firm> firmAt(const World& world, NetId net, bool high)
{
    const circuit::Circuit& circuit = world.circuit();
    if (circuit.isRail(net))
        return Firm{circuit.voltage(net).value, 0, false};
    for (const World::ChipUnit& unit : world.chips())
        for (const circuit::PinId pin : circuit.pinsOf(net))
            if (const auto output = unit.chip->outputOhms(pin))
                return Firm{high ? unit.chip->supplyVolts() : 0, *output, true};
    // A supply with a resistance of its own, as a board's 5 V pin is.
    constexpr double kFirmOhms = 5;
    if (const double ohms = circuit.sourceResistance(net).value; ohms < kFirmOhms)
        return Firm{circuit.voltage(net).value, ohms, false};
    return std::nullopt;
}

}  // namespace

namespace {

// The path, and the nets of its two firm ends.
struct Found {
    SeriesPath path;
    NetId ends[2];
    Firm firm[2];
};

std::optional<Found> findPath(const World& world, const Document& document, const Catalogue& catalogue, const std::string& led)
{
    const parts::Part* part = world.part(led);
    if (part == nullptr || part->diode() == nullptr)
        return std::nullopt;
    const auto netOf = [&](const std::string& id, const char* pin) -> std::optional<NetId> {
        const auto at = world.pin({id, pin});
        return at ? std::optional(world.circuit().netOf(*at)) : std::nullopt;
    };
    const auto anode = netOf(led, "A");
    const auto cathode = netOf(led, "K");
    if (!anode || !cathode)
        return std::nullopt;
    for (const bool atAnode : {true, false}) {
        const NetId near = atAnode ? *anode : *cathode;
        const auto far = firmAt(world, atAnode ? *cathode : *anode, !atAnode);
        if (!far)
            continue;
        for (const PartItem& item : document.parts) {
            const PartKind* kind = catalogue.find(item.kind);
            if (kind == nullptr || kind->behaviour != "resistor")
                continue;
            const auto one = netOf(item.id, "1");
            const auto two = netOf(item.id, "2");
            if (!one || !two || (*one == near) == (*two == near))
                continue;
            const NetId other = *one == near ? *two : *one;
            const auto end = firmAt(world, other, atAnode);
            if (!end)
                continue;
            Found found{{}, {other, atAnode ? *cathode : *anode}, {*end, *far}};
            SeriesPath& path = found.path;
            path.resistor = item.id;
            const auto given = item.set.find("resistance");
            path.ohms = kernel::parseQuantity(given != item.set.end() ? given->second : kind->setting("resistance")->standard, kernel::Unit::ohm).value_or(0);
            path.volts = std::fabs(end->volts - far->volts);
            path.driveOhms = end->ohms + far->ohms;
            path.diode = *part->diode();
            return found;
        }
    }
    return std::nullopt;
}

}  // namespace

std::optional<SeriesPath> seriesPath(const World& world, const Document& document, const Catalogue& catalogue, const std::string& led)
{
    auto found = findPath(world, document, catalogue, led);
    if (!found)
        return std::nullopt;
    const int shared = found->firm[0].output ? 0 : found->firm[1].output ? 1 : -1;
    if (shared < 0)
        return found->path;
    found->path.sharedOhms = found->firm[shared].ohms;
    for (const PartItem& item : document.parts) {
        const PartKind* kind = catalogue.find(item.kind);
        if (item.id == led || kind == nullptr || kind->behaviour != "led")
            continue;
        // Lit by the same level of the same output.
        const auto beside = findPath(world, document, catalogue, item.id);
        if (beside && (beside->ends[0] == found->ends[shared] || beside->ends[1] == found->ends[shared]) && std::fabs(beside->path.volts - found->path.volts) < 1
            && (beside->ends[0] == found->ends[0] || beside->ends[1] == found->ends[1]))
            found->path.beside.push_back({beside->path.ohms + beside->path.driveOhms - found->path.sharedOhms, beside->path.diode});
    }
    return found->path;
}

}  // namespace bramix::bench
