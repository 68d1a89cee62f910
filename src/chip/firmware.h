// Firmware images: ELF and Intel HEX files (and raw program memory) read into what a chip's memories shall hold.
//
// ELF: 32-bit little-endian executables of the chip's machine; each loadable segment goes where its physical (load) address says, by the chip's ImageMap
//   (.data's initial values lie in flash by their load address).
// Intel HEX: record types 00 data, 01 end, 02 and 04 extended addresses, 03 and 05 start addresses (checked, not used).
//
// Errors are one line: the file, the program header, record or offset, and what was expected.
// Tested by tests/chip/firmware_test.cpp.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "chip/device.h"
#include "kernel/result.h"

namespace bramix::chip {

struct Firmware {
    // Bytes that go into memory at power-up, as a debugger or a boot loader puts them there.
    struct Chunk {
        std::uint32_t address = 0;
        std::vector<std::uint8_t> bytes;
    };

    std::string file;
    std::vector<std::uint8_t> flash;     // program memory from Device::codeBegin; 0xFF where the image says nothing
    std::vector<std::uint8_t> eeprom;    // from address 0; may be empty
    bool eepromGiven = false;
    bool bootCode = false;               // the image has code in the chip's largest boot section
    std::string builtFor;                // the device named in the image, or empty; see mismatch
    bool isElf = false;
    OptionBytes options;                 // that the image sets: a configuration word; empty: it says nothing
    std::vector<Chunk> memory;           // of chips whose programs may lie in RAM
    std::uint32_t entry = 0;             // where an ELF file says that it begins
    std::uint32_t dataEnd = 0;           // first data address behind the static variables; 0 where the image does not say

    // Flash as words, the last one padded.
    [[nodiscard]] std::vector<std::uint16_t> words() const;
};

// Bytes from address 0 as Intel HEX, 16 to a line, runs of erased lines (0xFF) left out.
[[nodiscard]] std::string writeIntelHex(const std::vector<std::uint8_t>& bytes);

// Reads a file, by its content: ELF, Intel HEX, or raw flash where the name ends in .bin.
[[nodiscard]] kernel::Result<Firmware> readImage(const std::string& file, const Device& chip);

// The readers themselves, on bytes already in memory. `name` is used in errors.
[[nodiscard]] kernel::Result<Firmware> readElf(const std::string& name, const std::vector<std::uint8_t>& bytes, const Device& chip);
[[nodiscard]] kernel::Result<Firmware> readIntelHex(const std::string& name, const std::vector<std::uint8_t>& bytes, const Device& chip);
// Bytes of an Intel HEX file by their addresses; `place` takes each, and says what is wrong with an address, or nothing.
using HexPlace = std::function<std::string(std::uint32_t address, std::uint8_t value)>;
[[nodiscard]] kernel::Result<void> readHexRecords(const std::string& name, const std::vector<std::uint8_t>& bytes, const HexPlace& place);
// A whole file; the error says what is wrong with it.
[[nodiscard]] kernel::Result<std::vector<std::uint8_t>> readFirmwareFile(const std::string& file);

}  // namespace bramix::chip
