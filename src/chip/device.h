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
    std::string flags;       // of a status register, from the highest bit: "ITHSVNZC"
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

    std::vector<PackagePin> package;
    std::uint64_t usualHz = 0;                  // of a chip on nothing
    double highestVolts = 0;                    // of its supply, in use
    std::vector<OptionField> options;
    OptionBytes shipped, ideal;                 // as it comes from its maker; of a chip on nothing, that starts at once

    // How many addresses of a space can be looked at: the end of its last region.
    [[nodiscard]] std::uint64_t sizeOf(SpaceId space) const;
    // The region of a debugger's address.
    [[nodiscard]] const MemoryRegion* regionAt(std::uint64_t debuggerAddress) const;
    [[nodiscard]] const MemoryRegion* regionOf(RegionKind kind) const;
    // Index into coreRegisters.
    [[nodiscard]] std::optional<std::size_t> registerOf(CoreRole role) const;
    [[nodiscard]] std::optional<std::size_t> registerNumbered(int debuggerNumber) const;
};

}  // namespace bramix::chip
