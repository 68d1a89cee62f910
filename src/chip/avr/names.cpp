#include "chip/avr/names.h"

namespace bramix::chip::avr {

namespace {

// "PB5" as a pin, whatever package it comes in.
PortPin parsePortPin(std::string_view name)
{
    if (name.size() != 3 || name[0] != 'P' || name[1] < 'A' || name[1] > 'L' || name[2] < '0' || name[2] > '7')
        return {};
    return pin(name[1], static_cast<unsigned>(name[2] - '0'));
}

template <class Map>
typename Map::mapped_type firstOf(const Map& map, Names::List names)
{
    for (const std::string_view name : names)
        if (const auto found = map.find(name); found != map.end())
            return found->second;
    return {};
}

}  // namespace

Names::Names(const ChipTable& table)
{
    for (const RegisterRow& row : table.registers) {
        registers_.emplace(row.name, row.address);
        unsigned bit = 8;
        eachWord(row.bits, [&](std::string_view name) {
            --bit;
            if (name != "-")
                bits_.emplace(name, BitRef{row.address, static_cast<std::uint8_t>(1U << bit)});
        });
    }
    for (std::size_t v = 1; v < table.vectors.size(); ++v)
        vectors_.emplace(table.vectors[v].name, static_cast<std::uint8_t>(v));
    for (const PackagePin& p : table.package) {
        PortPin port = parsePortPin(p.name);
        eachWord(p.functions, [&](std::string_view f) {
            if (parsePortPin(f).exists())
                port = parsePortPin(f);
        });
        if (!port.exists())
            continue;
        pins_.emplace(p.name, port);
        eachWord(p.functions, [&](std::string_view f) { pins_.emplace(f, port); });
    }
}

std::uint16_t Names::reg(List names) const { return firstOf(registers_, names); }
BitRef Names::bit(List names) const { return firstOf(bits_, names); }
std::uint8_t Names::vector(List names) const { return firstOf(vectors_, names); }
PortPin Names::pin(List functions) const { return firstOf(pins_, functions); }

}  // namespace bramix::chip::avr
