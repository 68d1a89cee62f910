// A bench to begin with: a folder with a board, a firmware that says hello and beats, and a Makefile that builds it.
// Tested by tests/bench/lists_test.cpp, tests/app/start_test.cpp.
#pragma once

#include <string>
#include <vector>

#include "bench/catalogue.h"
#include "bench/skeletons.h"

namespace bramix::bench {

struct NewBench {
    std::string folder;  // where the new folder goes
    std::string name;    // "Tide clock"; the folder is called tide-clock
    std::string board;   // a kind of skeletonBoards()
    SourceLanguage language = SourceLanguage::c;
};

// The boards that there is a skeleton for.
[[nodiscard]] std::vector<const PartKind*> skeletonBoards(const Catalogue& catalogue);

// "Tide clock" to "tide-clock"; empty where nothing usable is left.
[[nodiscard]] std::string folderName(const std::string& name);

// Makes folder, bench, source and Makefile; returns the bench file. What is there already is never written over.
[[nodiscard]] Result<std::string> makeNewBench(const NewBench& wanted, const Catalogue& catalogue);

// A bench beside a program of setup() and loop() that is there already, and a Makefile where there is none; what is there is not written over. Returns the bench file,
// and whether the Makefile has been made.
struct BesideProgram {
    std::string bench;
    bool madeMakefile = false;
};
[[nodiscard]] Result<BesideProgram> benchBesideProgram(const std::string& program, const Catalogue& catalogue);

// A tool that builds firmware, and the Debian packages that it comes from.
struct Tool {
    std::string program;   // "avr-gcc"
    std::string packages;  // "gcc-avr avr-libc"
    std::string path;      // where it was found, or empty
};
// For a chip, as found along PATH, make among them.
[[nodiscard]] std::vector<Tool> buildTools(const chip::Device& device);
// For all chips that there are.
[[nodiscard]] std::vector<Tool> buildTools();

}  // namespace bramix::bench
