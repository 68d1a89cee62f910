// The small languages of the run options: "UART@TIME=TEXT", "PART.CONTROL@TIME=VALUE", escapes, wildcards.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "kernel/result.h"
#include "kernel/time.h"

namespace bramix::cli {

// "TARGET@TIME=TEXT".
struct TimedInput {
    std::string target;
    kernel::Duration at{};
    std::string text;
};
[[nodiscard]] kernel::Result<TimedInput> parseTimedInput(const std::string& option, const std::string& text);

// \n \r \t \0 \\ and \xHH; anything else behind a backslash is an error.
[[nodiscard]] kernel::Result<std::string> unescape(const std::string& option, std::string_view text);

// * stands for any characters, ? for one.
[[nodiscard]] bool matchesWildcard(std::string_view pattern, std::string_view text);

}  // namespace bramix::cli
