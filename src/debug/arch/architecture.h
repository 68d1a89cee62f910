// What debugging needs to know of a chip family beyond chip/family.h: its instructions as text, its functions where nothing describes them, its frames, its registers in words.
// architectures.cpp lists them; a test may add one of its own.
#pragma once

#include <functional>
#include <string_view>
#include <vector>

#include "chip/debug_port.h"
#include "debug/disassembler.h"
#include "debug/frames.h"
#include "debug/register_view.h"
#include "debug/symbols.h"

namespace bramix::debug {

struct Architecture {
    std::string_view family;
    // An instruction as text; `symbols` may be null.
    InstructionText (*disassemble)(const chip::Device&, const chip::CodeView&, std::uint32_t address, const Symbols* symbols) = nullptr;
    // The functions of code that says nothing of itself (code_functions.h); null: none are found.
    Symbols (*functionsOf)(const chip::CodeView&, const chip::Device&) = nullptr;
    // Of an image that is no ELF file, by what its tools have written beside it; empty where there is nothing. Null: they write nothing.
    Symbols (*symbolsBeside)(const std::string& firmware, const chip::CodeView&, const chip::Device&) = nullptr;
    // The call stack, innermost first (frames.h).
    std::vector<Frame> (*unwind)(const FrameTable&, const Symbols&, const Target&, const Registers& now, std::size_t most) = nullptr;
    // A peripheral's register in words; null: by the words of its fields.
    RegisterText (*describe)(const chip::Device&, const chip::PeripheralRegister&, const std::function<std::uint8_t(std::uint64_t)>& peek) = nullptr;
    // The feature of a remote debugger's target description that a core register belongs to ("GDB manual", appendix G.5); null: debuggers know the registers of the architecture by themselves.
    std::string_view (*debuggerFeature)(const chip::CoreRegister&) = nullptr;
};

[[nodiscard]] const Architecture& architectureOf(const chip::Device& device);
// One more, before anything is debugged: for tests.
void addArchitecture(const Architecture& architecture);

}  // namespace bramix::debug
