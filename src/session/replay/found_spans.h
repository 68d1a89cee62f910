// What was found of one lane by going through its past: functions that ran, values that stood.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "kernel/time.h"

namespace bramix::session {

// A function that ran, or a value that stood, from one instant to another.
struct Span {
    kernel::Time from{}, to{};
    std::uint32_t depth = 0;  // of a function: how many stand below it on the stack
    std::string text;
    bool asleep = false;      // no function: the core sleeps
    bool operator==(const Span&) const = default;
};

struct FoundSpans {
    std::string trouble;      // why nothing can be found, or empty
    std::vector<Span> spans;  // in order of their beginning; those that go on end where the search has come to
    bool tooMany = false;     // more than are kept: it was given up there
};

}  // namespace bramix::session
