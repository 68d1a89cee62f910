// What the debugger's views show of one chip: published with each picture, worked out only as far as somebody looks.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "bench/document.h"
#include "chip/device.h"
#include "chip/mcu.h"
#include "debug/expression.h"

namespace bramix::session {

// What stands in the registers of peripherals, as far as somebody knows of registers there.
struct RegisterBytes {
    struct Block {
        std::uint64_t begin = 0;
        std::vector<std::uint8_t> bytes;
    };
    std::vector<Block> blocks;  // in order
    [[nodiscard]] std::optional<std::uint8_t> at(std::uint64_t address) const
    {
        for (const Block& block : blocks)
            if (address >= block.begin && address - block.begin < block.bytes.size())
                return block.bytes[address - block.begin];
        return std::nullopt;
    }
    [[nodiscard]] std::uint8_t operator[](std::uint64_t address) const { return at(address).value_or(0); }
};

struct VariablePicture {
    std::string name;
    std::string expression;   // by which it can be looked at and set
    std::string type;
    std::string value;        // or why it has none
    bool known = true;
    bool changed = false;     // since the last stop
    bool writable = false;
    std::vector<VariablePicture> inner;
    bool operator==(const VariablePicture&) const = default;
};

struct FramePicture {
    std::string function;
    std::string file;
    int line = 0;
    std::uint32_t pc = 0;
    std::string interrupt;
    bool inlined = false;
};

struct StopPicture {
    bench::StopItem item;
    std::string file;
    int line = 0;
    std::vector<std::uint32_t> addresses;
    std::int64_t hits = 0;
    std::string problem;
    bool measures = false;
    std::int64_t least = 0, most = 0, sum = 0;  // cycles
};

struct InterruptPicture {
    std::string name;
    bool raised = false, enabled = false, pending = false;
    std::int64_t count = 0;
    std::int64_t worstLatency = 0;  // cycles
    double meanLatency = 0;
    // From entry to the end of its RETI, in cycles; nothing (0 times) while nobody counts.
    std::int64_t timed = 0, longest = 0;
    double meanLength = 0;
    double share = 0;  // of all cycles counted
};

// How often each line ran, and how long.
struct CountPicture {
    struct Row {
        std::string name;   // a function
        std::int64_t calls = 0;
        std::int64_t cycles = 0;
    };
    bool on = false;
    std::int64_t total = 0, asleep = 0, entries = 0;
    std::vector<Row> functions;                                    // most cycles first
    std::int64_t stackFrom = 0, stackWidth = 0;                    // cycles: where the next begins, and how long each stretch is
    std::vector<std::uint32_t> stackDepth;                         // bytes, the most in each stretch
    std::vector<std::tuple<std::string, int, std::int64_t>> lines; // file, line, executions of its first instruction
};

struct DebugPicture {
    bool there = false;            // a chip is looked at
    std::string chip;              // id
    const chip::Device* device = nullptr;  // what the chip is; it lives as long as the program
    std::uint64_t program = 0;     // another number: other flash contents
    std::shared_ptr<const std::vector<std::uint8_t>> code;  // program memory, from Device::codeBegin
    std::string firmwareFile;
    bool standing = false;         // paused: frames and locals are of this instant
    bool inPast = false;           // the run has come further than this
    kernel::Time earliest{}, latest{};
    std::string reason;            // why it stands, or empty
    debug::Registers registers;
    chip::RegisterSet changedRegisters;  // since the last stop
    std::optional<std::uint64_t> statusBefore;  // the status register at the last stop
    std::vector<FramePicture> frames;
    std::size_t frame = 0;
    std::vector<VariablePicture> locals, globals, watches;
    std::optional<VariablePicture> hovered;  // what the pointer asks for
    std::shared_ptr<const chip::RegisterMap> ownRegisters;  // as the bench has them described; null: the device's
    [[nodiscard]] const chip::RegisterMap* registerMap() const { return ownRegisters != nullptr ? ownRegisters.get() : device != nullptr ? &device->registers() : nullptr; }
    RegisterBytes io;              // registers of peripherals
    RegisterBytes ioBefore;        // at the last stop; empty before one
    std::size_t memoryRegion = SIZE_MAX;  // of Device::regions; SIZE_MAX: none is looked at
    std::vector<std::uint8_t> memory, memoryBefore;  // from its beginning; at the last stop, empty where nothing is known
    std::uint32_t lowestStack = UINT32_MAX, dataEnd = 0, ramEnd = 0;  // UINT32_MAX: no stack yet
    std::vector<chip::PinStatus> pins;
    std::vector<InterruptPicture> interrupts;
    std::vector<StopPicture> stops;
    CountPicture counts;
    bool slow = false;             // slow run is on
    bool entersInterrupts = false;
};

// What is looked at.
struct DebugRequest {
    std::string chip;              // empty: the first
    bool on = false;               // somebody looks at all
    std::size_t frame = 0;
    std::vector<bench::WatchItem> watches;
    bool globals = false;
    std::string hovered;           // an expression, or empty
    std::optional<std::size_t> memory;  // a region of the device, other than the program
};

}  // namespace bramix::session
