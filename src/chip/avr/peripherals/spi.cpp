#include "chip/avr/peripherals/spi.h"

namespace bramix::chip::avr {

namespace {

constexpr unsigned kEdges = 16;
constexpr unsigned kBits = 8;

}  // namespace

Spi::Spi(ChipServices& chip) : StatefulPeripheral(chip), alarm_(*this, chip, [this](std::int64_t cycle) { edge(cycle); })
{
    const Names& names = chip.names();
    spcr_ = names.reg("SPCR");
    spsr_ = names.reg("SPSR");
    spdr_ = names.reg("SPDR");
    spe_ = names.bit("SPE");
    dord_ = names.bit("DORD");
    mstr_ = names.bit("MSTR");
    cpol_ = names.bit("CPOL");
    cpha_ = names.bit("CPHA");
    spr1_ = names.bit("SPR1");
    spr0_ = names.bit("SPR0");
    spi2x_ = names.bit("SPI2X");
    spif_ = names.bit("SPIF");
    wcol_ = names.bit("WCOL");
    source_ = {names.vector("SPI_STC"), spif_, names.bit("SPIE")};
    ss_ = names.pin("SS");
    mosi_ = names.pin("MOSI");
    miso_ = names.pin("MISO");
    sck_ = names.pin("SCK");
    for (const std::uint16_t address : {spcr_, spsr_, spdr_})
        chip.claim(*this, address);
    chip.claimVector(*this, source_.vector);
    chip.claimPower(*this, names.bit("PRSPI"));
    chip.ports().watch(ss_, *this, spe_);
    chip.ports().watch(sck_, *this, spe_);
}

// Table 19-5: 4, 16, 64, 128 cycles a bit, or half of the first three by SPI2X, and of the last 64.
std::int64_t Spi::halfBit() const
{
    constexpr std::int64_t kHalves[] = {2, 8, 32, 64};
    const unsigned rate = (chip_.is(spr1_) ? 2U : 0U) | (chip_.is(spr0_) ? 1U : 0U);
    return chip_.is(spi2x_) ? kHalves[rate] / 2 : kHalves[rate];
}

void Spi::updatePins()
{
    Ports& ports = chip_.ports();
    const bool on = enabled();
    const bool isMaster = on && master();
    const bool isSlave = on && !master();
    ports.setOverride(mosi_, Override::serialBus, on, isMaster ? output_ : false, isMaster ? Force::none : Force::input);
    ports.setOverride(sck_, Override::serialBus, on, isMaster ? clock_ : false, isMaster ? Force::none : Force::input);
    ports.setOverride(miso_, Override::serialBus, on, isSlave && output_, isSlave && selected() ? Force::none : Force::input);
    ports.setOverride(ss_, Override::serialBus, isSlave, false, Force::input);
}

void Spi::present()
{
    output_ = ((shift_ >> (chip_.is(dord_) ? 0 : 7)) & 1) != 0;
    updatePins();
}

// An edge of SCK has come: leading is the one away from the level that CPOL gives to a resting clock.
void Spi::clocked(bool leading)
{
    if (leading != chip_.is(cpha_)) {
        const bool bit = chip_.ports().level(master() ? miso_ : mosi_);
        shift_ = static_cast<std::uint8_t>(chip_.is(dord_) ? (shift_ >> 1) | (bit ? 0x80 : 0) : (shift_ << 1) | (bit ? 1 : 0));
        ++bits_;
        if (bits_ == kBits && !master())
            complete();
    } else if (bits_ < kBits) {
        present();
    }
}

void Spi::edge(std::int64_t cycle)
{
    clock_ = !clock_;
    --edges_;
    updatePins();
    clocked(clock_ != chip_.is(cpol_));
    if (edges_ == 0)
        complete();
    else
        alarm_.arm(cycle + halfBit());
}

void Spi::complete()
{
    chip_.reg(spdr_) = shift_;
    bits_ = 0;
    chip_.put(spif_, true);
    report(source_);
}

void Spi::pinChanged(PortPin pin, bool level, kernel::Time /*at*/)
{
    if (!enabled() || stops_ != 0)
        return;
    if (pin == ss_) {
        if (master()) {
            if (!level && !chip_.ports().isDirectionOut(ss_)) {
                chip_.note("spi-master-lost", "SS is an input and was pulled low: the SPI has become a slave; make SS an output or hold it high");
                chip_.put(mstr_, false);
                edges_ = 0;
                alarm_.disarm();
                chip_.put(spif_, true);
                report(source_);
                updatePins();
            }
            return;
        }
        bits_ = 0;
        updatePins();
        if (!level && !chip_.is(cpha_))
            present();
        return;
    }
    if (!master() && selected())
        clocked(level != chip_.is(cpol_));
}

// Reading SPSR with SPIF set and then accessing SPDR clears both flags.
void Spi::accessData()
{
    if (!flagSeen_)
        return;
    flagSeen_ = false;
    chip_.put(spif_, false);
    chip_.put(wcol_, false);
    report(source_);
}

std::uint8_t Spi::read(std::uint16_t address, std::int64_t /*cycle*/)
{
    if (address == spsr_)
        flagSeen_ = chip_.is(spif_) || chip_.is(wcol_);
    else if (address == spdr_)
        accessData();
    return chip_.reg(address);
}

void Spi::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == spcr_) {
        const bool was = enabled() && master();
        store(address, value);
        if (!(enabled() && master()) || !was) {
            edges_ = 0;
            bits_ = 0;
            alarm_.disarm();
        }
        if (edges_ == 0)
            clock_ = chip_.is(cpol_);
        // A master selected from outside at this moment is one no longer.
        updatePins();
        if (enabled() && master() && !chip_.ports().isDirectionOut(ss_) && selected() && chip_.ports().idOf(ss_) != circuit::kNoPin)
            pinChanged(ss_, false, timeOf(cycle));
        report(source_);
    } else if (address == spsr_) {
        store(address, value, spi2x_.mask);
    } else {
        accessData();
        if (edges_ > 0 || (!master() && bits_ > 0)) {
            chip_.put(wcol_, true);
            chip_.note("spi-collision", "SPDR was written during a transfer: the byte is lost and WCOL is set");
            return;
        }
        if (!enabled())
            return;
        shift_ = value;
        if (!chip_.is(cpha_))
            present();
        if (master()) {
            edges_ = kEdges;
            bits_ = 0;
            alarm_.arm(cycle + halfBit());
        }
    }
}

void Spi::interruptTaken(std::uint8_t /*vector*/)
{
    chip_.put(spif_, false);
    flagSeen_ = false;
    report(source_);
}

void Spi::reset()
{
    shift_ = 0;
    edges_ = bits_ = 0;
    output_ = clock_ = flagSeen_ = false;
    alarm_.disarm();
    updatePins();
    report(source_);
}

}  // namespace bramix::chip::avr
