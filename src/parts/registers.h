// Logic that drives displays and reads keys: the shift registers 74HC595 and 74HC165, and the BCD decoder CD4511.
// Sources: SN74HC595 (SCLS041), SN74HC165 (SCLS116), CD4511B (SCHS072) data sheets, function tables; delays are their typical ones at 4.5 to 6 V.
// Tested by tests/parts/drivers_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeShiftOut(PartContext& context);    // 74HC595
kernel::Result<std::unique_ptr<Part>> makeShiftIn(PartContext& context);     // 74HC165
kernel::Result<std::unique_ptr<Part>> makeBcdDecoder(PartContext& context);  // CD4511

}  // namespace bramix::parts
