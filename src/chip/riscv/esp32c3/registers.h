// The registers of the ESP32-C3's peripherals that are modelled (TRM v0.7), in words.
#pragma once

#include "chip/registers.h"

namespace bramix::chip::riscv {

[[nodiscard]] RegisterMap registerMap();

}  // namespace bramix::chip::riscv
