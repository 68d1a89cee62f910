#include "debug/pin_table.h"

#include <string_view>

namespace bramix::debug {

namespace {

using chip::avr::Override;

// Of the names of a pin, the one that fits who has taken it.
std::string functionOf(std::string_view functions, std::uint8_t overrides)
{
    const auto first = [&](std::initializer_list<std::string_view> beginnings) {
        std::string found;
        chip::avr::eachWord(functions, [&](std::string_view word) {
            for (const std::string_view b : beginnings)
                if (found.empty() && word.starts_with(b))
                    found = word;
        });
        return found;
    };
    const auto has = [&](Override o) { return (overrides & static_cast<std::uint8_t>(o)) != 0; };
    // The greater wins, as at the pin.
    if (has(Override::taken))
        return first({"XTAL", "TOSC", "CLKI", "TCK", "TMS", "TDI", "TDO", "RESET"});
    if (has(Override::openDrain))
        return first({"SDA", "SCL", "DI", "USCK"});
    if (has(Override::serialBus))
        return first({"MOSI", "MISO", "SCK", "SS", "XCK", "DO"});
    if (has(Override::receiver))
        return first({"RXD"});
    if (has(Override::transmitter))
        return first({"TXD"});
    // Two compare outputs may share a pin: the last letter tells which.
    std::string output;
    const char unit = has(Override::compareC) ? 'C' : has(Override::compareB) ? 'B' : 'A';
    chip::avr::eachWord(functions, [&](std::string_view word) {
        if (word.starts_with("OC") && word.ends_with(unit))
            output = word;
    });
    return overrides == 0 ? std::string() : output.empty() ? first({"OC"}) : output;
}

}  // namespace

std::vector<PinRow> pinTable(const chip::avr::ChipTable& table, const chip::avr::Chip& chip)
{
    std::vector<PinRow> out;
    const chip::avr::Ports& ports = chip.ports();
    for (const chip::avr::PortRow& port : table.ports)
        for (unsigned bit = 0; bit < 8; ++bit) {
            const std::string name = std::string("P") + port.letter + static_cast<char>('0' + bit);
            const chip::avr::PackagePin* package = nullptr;
            for (const chip::avr::PackagePin& p : table.package)
                if (p.name == name)
                    package = &p;
            if (package == nullptr)
                continue;
            const chip::avr::PortPin pin = chip::avr::Chip::portPin(table, name);
            PinRow row;
            row.name = name;
            row.output = ports.isOutput(pin);
            row.latch = ports.portBit(pin);
            row.level = ports.level(pin);
            row.floats = !row.output && ports.floats(pin);
            row.pullUp = ports.pulledUp(pin);
            row.digital = !ports.inputOff(pin);
            row.function = functionOf(package->functions, ports.overridesOf(pin));
            row.setBy = chip.compareSetBy(pin).value_or(UINT32_MAX);
            out.push_back(std::move(row));
        }
    return out;
}

}  // namespace bramix::debug
