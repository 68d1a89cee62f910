#include "chip/avr/peripherals/ports.h"

#include <bit>
#include <utility>

#include <fmt/format.h>


namespace bramix::chip::avr {

Ports::Ports(ChipServices& chip, circuit::Circuit& circuit, Electrical electrical)
    : StatefulPeripheral(chip), circuit_(circuit), electrical_(electrical), pullUpDisable_(chip.names().bit("PUD")), codeWord_(chip.codeWord()), actor_(chip.cause().actor), toggles_(chip.table().bitwiseFlags), supply_(chip.supplyVolts())
{
    const Names& names = chip.names();
    for (const PortRow& row : chip.table().ports) {
        const auto index = static_cast<std::uint8_t>(row.letter - 'A');
        PortState& port = ports_[index];
        port.row = &row;
        port.pinAt = names.reg(fmt::format("PIN{}", row.letter));
        port.ddrAt = names.reg(fmt::format("DDR{}", row.letter));
        port.portAt = names.reg(fmt::format("PORT{}", row.letter));
        for (const std::uint16_t address : {port.pinAt, port.ddrAt, port.portAt}) {
            portAt_[address] = static_cast<std::uint8_t>(index + 1);
            chip.claim(*this, address);
        }
    }
    const auto disables = [&](const std::string& bit, const std::string& function) {
        const InputDisable d{names.bit(bit), names.pin(function)};
        if (!d.bit.exists() || !d.pin.exists())
            return;
        inputDisables_.push_back(d);
        chip.claim(*this, d.bit.address);
    };
    for (int i = 0; i < 16; ++i)
        disables(fmt::format("ADC{}D", i), fmt::format("ADC{}", i));
    for (int i = 0; i < 2; ++i)
        disables(fmt::format("AIN{}D", i), fmt::format("AIN{}", i));
}

// ViL and ViH of the data sheet's guarantee, with hysteresis between them.
circuit::Thresholds Ports::thresholds() const { return {0.3 * supply_, 0.6 * supply_}; }

void Ports::attach(PortPin pin, circuit::PinId id)
{
    at(pin).id = id;
    ports_[pin.port].joined |= static_cast<std::uint8_t>(1U << pin.bit);
    const auto index = static_cast<std::size_t>(id);
    if (pinOf_.size() <= index)
        pinOf_.resize(index + 1);
    pinOf_[index] = pin;
    circuit_.listen(id, *this, thresholds());
    circuit_.setLimit(id, {electrical_.limitAmps}, actor_, {electrical_.togetherAmps});
    setClamp(id);
}

// Without a supply there is nothing that the upper diode could lead to.
void Ports::setClamp(circuit::PinId id)
{
    const double supply = supply_;
    if (supply > 0.5)
        circuit_.setClamp(id, 0, supply);
    else
        circuit_.setClamp(id, 1, -1);
}

circuit::Drive Ports::driveFor(const PortState& port, unsigned bit) const
{
    const PinState& pin = port.pins[bit];
    bool output = ((port.ddr >> bit) & 1) != 0;
    bool value = ((port.port >> bit) & 1) != 0;
    bool pullUp = value && !output && !chip_.is(pullUpDisable_);
    if (pin.overrides != 0) [[unlikely]] {
        const auto top = static_cast<unsigned>(std::bit_width(pin.overrides)) - 1;
        constexpr unsigned kModulated = static_cast<unsigned>(Override::compareA) | static_cast<unsigned>(Override::compareC);
        const bool overrideValue = ((pin.values >> top) & 1) != 0;
        switch (pin.forces[top]) {
        case Force::none:
            if ((pin.overrides & kModulated) == kModulated && top == 2)
                value = value ? (pin.values & kModulated) != 0 : (pin.values & kModulated) == kModulated;
            else
                value = overrideValue;
            break;
        case Force::output:
            output = true;
            value = overrideValue;
            break;
        case Force::input: output = false; break;
        case Force::openDrain:
            output = !overrideValue;
            value = false;
            break;
        }
        if (pin.overrides >= static_cast<unsigned>(Override::taken))
            pullUp = overrideValue;
    }
    if (output)
        return {value ? supply_ : 0.0, electrical_.outputOhms};
    return pullUp ? circuit::Drive{supply_, electrical_.pullUpOhms} : circuit::kFloating;
}

void Ports::drive(PortState& port, std::uint8_t bits)
{
    if ((bits & (bits - 1)) == 0) {
        if (bits != 0)
            driveOne(port, static_cast<unsigned>(std::countr_zero(bits)));
        return;
    }
    const circuit::Circuit::Batch together(circuit_);
    for (unsigned left = bits; left != 0; left &= left - 1)
        driveOne(port, static_cast<unsigned>(std::countr_zero(left)));
}

// What writeBit() does not do itself: a register of another kind, or a chip whose PINx cannot be written.
void Ports::writeBitSlowly(std::uint16_t address, std::uint8_t mask, bool value)
{
    const std::uint8_t now = chip_.reg(address);
    write(address, static_cast<std::uint8_t>(value ? now | mask : now & ~mask), 0);
}

void Ports::driveAll()
{
    for (PortState& port : ports_)
        if (port.row != nullptr)
            drive(port, 0xFF);
}

void Ports::setOverride(PortPin pin, Override who, bool enabled, bool value, Force force)
{
    if (!pin.exists())
        return;
    PinState& state = at(pin);
    const auto bit = static_cast<std::uint8_t>(who);
    const auto set = [bit](std::uint8_t& field, bool on) { field = static_cast<std::uint8_t>(on ? field | bit : field & ~bit); };
    Force& forced = state.forces[static_cast<std::size_t>(std::countr_zero(bit))];
    if (((state.overrides & bit) != 0) == enabled && ((state.values & bit) != 0) == value && forced == force)
        return;
    set(state.overrides, enabled);
    set(state.values, value);
    forced = force;
    drive(ports_[pin.port], static_cast<std::uint8_t>(1 << pin.bit));
}

void Ports::refresh()
{
    supply_ = chip_.supplyVolts();
    const circuit::Circuit::Batch together(circuit_);  // limits and levels follow the supply at once
    for (PortState& port : ports_)
        for (PinState& pin : port.pins)
            if (pin.id != circuit::kNoPin) {
                circuit_.setThresholds(pin.id, thresholds());
                setClamp(pin.id);
            }
    driveAll();
}

void Ports::watch(PortPin pin, PinWatcher& watcher, BitRef gate) { at(pin).watchers.push_back({&watcher, gate.exists() ? &chip_.reg(gate.address) : nullptr, gate.mask}); }

bool Ports::floats(PortPin pin) const
{
    return !pin.exists() || at(pin).id == circuit::kNoPin || circuit_.stateOf(circuit_.netOf(at(pin).id)) == circuit::NetState::floating;
}

double Ports::volts(PortPin pin) const
{
    if (!pin.exists() || at(pin).id == circuit::kNoPin)
        return 0;
    return circuit_.voltage(circuit_.netOf(at(pin).id)).value;
}

double Ports::sourceOhms(PortPin pin) const
{
    if (!pin.exists() || at(pin).id == circuit::kNoPin)
        return std::numeric_limits<double>::infinity();
    return circuit_.sourceResistance(circuit_.netOf(at(pin).id)).value;
}

bool Ports::isOutput(PortPin pin) const
{
    const PortState& port = ports_[pin.port];
    const circuit::Drive d = driveFor(port, pin.bit);
    return d.ohms == electrical_.outputOhms;
}

bool Ports::pulledUp(PortPin pin) const { return driveFor(ports_[pin.port], pin.bit).ohms == electrical_.pullUpOhms; }

bool Ports::levelAt(PortPin pin, kernel::Time when) const
{
    const PinState& state = at(pin);
    bool level = state.level;
    // From the newest change back: before a change, the level was the other one.
    for (std::size_t i = 0; i < kHistory; ++i) {
        const Change& change = state.changes[(state.head + kHistory - 1 - i) % kHistory];
        if (change.at <= when)
            return level;
        level = !change.level;
    }
    return level;
}

// Most reads come long after the last change: then the synchroniser shows what the pins have now.
std::uint8_t Ports::readPins(PortState& port, std::int64_t cycle)
{
    const kernel::Time sampled = chip_.clock().timeOf({cycle}) - chip_.clock().span(1) / 2;
    if (circuit_.generation() != port.checkedAt || codeWord_ != port.checkedBy)
        checkFloating(port);
    if (port.lastChange <= sampled) [[likely]]
        return port.levels & ~port.inputOff;
    std::uint8_t value = 0;
    for (unsigned bit = 0; bit < 8; ++bit)
        if (port.pins[bit].id != circuit::kNoPin && levelAt({static_cast<std::uint8_t>(port.row->letter - 'A'), static_cast<std::uint8_t>(bit)}, sampled))
            value = static_cast<std::uint8_t>(value | (1U << bit));
    return value & ~port.inputOff;
}

// Tells of inputs that float and that the code looks at; looked for again where some net has changed since, or other code reads. Of code that keeps all eight
// bits it is not known which of them it means: then not pins that it drives at times (a matrix of keys lets its columns go), and the others only after a while.
void Ports::checkFloating(PortState& port)
{
    constexpr kernel::Duration kPatience = std::chrono::milliseconds(5);
    port.checkedAt = circuit_.generation();
    port.checkedBy = codeWord_;
    if (!doubtfulRead)
        return;
    std::optional<std::uint8_t> looked;
    bool asked = false;
    for (unsigned left = port.joined & ~(port.ddr | port.inputOff); left != 0; left &= left - 1) {
        const auto bit = static_cast<unsigned>(std::countr_zero(left));
        const PinState& pin = port.pins[bit];
        const circuit::NetState state = circuit_.stateOf(circuit_.netOf(pin.id));
        if (state != circuit::NetState::floating && state != circuit::NetState::between)
            continue;
        if (!std::exchange(asked, true))
            looked = chip_.lookedBits();
        if (looked && (*looked >> bit & 1U) == 0)
            continue;
        if (!looked && (port.everOutput >> bit & 1U) != 0)
            continue;
        if (kernel::Time& since = port.pins[bit].doubtfulSince; !looked && since == kernel::kNever)
            since = circuit_.now();
        if (!looked && circuit_.now() - port.pins[bit].doubtfulSince < kPatience) {
            port.checkedAt = UINT64_MAX;  // again, soon
            continue;
        }
        doubtfulRead({static_cast<std::uint8_t>(port.row->letter - 'A'), static_cast<std::uint8_t>(bit)}, state == circuit::NetState::floating);
    }
}

std::uint8_t Ports::read(std::uint16_t address, std::int64_t cycle)
{
    PortState* port = portOf(address);
    if (port == nullptr)
        return chip_.reg(address);
    if (address == port->ddrAt)
        return port->ddr;
    return address == port->portAt ? port->port : readPins(*port, cycle);
}

// The pins as they are, with no remark about those that float.
std::uint8_t Ports::peek(std::uint16_t address, std::int64_t /*cycle*/)
{
    const PortState* port = portOf(address);
    if (port == nullptr)
        return chip_.reg(address);
    return address == port->ddrAt ? port->ddr : address == port->portAt ? port->port : static_cast<std::uint8_t>(port->levels & ~port->inputOff);
}

void Ports::write(std::uint16_t address, std::uint8_t value, std::int64_t /*cycle*/)
{
    PortState* port = portOf(address);
    if (port == nullptr) {
        writeInputDisable(address, value);
        return;
    }
    std::uint8_t changed = 0;
    if (address == port->ddrAt) {
        changed = port->ddr ^ value;
        port->ddr = value;
        port->everOutput |= value;
    } else if (address == port->portAt || chip_.table().bitwiseFlags) {
        const std::uint8_t next = address == port->portAt ? value : port->port ^ value;
        changed = port->port ^ next;
        port->port = next;
    } else {
        chip_.note("write-protected", fmt::format("PIN{} was written, but on {} it can only be read", port->row->letter, chip_.table().title));
    }
    chip_.reg(port->ddrAt) = port->ddr;
    chip_.reg(port->portAt) = port->port;
    drive(*port, changed);
}

void Ports::writeInputDisable(std::uint16_t address, std::uint8_t value)
{
    store(address, value);
    for (PortState& port : ports_)
        port.inputOff = 0;
    for (const InputDisable& d : inputDisables_)
        if (chip_.is(d.bit))
            ports_[d.pin.port].inputOff |= static_cast<std::uint8_t>(1U << d.pin.bit);
}

void Ports::reset()
{
    for (PortState& port : ports_) {
        port.ddr = port.port = port.inputOff = port.everOutput = 0;
        for (PinState& pin : port.pins)
            pin.overrides = static_cast<std::uint8_t>(pin.overrides & static_cast<unsigned>(Override::taken));
    }
    driveAll();
}

void Ports::pinChanged(circuit::PinId id, bool level, kernel::Time when)
{
    const PortPin pin = pinOf_[static_cast<std::size_t>(id)];
    PortState& port = ports_[pin.port];
    levelChanged(port, port.pins[pin.bit], pin.bit, level, when);
}

}  // namespace bramix::chip::avr
