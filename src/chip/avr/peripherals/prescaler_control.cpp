#include "chip/avr/peripherals/prescaler_control.h"

#include <algorithm>

namespace bramix::chip::avr {

PrescalerControl::PrescalerControl(ChipServices& chip, Prescaler& shared, Prescaler& own, const std::vector<std::unique_ptr<Timer>>& timers)
    : StatefulPeripheral(chip), shared_(shared), own_(own), timers_(timers)
{
    const Names& names = chip.names();
    hold_ = names.bit("TSM");
    resetShared_ = names.bit({"PSRSYNC", "PSR10", "PSR0"});
    resetOwn_ = names.bit({"PSRASY", "PSR2"});
    chip.claim(*this, resetShared_.address);
}

void PrescalerControl::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    for (const auto& timer : timers_)
        timer->beforePrescalerChange(cycle);
    const bool hold = (value & hold_.mask) != 0;
    std::int64_t ownCycle = cycle;
    for (const auto& timer : timers_)
        if (timer->asynchronous())
            ownCycle = timer->sourceCycle(cycle);
    const auto apply = [&](Prescaler& p, BitRef bit, std::int64_t at) {
        if ((value & bit.mask) != 0 || p.held)
            p.zeroCycle = at;
        p.held = hold && (value & bit.mask) != 0;
    };
    apply(shared_, resetShared_, cycle);
    apply(own_, resetOwn_, ownCycle);
    store(address, hold ? value : 0, static_cast<std::uint8_t>(hold_.mask | resetShared_.mask | resetOwn_.mask));
    for (const auto& timer : timers_)
        timer->afterPrescalerChange(cycle);
}

}  // namespace bramix::chip::avr
