#include "tape/decode.h"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "tape/decode_kinds.h"

namespace bramix::tape {

using kernel::fail;

namespace {

struct Known {
    DecoderKind kind;
    MadeDecoder (*make)(const Options&);
};

const std::vector<Known>& known()
{
    static const std::vector<Known> all{
        {{"uart", {"RX"}, {{"baud", "auto"}, {"bits", "8"}, {"parity", "none"}, {"stop", "1"}, {"invert", "no"}}, SIZE_MAX, {"byte"}}, makeUartDecoder},
        {{"i2c", {"SDA", "SCL"}, {}, 1, {"address", "byte"}}, makeTwoWireDecoder},
        {{"spi", {"SCK", "MOSI", "MISO?", "CS?"}, {{"mode", "0"}, {"order", "msb"}}, 0, {"byte"}}, makeSpiDecoder},
        {{"1-wire", {"DQ"}, {}, SIZE_MAX, {"byte"}}, makeOneWireDecoder},
        {{"ws2812", {"DIN"}, {{"colors", "grb"}}, SIZE_MAX, {"pixel"}}, makePixelDecoder},
        {{"apa102", {"CI", "DI"}, {}, 0, {"pixel"}}, makeClockedPixelDecoder},
        {{"pwm", {"OUT"}, {}, SIZE_MAX, {"period"}}, makePulseDecoder},
        {{"servo", {"SIG"}, {}, SIZE_MAX, {"pulse"}}, makeServoDecoder},
        {{"quadrature", {"A", "B"}, {}, SIZE_MAX, {"step"}}, makeQuadratureDecoder},
        {{"dht", {"DATA"}, {{"type", "22"}}, SIZE_MAX, {"frame"}}, makeHumidityDecoder},
        {{"hd44780", {"RS", "E", "D4", "D5", "D6", "D7", "RW?", "D0?", "D1?", "D2?", "D3?"}, {}, 1, {"instruction", "data", "status", "read"}}, makeDisplayDecoder},
    };
    return all;
}

const Known* find(const std::string& name)
{
    const auto found = std::find_if(known().begin(), known().end(), [&](const Known& k) { return k.kind.name == name; });
    return found == known().end() ? nullptr : &*found;
}

kernel::Error unknown(const std::string& name)
{
    std::vector<std::string> names;
    for (const Known& k : known())
        names.push_back(k.kind.name);
    return {name, fmt::format("is no decoder; expected {}", fmt::join(names, ", ")), {}};
}

std::string bare(const std::string& role) { return role.ends_with('?') ? role.substr(0, role.size() - 1) : role; }

}  // namespace

const std::vector<DecoderKind>& decoderKinds()
{
    static const std::vector<DecoderKind> kinds = [] {
        std::vector<DecoderKind> out;
        for (const Known& k : known())
            out.push_back(k.kind);
        return out;
    }();
    return kinds;
}

const DecoderKind* decoderKind(const std::string& name)
{
    const Known* k = find(name);
    return k == nullptr ? nullptr : &k->kind;
}

kernel::Result<std::unique_ptr<Decoder>> makeDecoder(const std::string& name, const std::map<std::string, std::string>& options)
{
    const Known* k = find(name);
    if (k == nullptr)
        return tl::unexpected(unknown(name));
    Options all = k->kind.options;
    for (const auto& [key, value] : options) {
        if (!all.contains(key)) {
            std::vector<std::string> names;
            for (const auto& [option, standard] : k->kind.options)
                names.push_back(option);
            return fail(name, fmt::format("has no option \"{}\"; it has {}", key, names.empty() ? "none" : fmt::format("{}", fmt::join(names, ", "))));
        }
        all[key] = value;
    }
    return k->make(all);
}

kernel::Result<DecoderSpec> parseDecoderSpec(const std::string& text)
{
    const std::size_t colon = text.find(':');
    if (colon == std::string::npos)
        return fail(text, "expected a decoder and its lines, as in \"uart:mcu.PD1,baud=9600\"");
    DecoderSpec spec;
    spec.kind = text.substr(0, colon);
    const Known* k = find(spec.kind);
    if (k == nullptr)
        return tl::unexpected(unknown(spec.kind));
    const std::vector<std::string>& roles = k->kind.roles;
    spec.lines.resize(roles.size());
    for (std::size_t at = colon + 1; at <= text.size();) {
        const std::size_t end = std::min(text.find(',', at), text.size());
        const std::string item = text.substr(at, end - at);
        at = end + 1;
        const std::size_t equals = item.find('=');
        const std::string key = item.substr(0, equals), value = equals == std::string::npos ? item : item.substr(equals + 1);
        if (value.empty())
            return fail(text, "has an empty place; expected lines and options, parted by commas");
        const auto role = std::find_if(roles.begin(), roles.end(), [&](const std::string& r) { return equals != std::string::npos && bare(r) == key; });
        if (role != roles.end()) {
            spec.lines[static_cast<std::size_t>(role - roles.begin())] = value;
        } else if (equals != std::string::npos) {
            spec.options[key] = value;
        } else {
            const auto free = std::find(spec.lines.begin(), spec.lines.end(), std::string());
            if (free == spec.lines.end())
                return fail(text, fmt::format("has more lines than {}; expected {}", spec.kind, fmt::join(roles, ", ")));
            *free = value;
        }
    }
    for (std::size_t i = 0; i < roles.size(); ++i)
        if (spec.lines[i].empty() && !roles[i].ends_with('?'))
            return fail(text, fmt::format("does not say which line is {}; expected {}=PART.PIN", roles[i], roles[i]));
    if (auto made = makeDecoder(spec.kind, spec.options); !made)
        return tl::unexpected(made.error());
    return spec;
}

}  // namespace bramix::tape
