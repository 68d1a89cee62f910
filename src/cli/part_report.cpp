#include "cli/part_report.h"

#include <cmath>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace bramix::cli {

using nlohmann::ordered_json;

namespace {

constexpr std::size_t kMostPixels = 256;  // written out one by one; of more, how many are lit

// Rounded to six digits: the last ones of a solution are its arithmetic.
double rounded(double value)
{
    if (value == 0 || !std::isfinite(value))
        return value;
    const double unit = std::pow(10, std::floor(std::log10(std::fabs(value))) - 5);
    return std::round(value / unit) * unit;
}

ordered_json lightsOf(const bench::World& world, const std::string& id)
{
    ordered_json lights = ordered_json::array();
    for (const bench::World::Light& light : world.lights())
        if (light.part == id) {
            const double amps = world.circuit().current(light.element).value;
            ordered_json one;
            if (!light.inner.empty())
                one["name"] = light.inner;
            one["color"] = light.color;
            one["amperes"] = rounded(amps);
            one["brightness"] = rounded(std::clamp(amps / light.fullAmps, 0.0, 1.0));
            lights.push_back(std::move(one));
        }
    return lights;
}

void addDots(ordered_json& state, const parts::Part::Dots& dots)
{
    std::size_t lit = 0;
    for (const std::uint32_t color : dots.colors)
        lit += color != 0 ? 1 : 0;
    state["pixels_lit"] = lit;
    if (dots.colors.size() > kMostPixels)
        return;
    ordered_json pixels = ordered_json::array();
    for (const std::uint32_t color : dots.colors)
        pixels.push_back(fmt::format("#{:06x}", color));
    state["pixels"] = std::move(pixels);
}

}  // namespace

ordered_json partReport(const bench::Document& document, const bench::Catalogue& catalogue, const bench::World& world, const EnergyMeter* energy)
{
    ordered_json out = ordered_json::array();
    for (const bench::PartItem& item : document.parts) {
        const bench::PartKind& kind = *catalogue.find(item.kind);
        ordered_json state = ordered_json::object();
        if (const parts::Part* part = world.part(item.id)) {
            if (const std::string shown = part->face(); !shown.empty())
                state["shows"] = shown;
            for (const auto& [name, value] : part->figures())
                state[name] = rounded(value);
            if (const auto angle = part->angle())
                state["angle"] = rounded(*angle);
            if (const parts::Part::Dots dots = part->dots(); !dots.colors.empty())
                addDots(state, dots);
            if (const auto element = part->mainElement(); element && !state.contains("amperes")) {
                state["amperes"] = rounded(world.circuit().current(*element).value);
                state["watts"] = rounded(world.circuit().watts(*element));
            }
            if (part->dead())
                state["burnt"] = true;
        }
        if (kind.behaviour == "supply" && !kind.pins.empty())
            if (const auto amps = world.leadAmps({item.id, kind.pins.front().name}))
                state["amperes"] = rounded(-*amps);
        if (energy != nullptr && energy->span() > 0)
            for (const EnergyMeter::Supply& s : energy->supplies())
                if (s.id == item.id) {
                    state["mean_amperes"] = rounded(s.coulombs / energy->span());
                    state["joules"] = rounded(s.joules);
                }
        if (ordered_json lights = lightsOf(world, item.id); !lights.empty())
            state["lights"] = std::move(lights);
        for (const bench::ControlKind& control : kind.controls)
            state["controls"][control.name] = world.control(item.id, control.name);
        if (!state.empty())
            out.push_back({{"id", item.id}, {"kind", item.kind}, {"state", std::move(state)}});
    }
    return out;
}

}  // namespace bramix::cli
