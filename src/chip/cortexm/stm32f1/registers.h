// The peripherals' registers of the STM32F103 line that views show: names and addresses from RM0008, bits of those that are looked at most.
// Tested by tests/chip/cortexm/stm32f1_test.cpp.
#pragma once

#include "chip/registers.h"

namespace bramix::chip::cortexm {

[[nodiscard]] RegisterMap registerMap();

}  // namespace bramix::chip::cortexm
