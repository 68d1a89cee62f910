// The two readers of debug information, for symbols.cpp only.
#pragma once

#include "debug/elf_file.h"
#include "debug/symbols.h"

namespace bramix::debug {

// DWARF 2 to 5. False where the file has none.
bool readDwarf(const ElfFile& file, Symbols& into);
// STABS ("The stabs debug format", GNU). False where the file has none.
bool readStabs(const ElfFile& file, Symbols& into);

}  // namespace bramix::debug
