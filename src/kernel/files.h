// Files: what a bench may name, reading with a bound, and writing that leaves either the old or the new.
//
// Benches come from strangers. What a bench names is looked for in its own folder, symbolic links followed, and nothing outside it is opened unless a person has
// chosen that file. Only plain files are read: a device or a pipe has no end.
// Tested by tests/kernel/files_test.cpp.
#pragma once

#include <cstddef>
#include <cstdio>
#include <string>
#include <string_view>
#include <vector>

#include "kernel/result.h"

namespace bramix::kernel {

struct FileAccess {
    std::string folder;                // of the bench; empty: names are taken as they are
    bool confined = false;             // nothing outside the folder but what is allowed
    std::vector<std::string> allowed;  // files that a person has chosen, as they lie on this machine

    // Where a file that the bench names lies. It need not be there yet. An error where it lies outside and nobody has allowed it.
    [[nodiscard]] Result<std::string> path(const std::string& name) const;
};

// A whole file of at most so many bytes.
[[nodiscard]] Result<std::string> readFile(const std::string& file, std::size_t most);

// All or nothing, with the rights that the file had. Through a symbolic link the file behind it is written. A device or a pipe is written to, not replaced.
[[nodiscard]] Result<void> writeFile(const std::string& file, std::string_view bytes);

// Text into a stream, without an exception where it cannot be written: the stream remembers, and whoever closes it asks.
inline void putText(std::FILE* file, std::string_view text) { (void)std::fwrite(text.data(), 1, text.size(), file); }

}  // namespace bramix::kernel
