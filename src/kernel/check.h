// The road for mistakes of Bramix itself: check() throws Bug, which is caught only at the top of a thread.
// Wrong input travels as Result (result.h); trouble in the simulated world travels as data.
#pragma once

#include <stdexcept>
#include <string>

namespace bramix::kernel {

// Something that the program's own logic forbids has happened. Exit code 3.
class Bug : public std::logic_error {
public:
    using std::logic_error::logic_error;
};

[[noreturn, gnu::cold, gnu::noinline]] inline void failCheck(const char* what, const char* file, int line)
{
    throw Bug(std::string(file) + ":" + std::to_string(line) + ": " + what);
}

// Throws Bug when an invariant does not hold.
inline void check(bool condition, const char* what, const char* file = __builtin_FILE(), int line = __builtin_LINE())
{
    if (!condition) [[unlikely]]
        failCheck(what, file, line);
}

}  // namespace bramix::kernel
