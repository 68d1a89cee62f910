#include "parts/part.h"

#include <array>
#include <charconv>

#include <fmt/format.h>

#include "parts/actuators.h"
#include "parts/amplifier.h"
#include "parts/character_display.h"
#include "parts/contacts.h"
#include "parts/crystal.h"
#include "parts/diode.h"
#include "parts/generator.h"
#include "parts/graphic_display.h"
#include "parts/input_devices.h"
#include "parts/led.h"
#include "parts/led_group.h"
#include "parts/multimeter.h"
#include "parts/pixels.h"
#include "parts/reactance.h"
#include "parts/registers.h"
#include "parts/resistor.h"
#include "parts/sensors.h"
#include "parts/serial_line.h"
#include "parts/spi_chips.h"
#include "parts/supply.h"
#include "parts/transistor.h"
#include "parts/two_wire_chips.h"

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
    Entry{"voltage-source", makeVoltageSource},
    Entry{"push-button", makePushButton},
    Entry{"slide-switch", makeSlideSwitch},
    Entry{"supply", makeSupply},
    Entry{"bench-supply", makeBenchSupply},
    Entry{"crystal", makeCrystal},
    Entry{"serial-line", makeSerialLine},
    Entry{"color-led", makeColorLed},
    Entry{"bar-graph", makeBarGraph},
    Entry{"seven-segment", makeSevenSegment},
    Entry{"shift-out", makeShiftOut},
    Entry{"shift-in", makeShiftIn},
    Entry{"bcd-decoder", makeBcdDecoder},
    Entry{"character-display", makeCharacterDisplay},
    Entry{"two-wire-character-display", makeTwoWireCharacterDisplay},
    Entry{"two-wire-graphic-display", makeTwoWireGraphicDisplay},
    Entry{"spi-graphic-display", makeSpiGraphicDisplay},
    Entry{"one-wire-pixels", makeOneWirePixels},
    Entry{"clocked-pixels", makeClockedPixels},
    Entry{"two-wire-eeprom", makeTwoWireEeprom},
    Entry{"clock", makeClock},
    Entry{"port-expander", makePortExpander},
    Entry{"converter", makeConverter},
    Entry{"serial-flash", makeSerialFlash},
    Entry{"sd-card", makeSdCard},
    Entry{"humidity-sensor", makeHumiditySensor},
    Entry{"one-wire-thermometer", makeOneWireThermometer},
    Entry{"echo-ranger", makeEchoRanger},
    Entry{"analog-thermometer", makeAnalogThermometer},
    Entry{"motion-sensor", makeMotionSensor},
    Entry{"water-level", makeWaterLevel},
    Entry{"load-cell", makeLoadCell},
    Entry{"servo", makeServo},
    Entry{"motor", makeMotor},
    Entry{"bridge", makeBridge},
    Entry{"stepper", makeStepper},
    Entry{"relay", makeRelay},
    Entry{"buzzer", makeBuzzer},
    Entry{"keypad", makeKeypad},
    Entry{"encoder", makeEncoder},
    Entry{"joystick", makeJoystick},
    Entry{"dip-switch", makeDipSwitch},
    Entry{"limit-switch", makeLimitSwitch},
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

kernel::Result<std::string> PartContext::file(std::string_view name) const
{
    const std::string given = setting(name);
    if (given.empty())
        return std::string();
    auto path = files.path(given);
    if (!path)
        path.error().where = fmt::format("{}.{}: \"{}\"", id, name, given);
    return path;
}

kernel::Result<std::string> PartContext::contents(std::string_view name, std::size_t most) const
{
    const auto path = file(name);
    if (!path || path->empty())
        return path;
    auto bytes = kernel::readFile(*path, most);
    if (!bytes)
        return kernel::fail(fmt::format("{}.{}", id, name), fmt::format("\"{}\" {}{}", setting(name), bytes.error().what.starts_with("no such") || bytes.error().what.starts_with("cannot") ? "cannot be read: " : "", bytes.error().what), bytes.error().next);
    return bytes;
}

kernel::Result<std::uint8_t> PartContext::address(std::string_view name, unsigned least, unsigned most) const
{
    const std::string text = setting(name);
    unsigned value = 0;
    const bool hex = text.starts_with("0x") || text.starts_with("0X");
    const auto [end, trouble] = std::from_chars(text.data() + (hex ? 2 : 0), text.data() + text.size(), value, hex ? 16 : 10);
    if (trouble != std::errc{} || end != text.data() + text.size() || value < least || value > most)
        return kernel::fail(id + "." + std::string(name), fmt::format("\"{}\"{}; expected 0x{:02X} to 0x{:02X}", text, trouble == std::errc{} && !hex ? fmt::format(" is decimal, 0x{:02X}", value) : std::string(), least, most));
    return static_cast<std::uint8_t>(value);
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
    if (!context.setting("takes").empty())
        if (const auto takes = context.quantity("takes", kernel::Unit::ampere, 0, 5); !takes)
            return tl::unexpected(takes.error());
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
