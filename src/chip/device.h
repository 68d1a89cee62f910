// A microcontroller as plain data, of whatever family: its address spaces and memories, the registers of its core, its exceptions, how a debugger names all that.
// What views, debuggers and servers ask for stands here, so that none of them knows a family. A family makes one Device a chip (avr/device.h), once; it
// then never changes, and may be read by any thread.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "chip/registers.h"

namespace bramix::chip {

// Addresses count from 0 in each. A space is named by its index in Device::spaces.
using SpaceId = std::size_t;

struct AddressSpace {
    std::string id;     // "data"
    std::string name;   // "Data", as a view shows it
    unsigned unitBits = 8;  // of what one address names
};

enum class RegionKind : std::uint8_t { flash, ram, nonVolatile };

struct Family;

// A stretch of memory that is there.
struct MemoryRegion {
    std::string name;
    SpaceId space = 0;
    RegionKind kind = RegionKind::ram;
    std::uint64_t begin = 0, size = 0;     // addresses of its space
    std::uint32_t pageBytes = 0;           // what is erased at once; 0: every byte alone
    std::uint64_t debuggerBase = 0;        // where it begins for a remote debugger, which has one space for all
};

enum class CoreRole : std::uint8_t { general, status, stackPointer, link, programCounter };

struct CoreRegister {
    std::string name;        // "r0", "SP"
    unsigned bits = 32;
    CoreRole role = CoreRole::general;
    int dwarfNumber = -1;    // in debugging information; -1: none
    int debuggerNumber = -1; // in the remote protocol, and the order there
    std::string flags{};     // of a status register, from the highest bit: "ITHSVNZC"
    int dataAddress = -1;    // of its lowest byte, where it stands in data memory too; -1: it does not
    [[nodiscard]] unsigned bytes() const { return (bits + 7) / 8; }
    // Whether a byte of data memory is one of its own.
    [[nodiscard]] bool isAt(std::uint64_t address) const { return dataAddress >= 0 && address >= static_cast<std::uint64_t>(dataAddress) && address < static_cast<std::uint64_t>(dataAddress) + bytes(); }
};

// Several core registers of one width that have a name together, the lowest first: X of r26 and r27.
struct RegisterPair {
    std::string name;
    std::size_t first = 0, count = 2;
};

struct SupplyInput {
    std::string plus = "VCC", minus = "GND";  // pins of the package
    double highestVolts = 6.0;                // absolute maximum
    double usualVolts = 5.0;                  // of a chip on nothing
};

// What a crystal is wired to.
struct ClockInput {
    std::string one, two;  // functions of pins: "XTAL1", "XTAL2"
};

// Held low, it stops the chip.
struct ResetInput {
    std::string pin = "RESET";
    double pullUpOhms = 45'000;
    double low = 0.2, high = 0.6;  // thresholds, parts of the supply
};

struct Exception {
    unsigned number = 0;
    std::string name;          // "TIMER1_COMPA"
    std::string handlerName;   // of the function that handles it, as its tool chain calls it: "__vector_11"
    std::uint32_t entry = 0;   // code address where control goes, or of the table's row
};

struct PackagePin {
    unsigned number = 0;
    std::string name;       // "PB5", "VCC"
    std::string functions;  // in words: "SCK PCINT5", "supply", "ground"
};

// How a program's image says what goes where: load addresses of an ELF file.
struct ImageMap {
    struct Range {
        std::uint64_t begin = 0, end = 0;
        enum class Into : std::uint8_t { program, nonVolatile, memory, nothing } into = Into::program;
    };
    unsigned elfMachine = 0;      // e_machine
    std::string machine;          // "AVR", as it is called
    std::string compiler;         // "avr-gcc"
    std::vector<Range> ranges;
    std::string expected;         // of a load address, in words: "flash (below 0x800000) or EEPROM (0x810000)"
    std::uint64_t programBytes = 0;
    std::uint64_t dataBase = 0;   // where data memory begins in it
    std::uint64_t bootBytes = 0;  // of the largest boot section at the end of program memory; 0: none
    std::uint64_t rawOffset = 0;  // where a raw image's first byte goes, from the beginning of program memory
};

// A setting outside the program that a programmer writes: a fuse, an option byte's field, a configuration word's.
struct OptionField {
    std::string name;   // "CKSEL"
    std::string about;
    unsigned bits = 1;
};
// All of a chip's, as the family keeps them.
using OptionBytes = std::vector<std::uint8_t>;

struct Device {
    std::string family;        // "avr"
    const Family* behaviour = nullptr;  // what it does (family.h)
    std::string id, title;     // "atmega328p", "ATmega328P"
    std::string about;         // one line
    bool bigEndian = false;
    std::string debuggerArchitecture;  // as GDB calls it
    std::vector<AddressSpace> spaces;
    std::vector<MemoryRegion> regions;          // in the order in which a debugger is told of them
    std::vector<CoreRegister> coreRegisters;    // in the order of their debuggerNumber
    std::vector<Exception> exceptions;          // by number; [0] is the reset
    SpaceId dataSpace = 0;                      // where variables lie
    std::uint64_t ramBegin = 0;                 // the first address there that a program's data may have
    std::uint64_t ramEnd = 0;                   // the last; a stack begins there
    // Registers of peripherals that lie in the data space below its RAM.
    std::uint64_t peripheralBegin = 0, peripheralEnd = 0;
    bool highByteFirst = false;                 // how a register of several bytes there is written
    std::vector<RegisterPair> registerPairs;
    RegisterMap (*makeRegisters)(const Device&) = nullptr;  // null: none are known; see registers()

    // Code.
    std::uint32_t codeBegin = 0, codeEnd = 0;   // addresses of program memory
    unsigned codeUnitBytes = 1;                 // of program memory for a code address: 2 where the family's tools count words
    std::uint32_t codeStep = 1;                 // from one address at which an instruction may begin to the next: a slot of program memory
    std::uint32_t longestInstruction = 1;       // in code addresses
    unsigned returnBytes = 0;                   // that a call leaves on the stack; 0: in a register
    unsigned storeBytes = 1;                    // that one instruction stores at most

    // In C.
    unsigned pointerBytes = 4;                  // of a data address
    unsigned intBytes = 4;
    unsigned codePointerUnit = 1;               // code addresses that a pointer to a function counts by
    unsigned codePointerBit = 0;                // that it has set besides
    ImageMap image;
    std::string compilerOption;                 // by which its compiler is told the chip: "-mmcu=atmega328p"

    std::vector<PackagePin> package;
    std::uint64_t usualHz = 0;                  // of a chip on nothing
    double highestVolts = 0;                    // of its supply, in use
    SupplyInput supply;
    std::optional<ClockInput> crystal;
    std::optional<ResetInput> resetInput;
    double leastPullUpOhms = 0, mostPullUpOhms = 0;  // of its pins' pull-ups
    std::vector<OptionField> options;
    OptionBytes shipped, ideal;                 // as it comes from its maker; of a chip on nothing, that starts at once

    // The registers of its peripherals, in the order in which one looks at them: made when somebody asks first.
    [[nodiscard]] const RegisterMap& registers() const;
    // Of a data address as wide as a pointer.
    [[nodiscard]] std::uint64_t addressMask() const { return pointerBytes >= 8 ? ~std::uint64_t{0} : (std::uint64_t{1} << (8 * pointerBytes)) - 1; }
    [[nodiscard]] std::uint64_t programBytes() const { return image.programBytes; }
    // How many addresses of a space can be looked at: the end of its last region.
    [[nodiscard]] std::uint64_t sizeOf(SpaceId space) const;
    // The region of a debugger's address.
    [[nodiscard]] const MemoryRegion* regionAt(std::uint64_t debuggerAddress) const;
    [[nodiscard]] const MemoryRegion* regionOf(RegionKind kind) const;
    // The core register that has a byte of data memory.
    [[nodiscard]] std::optional<std::size_t> registerAt(std::uint64_t dataAddress) const;
    // The slot of a code address; one behind the last where it has none.
    [[nodiscard]] std::size_t slotOf(std::uint32_t code) const { return code < codeBegin ? SIZE_MAX : (code - codeBegin) / codeStep; }
    [[nodiscard]] std::uint32_t codeAt(std::size_t slot) const { return codeBegin + static_cast<std::uint32_t>(slot) * codeStep; }
    // Index into coreRegisters.
    [[nodiscard]] std::optional<std::size_t> registerOf(CoreRole role) const;
    [[nodiscard]] std::optional<std::size_t> registerNumbered(int debuggerNumber) const;
};

}  // namespace bramix::chip
