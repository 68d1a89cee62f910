// A bench file as a person writes it, with comments and with keys that this version does not know.
#pragma once

namespace bramix::test {

inline const char* const kBench = R"(# The lock, first form.
# Keep it simple.

bramix = 1
title = "Withy Lock"
weather = { wind = "west", force = [3, 4] }

# the board
[[part]]
id = "mcu"
kind = "briar-328"
at = [17, 14]
firmware = "firmware/gate.elf"

[[part]]
id = "r1"
kind = "resistor"
label = "stop \"lamp\""
at = [6, -2]
turn = 1
set = { resistance = "4k7" }
maker = "hedge"

[[wire]]
ends = ["r1.1", "mcu.PB2"]
color = "rust"
via = [[6, 13], [27, 13]]

[[net]]
name = "GND"
pins = ["mcu.GND", "r1.2"]
)";

}  // namespace bramix::test
