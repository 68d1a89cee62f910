// Mechanical contacts: the push button (pins 1, 2; live control "pressed") and the slide switch (pins A, C, B; live control
// "position": 0 joins C to A, 1 joins C to B).
//
// Contacts bounce: after the first touch a contact opens and closes a few times within the setting "bounce" (a time, or "off"),
// each stay drawn from the part's random stream. Opening bounces too, for a third of that time.
// Tested by tests/parts/parts_test.cpp.
#pragma once

#include "parts/part.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makePushButton(PartContext& context);
kernel::Result<std::unique_ptr<Part>> makeSlideSwitch(PartContext& context);

}  // namespace bramix::parts
