// bramix-cli pages: a page of documentation for every part, from its manifest.
// Tested by tests/cli/cli_test.cpp.
#pragma once

#include <string>

#include "bench/catalogue.h"

namespace bramix::cli {

// The page of one kind, in Markdown.
[[nodiscard]] std::string partPage(const bench::PartKind& kind);

// Writes a page for each listed kind into a folder, and an index. The exit code: 0, or unusable input.
int pagesCommand(const std::string& folder);

}  // namespace bramix::cli
