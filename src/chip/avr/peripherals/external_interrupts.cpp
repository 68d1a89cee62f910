#include "chip/avr/peripherals/external_interrupts.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

constexpr int kEdgeClocks = 1;
constexpr int kChangeClocks = 2;

}  // namespace

ExternalInterrupts::ExternalInterrupts(ChipServices& chip) : StatefulPeripheral(chip), alarm_(chip.queue(), [this](kernel::Time due) { flagsArrive(due); })
{
    const Names& names = chip.names();
    const auto own = [&](BitRef bit) {
        if (!bit.exists())
            return;
        chip.claim(*this, bit.address);
        const auto found = std::find_if(storage_.begin(), storage_.end(), [&](const auto& s) { return s.first == bit.address; });
        if (found == storage_.end())
            storage_.emplace_back(bit.address, bit.mask);
        else
            found->second |= bit.mask;
    };
    for (int n = 0; n < 8; ++n) {
        Edge e;
        e.source = {names.vector(fmt::format("INT{}", n)), names.bit(fmt::format("INTF{}", n)), names.bit(fmt::format("INT{}", n))};
        if (!e.source.enable.exists())
            continue;
        e.pin = names.pin(fmt::format("INT{}", n));
        e.sense1 = names.bit(fmt::format("ISC{}1", n));
        e.sense0 = names.bit({fmt::format("ISC{}0", n), fmt::format("ISC{}", n)});
        e.needsClock = e.sense1.exists() && !(names.bit("ISC70").exists() && n < 4);
        for (const BitRef bit : {e.source.flag, e.source.enable, e.sense1, e.sense0})
            own(bit);
        flagsAt_ = e.source.flag.address;
        chip.claimVector(*this, e.source.vector);
        chip.ports().watch(e.pin, *this);
        interests_[place(e.pin)].edge = static_cast<std::int8_t>(edges_.size());
        edges_.push_back(e);
    }
    for (int g = 0; g < 3; ++g) {
        const InterruptSource s{names.vector(fmt::format("PCINT{}", g)), names.bit({fmt::format("PCIF{}", g), g == 0 ? "PCIF" : "-"}), names.bit({fmt::format("PCIE{}", g), g == 0 ? "PCIE" : "-"})};
        if (!s.flag.exists())
            continue;
        own(s.flag);
        own(s.enable);
        changeFlagsAt_ = s.flag.address;
        chip.claimVector(*this, s.vector);
        for (int n = 8 * g; n < 8 * g + 8; ++n) {
            const Change c{names.bit(fmt::format("PCINT{}", n)), names.pin(fmt::format("PCINT{}", n)), static_cast<std::uint8_t>(groups_.size())};
            if (!c.mask.exists() || !c.pin.exists())
                continue;
            own(c.mask);
            if (std::none_of(edges_.begin(), edges_.end(), [&](const Edge& e) { return e.pin == c.pin; }))
                chip.ports().watch(c.pin, *this, c.mask);
            interests_[place(c.pin)].change = static_cast<std::int8_t>(changes_.size());
            changes_.push_back(c);
        }
        groups_.push_back(s);
    }
}

unsigned ExternalInterrupts::sense(const Edge& e) const
{
    if (!e.sense1.exists())
        return chip_.is(e.sense0) ? 3 : 2;
    return (chip_.is(e.sense1) ? 2U : 0U) | (chip_.is(e.sense0) ? 1U : 0U);
}

void ExternalInterrupts::pinChanged(PortPin pin, bool level, kernel::Time at)
{
    const Interest who = interests_[place(pin)];
    if (who.change >= 0) {
        const Change& c = changes_[static_cast<std::size_t>(who.change)];
        if (chip_.is(c.mask))
            later(at, kChangeClocks, true, c.group);
    }
    if (who.edge < 0)
        return;
    const Edge& e = edges_[static_cast<std::size_t>(who.edge)];
    const unsigned s = sense(e);
    if (s == 0) {
        chip_.setInterrupt(e.source.vector, !level, chip_.is(e.source.enable));
    } else if (s == 1 || level == (s == 3)) {
        if (stops_ == 0 || !e.needsClock)
            later(at, kEdgeClocks, false, static_cast<std::size_t>(who.edge));
        else if (chip_.is(e.source.enable))
            chip_.note("edge-asleep", fmt::format("{} is set to an edge, whose detector stands still in this sleep mode: only a low level wakes", chip_.table().vectors[e.source.vector].name));
    }
}

void ExternalInterrupts::later(kernel::Time changed, int clocks, bool pinChange, std::size_t index)
{
    const kernel::Time at = timeOf(synchronised(changed) + clocks);
    due_.push_back({at, pinChange, static_cast<std::uint8_t>(index)});
    std::stable_sort(due_.begin(), due_.end(), [](const Pending& a, const Pending& b) { return a.at < b.at; });
    alarm_.arm(due_.front().at);
}

void ExternalInterrupts::flagsArrive(kernel::Time now)
{
    while (!due_.empty() && due_.front().at <= now) {
        const Pending p = due_.front();
        due_.pop_front();
        chip_.put(p.pinChange ? groups_[p.index].flag : edges_[p.index].source.flag, true);
    }
    if (!due_.empty())
        alarm_.arm(due_.front().at);
    updateInterrupts();
}

void ExternalInterrupts::updateInterrupts()
{
    for (const Edge& e : edges_)
        chip_.setInterrupt(e.source.vector, sense(e) == 0 ? !chip_.ports().level(e.pin) : chip_.is(e.source.flag), chip_.is(e.source.enable));
    for (const InterruptSource& g : groups_)
        report(g);
}

void ExternalInterrupts::write(std::uint16_t address, std::uint8_t value, std::int64_t /*cycle*/)
{
    for (const auto& [at, mask] : storage_) {
        if (at != address)
            continue;
        std::uint8_t flags = 0;
        for (const Edge& e : edges_)
            flags |= e.source.flag.address == address ? e.source.flag.mask : 0;
        for (const InterruptSource& g : groups_)
            flags |= g.flag.address == address ? g.flag.mask : 0;
        store(address, value, static_cast<std::uint8_t>(mask & ~flags));
        store(address, 0, value & flags);
    }
    updateInterrupts();
}

void ExternalInterrupts::interruptTaken(std::uint8_t vector)
{
    for (const Edge& e : edges_)
        if (e.source.vector == vector)
            chip_.put(e.source.flag, false);
    for (const InterruptSource& g : groups_)
        if (g.vector == vector)
            chip_.put(g.flag, false);
    updateInterrupts();
}

void ExternalInterrupts::reset()
{
    due_.clear();
    alarm_.disarm();
    updateInterrupts();
}

}  // namespace bramix::chip::avr
