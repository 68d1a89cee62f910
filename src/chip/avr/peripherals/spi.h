// The serial peripheral interface, master and slave (ATmega328P datasheet ch. 19; the same on ATmega2560 and ATmega32): all modes, orders and rates.
//
//   CPHA = 0   sampled at the leading edge of SCK, changed at the trailing one; the first bit is out before the first edge
//   CPHA = 1   changed at the leading edge, sampled at the trailing one
//
// A master's first edge comes half a bit after SPDR has been written, its 16th sets SPIF. A master whose SS is an input that
// is pulled low becomes a slave (19.3.2). Pins take their directions by table 19-1.
// A slave sees SCK without the synchroniser's one to two cycles.
// Tested by tests/chip/avr/peripherals/spi_test.cpp.
#pragma once

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class Spi final : public StatefulPeripheral<Spi>, public PinWatcher {
public:
    explicit Spi(ChipServices& chip);

    std::uint8_t read(std::uint16_t address, std::int64_t cycle) override;
    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void interruptTaken(std::uint8_t vector) override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(shift_, edges_, bits_, output_, clock_, flagSeen_, alarm_);
    }

private:
    [[nodiscard]] bool enabled() const { return chip_.is(spe_); }
    [[nodiscard]] bool master() const { return chip_.is(mstr_); }
    [[nodiscard]] std::int64_t halfBit() const;
    [[nodiscard]] bool selected() const { return !chip_.ports().level(ss_) && !chip_.ports().floats(ss_); }
    void updatePins();
    void edge(std::int64_t cycle);
    void clocked(bool leading);
    void present();
    void complete();
    void accessData();

    std::uint16_t spcr_ = 0, spsr_ = 0, spdr_ = 0;
    BitRef spe_, dord_, mstr_, cpol_, cpha_, spr1_, spr0_, spi2x_, spif_, wcol_;
    InterruptSource source_;
    PortPin ss_, mosi_, miso_, sck_;

    std::uint8_t shift_ = 0;
    unsigned edges_ = 0;  // of SCK still to come in a master's transfer
    unsigned bits_ = 0;   // sampled so far
    bool output_ = false;
    bool clock_ = false;
    bool flagSeen_ = false;  // SPSR was read with SPIF set: the next access to SPDR clears it

    CycleAlarm alarm_;
};

}  // namespace bramix::chip::avr
