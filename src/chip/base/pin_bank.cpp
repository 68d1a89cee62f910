#include "chip/base/pin_bank.h"

#include <algorithm>

namespace bramix::chip {

void PinBank::attach(unsigned pin, circuit::PinId id)
{
    lines_[pin].id = id;
    byId_.emplace_back(id, pin);
    circuit_.setLimit(id, {electrics_.limitAmps}, static_cast<std::uint32_t>(cause_().actor), {electrics_.togetherAmps});
    circuit_.listen(id, *this, thresholds(pin));
    show(lines_[pin]);
}

std::optional<unsigned> PinBank::pinAt(circuit::PinId id) const
{
    for (const auto& [known, pin] : byId_)
        if (known == id)
            return pin;
    return std::nullopt;
}

circuit::Thresholds PinBank::thresholds(unsigned pin) const
{
    const bool own = pin < lines_.size() && lines_[pin].high > 0;
    return {(own ? lines_[pin].low : electrics_.low) * std::max(volts_, 1.0), (own ? lines_[pin].high : electrics_.high) * std::max(volts_, 1.0)};
}

void PinBank::refresh(double volts)
{
    volts_ = volts;
    for (const auto& [id, pin] : byId_) {
        circuit_.setThresholds(id, thresholds(pin));
        show(lines_[pin]);
    }
}

void PinBank::drive(unsigned pin, Drives what)
{
    if (lines_[pin].drives == what)
        return;
    lines_[pin].drives = what;
    show(lines_[pin]);
}

void PinBank::show(const Line& line)
{
    if (line.id == circuit::kNoPin)
        return;
    circuit::Drive out = circuit::kFloating;
    switch (line.drives) {
    case Drives::nothing: break;
    case Drives::low: out = {0, electrics_.outputOhms}; break;
    case Drives::high: out = {volts_, electrics_.outputOhms}; break;
    case Drives::pullUp: out = {volts_, electrics_.pullUpOhms}; break;
    case Drives::pullDown: out = {0, electrics_.pullDownOhms}; break;
    }
    circuit_.drive(line.id, out, cause_());
}

bool PinBank::floats(unsigned pin) const
{
    const circuit::PinId id = idOf(pin);
    return id != circuit::kNoPin && circuit_.stateOf(circuit_.netOf(id)) == circuit::NetState::floating;
}

double PinBank::volts(unsigned pin) const
{
    const circuit::PinId id = idOf(pin);
    return id == circuit::kNoPin ? 0 : circuit_.voltage(circuit_.netOf(id)).value;
}

void PinBank::pinChanged(circuit::PinId id, bool level, kernel::Time)
{
    const auto pin = pinAt(id);
    if (!pin)
        return;
    lines_[*pin].level = level;
    if (changed)
        changed(*pin, level);
}

}  // namespace bramix::chip
