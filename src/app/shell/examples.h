// The examples that came with Bramix: they stay as they are. Where they may not be written to, as when they are installed for all, work goes on in a copy of
// the person's own.
// Tested by tests/app/examples_test.cpp.
#pragma once

#include <QString>

namespace bramix::app {

// Whether the file lies among the examples that came with Bramix.
[[nodiscard]] bool isExample(const QString& file);
// The file itself, or, for an example in a folder that may not be written to, the same file of a copy below the person's data folder, made now unless it is there.
// Empty where the copy cannot be made.
[[nodiscard]] QString ownCopyOf(const QString& file);

}  // namespace bramix::app
