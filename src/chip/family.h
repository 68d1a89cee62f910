// A chip family as the rest of the program sees it: what its chips are (device.h), how one is made (mcu.h), and what code, options and images mean to it.
// families.cpp lists them; a test may add one of its own.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "chip/device.h"
#include "chip/firmware.h"
#include "chip/instruction.h"
#include "chip/mcu.h"
#include "kernel/event_queue.h"
#include "kernel/result.h"

namespace bramix::chip {

// A program that builds firmware, and the Debian packages that it comes from.
struct BuildTool {
    std::string_view program;   // "avr-gcc"
    std::string_view packages;  // "gcc-avr avr-libc"
};

struct Family {
    std::string_view name;  // "avr"
    // In the order in which they are listed.
    std::span<const Device* const> (*devices)() = nullptr;
    std::unique_ptr<Mcu> (*make)(const Device&, const McuOptions&, kernel::EventQueue&, circuit::Circuit&, McuObserver&) = nullptr;

    // An option's value out of all of a chip's; all ones where it has none of this name. Null, like setOption: its chips have no options.
    unsigned (*optionValue)(const Device&, const OptionBytes&, std::string_view name) = nullptr;
    // Sets one by its name, as a person writes it: "1", "0x62", "0b0010", or in the family's own words. The error says what was expected.
    kernel::Result<void> (*setOption)(const Device&, OptionBytes&, std::string_view name, std::string_view value) = nullptr;

    // A program out of a file's bytes; `file` is for errors (firmware.h). Null: as Device::image says, readImage().
    kernel::Result<Firmware> (*loadFirmware)(const std::string& file, const Device&) = nullptr;
    // Whether a pin of the package can be driven and read by a program.
    bool (*isPortPin)(const Device&, std::string_view pin) = nullptr;

    // The instruction at a code address, which may lie outside the code.
    InstructionInfo (*decode)(const Device&, const CodeView&, std::uint32_t address) = nullptr;

    // What its programs are built with, the compiler first.
    std::span<const BuildTool> tools{};
    // Sources become a program by one call of the compiler, without a start-up file or a linker's script of one's own.
    bool buildsStraight = false;
    unsigned clocksPerCycle = 1;  // of the oscillator: 4 where an instruction cycle takes four of its periods
};

}  // namespace bramix::chip
