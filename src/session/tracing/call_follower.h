// Which functions run, followed from one instruction to the next: who called whom, what interrupts and sleep lie in between.
//
// The idea: where a call leaves its return address on the stack, a call, an interrupt and a return show in the stack pointer and in whose code is next; nothing else is needed, and code that
// handles its stack in its own way is followed, too. Where it leaves it in a register, the instruction that has run tells what it was.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "debug/function_map.h"
#include "session/replay/found_spans.h"
#include "session/session.h"

namespace bramix::session {

class CallFollower {
public:
    // Those that have called it already stand below it. An error: what the firmware does not tell.
    [[nodiscard]] Result<void> begin(const Program& program, const bench::World::ChipUnit& unit, Time at, std::vector<Span>& spans);
    // What has become of them, now that one more instruction has run. False: one more would be too many.
    [[nodiscard]] bool look(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most);
    // Those that go on end there for now.
    void close(std::vector<Span>& spans, Time at) const;
    // Spans have been left out: by the number of each that is kept, its new one.
    void renumber(const std::vector<std::size_t>& now);

private:
    static constexpr std::uint16_t kNoFunction = debug::FunctionMap::kNone;
    struct Open {
        std::uint16_t function = kNoFunction;
        std::uint32_t sp = 0;  // behind the return address
        std::size_t span = 0;
        std::uint32_t returnsTo = UINT32_MAX;  // where that is in a register
    };
    [[nodiscard]] bool lookByStack(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most);
    [[nodiscard]] bool lookByFlow(const bench::World::ChipUnit& unit, std::vector<Span>& spans, std::size_t most);
    [[nodiscard]] bool push(std::vector<Span>& spans, std::size_t most, Time now, const Open& open);
    void standBefore(const bench::World::ChipUnit& unit);
    [[nodiscard]] std::string nameOf(std::uint16_t function) const { return function == kNoFunction ? std::string() : map_.names[function]; }

    debug::FunctionMap map_;
    std::vector<Open> stack_;
    std::optional<std::size_t> asleep_;  // the span of the sleep in progress
    std::uint32_t spBefore_ = 0;
    // Where it stood, by flow.
    std::uint32_t pcBefore_ = 0;
    std::int64_t instructionsBefore_ = 0;
    chip::InstructionInfo next_{};
    Time from_{};
};

}  // namespace bramix::session
