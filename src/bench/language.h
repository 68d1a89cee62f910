// What a part makes of the bytes that a bus brings it: names of its registers or commands, from its data sheet. For whoever shows a bus.
//
// In a manifest:
//   language = "registers"           the first byte (`pointer` of them) of a write chooses a register, each byte after it goes to the next
//              "memory"              the same, of cells without names
//              "character-display"   an HD44780 on four lines behind an expander: P0 RS, P1 RW, P2 E, P4 to P7 data
//              "display-commands"    a control byte first, whose bit 6 says commands or picture
//              "commands"            the first byte after selection is a command
//              "card"                six bytes a command, on SPI
//   registers = ["0x00 SECONDS", "0x08-0x3F RAM", "0x81 contrast, 1"]    number or range, name, and how many bytes a command takes
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace bramix::bench {

struct Language {
    enum class Form : std::uint8_t { none, registers, memory, characterDisplay, displayCommands, commands, card } form = Form::none;
    unsigned pointer = 1;  // bytes
    struct Name {
        std::uint32_t first = 0, last = 0;
        std::string name;
        unsigned takes = 0;
    };
    std::vector<Name> names;

    // Null where it has none.
    [[nodiscard]] const Name* find(std::uint32_t number) const
    {
        for (const Name& n : names)
            if (number >= n.first && number <= n.last)
                return &n;
        return nullptr;
    }
    [[nodiscard]] std::uint32_t last() const
    {
        std::uint32_t out = 0;
        for (const Name& n : names)
            out = n.last > out ? n.last : out;
        return out;
    }
};

}  // namespace bramix::bench
