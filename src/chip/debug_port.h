// How a debugger looks into a chip, changes it, and makes it stop, of whatever family. Nothing here is called once an instruction.
//
// Registers are those of Device::coreRegisters by their index; memory is read and written by space and address; code addresses are what the family's own tools print. Looking has
// no side effects, and is possible while the chip is held in reset, asleep, or at fault.
// Invariant: stops never change what the firmware sees: with and without them a run is the same, cycle for cycle.
#pragma once

#include <bitset>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "chip/device.h"
#include "chip/instruction.h"
#include "kernel/time.h"

namespace bramix::chip {

// Bit by exception number.
using ExceptionSet = std::bitset<256>;

// Data addresses whose reading or writing by an instruction ends the run, behind that instruction. Registers that have data addresses are not seen where instructions name
// them instead of addressing them.
struct Watchpoint {
    std::uint64_t address = 0;
    std::uint64_t length = 1;
    bool reads = false;
    bool writes = true;
    bool operator==(const Watchpoint&) const = default;
};

// Why a core has stopped for the debugger.
struct StopInfo {
    enum class Kind : std::uint8_t { none, breakpoint, access, exception, reset } kind = Kind::none;
    std::uint32_t code = 0;      // of the breakpoint, or of the instruction that made the access
    std::uint64_t address = 0;   // of the access
    std::uint64_t before = 0;    // what stood there
    std::uint64_t value = 0;     // what was read or written
    bool write = false;
    unsigned exception = 0;      // the one entered
    std::string by{};            // of an access: the bus master that made it ("DMA"); empty: the core
};

// What the core cannot go on from.
struct FaultInfo {
    std::string what;        // "undefined instruction 0xffff"
    std::uint32_t code = 0;  // of the instruction at fault
    std::int64_t cycle = 0;
};

// How one exception stands, and how promptly it was served.
struct ExceptionStatus {
    bool raised = false, enabled = false, pending = false;
    std::int64_t count = 0;
    std::int64_t worstLatency = 0;  // cycles from its request, or from being enabled, to the first instruction of its handler
    std::int64_t totalLatency = 0;
};

class DebugPort {
public:
    virtual ~DebugPort() = default;

    [[nodiscard]] virtual const Device& device() const = 0;

    // Where it stands.
    // Clock cycles of the core since power-up, and instructions executed.
    [[nodiscard]] virtual std::int64_t cycles() const = 0;
    [[nodiscard]] virtual std::int64_t instructions() const = 0;
    // Where the next instruction lies.
    [[nodiscard]] virtual std::uint32_t codeAddress() const = 0;
    [[nodiscard]] virtual std::uint64_t stackPointer() const = 0;
    // The lowest that the stack pointer has been since the firmware set it up; nothing before that.
    [[nodiscard]] virtual std::optional<std::uint64_t> lowestStack() const = 0;
    [[nodiscard]] virtual bool isSleeping() const = 0;
    // An exception waits to be taken, or for being allowed to.
    [[nodiscard]] virtual bool exceptionPending() const = 0;
    [[nodiscard]] virtual ExceptionStatus exception(unsigned number) const = 0;
    [[nodiscard]] virtual std::optional<FaultInfo> fault() const = 0;

    // The program counter's value is a code address.
    [[nodiscard]] virtual std::uint64_t readRegister(std::size_t index) const = 0;
    virtual void writeRegister(std::size_t index, std::uint64_t value) = 0;
    // How many bytes from there on could be read: those up to the end of the memory.
    [[nodiscard]] virtual std::size_t read(SpaceId space, std::uint64_t at, std::span<std::uint8_t> out) const = 0;
    // One byte of data; 0 outside memory.
    [[nodiscard]] virtual std::uint8_t readData(std::uint64_t at) const = 0;
    // The same of a peripheral's register in the midst of an instruction, at an instant to which everything due has come: counters that move by themselves are reckoned.
    [[nodiscard]] virtual std::uint8_t readDataAt(std::uint64_t at, kernel::Time when) const = 0;
    // As a debugger writes: a peripheral's register acts as if an instruction had written it. False where nothing can be written; flash is written as a whole
    // by a programmer.
    virtual bool write(SpaceId space, std::uint64_t at, std::uint8_t value) = 0;

    // Its program memory as it is now.
    [[nodiscard]] virtual CodeView code() const = 0;
    // The instruction at a code address.
    [[nodiscard]] virtual InstructionInfo instructionAt(std::uint32_t address) const = 0;
    // What the next instruction will load or store; nothing where it does neither.
    [[nodiscard]] virtual std::optional<MemoryAccess> nextAccess() const = 0;

    // Stops come at instruction boundaries; the run that has ended there goes on as if nothing had been. Each call replaces those set before.
    virtual void setBreakpoints(std::span<const std::uint32_t> addresses) = 0;
    virtual void setWatchpoints(std::span<const Watchpoint> watchpoints) = 0;
    virtual void stopAtExceptions(const ExceptionSet& which) = 0;
    virtual void stopAtResets(bool stop) = 0;
    [[nodiscard]] virtual bool hasStopped() const = 0;
    [[nodiscard]] virtual StopInfo stopInfo() const = 0;
    // Forgets the stop; `passBreakpoint`: the next run goes on from a breakpoint at the present place instead of stopping at it.
    virtual void resume(bool passBreakpoint) = 0;
};

}  // namespace bramix::chip
