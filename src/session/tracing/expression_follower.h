// An expression over globals and registers, followed as memory changes: what it is, and which bytes decide that.
//
// "next->open" stands where `next` points to: the bytes of the pointer decide its place, those at the place its value, and when any of them changes it is worked out anew. A variable whose
// place never changes is only read there. What cannot be worked out at times (a division by zero) has no value then.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "debug/expression.h"
#include "session/debugger/debugger.h"

namespace bramix::session {

class ExpressionFollower {
public:
    explicit ExpressionFollower(std::string expression) : expression_(std::move(expression)) {}

    // A chip's memory, at an instant. While its core works, the instant is the core's own, to which registers that move by themselves are reckoned.
    struct Memory {
        const bench::World::ChipUnit& unit;
        std::optional<Time> when{};
        [[nodiscard]] std::uint8_t data(std::uint32_t address) const;
        [[nodiscard]] std::uint8_t eeprom(std::uint32_t address) const { return address < unit.chip->nonVolatile().size() ? unit.chip->nonVolatile()[address] : std::uint8_t{0xFF}; }
    };

    // Works it out for the first time. An error: why it has no value and never will.
    [[nodiscard]] Result<void> begin(Program& program, const Memory& memory);
    enum class News : std::uint8_t { none, value, ended };
    // What has become of it since.
    News look(Program& program, const Memory& memory);

    [[nodiscard]] bool open() const { return open_; }
    [[nodiscard]] const debug::Value& value() const { return value_; }
    // The last news only completed the ones before, which were of a value, a pointer or an operand half stored.
    [[nodiscard]] bool completes() const { return completes_; }

    struct Part {
        debug::Use place;
        std::vector<std::uint8_t> bytes;
    };
    // In data memory and EEPROM. They may be others after each look at which it moved.
    [[nodiscard]] const std::vector<Part>& parts() const { return parts_; }
    [[nodiscard]] bool moved() const { return moved_; }
    // Where the value itself stands, if it stands anywhere; the last of the parts.
    [[nodiscard]] std::optional<debug::Use> place() const { return open_ && value_.inMemory && !parts_.empty() ? std::optional(parts_.back().place) : std::nullopt; }

    // What a part of data memory is made of: registers of the core are whole between instructions alone, those of peripherals may change without being written. EEPROM changes as the latter do.
    struct Kinds {
        bool core = false, peripheral = false, memory = false;
    };
    [[nodiscard]] static Kinds kindsOf(const debug::Use& place, const chip::Device& device);

private:
    [[nodiscard]] Result<void> workOut(Program& program, const Memory& memory);

    std::string expression_;
    debug::Value value_;
    std::vector<Part> parts_;
    debug::Evaluator::Names names_;
    std::vector<std::uint8_t> now_;       // of a part, while it is looked at
    std::optional<std::size_t> changed_;  // the part of several bytes that changed last, if it alone did
    std::size_t changedByte_ = 0;
    bool fixed_ = false;                  // nothing decides where it stands: there is one part, its own bytes
    bool byValues_ = false;               // an error comes of what stands there
    bool open_ = false, completes_ = false, moved_ = false;
};

}  // namespace bramix::session
