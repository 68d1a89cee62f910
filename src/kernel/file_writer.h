// Writes a file piece by piece that then is there as a whole or not at all, with the rights that the file had. Through a symbolic link the file behind it
// is written. A device or a pipe is written to, not replaced.
// Tested by tests/kernel/files_test.cpp.
#pragma once

#include <memory>
#include <string>
#include <string_view>

#include "kernel/result.h"

namespace bramix::kernel {

class FileWriter {
public:
    [[nodiscard]] static Result<std::unique_ptr<FileWriter>> create(const std::string& file);
    // What has not been finished is dropped; what was there before stays.
    ~FileWriter();
    FileWriter(const FileWriter&) = delete;
    FileWriter& operator=(const FileWriter&) = delete;

    // Trouble is remembered and told by finish().
    void put(std::string_view bytes);
    [[nodiscard]] Result<void> finish();

private:
    FileWriter(std::string file, int fd) : file_(std::move(file)), fd_(fd) {}
    [[nodiscard]] Result<void> broken(const char* what) const;
    void flush();

    std::string file_;                  // as it was asked for
    std::string real_, temporary_;      // what is replaced, and what is written meanwhile
    bool inPlace_ = false;              // a device or a pipe
    int fd_;
    long rights_ = -1;                  // of the file that was there
    int trouble_ = 0;                   // errno of the first write that went wrong
    std::string buffer_;
};

}  // namespace bramix::kernel
