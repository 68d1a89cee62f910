// The registers of a chip's peripherals by peripheral, as the seam has them (chip/registers.h): from the names that the datasheets give them.
#include "chip/avr/register_map.h"

#include <algorithm>
#include <cctype>
#include <string>

#include "chip/avr/names.h"

namespace bramix::chip::avr {

namespace {

// Which group a register belongs to. Longest beginnings first.
struct GroupRow {
    const char* begins;
    const char* group;  // "%": the character after the beginning is added
};
constexpr GroupRow kGroups[] = {
    {"PORT", "Port %"}, {"DDR", "Port %"}, {"PIN", "Port %"},
    {"TCCR", "Timer %"}, {"TCNT", "Timer %"}, {"OCR", "Timer %"}, {"ICR", "Timer %"}, {"TIMSK", "Timer %"}, {"TIFR", "Timer %"}, {"ASSR", "Timer 2"}, {"GTCCR", "Timer prescalers"},
    {"SFIOR", "Core and clock"}, {"DT", "Timer 1"},
    {"UCSR", "UART %"}, {"UBRR", "UART %"}, {"UDR", "UART %"},
    {"SPCR", "SPI"}, {"SPSR", "SPI"}, {"SPDR", "SPI"}, {"TW", "Two-wire"}, {"USI", "USI"},
    {"ADMUX", "Analog to digital"}, {"ADC", "Analog to digital"}, {"DIDR", "Analog to digital"}, {"ACSR", "Comparator"},
    {"EEA", "EEPROM"}, {"EED", "EEPROM"}, {"EEC", "EEPROM"},
    {"EICR", "External interrupts"}, {"EIMSK", "External interrupts"}, {"EIFR", "External interrupts"}, {"PCICR", "External interrupts"}, {"PCIFR", "External interrupts"},
    {"PCMSK", "External interrupts"}, {"GICR", "External interrupts"}, {"GIFR", "External interrupts"}, {"GIMSK", "External interrupts"},
    {"WDT", "Watchdog"}, {"SPM", "Self-programming"}, {"GPIOR", "General purpose"},
};

std::string groupOf(std::string_view name)
{
    for (const GroupRow& row : kGroups) {
        const std::string_view begins = row.begins;
        if (!name.starts_with(begins))
            continue;
        std::string group = row.group;
        const std::size_t mark = group.find('%');
        if (mark == std::string::npos)
            return group;
        std::string_view rest = name.substr(begins.size());
        // "UCSRA" of an older chip has no number; "UCSR0A" has; "PORTB" always has its letter.
        const bool numbered = !rest.empty() && (std::isdigit(static_cast<unsigned char>(rest[0])) != 0 || begins == "PORT" || begins == "DDR" || begins == "PIN");
        return numbered ? group.substr(0, mark) + rest[0] : group.substr(0, mark - 1) + (group.starts_with("Timer") ? "s" : "");
    }
    return "Core and clock";
}

}  // namespace

RegisterMap registerMap(const ChipTable& chip)
{
    RegisterMap out;
    out.device = chip.title;
    for (const RegisterRow& row : chip.registers) {
        const std::string name = groupOf(row.name);
        auto group = std::find_if(out.peripherals.begin(), out.peripherals.end(), [&](const PeripheralGroup& g) { return g.name == name; });
        if (group == out.peripherals.end())
            group = out.peripherals.insert(out.peripherals.end(), PeripheralGroup{name, {}, row.address, {}, {}});
        PeripheralRegister reg;
        reg.name = row.name;
        reg.address = row.address;
        reg.bits = 8;
        // What comes up other than zero by itself, or follows the pins, tells nothing.
        const auto begins = [&](std::string_view with) { return row.name.starts_with(with); };
        reg.resetMask = begins("PIN") || begins("UCSR") || row.name == "TWSR" || row.name == "TWDR" || row.name == "TWBR" || row.name == "TWAR" || row.name == "ACSR" ? 0 : 0xFF;
        unsigned bit = 8;
        eachWord(row.bits, [&](std::string_view word) {
            --bit;
            if (word != "-")
                reg.fields.push_back({std::string(word), {}, bit, 1, Access::readWrite, {}, {}});
        });
        group->registers.push_back(std::move(reg));
    }
    // Ports in the order in which one thinks of them: direction, latch, pins.
    for (PeripheralGroup& g : out.peripherals)
        if (g.name.starts_with("Port "))
            std::reverse(g.registers.begin(), g.registers.end());
    const auto rank = [](const std::string& name) { return name.starts_with("Port") ? 0 : name.starts_with("Timer") ? 1 : name.starts_with("UART") ? 2 : name == "Core and clock" ? 4 : name == "General purpose" ? 5 : 3; };
    std::stable_sort(out.peripherals.begin(), out.peripherals.end(), [&](const PeripheralGroup& a, const PeripheralGroup& b) { return rank(a.name) != rank(b.name) ? rank(a.name) < rank(b.name) : rank(a.name) < 3 && a.name < b.name; });
    return out;
}

}  // namespace bramix::chip::avr
