// A local of a function, followed from one instruction to the next: what it is, and when it has none.
//
// A local has its value from when it gets it, while what its function calls runs too, until the function is left or the value is nowhere any more.
//
// Where a variable stands is worked out twice for each instruction at which it is looked at, and then known: its registers, or its distance from the frame, which lies at a fixed
// distance from the stack pointer there. What is more than the name of a variable is worked out each time.
// Tested by tests/session/replay/lookback_test.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <unordered_map>
#include <utility>
#include <vector>

#include "session/debugger/local_value.h"

namespace bramix::session {

class LocalFollower {
public:
    // `inside`: by slot of program memory (Device::codeStep), its function's code.
    LocalFollower(LocalName name, std::vector<bool> inside) : name_(std::move(name)), inside_(std::move(inside)), plain_(rootOf(name_.expression) == name_.expression) {}

    enum class News : std::uint8_t { none, value, ended };
    // What has become of it where the chip stands, since stand().
    News look(Program& program, const bench::World::ChipUnit& unit);
    // The chip stands here: before an instruction after which it is looked at.
    void stand(const bench::World::ChipUnit& unit);
    [[nodiscard]] const debug::Value& value() const { return value_; }
    [[nodiscard]] bool open() const { return open_; }
    // The last value followed another one of the same call.
    [[nodiscard]] bool goesOn() const { return goesOn_; }

private:
    // Where the variable stands while one instruction is next.
    struct Place {
        bool nowhere = false;
        std::int32_t frame = 0;       // the CFA's distance from the stack pointer
        unsigned base = 0;            // a DWARF number
        std::int32_t fromBase = 0;    // and from the register that the compiler counts from
        debug::Value value;           // its type and registers
        std::int32_t offset = 0;      // in memory: from the CFA
        bool operator==(const Place& o) const
        {
            return nowhere == o.nowhere && frame == o.frame && base == o.base && fromBase == o.fromBase && value.registers == o.value.registers && value.inMemory == o.value.inMemory && offset == o.offset;
        }
    };
    struct Known {
        Place place;
        std::uint8_t times = 0;  // that it was found there; 2: it is believed
        bool changes = false;    // it has to be worked out each time
    };

    [[nodiscard]] bool inside(const bench::World::ChipUnit& unit) const { return unit.chip->codeSlot() < inside_.size() && inside_[unit.chip->codeSlot()]; }
    [[nodiscard]] std::optional<LocalValue> read(Program& program, const bench::World::ChipUnit& unit);
    static bool readPlace(const Place& place, const bench::World::ChipUnit& unit, std::optional<LocalValue>& out);
    void learn(Known& known, const Program& program, const bench::World::ChipUnit& unit, const std::optional<LocalValue>& value) const;

    LocalName name_;
    std::vector<bool> inside_;
    bool plain_ = false;     // the name of a variable
    std::unordered_map<std::uint32_t, Known> places_;  // by code address
    debug::Value value_;
    std::uint32_t cfa_ = 0;  // of the frame whose value it is
    std::uint32_t sp_ = 0;   // where it stood, and whether that was in the function
    bool stoodInside_ = false;
    bool open_ = false, goesOn_ = false;
};

}  // namespace bramix::session
