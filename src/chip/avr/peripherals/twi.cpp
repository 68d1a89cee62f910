#include "chip/avr/peripherals/twi.h"

#include <algorithm>
#include <string>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

// Status codes, tables 22-2 to 22-6.
enum Status : std::uint8_t {
    kBusError = 0x00,
    kStart = 0x08,
    kRepeatedStart = 0x10,
    kAddressWriteAck = 0x18,
    kAddressWriteNack = 0x20,
    kSentAck = 0x28,
    kSentNack = 0x30,
    kArbitrationLost = 0x38,
    kAddressReadAck = 0x40,
    kAddressReadNack = 0x48,
    kReceivedAck = 0x50,
    kReceivedNack = 0x58,
    kSlaveWrite = 0x60,
    kSlaveWriteLost = 0x68,
    kGeneralCall = 0x70,
    kGeneralCallLost = 0x78,
    kSlaveReceivedAck = 0x80,
    kSlaveReceivedNack = 0x88,
    kGeneralReceivedAck = 0x90,
    kGeneralReceivedNack = 0x98,
    kSlaveStop = 0xA0,
    kSlaveRead = 0xA8,
    kSlaveReadLost = 0xB0,
    kSlaveSentAck = 0xB8,
    kSlaveSentNack = 0xC0,
    kSlaveSentLast = 0xC8,
    kNothing = 0xF8,
};

constexpr std::int64_t kSynchroniserCycles = 2;
constexpr unsigned kAnswer = 8;
constexpr unsigned kDone = 9;

}  // namespace

Twi::Twi(ChipServices& chip) : StatefulPeripheral(chip), alarm_(*this, chip, [this](std::int64_t cycle) { step(cycle); })
{
    const Names& names = chip.names();
    twbr_ = names.reg("TWBR");
    twsr_ = names.reg("TWSR");
    twar_ = names.reg("TWAR");
    twdr_ = names.reg("TWDR");
    twcr_ = names.reg("TWCR");
    twamr_ = names.reg("TWAMR");
    twint_ = names.bit("TWINT");
    twea_ = names.bit("TWEA");
    twsta_ = names.bit("TWSTA");
    twsto_ = names.bit("TWSTO");
    twwc_ = names.bit("TWWC");
    twen_ = names.bit("TWEN");
    source_ = {names.vector("TWI"), twint_, names.bit("TWIE")};
    sdaPin_ = names.pin("SDA");
    sclPin_ = names.pin("SCL");
    for (const std::uint16_t address : {twbr_, twsr_, twar_, twdr_, twcr_, twamr_})
        if (address != 0)
            chip.claim(*this, address);
    chip.claimVector(*this, source_.vector);
    chip.claimPower(*this, names.bit("PRTWI"));
    chip.ports().watch(sdaPin_, *this, twen_);
    chip.ports().watch(sclPin_, *this, twen_);
}

std::int64_t Twi::halfPeriod() const
{
    const unsigned prescale = 1U << (2 * (chip_.reg(twsr_) & 3U));
    return (16 + 2 * static_cast<std::int64_t>(chip_.reg(twbr_)) * prescale) / 2;
}

void Twi::setLines(bool sdaLow, bool sclLow)
{
    const bool on = chip_.is(twen_);
    const bool sdaChanged = sdaLow != sdaLow_;
    const bool sclChanged = sclLow != sclLow_;
    sdaLow_ = sdaLow;
    sclLow_ = sclLow;
    Ports& ports = chip_.ports();
    if (sdaChanged)
        ports.setOverride(sdaPin_, Override::openDrain, on, !sdaLow, Force::openDrain);
    if (sclChanged)
        ports.setOverride(sclPin_, Override::openDrain, on, !sclLow, Force::openDrain);
    if (on && ((sdaChanged && !sdaLow && ports.floats(sdaPin_)) || (sclChanged && !sclLow && ports.floats(sclPin_))))
        chip_.note("twi-pull-up", "SDA or SCL was let go and nothing pulls it up: the bus cannot work; put a resistor of some kilohms from each to the supply");
}

void Twi::release()
{
    role_ = Role::idle;
    step_ = Step::none;
    holding_ = false;
    alarm_.disarm();
    setLines(false, false);
}

// Ends a step of the protocol: the firmware is to say what comes next.
void Twi::finish(std::uint8_t status, bool holdClock)
{
    store(twsr_, status, 0xF8);
    chip_.put(twint_, true);
    holding_ = holdClock;
    if (holdClock)
        setScl(true);
    report(source_);
}

// TWINT has been cleared: go on as the control bits say.
void Twi::command(std::int64_t cycle)
{
    const bool stop = chip_.is(twsto_);
    const bool start = chip_.is(twsta_);
    const std::uint8_t status = chip_.reg(twsr_) & 0xF8;
    store(twsr_, kNothing, 0xF8);
    const bool held = holding_;
    holding_ = false;
    if (isMaster() && held) {
        if (stop) {
            beginStop(cycle);
        } else if (start) {
            beginStart(cycle);
        } else if (status == kStart || status == kRepeatedStart) {
            addressByte_ = true;
            beginByte(Role::masterSends, cycle);
        } else if (role_ == Role::masterSends) {
            beginByte(Role::masterSends, cycle);
        } else {
            beginByte(Role::masterReceives, cycle);
        }
        return;
    }
    if (stop) {
        // As a slave: no STOP on the wire, but everything is let go.
        chip_.put(twsto_, false);
        release();
    } else if (held) {
        if (status == kSlaveSentNack || status == kSlaveSentLast || status == kSlaveReceivedNack || status == kGeneralReceivedNack)
            role_ = Role::idle;
        else
            beginByte(role_, cycle);
        setScl(false);
    }
    if (start && role_ == Role::idle && step_ == Step::none)
        beginStart(cycle);
}

void Twi::beginStart(std::int64_t cycle)
{
    if (isMaster()) {  // repeated: SCL is low and ours
        setSda(false);
        step_ = Step::restartRelease;
        alarm_.arm(cycle + halfPeriod());
        return;
    }
    step_ = Step::waitBusFree;
    if (!busBusy_ && sda() && scl())
        alarm_.arm(cycle + 1);
}

void Twi::beginStop(std::int64_t cycle)
{
    setSda(true);
    step_ = Step::stopLow;
    alarm_.arm(cycle + halfPeriod());
}

void Twi::beginByte(Role role, std::int64_t cycle)
{
    role_ = role;
    bit_ = 0;
    lost_ = false;
    if (sends())
        shift_ = chip_.reg(twdr_);
    answer_ = chip_.is(twea_);
    putBit();
    if (isMaster()) {
        step_ = Step::clockLow;
        alarm_.arm(cycle + halfPeriod());
    }
}

// Sets SDA for the bit to come; SCL is low.
void Twi::putBit()
{
    bool low = false;
    if (bit_ < kAnswer)
        low = sends() && !lost_ && ((shift_ >> (7 - bit_)) & 1) == 0;
    else if (bit_ == kAnswer)
        low = !sends() && answer_;
    setSda(low);
}

void Twi::step(std::int64_t cycle)
{
    switch (step_) {
    case Step::none: return;
    case Step::waitBusFree:
        // Another START that is still in the synchroniser does not hold this one back: both masters have the bus until arbitration.
        if ((busBusy_ && cycle - busySince_ > kSynchroniserCycles) || !scl())
            return;  // somebody was quicker: stopSeen() tries again
        role_ = Role::masterSends;
        step_ = Step::startHold;
        setSda(true);
        alarm_.arm(cycle + halfPeriod());
        return;
    case Step::startHold:
        step_ = Step::none;
        setScl(true);
        finish(kStart, true);
        return;
    case Step::restartRelease:
        step_ = Step::restartHigh;
        setScl(false);
        if (!scl())
            return;  // stretched; goes on when SCL rises
        alarm_.arm(cycle + halfPeriod());
        return;
    case Step::restartHigh:
        if (!sdaLow_) {
            setSda(true);
            alarm_.arm(cycle + halfPeriod());
            return;
        }
        step_ = Step::none;
        role_ = Role::masterSends;
        setScl(true);
        finish(kRepeatedStart, true);
        return;
    case Step::clockLow:
        step_ = Step::clockHigh;
        setScl(false);  // clockRose() follows when the line rises
        return;
    case Step::clockHigh:
        setScl(true);  // clockFell() follows
        return;
    case Step::stopLow:
        step_ = Step::stopHigh;
        setScl(false);
        if (scl())
            alarm_.arm(cycle + halfPeriod());
        return;
    case Step::stopHigh:
        step_ = Step::none;
        role_ = Role::idle;
        chip_.put(twsto_, false);
        setSda(false);
        if (chip_.is(twsta_))
            beginStart(cycle);
        return;
    }
}

void Twi::clockRose(std::int64_t cycle)
{
    if (step_ == Step::clockHigh || step_ == Step::restartHigh || step_ == Step::stopHigh)
        alarm_.arm(cycle + halfPeriod());
    if (role_ == Role::idle || holding_ || bit_ >= kDone || step_ == Step::restartHigh || step_ == Step::stopHigh)
        return;
    const bool line = sda();
    if (bit_ < kAnswer) {
        if (sends() && isMaster() && !lost_ && !sdaLow_ && !line)
            lost_ = true;  // another master put out a 0 where this one let go
        if (!sends() || lost_)
            shift_ = static_cast<std::uint8_t>((shift_ & ~(1 << (7 - bit_))) | (line ? 1 << (7 - bit_) : 0));
    } else {
        ack_ = !line;
        if (role_ == Role::masterReceives && !answer_ && !line)
            lost_ = true;
    }
    ++bit_;
}

void Twi::clockFell(std::int64_t cycle)
{
    const bool heldByUs = isMaster() && !lost_ && step_ == Step::none;
    if (role_ == Role::idle || heldByUs)
        return;
    if (bit_ == kDone) {
        byteEnded();
        return;
    }
    // A slave listens until the address is complete; then it is clear whether it answers.
    if (bit_ == kAnswer && (role_ == Role::listening || (lost_ && addressByte_)))
        answer_ = chip_.is(twea_) && ownAddress(shift_);
    if (lost_ && isMaster() && step_ != Step::none) {
        // The loser lets the clock go, but follows the byte to its end.
        step_ = Step::none;
        alarm_.disarm();
        setLines(false, false);
    }
    if (lost_ && addressByte_ && bit_ == kAnswer)
        setSda(answer_);
    else
        putBit();
    if (step_ == Step::clockHigh) {
        step_ = Step::clockLow;
        setScl(true);
        alarm_.arm(cycle + halfPeriod());
    }
}

bool Twi::ownAddress(std::uint8_t byte) const
{
    const std::uint8_t own = chip_.reg(twar_);
    if (byte == 0)
        return (own & 1) != 0;
    const std::uint8_t ignored = twamr_ != 0 ? chip_.reg(twamr_) & 0xFE : 0;
    return ((byte ^ own) & 0xFE & ~ignored) == 0;
}

void Twi::byteEnded()
{
    bit_ = 0;
    if (lost_) {
        if (addressByte_ && answer_) {
            listenEnded();
        } else {
            role_ = Role::idle;
            setLines(false, false);
            finish(kArbitrationLost, false);
        }
        lost_ = false;
        addressByte_ = false;
        return;
    }
    if (isMaster())
        masterByteEnded();
    else if (role_ == Role::listening)
        listenEnded();
    else
        slaveByteEnded();
}

void Twi::masterByteEnded()
{
    step_ = Step::none;
    alarm_.disarm();
    setScl(true);
    if (role_ == Role::masterReceives) {
        chip_.reg(twdr_) = shift_;
        finish(ack_ ? kReceivedAck : kReceivedNack, true);
        return;
    }
    if (addressByte_) {
        addressByte_ = false;
        const bool reads = (shift_ & 1) != 0;
        addressAnswered(shift_ >> 1, ack_);
        if (reads)
            role_ = Role::masterReceives;
        finish(reads ? (ack_ ? kAddressReadAck : kAddressReadNack) : (ack_ ? kAddressWriteAck : kAddressWriteNack), true);
        return;
    }
    finish(ack_ ? kSentAck : kSentNack, true);
}

// A memory that is busy writing does not answer for a while, and a search calls each address once: neither is worth telling.
void Twi::addressAnswered(std::uint8_t address, bool answered)
{
    constexpr std::uint8_t kInARow = 3;
    if (answered) {
        answered_[address] = true;
        unansweredTimes_ = 0;
        return;
    }
    if (answered_[address])
        return;
    unansweredTimes_ = address == unanswered_ ? static_cast<std::uint8_t>(std::min(unansweredTimes_ + 1, 100)) : std::uint8_t{1};
    unanswered_ = address;
    if (unansweredTimes_ != kInARow)
        return;
    std::string others;
    for (std::size_t i = 0; i < answered_.size(); ++i)
        if (answered_[i])
            others += fmt::format("{}0x{:02X}", others.empty() ? "" : ", ", i);
    chip_.note("bus-no-answer", fmt::format("TWI calls address 0x{:02X} (seven bits; 0x{:02X} on the wire) and nobody answers{}; look at the part's address, its supply, and its SDA and SCL", address, shift_,
                                            others.empty() ? std::string() : ", while there are answers from " + others));
}

// An address byte has gone by.
void Twi::listenEnded()
{
    if (!answer_) {
        role_ = Role::idle;
        setSda(false);
        return;
    }
    setSda(false);
    chip_.reg(twdr_) = shift_;
    generalCall_ = shift_ == 0;
    const bool reads = !generalCall_ && (shift_ & 1) != 0;
    role_ = reads ? Role::slaveSends : Role::slaveReceives;
    if (generalCall_)
        finish(lost_ ? kGeneralCallLost : kGeneralCall, true);
    else if (reads)
        finish(lost_ ? kSlaveReadLost : kSlaveRead, true);
    else
        finish(lost_ ? kSlaveWriteLost : kSlaveWrite, true);
}

void Twi::slaveByteEnded()
{
    setSda(false);
    if (role_ == Role::slaveSends) {
        finish(!ack_ ? kSlaveSentNack : answer_ ? kSlaveSentAck : kSlaveSentLast, true);
        return;
    }
    chip_.reg(twdr_) = shift_;
    if (generalCall_)
        finish(answer_ ? kGeneralReceivedAck : kGeneralReceivedNack, true);
    else
        finish(answer_ ? kSlaveReceivedAck : kSlaveReceivedNack, true);
}

void Twi::startSeen(std::int64_t cycle)
{
    if (!busBusy_)
        busySince_ = cycle;
    busBusy_ = true;
    const bool own = step_ == Step::startHold || step_ == Step::restartHigh;
    if (own)
        return;
    if (isMaster() && step_ != Step::none) {
        // In the middle of a byte of ours.
        release();
        finish(kBusError, false);
        return;
    }
    if (role_ == Role::slaveReceives && !holding_) {
        finish(kSlaveStop, false);
    }
    role_ = Role::listening;
    addressByte_ = false;
    bit_ = 0;
    shift_ = 0;
    answer_ = false;
    lost_ = false;
}

void Twi::stopSeen(std::int64_t cycle)
{
    busBusy_ = false;
    if (role_ == Role::slaveReceives && !holding_)
        finish(kSlaveStop, false);
    if (!isMaster())
        role_ = Role::idle;
    if (step_ == Step::waitBusFree)
        alarm_.arm(cycle + halfPeriod());
}

void Twi::pinChanged(PortPin pin, bool level, kernel::Time at)
{
    if (!chip_.is(twen_) || stops_ != 0)
        return;
    const std::int64_t cycle = cycleOf(at);
    if (pin == sdaPin_) {
        if (!scl())
            return;
        if (level)
            stopSeen(cycle);
        else
            startSeen(cycle);
        return;
    }
    if (level)
        clockRose(cycle);
    else
        clockFell(cycle);
}

void Twi::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address == twsr_) {
        store(address, value, 0x03);
    } else if (address == twdr_) {
        if (!chip_.is(twint_)) {
            chip_.put(twwc_, true);
            chip_.note("twi-collision", "TWDR was written while TWINT was clear: the byte is lost and TWWC is set");
            return;
        }
        chip_.put(twwc_, false);
        store(address, value);
    } else if (address != twcr_) {
        store(address, value);
    } else {
        const bool was = chip_.is(twen_);
        const bool pending = chip_.is(twint_);
        store(address, value, static_cast<std::uint8_t>(~(twint_.mask | twwc_.mask)));
        if (!chip_.is(twen_)) {
            if (was) {
                release();
                chip_.ports().setOverride(sdaPin_, Override::openDrain, false, true);
                chip_.ports().setOverride(sclPin_, Override::openDrain, false, true);
            }
            busBusy_ = false;
            chip_.put(twsto_, false);
        } else if (!was) {
            chip_.ports().setOverride(sdaPin_, Override::openDrain, true, true, Force::openDrain);
            chip_.ports().setOverride(sclPin_, Override::openDrain, true, true, Force::openDrain);
            if (chip_.ports().floats(sdaPin_) || chip_.ports().floats(sclPin_))
                chip_.note("twi-pull-up", "SDA or SCL floats while the interface is switched on: the bus cannot work; put a resistor of some kilohms from each to the supply");
        }
        if ((value & twint_.mask) != 0)
            chip_.put(twint_, false);
        if (chip_.is(twen_) && ((value & twint_.mask) != 0 || !pending))
            command(cycle);
        report(source_);
    }
}

void Twi::reset()
{
    release();
    busBusy_ = false;
    bit_ = 0;
    chip_.reg(twsr_) = kNothing;
    chip_.reg(twdr_) = 0xFF;
    chip_.reg(twar_) = 0xFE;
    report(source_);
}

}  // namespace bramix::chip::avr
