// The small languages of the run options: "UART@TIME=TEXT", "PART.CONTROL@TIME=VALUE", escapes, wildcards.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kernel/files.h"
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

// The bench that a person means by a folder: the only one in it. Anything else stays as it is given.
[[nodiscard]] std::string benchIn(const std::string& given);

// What a bench may name: what lies in its folder, and what stands behind --allow. An error where that is no file.
[[nodiscard]] kernel::Result<kernel::FileAccess> filesOf(const std::string& bench, const std::vector<std::string>& allow);

}  // namespace bramix::cli
