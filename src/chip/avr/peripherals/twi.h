// The two-wire serial interface, master and slave (ATmega328P datasheet ch. 22; the same on ATmega2560 and ATmega32, which has no TWAMR):
// every status code of tables 22-2 to 22-6, arbitration, clock stretching and general call.
//
// Two layers share the wires. The byte engine follows the edges of SCL, whoever makes them: it puts out or takes in a bit, answers, and at the
// end of each byte sets TWINT and holds SCL low until the firmware has answered. The clock of a master is the second layer: SCL is
// low for half a period, let go, and high for half a period from when the line is seen high, so that anybody may stretch it.
//
//   period = 16 + 2 TWBR 4^TWPS cycles (22.5.2)
//
// Lines are open-drain: a wire that nobody pulls up never rises, which is told as a finding.
// SCL and SDA are seen without the synchroniser and the 50 ns filter. The slave side needs no clock, and so wakes the chip from every sleep.
// Tested by tests/chip/avr/peripherals/twi_test.cpp.
#pragma once

#include <array>

#include "chip/avr/peripherals/peripheral.h"
#include "chip/avr/peripherals/ports.h"

namespace bramix::chip::avr {

class Twi final : public StatefulPeripheral<Twi>, public PinWatcher {
public:
    explicit Twi(ChipServices& chip);

    void write(std::uint16_t address, std::uint8_t value, std::int64_t cycle) override;
    void reset() override;
    void pinChanged(PortPin pin, bool level, kernel::Time at) override;
    [[nodiscard]] Sleep runsIn() const override { return Sleep::powerDown; }

    template <class Archive>
    void state(Archive& ar)
    {
        ar(role_, step_, bit_, shift_, ack_, answer_, addressByte_, lost_, generalCall_, busBusy_, busySince_, sdaLow_, sclLow_, holding_, alarm_, answered_, unanswered_, unansweredTimes_);
    }

private:
    void addressAnswered(std::uint8_t address, bool answered);

    // What this end does with the byte on the wire. The numbers stand in snapshots only.
    enum class Role : std::uint8_t { idle, listening, slaveReceives, slaveSends, masterSends, masterReceives };
    // What the master's clock does when its alarm rings.
    enum class Step : std::uint8_t { none, waitBusFree, startHold, restartRelease, restartHigh, clockLow, clockHigh, stopLow, stopHigh };

    [[nodiscard]] std::int64_t halfPeriod() const;
    [[nodiscard]] bool sda() const { return chip_.ports().level(sdaPin_); }
    [[nodiscard]] bool scl() const { return chip_.ports().level(sclPin_); }
    [[nodiscard]] bool isMaster() const { return role_ == Role::masterSends || role_ == Role::masterReceives; }
    [[nodiscard]] bool sends() const { return role_ == Role::masterSends || role_ == Role::slaveSends; }
    void setLines(bool sdaLow, bool sclLow);
    void setSda(bool low) { setLines(low, sclLow_); }
    void setScl(bool low) { setLines(sdaLow_, low); }

    void command(std::int64_t cycle);
    void beginStart(std::int64_t cycle);
    void beginStop(std::int64_t cycle);
    void beginByte(Role role, std::int64_t cycle);
    void step(std::int64_t cycle);
    void putBit();
    void clockRose(std::int64_t cycle);
    void clockFell(std::int64_t cycle);
    void byteEnded();
    void masterByteEnded();
    void slaveByteEnded();
    void listenEnded();
    void startSeen(std::int64_t cycle);
    void stopSeen(std::int64_t cycle);
    void finish(std::uint8_t status, bool holdClock);
    void release();
    [[nodiscard]] bool ownAddress(std::uint8_t byte) const;

    std::uint16_t twbr_ = 0, twsr_ = 0, twar_ = 0, twdr_ = 0, twcr_ = 0, twamr_ = 0;
    BitRef twint_, twea_, twsta_, twsto_, twwc_, twen_;
    InterruptSource source_;
    PortPin sdaPin_, sclPin_;

    Role role_ = Role::idle;
    Step step_ = Step::none;
    unsigned bit_ = 0;         // 0..7 data, 8 the answer, 9 done
    std::uint8_t shift_ = 0;
    bool ack_ = false;         // of the byte that ended
    bool answer_ = false;      // this end acknowledges the byte in progress
    bool addressByte_ = false;
    bool lost_ = false;        // arbitration, in the byte in progress
    bool generalCall_ = false;
    bool busBusy_ = false;     // a START has been seen, its STOP has not
    std::int64_t busySince_ = 0;
    // Addresses that somebody has answered, and the last one that nobody has, with how often in a row.
    std::array<bool, 128> answered_{};
    std::uint8_t unanswered_ = 0;
    std::uint8_t unansweredTimes_ = 0;
    bool sdaLow_ = false, sclLow_ = false;
    bool holding_ = false;     // SCL, until TWINT is cleared

    CycleAlarm alarm_;
};

}  // namespace bramix::chip::avr
