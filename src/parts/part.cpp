#include "parts/part.h"

#include <array>

#include "parts/amplifier.h"
#include "parts/contacts.h"
#include "parts/crystal.h"
#include "parts/diode.h"
#include "parts/generator.h"
#include "parts/led.h"
#include "parts/multimeter.h"
#include "parts/reactance.h"
#include "parts/resistor.h"
#include "parts/serial_line.h"
#include "parts/supply.h"
#include "parts/transistor.h"

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
    Entry{"potentiometer", makePotentiometer},
    Entry{"sensing-resistor", makeSensingResistor},
    Entry{"capacitor", makeCapacitor},
    Entry{"inductor", makeInductor},
    Entry{"diode", makeDiode},
    Entry{"bipolar", makeBipolar},
    Entry{"mosfet", makeMosfet},
    Entry{"op-amp", makeOpAmp},
    Entry{"comparator", makeComparator},
    Entry{"generator", makeGenerator},
    Entry{"multimeter", makeMultimeter},
    Entry{"battery", makeBattery},
    Entry{"current-source", makeCurrentSource},
    Entry{"push-button", makePushButton},
    Entry{"slide-switch", makeSlideSwitch},
    Entry{"supply", makeSupply},
    Entry{"bench-supply", makeBenchSupply},
    Entry{"crystal", makeCrystal},
    Entry{"serial-line", makeSerialLine},
};

}  // namespace

kernel::Result<double> PartContext::quantity(std::string_view name, kernel::Unit unit, double least, double most) const
{
    auto value = kernel::parseQuantity(setting(name), unit);
    if (!value) {
        value.error().where = id + "." + std::string(name);
        return value;
    }
    if (*value < least || *value > most)
        return kernel::fail(id + "." + std::string(name), kernel::formatQuantity(*value, unit) + "; expected " + kernel::formatQuantity(least, unit) + " to " + kernel::formatQuantity(most, unit));
    return value;
}

kernel::Result<std::optional<double>> PartContext::typicalOr(std::string_view name, kernel::Unit unit, double least, double most) const
{
    if (setting(name) == "typical")
        return std::nullopt;
    auto value = quantity(name, unit, least, most);
    if (!value) {
        value.error().next = "\"typical\" is a value too";
        return tl::unexpected(value.error());
    }
    return std::optional(*value);
}

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
