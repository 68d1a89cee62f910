#include "chip/avr/peripherals/usi.h"

namespace bramix::chip::avr {

namespace {

constexpr std::uint8_t kCounterMask = 0x0F;

}  // namespace

Usi::Usi(ChipServices& chip) : StatefulPeripheral(chip)
{
    const Names& names = chip.names();
    usicr_ = names.reg("USICR");
    usisr_ = names.reg("USISR");
    usidr_ = names.reg("USIDR");
    usibr_ = names.reg("USIBR");
    wm1_ = names.bit("USIWM1");
    wm0_ = names.bit("USIWM0");
    cs1_ = names.bit("USICS1");
    cs0_ = names.bit("USICS0");
    clk_ = names.bit("USICLK");
    tc_ = names.bit("USITC");
    sif_ = names.bit("USISIF");
    oif_ = names.bit("USIOIF");
    pf_ = names.bit("USIPF");
    dc_ = names.bit("USIDC");
    start_ = {names.vector("USI_START"), sif_, names.bit("USISIE")};
    overflow_ = {names.vector("USI_OVF"), oif_, names.bit("USIOIE")};
    di_ = names.pin("DI");
    do_ = names.pin("DO");
    usck_ = names.pin("USCK");
    for (const std::uint16_t address : {usicr_, usisr_, usidr_, usibr_})
        chip.claim(*this, address);
    chip.claim(*this, names.reg("PORTB"));  // SDA and SCL are pulled down by PORT too
    chip.claim(*this, names.reg("DDRB"));
    chip.claimVector(*this, start_.vector);
    chip.claimVector(*this, overflow_.vector);
    chip.claimPower(*this, names.bit("PRUSI"));
    chip.ports().watch(di_, *this);
    chip.ports().watch(usck_, *this);
}

unsigned Usi::wires() const { return (chip_.is(wm1_) ? 2U : 0U) | (chip_.is(wm0_) ? 1U : 0U); }
unsigned Usi::clockSelect() const { return (chip_.is(cs1_) ? 2U : 0U) | (chip_.is(cs0_) ? 1U : 0U); }

void Usi::present()
{
    latch_ = (shift_ & 0x80) != 0;
    updatePins();
}

void Usi::shiftIn()
{
    shift_ = static_cast<std::uint8_t>((shift_ << 1) | (chip_.ports().level(di_) ? 1 : 0));
    chip_.reg(usidr_) = shift_;
}

void Usi::count()
{
    const auto next = static_cast<std::uint8_t>(((chip_.reg(usisr_) & kCounterMask) + 1) & kCounterMask);
    store(usisr_, next, kCounterMask);
    if (next != 0)
        return;
    chip_.put(oif_, true);
    chip_.reg(usibr_) = shift_;
    if (wires() == 3)
        holdLow_ = true;
    updatePins();
    updateInterrupts();
}

void Usi::chooseClock(bool restored)
{
    if (clockedByTimer)
        clockedByTimer(clockSelect() == 1 && wires() != 0, restored);
}

void Usi::timerMatch()
{
    if (clockSelect() != 1 || wires() == 0)
        return;
    shiftIn();
    present();
    count();
}

void Usi::pinChanged(PortPin pin, bool level, kernel::Time /*at*/)
{
    if (wires() == 0 || stops_ != 0)
        return;
    Ports& ports = chip_.ports();
    if (pin == di_) {
        if (!twoWire() || !ports.level(usck_))
            return;
        if (level) {
            chip_.put(pf_, true);
        } else {
            chip_.put(sif_, true);
            updateInterrupts();
        }
        return;
    }
    if (clockSelect() < 2)
        return;
    const bool shifts = level == (clockSelect() == 2);
    if (shifts) {
        chip_.put(dc_, twoWire() && ((shift_ & 0x80) != 0) != ports.level(di_));
        shiftIn();
    }
    if (!chip_.is(clk_))
        count();
    if (!shifts)
        present();
    if (twoWire() && !level && chip_.is(sif_))
        holdLow_ = true;
    updatePins();
}

void Usi::updatePins()
{
    Ports& ports = chip_.ports();
    const unsigned mode = wires();
    ports.setOverride(do_, Override::serialBus, mode == 1, latch_);
    const bool bus = twoWire();
    const bool sdaOut = bus && ports.isDirectionOut(di_);
    ports.setOverride(di_, Override::openDrain, sdaOut, latch_ && ports.portBit(di_), Force::openDrain);
    const bool sclOut = bus && ports.isDirectionOut(usck_);
    ports.setOverride(usck_, Override::openDrain, sclOut, ports.portBit(usck_) && !holdLow_, Force::openDrain);
}

std::uint8_t Usi::read(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == usisr_ && twoWire())
        chip_.put(dc_, ((shift_ & 0x80) != 0) != chip_.ports().level(di_));
    return chip_.reg(address);
}

void Usi::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == usidr_) {
        shift_ = value;
        store(address, value);
        present();
    } else if (address == usisr_) {
        const std::uint8_t flags = sif_.mask | oif_.mask | pf_.mask;
        store(address, 0, value & flags);
        store(address, value, kCounterMask);
        if (!chip_.is(sif_) && !(wires() == 3 && chip_.is(oif_)))
            holdLow_ = false;
    } else if (address == usicr_) {
        store(address, value, static_cast<std::uint8_t>(~(clk_.mask | tc_.mask)));
        const unsigned source = clockSelect();
        chooseClock();
        // USICLK is a strobe with the software clock, and a choice with the others.
        if (source >= 2)
            store(address, value, clk_.mask);
        if (source == 0 && (value & clk_.mask) != 0) {
            shiftIn();
            present();
            count();
        }
        if ((value & tc_.mask) != 0) {
            // Toggles the port bit of USCK; the edge on the pin clocks where the clock is external.
            const std::uint16_t port = chip_.names().reg("PORTB");
            chip_.ports().write(port, static_cast<std::uint8_t>(chip_.reg(port) ^ (1U << usck_.bit)), cycle);
            if (source >= 2 && chip_.is(clk_))
                count();
        }
    }
    updatePins();
    updateInterrupts();
}

void Usi::updateInterrupts()
{
    report(start_);
    report(overflow_);
}

// Neither flag clears itself (15.5.2).
void Usi::interruptTaken(std::uint8_t /*vector*/) {}

void Usi::reset()
{
    shift_ = 0;
    latch_ = holdLow_ = false;
    chooseClock();
    updatePins();
    updateInterrupts();
}

}  // namespace bramix::chip::avr
