// A local of a function where a chip stands: in a register, in memory, or nowhere just now.
// Tested by tests/session/replay/lookback_test.cpp and tests/session/debugger/debugger_test.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "session/debugger/debugger.h"

namespace bramix::session {

// A value of several bytes that is half stored, on a core that stores fewer at once, stands no longer than it takes to store the rest.
inline constexpr std::int64_t kHalfStoredCycles = 2 * 3;

// "sum in mean", as a person writes it.
struct LocalName {
    std::string expression;  // begins with a local of the function
    std::string function;
};

// Nothing where the text has no " in ". An error says what there is not.
[[nodiscard]] std::optional<LocalName> splitLocal(const std::string& text);
[[nodiscard]] Result<void> knowsLocal(const debug::Symbols& symbols, const LocalName& name);

// The variable that an expression begins with: "lamp" of "*(lamp->next)".
[[nodiscard]] std::string rootOf(const std::string& expression);
[[nodiscard]] bool hasLocal(const debug::Symbols& symbols, int function, const std::string& name);

// A value as a number; nothing where it is none (a structure, an array).
[[nodiscard]] std::optional<double> numberOf(const debug::Evaluator& evaluator, const debug::Value& value);

struct LocalValue {
    debug::Value value;
    std::uint32_t cfa = 0;  // of its function's frame
};

// Where the function is the one that runs; functions that are inlined into one another run together.
[[nodiscard]] std::optional<LocalValue> localAt(Program& program, const bench::World::ChipUnit& unit, const LocalName& name);

}  // namespace bramix::session
