#include "chip/cortexm/peripherals/gpio.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::cortexm {

void Gpio::attach(Pin pin, circuit::PinId id)
{
    ports_[pin.port].pins[pin.bit].id = id;
    byId_.emplace_back(static_cast<std::uint32_t>(id), pin);
    circuit_.setLimit(id, {kLimitAmps}, static_cast<std::uint32_t>(cause_().actor), {kTogetherAmps});
    circuit_.listen(id, *this, thresholds());
    drive(pin);
}

std::optional<Pin> Gpio::pinAt(circuit::PinId id) const
{
    for (const auto& [number, pin] : byId_)
        if (number == static_cast<std::uint32_t>(id))
            return pin;
    return std::nullopt;
}

double Gpio::volts(Pin pin) const
{
    const circuit::PinId id = pin.exists() ? idOf(pin) : circuit::kNoPin;
    return id == circuit::kNoPin ? 0 : circuit_.voltage(circuit_.netOf(id)).value;
}

void Gpio::refresh(double volts)
{
    volts_ = volts;
    for (const auto& [number, pin] : byId_) {
        circuit_.setThresholds(idOf(pin), thresholds());
        drive(pin);
    }
}

void Gpio::reset()
{
    for (unsigned p = 0; p < kPorts; ++p) {
        ports_[p].low = ports_[p].high = 0x44444444;
        ports_[p].odr = ports_[p].lock = 0;
        ports_[p].lockStep = 0;
        for (Line& line : ports_[p].pins)
            line.alternateOn = false;
    }
    for (const auto& [number, pin] : byId_)
        drive(pin);
}

void Gpio::setAlternate(Pin pin, const char* name, bool enabled, bool level)
{
    if (!pin.exists())
        return;
    Line& line = ports_[pin.port].pins[pin.bit];
    if (line.alternateOn == enabled && line.alternateLevel == level)
        return;
    line.alternateOn = enabled;
    line.alternateLevel = level;
    line.alternate = enabled ? name : "";
    if (isAlternate(pin))
        drive(pin);
}

void Gpio::drive(Pin pin)
{
    const Line& line = ports_[pin.port].pins[pin.bit];
    if (line.id == circuit::kNoPin)
        return;
    const unsigned mode = modeOf(pin), direction = mode & 3U, kind = mode >> 2;
    const bool latch = ((ports_[pin.port].odr >> pin.bit) & 1U) != 0;
    circuit::Drive out = circuit::kFloating;
    if (direction == 0) {
        if (kind == 2)
            out = {latch ? volts_ : 0, pullOhms_};
    } else {
        const bool alternate = (kind & 2U) != 0, openDrain = (kind & 1U) != 0, high = alternate ? line.alternateLevel : latch;
        // An alternate output that no peripheral has stays released.
        if ((!alternate || line.alternateOn) && !(openDrain && high))
            out = {high ? volts_ : 0, kOutputOhms};
    }
    circuit_.drive(line.id, out, cause_());
}

void Gpio::pinChanged(circuit::PinId id, bool level, kernel::Time)
{
    const auto pin = pinAt(id);
    if (!pin)
        return;
    ports_[pin->port].pins[pin->bit].level = level;
    if (changed)
        changed(*pin, level);
}

PinStatus Gpio::statusOf(Pin pin) const
{
    const Line& line = ports_[pin.port].pins[pin.bit];
    const unsigned mode = modeOf(pin), direction = mode & 3U, kind = mode >> 2;
    PinStatus out;
    out.name = fmt::format("P{}{}", static_cast<char>('A' + pin.port), pin.bit);
    out.output = direction != 0;
    out.latch = ((ports_[pin.port].odr >> pin.bit) & 1U) != 0;
    out.pullUp = direction == 0 && kind == 2 && out.latch;
    out.level = line.level;
    out.floats = !out.output && line.id != circuit::kNoPin && circuit_.stateOf(circuit_.netOf(line.id)) == circuit::NetState::floating;
    out.digital = direction != 0 || kind != 0;
    if (isAlternate(pin))
        out.function = line.alternate;
    return out;
}

void Gpio::setOdr(unsigned port, std::uint32_t value)
{
    Port& p = ports_[port];
    const std::uint32_t differs = p.odr ^ (value & 0xFFFFU);
    p.odr = value & 0xFFFFU;
    const circuit::Circuit::Batch together(circuit_);
    for (unsigned b = 0; b < 16; ++b)
        if (((differs >> b) & 1U) != 0)
            drive({static_cast<std::uint8_t>(port), static_cast<std::uint8_t>(b)});
}

std::uint32_t Gpio::read(unsigned port, std::uint32_t offset, bool looks)
{
    Port& p = ports_[port];
    switch (offset) {
    case 0x00: return p.low;
    case 0x04: return p.high;
    case 0x08: {
        std::uint32_t out = 0;
        for (unsigned b = 0; b < 16; ++b) {
            const Pin pin{static_cast<std::uint8_t>(port), static_cast<std::uint8_t>(b)};
            const Line& line = p.pins[b];
            const unsigned mode = modeOf(pin);
            if (mode == 0)
                continue;  // analog: the input is off and reads 0
            if (line.level)
                out |= 1U << b;
            // Who reads a whole port looks at the pins that are set up as inputs.
            if (looks && doubtfulRead && (mode & 3U) == 0 && mode != 4 && line.id != circuit::kNoPin && circuit_.stateOf(circuit_.netOf(line.id)) == circuit::NetState::floating)
                doubtfulRead(line.id, true, thresholds());
        }
        return out;
    }
    case 0x0C: return p.odr;
    case 0x18: return p.lock;
    default: return 0;
    }
}

void Gpio::write(unsigned port, std::uint32_t offset, std::uint32_t value)
{
    Port& p = ports_[port];
    switch (offset) {
    case 0x00: case 0x04: {
        std::uint32_t& which = offset == 0 ? p.low : p.high;
        // Locked pins keep their mode.
        std::uint32_t kept = 0;
        if ((p.lock & 0x10000U) != 0)
            for (unsigned b = 0; b < 8; ++b)
                if (((p.lock >> (b + (offset == 0 ? 0 : 8))) & 1U) != 0)
                    kept |= 15U << (4 * b);
        const std::uint32_t differs = (which ^ value) & ~kept;
        which = (which & kept) | (value & ~kept);
        const circuit::Circuit::Batch together(circuit_);
        for (unsigned b = 0; b < 8; ++b)
            if (((differs >> (4 * b)) & 15U) != 0)
                drive({static_cast<std::uint8_t>(port), static_cast<std::uint8_t>(b + (offset == 0 ? 0 : 8))});
        break;
    }
    case 0x0C: setOdr(port, value); break;
    case 0x10: setOdr(port, (p.odr & ~(value >> 16)) | (value & 0xFFFFU)); break;  // setting wins
    case 0x14: setOdr(port, p.odr & ~value); break;
    case 0x18:
        // The key: 1, 0, 1 with the same pins, then a read (RM0008 9.2.7).
        if ((p.lock & 0x10000U) != 0)
            break;
        if ((value & 0x10000U) != 0 && p.lockStep == 0)
            p.lock = value & 0xFFFFU, p.lockStep = 1;
        else if ((value & 0x10000U) == 0 && p.lockStep == 1 && p.lock == (value & 0xFFFFU))
            p.lockStep = 2;
        else if ((value & 0x10000U) != 0 && p.lockStep == 2 && p.lock == (value & 0xFFFFU))
            p.lock |= 0x10000U, p.lockStep = 0;
        else
            p.lock = value & 0xFFFFU, p.lockStep = 0;
        break;
    default: break;
    }
}

}  // namespace bramix::chip::cortexm
