// The call stack: who called whom, with what each kept in its registers, through exceptions down to main().
//
// Read from .debug_frame (DWARF 4, section 6.4), split by libdw and evaluated here; what a family's own code must tell beside it is the architecture's (arch/architecture.h).
// Tested by tests/cli/gdb_test.cpp against a real avr-gdb.
#pragma once

#include <array>
#include <bitset>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "chip/debug_port.h"
#include "debug/symbols.h"

namespace bramix::debug {

// The memory of a stopped chip.
class Target {
public:
    virtual ~Target() = default;
    [[nodiscard]] virtual std::uint8_t data(std::uint32_t address) const = 0;
    [[nodiscard]] virtual std::uint8_t flash(std::uint32_t address) const = 0;
    [[nodiscard]] virtual std::uint8_t eeprom(std::uint32_t address) const = 0;
    [[nodiscard]] virtual const chip::Device& device() const = 0;
    // Of its peripherals; a bench may describe them itself.
    [[nodiscard]] virtual const chip::RegisterMap& registers() const { return device().registers(); }
    // By index into its coreRegisters, as it stands now.
    [[nodiscard]] virtual std::uint64_t coreRegister(std::size_t index) const = 0;

    [[nodiscard]] std::uint8_t read(Space space, std::uint32_t address) const { return space == Space::data ? data(address) : space == Space::flash ? flash(address) : eeprom(address); }
};

// The core's registers, as they stand or as they were in a caller.
struct Registers {
    static constexpr std::size_t kMost = 64;
    std::array<std::uint64_t, kMost> r{};                                   // by index into Device::coreRegisters
    std::bitset<kMost> known = std::bitset<kMost>().set();                 // whether its value at this frame is known
    std::uint32_t sp = 0;
    std::uint32_t pc = 0;                                                   // code address
    // Where a frame below has put a register, so that writing it goes there; 0: it still stands in the register.
    std::array<std::uint32_t, kMost> savedAt{};
};
[[nodiscard]] Registers registersOf(const chip::DebugPort& port);
// The core register of a DWARF number; nothing for a return address and the like.
[[nodiscard]] std::optional<std::size_t> registerOfDwarf(const chip::Device& device, std::uint64_t number);
// As wide as a pointer: what stands in the register of a DWARF number and in those that follow it.
[[nodiscard]] std::int64_t pointerIn(const chip::Device& device, const Registers& registers, std::uint64_t dwarf);

struct Frame {
    Registers registers;
    std::uint32_t cfa = 0;     // the stack pointer before the call
    int function = -1;         // index into Symbols::functions; the inlined one where `inlined`
    Place place;
    bool inlined = false;      // shares the registers of the next frame
    std::string interrupt;     // vector that this frame is the handler of: "TIMER1_COMPA"; or empty
};

class FrameTable {
public:
    // Where the caller's registers are, while one instruction is next.
    struct Rules {
        unsigned cfaRegister = 0;  // a DWARF number; the CFA lies so far from it
        std::int64_t cfaOffset = 0;
        std::map<unsigned, std::int64_t> saved;  // register: offset from the CFA
    };
    // What an architecture has found out about the code.
    struct Memory {
        virtual ~Memory() = default;
    };

    // Nothing where the file has no .debug_frame.
    static FrameTable fromElf(const std::string& file);

    // Innermost first; at least one, and about so many at most.
    [[nodiscard]] std::vector<Frame> unwind(const Symbols& symbols, const Target& target, const Registers& now, std::size_t most = SIZE_MAX) const;
    // Runs the description of a function up to pc; false where there is none.
    [[nodiscard]] bool rulesAt(std::uint32_t pc, Rules& rules) const;
    // The register, by its DWARF number, from which the frame lies at a fixed distance where this instruction is next; nothing where that is not described.
    [[nodiscard]] std::optional<unsigned> baseAt(std::uint32_t pc) const;
    // Kept as long as the table; one kind a table.
    template <class M>
    [[nodiscard]] M& memory() const
    {
        if (memory_ == nullptr)
            memory_ = std::make_shared<M>();
        return static_cast<M&>(*memory_);
    }

private:
    struct Cie {
        std::vector<std::uint8_t> initial;
        std::uint64_t codeFactor = 1;
        std::int64_t dataFactor = 1;
        unsigned returnRegister = 36;
    };
    struct Fde {
        std::uint32_t begin = 0, end = 0;
        std::size_t cie = 0;
        std::vector<std::uint8_t> program;
    };

    std::vector<Cie> cies_;
    std::vector<Fde> fdes_;  // by begin
    mutable std::shared_ptr<Memory> memory_;
};

}  // namespace bramix::debug
