#include "session/tracing/local_follower.h"

#include <algorithm>

#include "debug/local_stops.h"

namespace bramix::session {

void LocalFollower::stand(const bench::World::ChipUnit& unit)
{
    sp_ = static_cast<std::uint32_t>(unit.chip->stackPointer());
    stoodInside_ = inside(unit);
}

namespace {

// What stands in the register of a DWARF number, as wide as a pointer.
std::int64_t standsAt(const chip::DebugPort& port, unsigned number)
{
    const chip::Device& device = port.device();
    std::int64_t value = 0;
    unsigned bytes = 0;
    for (auto index = debug::registerOfDwarf(device, number); index && bytes < device.pointerBytes; index = debug::registerOfDwarf(device, ++number)) {
        if (device.coreRegisters[*index].role == chip::CoreRole::stackPointer)
            return static_cast<std::int64_t>(port.stackPointer());
        value |= static_cast<std::int64_t>(port.readRegister(*index)) << (8 * bytes);
        bytes += device.coreRegisters[*index].bytes();
    }
    return value;
}

}  // namespace

std::optional<LocalValue> LocalFollower::read(Program& program, const bench::World::ChipUnit& unit)
{
    if (!plain_)
        return localAt(program, unit, name_);
    Known& known = places_[unit.chip->codeAddress()];
    std::optional<LocalValue> out;
    if (known.times == 2 && readPlace(known.place, unit, out))
        return out;
    out = localAt(program, unit, name_);
    if (known.times < 2 && !known.changes)
        learn(known, program, unit, out);
    return out;
}

// False where it has to be worked out: the frame does not lie where it did.
bool LocalFollower::readPlace(const Place& place, const bench::World::ChipUnit& unit, std::optional<LocalValue>& out)
{
    if (place.nowhere)
        return true;
    const chip::Mcu& core = *unit.chip;
    const std::int64_t cfa = static_cast<std::int64_t>(core.stackPointer()) + place.frame;
    if (standsAt(core, place.base) + place.fromBase != cfa)
        return false;
    out = LocalValue{place.value, static_cast<std::uint32_t>(cfa)};
    std::vector<std::uint8_t>& bytes = out->value.bytes;
    for (std::size_t i = 0; i < bytes.size(); ++i)
        bytes[i] = place.value.inMemory ? core.readData(static_cast<std::uint64_t>(cfa + place.offset + static_cast<std::int64_t>(i)))
                                        : static_cast<std::uint8_t>(core.readRegister(place.value.registers[i].index) >> (8 * place.value.registers[i].byte));
    if (place.value.inMemory)
        out->value.address = static_cast<std::uint32_t>(cfa + place.offset);
    return true;
}

void LocalFollower::learn(Known& known, const Program& program, const bench::World::ChipUnit& unit, const std::optional<LocalValue>& value) const
{
    const chip::Mcu& core = *unit.chip;
    const auto base = program.frames.baseAt(core.codeAddress());
    // One that outlives its function has a place of its own.
    const auto outlives = [&](const debug::Variable& v) { return v.function >= 0 && v.name == name_.expression && v.fixedAddress() && debug::isNamed(program.symbols.functions()[static_cast<std::size_t>(v.function)], name_.function); };
    if (value && value->value.inMemory && std::any_of(program.symbols.variables().begin(), program.symbols.variables().end(), outlives)) {
        known.changes = true;
        return;
    }
    Place place;
    place.nowhere = !value;
    if (value) {
        const bool inRegisters = !value->value.inMemory && value->value.registers.size() == value->value.bytes.size();
        if (!base || (!inRegisters && (!value->value.inMemory || value->value.space != debug::Space::data))) {
            known.changes = true;
            return;
        }
        const auto cfa = static_cast<std::int64_t>(value->cfa);
        place.base = *base;
        place.fromBase = static_cast<std::int32_t>(cfa - standsAt(core, *base));
        place.frame = static_cast<std::int32_t>(cfa - static_cast<std::int64_t>(core.stackPointer()));
        place.value = value->value;
        place.offset = value->value.inMemory ? static_cast<std::int32_t>(static_cast<std::int64_t>(value->value.address) - cfa) : 0;
    }
    if (known.times > 0 && !(known.place == place)) {
        known.changes = true;
        known.times = 0;
        return;
    }
    known.place = std::move(place);
    ++known.times;
}

LocalFollower::News LocalFollower::look(Program& program, const bench::World::ChipUnit& unit)
{
    const auto ended = [this] { return std::exchange(open_, false) ? News::ended : News::none; };
    if (!inside(unit)) {
        const std::uint64_t sp = unit.chip->stackPointer(), bytesOfReturn = unit.device->returnBytes;
        // A call and an interrupt leave a return address; whatever else leads out of it has left it.
        const bool left = stoodInside_ && sp + bytesOfReturn > sp_;
        // Or out of several functions at once.
        return open_ && (left || sp + bytesOfReturn > cfa_) ? ended() : News::none;
    }
    auto here = read(program, unit);
    if (!here || here->value.bytes.empty())
        return ended();
    goesOn_ = open_ && here->cfa == cfa_;
    if (goesOn_ && here->value.bytes == value_.bytes)
        return News::none;
    value_ = std::move(here->value);
    cfa_ = here->cfa;
    open_ = true;
    return News::value;
}

}  // namespace bramix::session
