#include "parts/part.h"

#include <array>

#include "parts/contacts.h"
#include "parts/crystal.h"
#include "parts/led.h"
#include "parts/resistor.h"
#include "parts/serial_line.h"
#include "parts/supply.h"

namespace bramix::parts {

namespace {

using Maker = kernel::Result<std::unique_ptr<Part>> (*)(PartContext&);

struct Entry {
    std::string_view behaviour;
    Maker make;
};

constexpr std::array kMakers{
    Entry{"led", makeLed},
    Entry{"resistor", makeResistor},
    Entry{"push-button", makePushButton},
    Entry{"slide-switch", makeSlideSwitch},
    Entry{"supply", makeSupply},
    Entry{"bench-supply", makeBenchSupply},
    Entry{"crystal", makeCrystal},
    Entry{"serial-line", makeSerialLine},
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makePart(std::string_view behaviour, PartContext& context)
{
    for (const Entry& entry : kMakers)
        if (entry.behaviour == behaviour)
            return entry.make(context);
    return kernel::fail(context.id, "has no behaviour \"" + std::string(behaviour) + "\"");
}

bool knowsBehaviour(std::string_view behaviour)
{
    for (const Entry& entry : kMakers)
        if (entry.behaviour == behaviour)
            return true;
    return false;
}

}  // namespace bramix::parts
