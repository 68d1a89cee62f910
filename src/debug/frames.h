// The call stack of an AVR: who called whom, with what each kept in its registers, through interrupts down to main().
//
// Read from .debug_frame (DWARF 4, section 6.4), which libdw can split but not evaluate for AVR; where a function has no such description, its
// prologue is read from the instructions themselves. A return address lies with its high byte at the lower address and counts words.
// Tested by tests/cli/gdb_test.cpp against a real avr-gdb.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "chip/avr/table.h"
#include "debug/symbols.h"

namespace bramix::debug {

// The memory of a stopped chip.
class Target {
public:
    virtual ~Target() = default;
    [[nodiscard]] virtual std::uint8_t data(std::uint32_t address) const = 0;
    [[nodiscard]] virtual std::uint8_t flash(std::uint32_t address) const = 0;
    [[nodiscard]] virtual std::uint8_t eeprom(std::uint32_t address) const = 0;
    [[nodiscard]] virtual const chip::avr::ChipTable& chip() const = 0;

    [[nodiscard]] std::uint8_t read(Space space, std::uint32_t address) const { return space == Space::data ? data(address) : space == Space::flash ? flash(address) : eeprom(address); }
};

struct Registers {
    std::array<std::uint8_t, 32> r{};
    std::uint32_t known = UINT32_MAX;  // bit by register: whether its value at this frame is known
    std::uint8_t sreg = 0;
    std::uint16_t sp = 0;
    std::uint32_t pc = 0;              // byte address
    // Where a frame below has put a register, so that writing it goes there; 0: it still stands in the register.
    std::array<std::uint16_t, 32> savedAt{};
};

struct Frame {
    Registers registers;
    std::uint16_t cfa = 0;     // the stack pointer before the call
    int function = -1;         // index into Symbols::functions; the inlined one where `inlined`
    Place place;
    bool inlined = false;      // shares the registers of the next frame
    std::string interrupt;     // vector that this frame is the handler of: "TIMER1_COMPA"; or empty
};

class ReturnSearch;

class FrameTable {
public:
    // Nothing where the file has no .debug_frame.
    static FrameTable fromElf(const std::string& file);

    FrameTable();

    // Innermost first; at least one, and about so many at most.
    [[nodiscard]] std::vector<Frame> unwind(const Symbols& symbols, const Target& target, const Registers& now, std::size_t most = SIZE_MAX) const;
    // The register (32: the stack pointer) from which the frame lies at a fixed distance where this instruction is next; nothing where that is not described.
    [[nodiscard]] std::optional<unsigned> baseAt(std::uint32_t pc) const;
    static constexpr unsigned kStackPointer = 32;

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
    struct Rules;

    [[nodiscard]] bool rulesAt(std::uint32_t pc, Rules& rules) const;

    std::vector<Cie> cies_;
    std::vector<Fde> fdes_;  // by begin
    std::shared_ptr<ReturnSearch> returns_;  // remembers what it has found out about the code
};

}  // namespace bramix::debug
