#include "chip/avr/peripherals/eeprom.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::chip::avr {

namespace {

constexpr kernel::Duration kEraseOrWrite = std::chrono::microseconds(1800);
constexpr int kReadHalt = 4;
constexpr int kWriteHalt = 2;

}  // namespace

Eeprom::Eeprom(ChipServices& chip)
    : StatefulPeripheral(chip), contents_(chip.table().eepromBytes, 0xFF), alarm_(chip.queue(), [this](kernel::Time) {
          contents_[busyAddress_] = busyValue_;
          ++revision_;
          chip_.put(program_, false);
          updateInterrupt();
      })
{
    const Names& names = chip.names();
    eecr_ = names.reg("EECR");
    eedr_ = names.reg("EEDR");
    eearl_ = names.reg("EEARL");
    eearh_ = names.reg("EEARH");
    master_ = names.bit({"EEMPE", "EEMWE"});
    program_ = names.bit({"EEPE", "EEWE"});
    readEnable_ = names.bit("EERE");
    enable_ = names.bit("EERIE");
    mode0_ = names.bit("EEPM0");
    mode1_ = names.bit("EEPM1");
    vector_ = names.vector({"EE_READY", "EE_RDY"});
    for (const std::uint16_t address : {eecr_, eedr_, eearl_, eearh_})
        chip.claim(*this, address);
    chip.claimVector(*this, vector_);
}

void Eeprom::program(const std::vector<std::uint8_t>& image) { std::copy_n(image.begin(), std::min(image.size(), contents_.size()), contents_.begin()); }

std::size_t Eeprom::address() const { return (chip_.reg(eearl_) | (chip_.reg(eearh_) << 8)) % contents_.size(); }

void Eeprom::updateInterrupt() { chip_.setInterrupt(vector_, !chip_.is(program_), chip_.is(enable_)); }

void Eeprom::begin(std::int64_t /*cycle*/)
{
    busyAddress_ = static_cast<std::uint32_t>(address());
    const std::uint8_t data = chip_.reg(eedr_);
    const std::uint8_t before = contents_[busyAddress_];
    const auto whole = kernel::Duration(static_cast<std::int64_t>(chip_.table().eepromMillis * 1e9));
    const bool eraseOnly = chip_.is(mode0_) && !chip_.is(mode1_);
    const bool writeOnly = chip_.is(mode1_) && !chip_.is(mode0_);
    busyValue_ = eraseOnly ? 0xFF : writeOnly ? before & data : data;
    chip_.put(program_, true);
    alarm_.arm(chip_.queue().now() + (eraseOnly || writeOnly ? kEraseOrWrite : whole));
    chip_.haltCore(kWriteHalt);
}

std::uint8_t Eeprom::read(std::uint16_t address, std::int64_t cycle)
{
    if (address == eecr_ && !armed(cycle))
        chip_.put(master_, false);
    return chip_.reg(address);
}

void Eeprom::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (address != eecr_) {
        store(address, value);
        return;
    }
    const auto isSet = [value](BitRef b) { return (value & b.mask) != 0; };
    const auto plain = static_cast<std::uint8_t>(enable_.mask | (busy() ? 0 : mode0_.mask | mode1_.mask));
    store(eecr_, value, plain);
    if (isSet(program_) && !busy()) {
        if (armed(cycle))
            begin(cycle);
        else
            chip_.note("timed-sequence", "EEPE was set without EEMPE in the four cycles before it: nothing is written to the EEPROM; is an interrupt in between?");
    }
    // EEMPE counts when it is set without EEPE.
    if (isSet(master_) && !isSet(program_)) {
        enabledAt_ = cycle;
        chip_.put(master_, true);
    } else if (!armed(cycle) || isSet(program_)) {
        chip_.put(master_, false);
    }
    if (isSet(readEnable_)) {
        if (busy()) {
            chip_.note("eeprom-busy", "EERE was set while a write was going on: EEDR does not change; wait for EEPE to clear");
        } else {
            chip_.reg(eedr_) = contents_[this->address()];
            chip_.haltCore(kReadHalt);
        }
    }
    updateInterrupt();
}

// A reset breaks off no write.
void Eeprom::reset()
{
    enabledAt_ = INT64_MIN / 2;
    chip_.put(program_, busy());
    updateInterrupt();
}

}  // namespace bramix::chip::avr
