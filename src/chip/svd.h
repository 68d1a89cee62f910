// Reads a register description in the SVD form (CMSIS System View Description, the open XML format, schema 1.1 to 1.3): peripherals, clusters, registers, fields,
// named values, interrupts. What is derived from something else (`derivedFrom`), arrays (`dim`, with `[%s]`) and lists (`%s`) are worked out, so that what
// comes out is plain.
//
// Errors are one line with file and line: XML that is not well formed, an element that is missing, a number that is none, something derived from what is not there or
// from itself, more than kMostRegisters registers. Elements that are not known are passed over, as the schema's later versions want it.
// Tested by tests/chip/svd_test.cpp.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

#include "chip/registers.h"
#include "kernel/result.h"

namespace bramix::chip {

inline constexpr std::size_t kMostRegisters = 200'000;
inline constexpr std::size_t kLargestSvd = 64U << 20U;  // bytes

// `name` is the file, for messages.
[[nodiscard]] kernel::Result<RegisterMap> readSvd(const std::string& name, std::string_view text);

}  // namespace bramix::chip
