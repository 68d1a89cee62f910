#include "session/debugger/local_value.h"

#include <algorithm>
#include <cctype>

#include <fmt/format.h>

#include "debug/local_stops.h"

namespace bramix::session {

std::optional<LocalName> splitLocal(const std::string& text)
{
    const std::size_t in = text.rfind(" in ");
    return in == std::string::npos ? std::nullopt : std::optional(LocalName{text.substr(0, in), text.substr(in + 4)});
}

std::string rootOf(const std::string& expression)
{
    const auto word = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; };
    const auto first = std::find_if(expression.begin(), expression.end(), word);
    return {first, std::find_if_not(first, expression.end(), word)};
}

bool hasLocal(const debug::Symbols& symbols, int function, const std::string& name)
{
    const std::vector<int> locals = symbols.localsOf(function);
    return std::any_of(locals.begin(), locals.end(), [&](int v) { return symbols.variables()[static_cast<std::size_t>(v)].name == name; });
}

Result<void> knowsLocal(const debug::Symbols& symbols, const LocalName& name)
{
    const std::string root = rootOf(name.expression);
    bool isFunction = false, isVariable = false;
    for (std::size_t f = 0; f < symbols.functions().size(); ++f) {
        if (!debug::isNamed(symbols.functions()[f], name.function))
            continue;
        isFunction = true;
        for (const int v : symbols.localsOf(static_cast<int>(f)))
            if (const debug::Variable& local = symbols.variables()[static_cast<std::size_t>(v)]; local.name == root) {
                isVariable = true;
                if (!local.locations.empty() || !local.constant.empty())
                    return {};
            }
    }
    if (!isFunction)
        return kernel::fail(name.function, "is no function of this firmware");
    if (!isVariable)
        return kernel::fail(root, fmt::format("is no variable of {}", name.function));
    return kernel::fail(root, "is kept nowhere by the compiler, which has optimised it away", "-Og or -O0 keeps it");
}

std::optional<LocalValue> localAt(Program& program, const bench::World::ChipUnit& unit, const LocalName& name)
{
    const ChipTarget target(unit);
    for (const debug::Frame& frame : program.frames.unwind(program.symbols, target, debug::registersOf(*unit.chip), 1)) {
        if (frame.function >= 0 && debug::isNamed(program.symbols.functions()[static_cast<std::size_t>(frame.function)], name.function)) {
            auto value = debug::Evaluator(program.symbols, target, &frame).evaluate(name.expression);
            return value ? std::optional(LocalValue{std::move(*value), frame.cfa}) : std::nullopt;
        }
        if (!frame.inlined)
            break;
    }
    return std::nullopt;
}

std::optional<double> numberOf(const debug::Evaluator& evaluator, const debug::Value& value)
{
    const std::string text = evaluator.format(value, debug::Radix::decimal);
    char* end = nullptr;
    const double number = std::strtod(text.c_str(), &end);
    return end == text.c_str() ? std::nullopt : std::optional(number);
}

}  // namespace bramix::session
