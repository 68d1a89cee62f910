// A chip as data: everything in which one AVR differs from another. Registers, bits, vectors and pins stand here by their datasheet
// names, and the peripheral classes look them up by these names (names.h), so that a chip whose bits lie elsewhere is a table and
// not a class.
// Sources: each chip's datasheet, "Register Summary", "Interrupt Vectors", "Pin Configurations", "Alternate Port Functions", "Fuse Bits".
// Tested by tests/chip/avr/tables_test.cpp against the addresses and bits of avr-libc.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>

#include "chip/avr/consumption.h"
#include "chip/avr/core/isa.h"

namespace bramix::chip::avr {

// A port pin by port index (A = 0) and bit. kNoPort: the chip has no such pin.
struct PortPin {
    std::uint8_t port = 0xFF;
    std::uint8_t bit = 0;
    constexpr bool operator==(const PortPin&) const = default;
    [[nodiscard]] constexpr bool exists() const { return port != 0xFF; }
};

constexpr PortPin pin(char letter, unsigned bit) { return {static_cast<std::uint8_t>(letter - 'A'), static_cast<std::uint8_t>(bit)}; }

enum class RegisterKind : std::uint8_t {
    plain,    // holds what is written
    flags,    // writing 1 to a bit acts on that bit alone (clears a flag, toggles a pin)
    later,    // belongs to something that is not modelled: plain storage, noted once
};

struct RegisterRow {
    std::string_view name;
    std::uint16_t address = 0;  // data address
    std::string_view bits;      // "bit7 ... bit0", "-" where reserved; empty for a whole value
    RegisterKind kind = RegisterKind::plain;
};

// How deep a chip may sleep and still be woken by a source: the deepest SM value family it works in.
enum class Sleep : std::uint8_t { idle, noiseReduction, powerSave, powerDown };

struct VectorRow {
    std::string_view name;
    Sleep deepest = Sleep::idle;
};

struct PortRow {
    char letter = 0;
    std::uint8_t pins = 0xFF;  // which bits come out of the package
};

enum class Prescale : std::uint8_t {
    external,      // 1, 8, 64, 256, 1024, falling and rising edge of the Tn pin
    asynchronous,  // 1, 8, 32, 64, 128, 256, 1024; a prescaler of its own, and a crystal of its own where ASSR.AS2 says so
};

struct TimerRow {
    char number = '0';
    unsigned width = 8;
    Prescale prescale = Prescale::external;
};

struct UsartRow {
    std::string_view name;    // "uart0"
    std::string_view number;  // "0", or empty where the registers have none
};

// What a multiplexer value connects to the converter. Channels 0 .. 15 are pins ADCn; the rest are inside.
enum : std::int8_t { kAdcGround = -1, kAdcBandGap = -2, kAdcTemperature = -3, kAdcNothing = -4 };

struct AdcChannelRow {
    std::int8_t positive = kAdcNothing;
    std::int8_t negative = kAdcGround;  // another pin: differential
    std::uint8_t gain = 1;
};

// Where the reference voltage comes from, by REFS.
enum class Reference : std::uint8_t { aref, avcc, bandGap, reserved, volts256 };

enum class ClockSource : std::uint8_t { crystal, watch, external, rc8, rc128k, rc1, rc2, rc4, rc6, pll, externalRc, reserved };

struct PackagePin {
    std::uint8_t number = 0;
    std::string_view name;       // "PB5", "VCC"
    std::string_view functions;  // "SCK PCINT5"
};

// Which byte: 0 low, 1 high, 2 extended, 3 lock.
struct FuseRow {
    std::string_view name;
    std::uint8_t byte = 0;
    std::uint8_t shift = 0;
    std::uint8_t width = 1;
    std::string_view about;
};

struct ChipTable {
    std::string_view id;     // "atmega328p"
    std::string_view title;  // "ATmega328P"
    std::string_view about;  // one line
    std::array<std::uint8_t, 3> signature{};
    std::uint32_t flashBytes = 0;
    std::uint32_t pageBytes = 0;
    std::uint32_t eepromBytes = 0;
    std::uint32_t bootBytes = 0;  // largest boot section; 0: none, and any code may program flash
    Core core;
    std::uint64_t usualHz = 0;
    double highestVolts = 5.5;
    SupplyRow supply{};
    std::uint16_t ioEnd = 0;  // first data address after I/O
    std::span<const RegisterRow> registers;
    std::span<const VectorRow> vectors;
    unsigned vectorWords = 2;
    std::span<const PortRow> ports;
    std::span<const TimerRow> timers;
    std::span<const UsartRow> usarts;
    bool hasHighSpeedTimer = false;  // the ATtiny85's Timer1
    std::span<const AdcChannelRow> adcChannels;  // by MUX
    std::array<Reference, 8> references{};       // by REFS
    double bandGapVolts = 1.1;
    std::span<const FuseRow> fuses;
    std::array<std::uint8_t, 4> fuseDefaults{};  // as shipped
    std::array<ClockSource, 16> clockSources{};  // by CKSEL
    std::array<double, 8> brownOutVolts{};       // by BODLEVEL; 0: off
    bool bitwiseFlags = true;     // SBI and CBI leave the other flags of a register alone; writing PINx toggles
    bool oldWatchdog = false;     // the ATmega32's: reset only, WDTOE
    std::uint16_t jtagPins = 0;   // bits of the port that JTAG takes
    char jtagPort = 0;
    double eepromMillis = 3.3;    // erase and write; each alone takes 1.8 ms where the chip can do one alone
    std::span<const PackagePin> package;
};

const ChipTable& atmega328p();
const ChipTable& atmega2560();
const ChipTable& atmega32();
const ChipTable& attiny85();

// Every chip, in the order of `bramix-cli list chips`.
std::span<const ChipTable* const> allChips();

// By id, or null.
const ChipTable* findChip(std::string_view id);

const RegisterRow* findRegister(const ChipTable& chip, std::uint16_t address);

}  // namespace bramix::chip::avr
