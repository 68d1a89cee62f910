// Programs to begin with, in the languages that firmware is written in, each with a Makefile that one can read.
// Tested by tests/bench/skeletons_test.cpp, tests/app/start_test.cpp.
#pragma once

#include <string>

#include "bench/catalogue.h"

namespace bramix::bench {

// `framework`: setup() and loop() on a framework's pin numbers, with the core and the libraries of Debian's arduino-core-avr.
enum class SourceLanguage : std::uint8_t { c, cpp, assembler, framework };

struct Skeleton {
    std::string sourceName;  // "main.c"
    std::string source;
    std::string makefile;
};

// What that package prescribes: where its core lies, the header that a program begins with, and what its libraries ask the preprocessor for. Nothing else names it.
inline constexpr const char* kFrameworkCore = "/usr/share/arduino/hardware/arduino/avr";
inline constexpr const char* kFrameworkHeader = "Arduino.h";
inline constexpr const char* kFrameworkDefines = "-DARDUINO=10819 -DARDUINO_ARCH_AVR";
[[nodiscard]] bool isFrameworkInstalled();
// The framework knows boards like this one.
[[nodiscard]] bool fitsFramework(const PartKind& board);

// `slug`: what the program is called when it is built, without its suffix.
[[nodiscard]] Skeleton skeletonOf(SourceLanguage language, const std::string& name, const std::string& slug, const PartKind& board);
// Builds all that lies in its folder, with the libraries that it includes.
[[nodiscard]] std::string frameworkMakefile(const std::string& slug, const PartKind& board);

}  // namespace bramix::bench
