// A local of a function, followed from one instruction to the next: what it is, and when it has none.
//
// A local has its value from when it gets it, while what its function calls runs too, until the function is left or the value is nowhere any more.
// Tested by tests/session/lookback_test.cpp.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "session/local_value.h"

namespace bramix::session {

class LocalFollower {
public:
    // `inside`: by word of flash, its function's code.
    LocalFollower(LocalName name, std::vector<bool> inside) : name_(std::move(name)), inside_(std::move(inside)) {}

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
    [[nodiscard]] bool inside(std::uint32_t word) const { return word < inside_.size() && inside_[word]; }

    LocalName name_;
    std::vector<bool> inside_;
    debug::Value value_;
    std::uint32_t cfa_ = 0;  // of the frame whose value it is
    std::uint16_t sp_ = 0;   // where it stood, and whether that was in the function
    bool stoodInside_ = false;
    bool open_ = false, goesOn_ = false;
};

}  // namespace bramix::session
