// A stop in the form in which it is looked for; for debugger.cpp and debugger_rules.cpp only.
#pragma once

#include "session/debugger/debugger.h"
#include "session/debugger/edge_triggers.h"
#include "session/tracing/expression_follower.h"

namespace bramix::session {

struct Debugger::Rule {
    enum class Kind : std::uint8_t { code, access, registers, interrupt, edge, level, trigger, serial, time, finding, reset } kind = Kind::code;
    bench::StopItem item;
    int side = 0;                   // of a measurement: 1 where it begins, 2 where it ends
    std::size_t index = SIZE_MAX;   // among the stops; SIZE_MAX: only meant once
    std::size_t chip = 0;
    std::vector<std::uint32_t> addresses;
    std::string file;
    int line = 0;
    // Where the line's code was last come to, by function (inlined copies apart), with the frame: one execution of the line stops once.
    std::map<int, std::pair<std::uint32_t, std::uint32_t>> passed;
    // access
    std::vector<chip::Watchpoint> watches;
    bool onChange = false;
    std::string expression, becomes;
    std::optional<ExpressionFollower> follower;  // of an expression that may stand elsewhere later
    std::vector<std::uint8_t> last;  // bytes of the value when last looked at
    bool stack = false;
    // registers: core registers, looked at around the instructions that name them; or a local of a function, looked at wherever that function runs
    chip::RegisterSet registers;
    std::optional<debug::CoreName> core;  // the register that is meant, where it has no place in memory
    std::string function;            // whose local it is; empty: a core register
    bool reads = false, writes = false;
    std::uint32_t lastAt = UINT32_MAX;  // where the local was looked at last
    // interrupt
    chip::ExceptionSet exceptions;
    // edge, level
    bench::PinRef pin;
    bool rising = true, falling = true;
    bool level = true;
    kernel::Duration length{};
    std::optional<Time> since;
    // trigger
    std::shared_ptr<EdgeTrigger> trigger;
    std::vector<bench::NetId> nets;
    // serial, finding
    std::optional<std::size_t> uart;
    std::string text;
    // time
    Time at{};
    bool done = false;
    std::int64_t hits = 0;
};

// Expressions at a stopped chip, in one of its frames.
struct Debugger::Scope {
    Scope(const Debugger& debugger, std::size_t chip, std::size_t frame = 0)
        : target(debugger.session_.world().chips()[chip]), stack(debugger.program(chip).frames.unwind(debugger.program(chip).symbols, target, debug::registersOf(*debugger.session_.world().chips()[chip].chip))),
          evaluator(debugger.program(chip).symbols, target, frame < stack.size() ? &stack[frame] : nullptr)
    {
    }
    const ChipTarget target;
    const std::vector<debug::Frame> stack;
    debug::Evaluator evaluator;
};

}  // namespace bramix::session
