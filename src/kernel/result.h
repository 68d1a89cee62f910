// The road for wrong input: a Result holds a value, or an Error that says where, what, and what to do next.
// Tested by every loader's tests, which compare the texts whole.
#pragma once

#include <string>
#include <tl/expected.hpp>
#include <utility>

namespace bramix::kernel {

// One unusable input, as one line for a person.
struct Error {
    std::string where;  // file, and line or offset inside it: "gate.elf: program header 2"
    std::string what;   // what was found and what was expected
    std::string next;   // what to do about it; may be empty

    [[nodiscard]] std::string text() const
    {
        std::string line = where.empty() ? what : where + ": " + what;
        if (!next.empty())
            line += "; " + next;
        // What is quoted from an input may hold anything.
        for (char& c : line)
            if (static_cast<unsigned char>(c) < ' ' || c == '\x7F')
                c = '?';
        return line;
    }
};

template <class T>
using Result = tl::expected<T, Error>;

inline tl::unexpected<Error> fail(std::string where, std::string what, std::string next = {})
{
    return tl::unexpected<Error>(Error{std::move(where), std::move(what), std::move(next)});
}

}  // namespace bramix::kernel
