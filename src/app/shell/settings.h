// What a person sets once for all benches. Kept by QSettings; a value that makes no sense in its file counts as the usual one.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QString>

namespace bramix::app::settings {

enum class LookChoice { desktop, light, dark };
enum class Port { gdb, serial };

[[nodiscard]] LookChoice look();
[[nodiscard]] int textPercent();         // 80 to 160; from the next start
[[nodiscard]] bool startsAtFullSpeed();
[[nodiscard]] int tapeMegabytes();       // 8 to 16384
[[nodiscard]] int autosaveSeconds();     // 1 to 60
[[nodiscard]] QString benchFolder();     // where new benches and copies of examples go
// Whether a port may be opened for this when a person asks for it.
[[nodiscard]] bool mayOpen(Port port);

inline constexpr int kLeastText = 80, kMostText = 160;
inline constexpr int kLeastTape = 8, kMostTape = 16'384;
inline constexpr int kLeastAutosave = 1, kMostAutosave = 60;

}  // namespace bramix::app::settings
