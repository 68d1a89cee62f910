// Source lines and functions of an ELF file, for naming code addresses. Reads DWARF line tables (libdw) and the symbol table
// (libelf); a file without debug information still gives function names.
// Code addresses are byte addresses in flash.
// Tested by tests/debug/symbols_test.cpp.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace bramix::debug {

struct Place {
    std::string function;  // empty where unknown
    std::string file;      // as the compiler was given it; empty where unknown
    int line = 0;

    // "gate.c:42" without folders, or the function, or empty.
    [[nodiscard]] std::string brief() const;
    // "stop_lamp() at src/gate.c:42".
    [[nodiscard]] std::string full() const;
};

class Symbols {
public:
    // Never fails: whatever cannot be read is simply not known.
    static Symbols fromElf(const std::string& file);

    [[nodiscard]] Place at(std::uint32_t address) const;
    [[nodiscard]] bool empty() const { return lines_.empty() && functions_.empty(); }

private:
    struct Line {
        std::uint32_t address;
        std::uint32_t file;  // index; kEnd marks the end of a sequence
        int line;
    };
    struct Function {
        std::uint32_t begin;
        std::uint32_t end;
        std::string name;
    };
    static constexpr std::uint32_t kEnd = UINT32_MAX;

    std::vector<std::string> files_;
    std::vector<Line> lines_;          // by address
    std::vector<Function> functions_;  // by begin
};

}  // namespace bramix::debug
