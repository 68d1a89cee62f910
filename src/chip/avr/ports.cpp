#include "chip/avr/ports.h"


namespace bramix::chip::avr {

Ports::Ports(const ChipTable& table, ChipServices& chip, circuit::Circuit& circuit, Electrical electrical)
    : chip_(chip), circuit_(circuit), electrical_(electrical)
{
    for (const PortRow& row : table.ports) {
        const auto index = static_cast<std::uint8_t>(row.letter - 'A');
        ports_[index].row = &row;
        portAt_[row.pin] = portAt_[row.ddr] = portAt_[row.port] = static_cast<std::uint8_t>(index + 1);
    }
}

void Ports::attach(PortPin pin, circuit::PinId id)
{
    at(pin).id = id;
    const auto index = static_cast<std::size_t>(id);
    if (pinOf_.size() <= index)
        pinOf_.resize(index + 1);
    pinOf_[index] = pin;
    circuit_.listen(id, *this, electrical_.thresholds());
    circuit_.setLimit(id, {electrical_.limitAmps});
}

circuit::Drive Ports::driveFor(const PortState& port, unsigned bit) const
{
    const PinState& pin = port.pins[bit];
    bool output = ((port.ddr >> bit) & 1) != 0;
    bool value = ((port.port >> bit) & 1) != 0;
    const bool pullUp = !pullUpsDisabled_ && value;
    if (pin.overrides != 0) {
        // The greatest override wins: it is the highest bit set.
        unsigned top = 8;
        while ((pin.overrides & top) == 0)
            top >>= 1;
        if (top == static_cast<unsigned>(Override::receiver)) {
            output = false;
        } else {
            value = (pin.values & top) != 0;
            output = output || (pin.forced & top) != 0;
        }
    }
    if (output)
        return {value ? electrical_.supplyVolts : 0.0, electrical_.outputOhms};
    return pullUp ? circuit::Drive{electrical_.supplyVolts, electrical_.pullUpOhms} : circuit::kFloating;
}

void Ports::drive(PortState& port, std::uint8_t bits)
{
    const circuit::Circuit::Batch together(circuit_);
    for (unsigned bit = 0; bit < 8; ++bit)
        if (((bits >> bit) & 1) != 0 && port.pins[bit].id != circuit::kNoPin)
            circuit_.drive(port.pins[bit].id, driveFor(port, bit), chip_.cause());
}

void Ports::driveAll()
{
    for (PortState& port : ports_)
        if (port.row != nullptr)
            drive(port, 0xFF);
}

void Ports::setOverride(PortPin pin, Override who, bool enabled, bool value, bool forcesDirection)
{
    PinState& state = at(pin);
    const auto bit = static_cast<std::uint8_t>(who);
    const auto set = [bit](std::uint8_t& field, bool on) { field = static_cast<std::uint8_t>(on ? field | bit : field & ~bit); };
    set(state.overrides, enabled);
    set(state.values, value);
    set(state.forced, forcesDirection);
    drive(ports_[pin.port], static_cast<std::uint8_t>(1 << pin.bit));
}

void Ports::setPullUpsDisabled(bool disabled)
{
    pullUpsDisabled_ = disabled;
    driveAll();
}

void Ports::watch(PortPin pin, PinWatcher& watcher) { at(pin).watchers.push_back(&watcher); }

bool Ports::isOutput(PortPin pin) const
{
    const PortState& port = ports_[pin.port];
    const circuit::Drive d = driveFor(port, pin.bit);
    return d.ohms == electrical_.outputOhms;
}

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

std::uint8_t Ports::readPins(const PortState& port, std::int64_t cycle) const
{
    const kernel::Time sampled = chip_.clock().timeOf({cycle}) - chip_.clock().span(1) / 2;
    std::uint8_t value = 0;
    for (unsigned bit = 0; bit < 8; ++bit) {
        const PinState& pin = port.pins[bit];
        if (pin.id == circuit::kNoPin)
            continue;
        const PortPin which{static_cast<std::uint8_t>(port.row->letter - 'A'), static_cast<std::uint8_t>(bit)};
        if (levelAt(which, sampled))
            value = static_cast<std::uint8_t>(value | (1 << bit));
        if (floatingRead && ((port.ddr >> bit) & 1) == 0 && circuit_.stateOf(circuit_.netOf(pin.id)) == circuit::NetState::floating)
            floatingRead(which);
    }
    return value;
}

std::uint8_t Ports::read(std::uint16_t address, std::int64_t cycle)
{
    const PortState& port = ports_[portAt_[address] - 1U];
    if (address == port.row->ddr)
        return port.ddr;
    return address == port.row->port ? port.port : readPins(port, cycle);
}

void Ports::write(std::uint16_t address, std::uint8_t value, std::int64_t /*cycle*/)
{
    PortState& port = ports_[portAt_[address] - 1U];
    std::uint8_t changed = 0;
    if (address == port.row->ddr) {
        changed = port.ddr ^ value;
        port.ddr = value;
    } else {
        const std::uint8_t next = address == port.row->port ? value : port.port ^ value;
        changed = port.port ^ next;
        port.port = next;
    }
    drive(port, changed);
}

void Ports::reset()
{
    pullUpsDisabled_ = false;
    for (PortState& port : ports_) {
        port.ddr = port.port = 0;
        for (PinState& pin : port.pins)
            pin.overrides = pin.values = pin.forced = 0;
    }
    driveAll();
}

void Ports::pinChanged(circuit::PinId id, bool level, kernel::Time when)
{
    const PortPin pin = pinOf_[static_cast<std::size_t>(id)];
    PinState& state = at(pin);
    state.level = level;
    state.changes[state.head] = {when, level};
    state.head = static_cast<std::uint8_t>((state.head + 1) % kHistory);
    for (PinWatcher* watcher : state.watchers)
        watcher->pinChanged(pin, level, when);
}

}  // namespace bramix::chip::avr
