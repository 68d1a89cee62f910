#include "chip/base/register_rows.h"

#include <algorithm>

namespace bramix::chip {

PeripheralGroup registerGroup(std::string name, std::string about, std::uint64_t base, std::span<const RegisterRow> rows, unsigned bits)
{
    PeripheralGroup out;
    out.name = std::move(name);
    out.about = std::move(about);
    out.base = base;
    for (const RegisterRow& row : rows) {
        PeripheralRegister reg;
        reg.name = row.name;
        reg.address = base + row.offset;
        reg.bits = bits;
        reg.reset = row.reset;
        reg.resetMask = row.moves ? 0 : bits >= 32 ? 0xFFFFFFFF : (1U << bits) - 1;
        reg.readActs = row.readActs;
        std::string_view left = row.fields;
        while (!left.empty()) {
            const auto word = [&left] {
                const std::string_view out = left.substr(0, left.find(' '));
                left.remove_prefix(std::min(left.size(), out.size() + 1));
                return out;
            };
            const std::string place(word());
            RegisterField field;
            const std::size_t dash = place.find('-');
            const auto high = static_cast<unsigned>(std::stoul(place));
            field.low = dash == std::string::npos ? high : static_cast<unsigned>(std::stoul(place.substr(dash + 1)));
            field.bits = high - field.low + 1;
            field.name = word();
            reg.fields.push_back(std::move(field));
        }
        out.registers.push_back(std::move(reg));
    }
    return out;
}

}  // namespace bramix::chip
