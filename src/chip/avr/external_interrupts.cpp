#include "chip/avr/external_interrupts.h"

#include <algorithm>

namespace bramix::chip::avr {

namespace {

constexpr int kEdgeClocks = 1;
constexpr int kChangeClocks = 2;

}  // namespace

ExternalInterrupts::ExternalInterrupts(const ChipTable& table, ChipServices& chip)
    : table_(table), chip_(chip), alarm_(chip.queue(), [this](kernel::Time due) { flagsArrive(due); })
{
    for (const ExternalInterruptRow& row : table.externalInterrupts)
        chip.ports().watch(row.pin, *this);
    for (const PinChangeRow& row : table.pinChanges)
        for (const PortPin pin : row.pins)
            if (pin.exists() && std::none_of(table.externalInterrupts.begin(), table.externalInterrupts.end(), [&](const auto& e) { return e.pin == pin; }))
                chip.ports().watch(pin, *this);
}

unsigned ExternalInterrupts::sense(std::size_t index) const
{
    const ExternalInterruptRow& row = table_.externalInterrupts[index];
    return (control_[row.control - table_.externalInterrupts[0].control] >> row.shift) & 3U;
}

void ExternalInterrupts::pinChanged(PortPin pin, bool level, kernel::Time at)
{
    for (std::size_t i = 0; i < table_.externalInterrupts.size(); ++i) {
        if (!(table_.externalInterrupts[i].pin == pin))
            continue;
        const unsigned s = sense(i);
        if (s == 1 || (s == 2 && !level) || (s == 3 && level))
            later(at, kEdgeClocks, false, static_cast<std::uint8_t>(1 << i));
        else if (s == 0)
            updateInterrupts();
    }
    for (std::size_t i = 0; i < table_.pinChanges.size(); ++i)
        for (std::size_t bit = 0; bit < 8; ++bit)
            if (table_.pinChanges[i].pins[bit] == pin && ((changeMasks_[i] >> bit) & 1) != 0)
                later(at, kChangeClocks, true, static_cast<std::uint8_t>(1 << i));
}

void ExternalInterrupts::later(kernel::Time changed, int clocks, bool pinChange, std::uint8_t bit)
{
    const kernel::ClockDomain& clock = chip_.clock();
    // The synchroniser samples at falling edges: the first one after the change lies half a cycle before the edge found here.
    const std::int64_t synchronised = clock.firstCycleAtOrAfter(changed + clock.span(1) / 2).n;
    const kernel::Time at = clock.timeOf({synchronised + clocks});
    due_.push_back({at, pinChange, bit});
    std::stable_sort(due_.begin(), due_.end(), [](const Pending& a, const Pending& b) { return a.at < b.at; });
    alarm_.arm(due_.front().at);
}

void ExternalInterrupts::flagsArrive(kernel::Time now)
{
    while (!due_.empty() && due_.front().at <= now) {
        const Pending p = due_.front();
        due_.pop_front();
        (p.pinChange ? changeFlags_ : flags_) |= p.bit;
    }
    if (!due_.empty())
        alarm_.arm(due_.front().at);
    updateInterrupts();
}

void ExternalInterrupts::updateInterrupts()
{
    for (std::size_t i = 0; i < table_.externalInterrupts.size(); ++i) {
        const ExternalInterruptRow& row = table_.externalInterrupts[i];
        const bool pending = sense(i) == 0 ? !chip_.ports().level(row.pin) : ((flags_ >> i) & 1) != 0;
        chip_.setInterrupt(row.vector, pending, ((mask_ >> i) & 1) != 0);
    }
    for (std::size_t i = 0; i < table_.pinChanges.size(); ++i)
        chip_.setInterrupt(table_.pinChanges[i].vector, ((changeFlags_ >> i) & 1) != 0, ((changeControl_ >> i) & 1) != 0);
}

std::uint8_t ExternalInterrupts::read(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == table_.eimsk)
        return mask_;
    if (address == table_.eifr)
        return flags_;
    if (address == table_.pcicr)
        return changeControl_;
    if (address == table_.pcifr)
        return changeFlags_;
    for (std::size_t i = 0; i < table_.pinChanges.size(); ++i)
        if (table_.pinChanges[i].mask == address)
            return changeMasks_[i];
    return control_[address - table_.externalInterrupts[0].control];
}

void ExternalInterrupts::write(std::uint16_t address, std::uint8_t value, std::int64_t /*cycle*/)
{
    const auto clear = [value](std::uint8_t& flags) { flags &= static_cast<std::uint8_t>(~value); };
    bool known = true;
    if (address == table_.eimsk)
        mask_ = value;
    else if (address == table_.eifr)
        clear(flags_);
    else if (address == table_.pcicr)
        changeControl_ = value;
    else if (address == table_.pcifr)
        clear(changeFlags_);
    else
        known = false;
    for (std::size_t i = 0; i < table_.pinChanges.size() && !known; ++i)
        if (table_.pinChanges[i].mask == address) {
            changeMasks_[i] = value;
            known = true;
        }
    if (!known)
        control_[address - table_.externalInterrupts[0].control] = value;
    updateInterrupts();
}

void ExternalInterrupts::interruptTaken(std::uint8_t vector)
{
    for (std::size_t i = 0; i < table_.externalInterrupts.size(); ++i)
        if (table_.externalInterrupts[i].vector == vector)
            flags_ &= static_cast<std::uint8_t>(~(1U << i));
    for (std::size_t i = 0; i < table_.pinChanges.size(); ++i)
        if (table_.pinChanges[i].vector == vector)
            changeFlags_ &= static_cast<std::uint8_t>(~(1U << i));
    updateInterrupts();
}

void ExternalInterrupts::reset()
{
    control_ = {};
    mask_ = flags_ = changeControl_ = changeFlags_ = 0;
    changeMasks_ = {};
    due_.clear();
    alarm_.disarm();
    updateInterrupts();
}

}  // namespace bramix::chip::avr
