// Datasheet names to places: "OCIE1A" to a bit, "TIMER1_COMPA" to a vector number, "OC1A" to a port pin. Peripherals ask once, when
// they are made. Where chips name one thing differently, a caller gives all names and takes the one that is there.
// Tested by tests/chip/avr/tables_test.cpp.
#pragma once

#include <initializer_list>
#include <map>
#include <string>
#include <string_view>

#include "chip/avr/table.h"

namespace bramix::chip::avr {

// One bit, or several adjacent ones, of a register. Empty (mask 0) where the chip has no such bit: it reads as 0.
struct BitRef {
    std::uint16_t address = 0;
    std::uint8_t mask = 0;
    constexpr bool operator==(const BitRef&) const = default;
    [[nodiscard]] constexpr bool exists() const { return mask != 0; }
};

class Names {
public:
    using List = std::initializer_list<std::string_view>;

    explicit Names(const ChipTable& table);

    // Each gives the first name that the chip has; 0, an empty bit or no pin where it has none.
    [[nodiscard]] std::uint16_t reg(List names) const;
    [[nodiscard]] BitRef bit(List names) const;
    [[nodiscard]] std::uint8_t vector(List names) const;
    [[nodiscard]] PortPin pin(List functions) const;

    [[nodiscard]] std::uint16_t reg(std::string_view name) const { return reg({name}); }
    [[nodiscard]] BitRef bit(std::string_view name) const { return bit({name}); }
    [[nodiscard]] std::uint8_t vector(std::string_view name) const { return vector({name}); }
    [[nodiscard]] PortPin pin(std::string_view function) const { return pin({function}); }

private:
    std::map<std::string, std::uint16_t, std::less<>> registers_;
    std::map<std::string, BitRef, std::less<>> bits_;
    std::map<std::string, std::uint8_t, std::less<>> vectors_;
    std::map<std::string, PortPin, std::less<>> pins_;
};

// The words of a space-separated list.
template <class Call>
void eachWord(std::string_view text, Call&& call)
{
    while (!text.empty()) {
        const std::size_t end = text.find(' ');
        call(text.substr(0, end));
        text = end == std::string_view::npos ? std::string_view{} : text.substr(end + 1);
    }
}

}  // namespace bramix::chip::avr
