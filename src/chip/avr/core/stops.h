// Where a debugger wants a core to stop, and how promptly interrupts are served.
//
// The idea: nothing here costs anything where it does not lie. A breakpoint is a patched record of the engine; a watched address is one that
// the engine asks the stepper about; a chip without either runs as if there were no debugger.
// Invariant: stops never change what the firmware sees: with and without them a run is the same, cycle for cycle.
// Tested by tests/chip/avr/core/stops_test.cpp.
#pragma once

#include <cstdint>

namespace bramix::chip::avr {

// Data addresses whose reading or writing by an instruction ends the run, after that instruction. Registers r0 to r31 (addresses below 0x20)
// are not seen: instructions name them, they do not address them.
struct Watch {
    std::uint16_t address = 0;
    std::uint16_t length = 1;
    bool reads = false;
    bool writes = true;
    bool operator==(const Watch&) const = default;
};

// Why a core has stopped for the debugger.
struct DebugStop {
    enum class Kind : std::uint8_t { none, breakpoint, access, interrupt, reset } kind = Kind::none;
    std::uint32_t pc = 0;       // word address: of the breakpoint, or of the instruction that made the access
    std::uint16_t address = 0;  // of the access
    std::uint8_t before = 0;    // what stood there
    std::uint8_t value = 0;     // what was read or written
    bool write = false;
    std::uint8_t vector = 0;    // of the interrupt entered
};

// How promptly one interrupt was served; always kept.
struct InterruptCount {
    std::int64_t count = 0;
    std::int64_t worstLatency = 0;  // cycles from the flag, or from being enabled, to the first instruction of the vector
    std::int64_t totalLatency = 0;

    template <class Archive>
    void state(Archive& ar)
    {
        ar(count, worstLatency, totalLatency);
    }
};

}  // namespace bramix::chip::avr
