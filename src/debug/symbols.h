// What the debug information of a firmware says: source lines, functions (inlined ones too), variables with their places, and types.
//
// Read from an ELF file: DWARF 2 to 5 (dwarf_reader.cpp), STABS, which Debian's avr-gcc writes for a plain -g (stabs_reader.cpp), and the symbol
// table; a file without debug information still gives function names. Code addresses are byte addresses in flash; data addresses carry no offset.
// Invariant: functions_ and lines_ are in order of address; nothing changes after fromElf().
// Tested by tests/debug/symbols_test.cpp against avr-addr2line and avr-readelf.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "debug/types.h"

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

// One operation of a DWARF expression (DWARF 4, section 2.5).
struct Operation {
    std::uint8_t atom = 0;
    std::uint64_t first = 0;
    std::uint64_t second = 0;
};
using LocationExpression = std::vector<Operation>;

// Where a variable is while the program counter is in [begin, end).
struct Location {
    std::uint32_t begin = 0;
    std::uint32_t end = UINT32_MAX;
    LocationExpression expression;
};

enum class Space : std::uint8_t { data, flash, eeprom };

struct Variable {
    std::string name;
    TypeId type = kNoType;
    std::vector<Location> locations;
    std::vector<std::uint8_t> constant;  // where the compiler has kept the value alone
    std::string file;
    int line = 0;
    bool parameter = false;
    int function = -1;  // index; -1: global or static of a file
    // Of a variable at a fixed address.
    [[nodiscard]] std::optional<std::uint32_t> fixedAddress() const;
};

struct CodeRange {
    std::uint32_t begin = 0;
    std::uint32_t end = 0;
    [[nodiscard]] bool has(std::uint32_t address) const { return address >= begin && address < end; }
};

struct Function {
    std::string name;  // as the source has it, demangled
    std::vector<CodeRange> ranges;
    std::vector<Location> frameBase;
    std::string file;
    int line = 0;
    int caller = -1;   // of an inlined one: the function into which it went
    std::string callFile;
    int callLine = 0;
    bool fromTable = false;  // known by the symbol table alone
    bool fromCode = false;   // known by nothing but the code (code_functions.h): its name says where it begins
    [[nodiscard]] bool has(std::uint32_t address) const;
    [[nodiscard]] std::uint32_t begin() const { return ranges.empty() ? 0 : ranges.front().begin; }
};

struct LineRow {
    std::uint32_t address = 0;
    std::uint32_t file = 0;  // index; kEnd marks the end of a sequence
    int line = 0;
    bool statement = true;   // a recommended place for a breakpoint
};

// What kind of debug information there is.
enum class DebugKind : std::uint8_t { none, stabs, dwarf };

// Flash is below, data and EEPROM above, in the addresses of an AVR ELF file.
inline constexpr std::uint32_t kElfData = 0x800000, kElfEeprom = 0x810000;

class Symbols {
public:
    static constexpr std::uint32_t kEnd = UINT32_MAX;

    // Never fails: whatever cannot be read is simply not known.
    static Symbols fromElf(const std::string& file);
    // Functions alone, as somebody has found them.
    static Symbols ofFunctions(std::vector<Function> functions);
    // Everything, as the reader of another kind of file has it; `rows` by address, the end of each stretch marked. Data addresses have kElfData added.
    static Symbols of(std::vector<Function> functions, std::vector<std::string> files, std::vector<LineRow> rows, std::vector<Variable> variables, Types types);

    // Of a function without a name of its own, nothing: the address says as much.
    [[nodiscard]] Place at(std::uint32_t address) const;
    [[nodiscard]] bool empty() const { return lines_.empty() && functions_.empty(); }
    [[nodiscard]] DebugKind kind() const { return kind_; }
    // Code and data have address spaces of their own, as kElfData has it; else all is in one.
    [[nodiscard]] bool hasSpaces() const { return spaces_; }
    // One behind the last address that code may have.
    [[nodiscard]] std::uint64_t codeLimit() const { return spaces_ ? kElfData : std::uint64_t{1} << 32U; }

    [[nodiscard]] const std::vector<std::string>& files() const { return files_; }
    [[nodiscard]] const std::vector<LineRow>& rows() const { return lines_; }
    [[nodiscard]] const std::vector<Function>& functions() const { return functions_; }
    [[nodiscard]] const std::vector<Variable>& variables() const { return variables_; }
    [[nodiscard]] const Types& types() const { return types_; }
    [[nodiscard]] Types& types() { return types_; }

    // What an ELF file for ARM says of an address: 'a' ARM code, 't' Thumb code, 'd' data between them; 0: nothing.
    [[nodiscard]] char codeMark(std::uint32_t address) const;
    // The row of the line table that covers an address, or null.
    [[nodiscard]] const LineRow* row(std::uint32_t address) const;
    // The innermost function at an address, inlined ones counted; -1: none. Its callers by inlining follow through Function::caller.
    [[nodiscard]] int functionAt(std::uint32_t address) const;
    // The real function, with a frame of its own, at an address; -1: none.
    [[nodiscard]] int outerFunctionAt(std::uint32_t address) const;
    [[nodiscard]] int functionByName(const std::string& name) const;
    // Where a breakpoint on a line of a file goes: wherever a stretch of its code begins. The compiler may have moved a part of a line out of a loop,
    // so the lowest address alone would be too few. A line without code stands for the next one of that file that has some; `line` is set to it. `file` may be a name without folders. Empty: no such code.
    [[nodiscard]] std::vector<std::uint32_t> addressesOf(const std::string& file, int& line) const;
    // The first address behind a function's prologue.
    [[nodiscard]] std::uint32_t afterPrologue(int function) const;
    // Whether a statement's code begins at an address.
    [[nodiscard]] bool isLineStart(std::uint32_t address) const;
    // Local variables and parameters of a function, in order of declaration.
    [[nodiscard]] std::vector<int> localsOf(int function) const;
    [[nodiscard]] int global(const std::string& name) const;
    // "gates+3" for an address in a variable, "mean" for one in a function; empty where nothing is there.
    [[nodiscard]] std::string nameOf(std::uint32_t address, Space space) const;

private:
    friend class DwarfReader;
    friend class StabsReader;
    friend class TableReader;
    void finish();
    [[nodiscard]] int functionWith(std::uint32_t address) const;

    DebugKind kind_ = DebugKind::none;
    bool spaces_ = true;
    std::vector<std::string> files_;
    std::vector<LineRow> lines_;         // by address
    std::vector<Function> functions_;
    std::vector<Variable> variables_;
    std::vector<int> outerByAddress_;    // functions that are not inlined, by their begin
    struct Label {
        std::uint32_t address;
        std::uint32_t size;
        std::string name;
    };
    std::vector<std::pair<std::uint32_t, char>> codeMarks_;  // by address
    std::vector<Label> objects_;         // of the symbol table: data, by ELF address
    Types types_;
};

// "function(int)" of a C++ name, or the name itself.
std::string demangled(const char* name);

}  // namespace bramix::debug
