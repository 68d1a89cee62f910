#include "chip/avr/peripherals/adc.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

// Figure 24-8: the capacitor, and a resistance in its path between 1 and 100 kilohm.
constexpr double kSampleFarads = 14e-12;
constexpr double kMuxOhms = 5'000;

// The temperature sensor at 25 degrees (table 24-2: 314 mV); ATtiny85, table 17-2: 300 counts of 1.1 V.
constexpr double kTemperatureVolts = 0.314;
constexpr double kTinyTemperatureVolts = 300.5 * 1.1 / 1024;

// Half ADC clocks from the beginning.
constexpr std::int64_t kFirstSample = 27, kFirstResult = 50;
constexpr std::int64_t kSample = 3, kResult = 26;
constexpr std::int64_t kTriggeredSample = 4, kTriggeredResult = 27;

constexpr double kFullResolutionHz = 200e3, kLowestHz = 50e3, kHighestHz = 1e6;

}  // namespace

Adc::Adc(ChipServices& chip, PinVolts aref, PinVolts avcc)
    : StatefulPeripheral(chip), aref_(std::move(aref)), avcc_(std::move(avcc)), sampleAlarm_(*this, chip, [this](std::int64_t cycle) { sample(cycle); }),
      doneAlarm_(*this, chip, [this](std::int64_t cycle) { done(cycle); })
{
    const Names& names = chip.names();
    adcsra_ = names.reg("ADCSRA");
    admux_ = names.reg("ADMUX");
    adcl_ = names.reg("ADCL");
    adch_ = names.reg("ADCH");
    aden_ = names.bit("ADEN");
    adsc_ = names.bit("ADSC");
    adate_ = names.bit("ADATE");
    adif_ = names.bit("ADIF");
    adie_ = names.bit("ADIE");
    adlar_ = names.bit("ADLAR");
    bin_ = names.bit("BIN");
    ipr_ = names.bit("IPR");
    for (unsigned i = 0; i < 3; ++i) {
        prescale_[i] = names.bit(fmt::format("ADPS{}", i));
        triggerSelect_[i] = names.bit(fmt::format("ADTS{}", i));
        reference_[i] = names.bit(fmt::format("REFS{}", i));
    }
    adcsrb_ = triggerSelect_[0].address;
    for (unsigned i = 0; i < 6; ++i)
        mux_[i] = names.bit(fmt::format("MUX{}", i));
    for (const BitRef b : {triggerSelect_[0], triggerSelect_[1], triggerSelect_[2], mux_[5], bin_, ipr_})
        if (b.address == adcsrb_)
            controlBits_ |= b.mask;
    for (unsigned i = 0; i < 16; ++i)
        pins_[i] = names.pin(fmt::format("ADC{}", i));
    source_ = {names.vector("ADC"), adif_, adie_};
    const bool tiny = chip.table().hasHighSpeedTimer;
    triggers_ = {0,
                 names.vector({"ANALOG_COMP", "ANA_COMP"}),
                 names.vector("INT0"),
                 names.vector({"TIMER0_COMPA", "TIMER0_COMP"}),
                 names.vector("TIMER0_OVF"),
                 names.vector(tiny ? "TIMER0_COMPB" : "TIMER1_COMPB"),
                 names.vector(tiny ? "PCINT0" : "TIMER1_OVF"),
                 names.vector("TIMER1_CAPT")};
    for (const std::uint16_t address : {adcsra_, adcsrb_, admux_, adcl_, adch_})
        chip.claim(*this, address);
    chip.claimVector(*this, source_.vector);
    chip.claimPower(*this, names.bit("PRADC"));
}

unsigned Adc::mux() const
{
    unsigned value = 0;
    for (unsigned i = 0; i < mux_.size(); ++i)
        value |= chip_.is(mux_[i]) ? 1U << i : 0U;
    return value;
}

unsigned Adc::divisor() const
{
    const unsigned bits = (chip_.is(prescale_[0]) ? 1U : 0U) | (chip_.is(prescale_[1]) ? 2U : 0U) | (chip_.is(prescale_[2]) ? 4U : 0U);
    return bits == 0 ? 2 : 1U << bits;
}

void Adc::noteClock()
{
    if (notedHz_ == chip_.clock().hz() / divisor())
        return;
    notedHz_ = chip_.clock().hz() / divisor();
    const double hz = static_cast<double>(chip_.clock().hz()) / divisor();
    if (hz > kHighestHz || hz < kLowestHz)
        chip_.note("adc-clock", fmt::format("the ADC converts at {:.0f} kHz, outside its 50 kHz to 1 MHz: set ADPS2:0 for a clock in this range", hz / 1e3));
    else if (hz > kFullResolutionHz)
        chip_.note("adc-clock", fmt::format("the ADC converts at {:.0f} kHz; above 200 kHz it does not reach its full resolution", hz / 1e3));
}

void Adc::begin(std::int64_t cycle, bool triggered)
{
    noteClock();
    const std::int64_t d = divisor();
    if (triggered)
        zeroCycle_ = cycle;
    startCycle_ = triggered ? cycle : zeroCycle_ + ((cycle - zeroCycle_) / d + 1) * d;
    running_ = true;
    latchedMux_ = mux();
    latchedAdmux_ = chip_.reg(admux_);
    chip_.put(adsc_, true);
    const std::int64_t sampleHalves = first_ ? kFirstSample : triggered ? kTriggeredSample : kSample;
    const std::int64_t resultHalves = first_ ? kFirstResult : triggered ? kTriggeredResult : kResult;
    first_ = false;
    sampleAlarm_.arm(startCycle_ + sampleHalves * d / 2);
    doneAlarm_.arm(startCycle_ + resultHalves * d / 2);
}

double Adc::channelVolts(std::int8_t channel) const
{
    if (channel >= 0)
        return chip_.ports().volts(pins_[static_cast<std::size_t>(channel)]);
    if (channel == kAdcBandGap)
        return chip_.table().bandGapVolts;
    if (channel == kAdcTemperature)
        return chip_.table().hasHighSpeedTimer ? kTinyTemperatureVolts : kTemperatureVolts;
    return 0;
}

double Adc::channelOhms(std::int8_t channel) const { return channel >= 0 ? chip_.ports().sourceOhms(pins_[static_cast<std::size_t>(channel)]) : 0; }

Reference Adc::reference() const
{
    unsigned refs = 0;
    for (unsigned i = 0; i < 3; ++i)
        refs |= chip_.is(reference_[i]) ? 1U << i : 0U;
    return chip_.table().references[refs];
}

std::optional<Adc::Seen> Adc::seen(PortPin pin) const
{
    if (!pin.exists() || std::none_of(pins_.begin(), pins_.end(), [&](PortPin p) { return p.exists() && p.port == pin.port && p.bit == pin.bit; }))
        return std::nullopt;
    const Reference which = enabled() ? reference() : Reference::avcc;
    const double volts = which == Reference::bandGap ? 1.1 : which == Reference::volts256 ? 2.56 : (which == Reference::aref ? aref_() : avcc_()).value_or(0);
    if (which == Reference::reserved || volts <= 0)
        return std::nullopt;
    return Seen{volts, static_cast<int>(std::clamp(std::floor(chip_.ports().volts(pin) * 1024 / volts), 0.0, 1023.0))};
}

double Adc::referenceVolts()
{
    const Reference which = reference();
    const std::optional<double> outside = aref_();
    if (which == Reference::aref) {
        if (!outside)
            chip_.note("adc-reference", "the ADC takes its reference from AREF, which nothing holds: its results mean nothing; choose AVCC in REFS, or wire AREF");
        return outside.value_or(0);
    }
    if (outside && !chip_.table().hasHighSpeedTimer)
        chip_.note("adc-reference", "an internal reference is switched to AREF while something outside holds that pin: the two are shorted");
    switch (which) {
    case Reference::bandGap: return 1.1;
    case Reference::volts256: return 2.56;
    case Reference::reserved: chip_.note("adc-reference", "REFS has a reserved value: the results mean nothing"); break;
    case Reference::aref:
    case Reference::avcc: break;
    }
    const std::optional<double> avcc = avcc_();
    if (!avcc)
        chip_.note("adc-supply", "AVCC is not wired, and the ADC takes its reference from it: its results mean nothing; wire AVCC to VCC");
    return avcc.value_or(0);
}

// The capacitor has been joined to the channel since the beginning; for the first conversion after ADEN as long as for any.
void Adc::sample(std::int64_t cycle)
{
    const auto& rows = chip_.table().adcChannels;
    const AdcChannelRow row = latchedMux_ < rows.size() ? rows[latchedMux_] : AdcChannelRow{};
    if (row.positive == kAdcNothing)
        chip_.note("adc-channel", fmt::format("MUX = {} is reserved: the result means nothing", latchedMux_));
    const double source = channelVolts(row.positive);
    const double tau = (channelOhms(row.positive) + kMuxOhms) * kSampleFarads;
    const double joined = kernel::seconds(timeOf(cycle) - timeOf(startCycle_));
    capacitorVolts_ = std::isfinite(tau) ? source + (capacitorVolts_ - source) * std::exp(-joined / tau) : capacitorVolts_;
    heldVolts_ = capacitorVolts_;
    if (row.negative >= 0)
        heldVolts_ -= channelVolts(row.negative);
}

std::uint16_t Adc::convert()
{
    const auto& rows = chip_.table().adcChannels;
    const AdcChannelRow row = latchedMux_ < rows.size() ? rows[latchedMux_] : AdcChannelRow{};
    const double reference = referenceVolts();
    if (reference <= 0)
        return 0x3FF;
    if (row.negative < 0)
        return static_cast<std::uint16_t>(std::clamp(std::floor(heldVolts_ * 1024 / reference), 0.0, 1023.0));
    // Differential: two's complement of 512 steps, but unipolar on the ATtiny85 unless BIN says so (17.11.1).
    const double volts = (chip_.is(ipr_) ? -heldVolts_ : heldVolts_) * row.gain;
    const bool unipolar = bin_.exists() && !chip_.is(bin_);
    const double value = unipolar ? std::clamp(std::floor(volts * 1024 / reference), 0.0, 1023.0) : std::clamp(std::floor(volts * 512 / reference), -512.0, 511.0);
    return static_cast<std::uint16_t>(static_cast<int>(value) & 0x3FF);
}

void Adc::done(std::int64_t cycle)
{
    running_ = false;
    const std::uint16_t value = convert();
    if (!locked_)
        publish(value);
    chip_.put(adif_, true);
    if (chip_.is(adate_) && triggerSelect() == 0) {
        // Free running: the next conversion begins at once, on the same edge of the ADC clock.
        begin(cycle - 1, false);
    } else {
        chip_.put(adsc_, false);
    }
    report(source_);
}

void Adc::publish(std::uint16_t value)
{
    const auto word = static_cast<std::uint16_t>((latchedAdmux_ & adlar_.mask) != 0 ? value << 6 : value);
    chip_.reg(adcl_) = static_cast<std::uint8_t>(word);
    chip_.reg(adch_) = static_cast<std::uint8_t>(word >> 8);
}

std::uint8_t Adc::read(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == adcl_)
        locked_ = true;
    else if (address == adch_)
        locked_ = false;
    return chip_.reg(address);
}

unsigned Adc::triggerSelect() const
{
    unsigned select = 0;
    for (unsigned i = 0; i < 3; ++i)
        select |= chip_.is(triggerSelect_[i]) ? 1U << i : 0U;
    return select;
}

void Adc::updateTrigger() { chip_.awaitTrigger(enabled() && chip_.is(adate_) ? triggers_[triggerSelect()] : 0); }

void Adc::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == adcsra_) {
        const bool was = enabled();
        const bool busy = chip_.is(adsc_);
        std::uint8_t kept = static_cast<std::uint8_t>(value & ~(adif_.mask | adsc_.mask));
        if ((chip_.reg(adcsra_) & adif_.mask) != 0 && (value & adif_.mask) == 0)
            kept |= adif_.mask;
        if (busy)
            kept |= adsc_.mask;  // writing 0 to ADSC does nothing
        store(adcsra_, kept);
        if (!enabled()) {
            running_ = false;
            chip_.put(adsc_, false);
            sampleAlarm_.disarm();
            doneAlarm_.disarm();
            first_ = true;
        } else {
            if (!was)
                zeroCycle_ = cycle;
            if ((value & adsc_.mask) != 0 && !running_)
                begin(cycle, false);
        }
        updateTrigger();
        report(source_);
    } else if (address == adcsrb_) {
        store(address, value, controlBits_);
        updateTrigger();
    } else if (address == admux_) {
        store(address, value);
    }
}

void Adc::trigger(std::int64_t cycle)
{
    if (enabled() && chip_.is(adate_) && !running_)
        begin(cycle, true);
}

void Adc::sleepEntered(Sleep mode, std::int64_t cycle)
{
    if (mode == Sleep::noiseReduction && enabled() && !running_)
        begin(cycle, false);
}

// In the deeper modes a conversion in progress is broken off.
void Adc::clockStopped(std::int64_t cycle)
{
    if (running_) {
        running_ = false;
        chip_.put(adsc_, false);
        sampleAlarm_.disarm();
        doneAlarm_.disarm();
    }
    Peripheral::clockStopped(cycle);
}

void Adc::interruptTaken(std::uint8_t /*vector*/)
{
    chip_.put(adif_, false);
    report(source_);
}

void Adc::reset()
{
    running_ = locked_ = false;
    first_ = true;
    zeroCycle_ = chip_.cycleNow();
    capacitorVolts_ = heldVolts_ = 0;
    sampleAlarm_.disarm();
    doneAlarm_.disarm();
    chip_.awaitTrigger(0);
    report(source_);
}

}  // namespace bramix::chip::avr
