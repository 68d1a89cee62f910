// A chip as data: everything in which one AVR differs from another. Peripheral classes read their addresses, vectors and pins
// from the rows here, so that the next chip is a table and not a class.
// Sources: each chip's datasheet, "Register Summary", "Interrupt Vectors", "Pin Configurations" and "Alternate Port Functions".
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>

#include "chip/avr/isa.h"

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
    flags,    // writing 1 to a bit acts on that bit alone (clears a flag, toggles a pin); SBI touches no other
    later,    // belongs to a peripheral that is not modelled yet: plain storage, noted once
};

struct RegisterRow {
    std::string_view name;
    std::uint16_t address = 0;       // data address
    std::string_view bits;           // "bit7 ... bit0", "-" where reserved; empty for a whole value
    RegisterKind kind = RegisterKind::plain;
    std::uint8_t readsClear = 0;     // bits of a `later` register that read 0 (busy bits: nothing is ever busy)
    std::uint8_t readsSet = 0;       // bits of a `later` register that read 1 (done bits)
};

// How deep a chip may sleep and still be woken by a source: the deepest SM value family it works in.
enum class Sleep : std::uint8_t { idle, noiseReduction, powerSave, powerDown };

struct VectorRow {
    std::string_view name;
    Sleep deepest = Sleep::idle;
};

struct PortRow {
    char letter = 0;
    std::uint16_t pin = 0, ddr = 0, port = 0;  // data addresses
    std::uint8_t pins = 0xFF;                  // which bits come out of the package as port pins
};

inline constexpr std::uint16_t kExternalFalling = 0xFFFE;
inline constexpr std::uint16_t kExternalRising = 0xFFFF;

struct TimerRow {
    std::string_view name;
    unsigned width = 8;  // bits
    std::uint16_t tccra = 0, tccrb = 0, tccrc = 0, tcnt = 0, ocra = 0, ocrb = 0, icr = 0, timsk = 0, tifr = 0;  // 16-bit ones: the low byte
    std::uint8_t compA = 0, compB = 0, overflow = 0, capture = 0;  // vector numbers
    PortPin ocA, ocB;
    std::array<std::uint16_t, 8> prescale{};  // by CS bits; 0 is stopped
    bool asynchronous = false;                // has a prescaler of its own
};

struct UsartRow {
    std::string_view name;
    std::uint16_t ucsra = 0, ucsrb = 0, ucsrc = 0, ubrr = 0, udr = 0;
    std::uint8_t rxVector = 0, udreVector = 0, txVector = 0;
    PortPin rxd, txd;
};

struct ExternalInterruptRow {
    PortPin pin;
    std::uint8_t vector = 0;
    std::uint16_t control = 0;  // EICRx
    std::uint8_t shift = 0;     // of its two ISC bits there
};

struct PinChangeRow {
    std::uint16_t mask = 0;  // PCMSKx
    std::uint8_t vector = 0;
    std::array<PortPin, 8> pins{};
};

struct PackagePin {
    std::uint8_t number = 0;
    std::string_view name;       // "PB5", "VCC"
    std::string_view functions;  // "SCK PCINT5"
};

struct ChipTable {
    std::string_view id;     // "atmega328p"
    std::string_view title;  // "ATmega328P"
    std::string_view about;  // one line
    std::array<std::uint8_t, 3> signature{};
    std::uint32_t flashBytes = 0;
    std::uint32_t eepromBytes = 0;
    std::uint32_t bootBytes = 0;  // largest boot section
    Core core;
    std::uint64_t usualHz = 0;
    double highestVolts = 5.5;
    std::uint16_t ioEnd = 0;  // first data address after I/O
    std::span<const RegisterRow> registers;
    std::span<const VectorRow> vectors;
    unsigned vectorWords = 2;
    std::span<const PortRow> ports;
    std::span<const TimerRow> timers;
    std::span<const UsartRow> usarts;
    std::span<const ExternalInterruptRow> externalInterrupts;
    std::uint16_t eimsk = 0, eifr = 0;
    std::span<const PinChangeRow> pinChanges;
    std::uint16_t pcicr = 0, pcifr = 0;
    std::uint16_t gtccr = 0, mcucr = 0, mcusr = 0, smcr = 0;
    std::span<const PackagePin> package;
};

const ChipTable& atmega328p();

// Every chip, in the order of `bramix-cli list chips`.
std::span<const ChipTable* const> allChips();

// By id, or null.
const ChipTable* findChip(std::string_view id);

const RegisterRow* findRegister(const ChipTable& chip, std::uint16_t address);

}  // namespace bramix::chip::avr
