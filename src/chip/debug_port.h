// How a debugger looks into a chip that stands, and changes it, of whatever family. Nothing here is called once an instruction.
//
// Registers are those of Device::coreRegisters by their index; memory is read and written by space and address. Looking has no side effects, and is possible while the
// chip is held in reset, asleep, or at fault.
#pragma once

#include <cstdint>
#include <span>

#include "chip/device.h"

namespace bramix::chip {

class DebugPort {
public:
    virtual ~DebugPort() = default;

    [[nodiscard]] virtual const Device& device() const = 0;
    // Clock cycles of the core since power-up.
    [[nodiscard]] virtual std::uint64_t cycles() const = 0;
    // Where the next instruction lies, as the family's own tools print code addresses.
    [[nodiscard]] virtual std::uint32_t codeAddress() const = 0;
    // The program counter's value is such an address.
    [[nodiscard]] virtual std::uint64_t readRegister(std::size_t index) const = 0;
    virtual void writeRegister(std::size_t index, std::uint64_t value) = 0;
    // How many bytes from there on could be read: those up to the end of the memory.
    [[nodiscard]] virtual std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const = 0;
    // As a debugger writes: a peripheral's register acts as if an instruction had written it. False where nothing can be written; flash is written as a whole
    // by a programmer.
    virtual bool write(SpaceId space, std::uint64_t at, std::uint8_t value) = 0;
};

}  // namespace bramix::chip
