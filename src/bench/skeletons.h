// Programs to begin with, in the languages that firmware is written in, each with a Makefile that one can read.
// Tested by tests/bench/skeletons_test.cpp, tests/app/start_test.cpp.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "bench/catalogue.h"

namespace bramix::bench {

// `framework`: setup() and loop() on a framework's pin numbers, with the core and the libraries of Debian's arduino-core-avr.
enum class SourceLanguage : std::uint8_t { c, cpp, assembler, framework };

struct Skeleton {
    std::string sourceName;  // "main.c"
    std::string source;
    std::string makefile;
    std::vector<std::pair<std::string, std::string>> others{};  // more files, by name: a start-up file, a linker's script
    std::string image = ".elf";  // how the name of what is built ends
};

// The package, after which everything in it is called.
inline constexpr std::string_view kFrameworkPackage = "arduino-core-avr";
[[nodiscard]] std::string frameworkCore();     // the folder in which its core lies
[[nodiscard]] std::string frameworkHeader();   // that a program begins with
[[nodiscard]] std::string frameworkDefines();  // that its libraries ask the preprocessor for
[[nodiscard]] bool isFrameworkInstalled();
// The framework knows boards like this one.
[[nodiscard]] bool fitsFramework(const PartKind& board);

// The languages that there is a skeleton in for a board. A board brings its own in the folder skeleton of its part, a folder a language (c, cpp, assembler), with @name@ and @program@ to
// be filled in; the first target of its Makefile is what is built. Boards with an AVR have those of this file.
[[nodiscard]] std::vector<SourceLanguage> languagesOf(const PartKind& board);
// `slug`: what the program is called when it is built, without its suffix. The language is one of languagesOf().
[[nodiscard]] Skeleton skeletonOf(SourceLanguage language, const std::string& name, const std::string& slug, const PartKind& board);
// Builds all that lies in its folder, with the libraries that it includes.
[[nodiscard]] std::string frameworkMakefile(const std::string& slug, const PartKind& board);

}  // namespace bramix::bench
