#include "chip/avr/peripherals/comparator.h"

#include <fmt/format.h>

namespace bramix::chip::avr {

Comparator::Comparator(ChipServices& chip, const Adc& adc) : StatefulPeripheral(chip), adc_(adc), alarm_(*this, chip, [this](std::int64_t cycle) { settle(cycle); })
{
    const Names& names = chip.names();
    acd_ = names.bit("ACD");
    acbg_ = names.bit("ACBG");
    aco_ = names.bit("ACO");
    aci_ = names.bit("ACI");
    acie_ = names.bit("ACIE");
    acic_ = names.bit("ACIC");
    acme_ = names.bit("ACME");
    acis_ = {names.bit("ACIS0"), names.bit("ACIS1")};
    acsr_ = acd_.address;
    acmeAt_ = acme_.address;
    source_ = {names.vector({"ANALOG_COMP", "ANA_COMP"}), aci_, acie_};
    positive_ = names.pin("AIN0");
    negative_ = names.pin("AIN1");
    for (unsigned i = 0; i < 16; ++i)
        muxPins_[i] = names.pin(fmt::format("ADC{}", i));
    chip.claim(*this, acsr_);
    chip.claim(*this, acmeAt_);
    chip.claim(*this, names.reg("ADMUX"));  // only to follow the multiplexer
    chip.claimVector(*this, source_.vector);
}

// Table 23-2: the multiplexer's lower eight pins by MUX2:0, its upper eight where MUX5 is set.
PortPin Comparator::negativePin() const
{
    if (!chip_.is(acme_) || adc_.enabled())
        return negative_;
    const unsigned mux = adc_.mux();
    return muxPins_[(mux & 7U) | ((mux & 32U) >> 2U)];
}

bool Comparator::output() const
{
    if (chip_.is(acd_))
        return false;
    const double positive = chip_.is(acbg_) ? chip_.table().bandGapVolts : chip_.ports().volts(positive_);
    return positive > chip_.ports().volts(negativePin());
}

// Takes up the nets that the present setting compares.
void Comparator::follow()
{
    circuit::Circuit& circuit = chip_.ports().circuit();
    for (circuit::PinId& pin : watched_) {
        if (pin != circuit::kNoPin)
            circuit.watchVoltage(pin, nullptr);
        pin = circuit::kNoPin;
    }
    if (!following_ || chip_.is(acd_))
        return;
    const PortPin inputs[] = {chip_.is(acbg_) ? PortPin{} : positive_, negativePin()};
    for (std::size_t i = 0; i < 2; ++i) {
        if (!inputs[i].exists())
            continue;
        watched_[i] = chip_.ports().idOf(inputs[i]);
    }
    for (std::size_t i = 0; i < 2; ++i) {
        if (watched_[i] == circuit::kNoPin)
            continue;
        circuit::VoltageWatch watch{.against = watched_[1 - i]};
        if (chip_.is(acbg_))
            watch.level = chip_.table().bandGapVolts;
        circuit.watchVoltage(watched_[i], this, watch);
    }
}

void Comparator::voltageChanged(circuit::PinId /*pin*/, double /*volts*/, kernel::Time at)
{
    if (stops_ == 0 && output() != level_ && !alarm_.armed())
        alarm_.arm(synchronised(at) + 1);
}

void Comparator::settle(std::int64_t cycle)
{
    const bool now = output();
    if (now == level_)
        return;
    level_ = now;
    chip_.put(aco_, now);
    const unsigned sense = (chip_.is(acis_[0]) ? 1U : 0U) | (chip_.is(acis_[1]) ? 2U : 0U);
    if (sense == 0 || (sense == 2 && !now) || (sense == 3 && now))
        chip_.put(aci_, true);
    report(source_);
    if (chip_.is(acic_))
        chip_.comparatorChanged(now, timeOf(cycle));
}

std::uint8_t Comparator::read(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == acsr_ && !following_) {
        following_ = true;
        level_ = output();
        chip_.put(aco_, level_);
        follow();
    }
    return chip_.reg(address);
}

void Comparator::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == acsr_) {
        const bool clears = (value & aci_.mask) != 0;
        store(address, value, static_cast<std::uint8_t>(~(aci_.mask | aco_.mask)));
        if (clears)
            chip_.put(aci_, false);
        following_ = true;
    } else if (address == acmeAt_) {
        store(address, value, acme_.mask);
    }
    follow();
    if (following_ && output() != level_ && !alarm_.armed())
        alarm_.arm(cycle + 1);
    report(source_);
}

void Comparator::interruptTaken(std::uint8_t /*vector*/)
{
    chip_.put(aci_, false);
    report(source_);
}

void Comparator::reset()
{
    following_ = false;
    level_ = false;
    alarm_.disarm();
    follow();
    report(source_);
}

}  // namespace bramix::chip::avr
