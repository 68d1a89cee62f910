// The pins of a chip as its firmware has set them: direction, output latch, level, and what has taken them over.
#include "chip/avr/chip.h"

namespace bramix::chip::avr {

namespace {

// Of the names of a pin, the one that fits who has taken it.
std::string functionOf(std::string_view functions, std::uint8_t overrides)
{
    const auto first = [&](std::initializer_list<std::string_view> beginnings) {
        std::string found;
        eachWord(functions, [&](std::string_view word) {
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
    eachWord(functions, [&](std::string_view word) {
        if (word.starts_with("OC") && word.ends_with(unit))
            output = word;
    });
    return overrides == 0 ? std::string() : output.empty() ? first({"OC"}) : output;
}

}  // namespace

std::vector<PinStatus> Chip::pins() const
{
    std::vector<PinStatus> out;
    for (const PortRow& port : table_.ports)
        for (unsigned bit = 0; bit < 8; ++bit) {
            const std::string name = std::string("P") + port.letter + static_cast<char>('0' + bit);
            const PackagePin* package = nullptr;
            for (const PackagePin& p : table_.package)
                if (p.name == name)
                    package = &p;
            if (package == nullptr)
                continue;
            const PortPin pin = portPin(table_, name);
            PinStatus row;
            row.name = name;
            row.output = ports_->isOutput(pin);
            row.latch = ports_->portBit(pin);
            row.level = ports_->level(pin);
            row.floats = !row.output && ports_->floats(pin);
            row.pullUp = ports_->pulledUp(pin);
            row.digital = !ports_->inputOff(pin);
            row.function = functionOf(package->functions, ports_->overridesOf(pin));
            row.setBy = compareSetBy(pin).value_or(UINT32_MAX);
            out.push_back(std::move(row));
        }
    return out;
}

}  // namespace bramix::chip::avr
