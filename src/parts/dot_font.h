// Characters of five by seven dots, as character displays show them: rows from the top, the lowest bit at the right.
// The set follows the HD44780 data sheet, ROM code A00, for 0x20 to 0x7F, the degree sign (0xDF) and the full block (0xFF); others show as a full block's outline.
#pragma once

#include <array>
#include <cstdint>

namespace bramix::parts {

using DotRows = std::array<std::uint8_t, 7>;

[[nodiscard]] const DotRows& dotRows(std::uint8_t code);

}  // namespace bramix::parts
