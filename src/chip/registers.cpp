#include "chip/registers.h"

#include <algorithm>

namespace bramix::chip {

std::string RegisterField::meaning(std::uint64_t value) const
{
    const FieldValue* rest = nullptr;
    for (const FieldValue& v : values) {
        if (v.otherwise)
            rest = &v;
        else if (((value ^ v.value) & ~v.ignored & (mask() >> low)) == 0)
            return v.about.empty() ? v.name : v.about;
    }
    return rest == nullptr ? std::string() : rest->about.empty() ? rest->name : rest->about;
}

const PeripheralGroup* RegisterMap::peripheral(std::string_view name) const
{
    const auto found = std::find_if(peripherals.begin(), peripherals.end(), [&](const PeripheralGroup& p) { return p.name == name; });
    return found == peripherals.end() ? nullptr : &*found;
}

RegisterMap::At RegisterMap::at(std::uint64_t address) const
{
    for (const PeripheralGroup& p : peripherals)
        for (const PeripheralRegister& r : p.registers)
            if (address >= r.address && (address - r.address) * addressUnitBits < r.bits)
                return {&p, &r};
    return {};
}

}  // namespace bramix::chip
