// A file of named sections, each with its version, its length and a check sum, compressed where that helps. Whoever reads takes what it knows and passes over the rest.
// docs/recording-format.md has the layout. Numbers are little endian.
//
// Reading trusts nothing: a length is held against the bytes that are left, what is unpacked may be kMostRatio times the stored bytes at most, and each section has a
// CRC-32 (ISO 3309, as zlib reckons it) of its unpacked bytes. Memory is taken as bytes come, never as a length says.
// Tested by tests/session/recording/section_file_test.cpp.
#pragma once

#include <cstdint>
#include <fstream>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "kernel/archive.h"
#include "kernel/file_writer.h"
#include "kernel/progress.h"
#include "kernel/result.h"

namespace bramix::session {

// Of what is packed more tightly than this nobody would believe the length; it is stored as it is.
inline constexpr std::uint64_t kMostRatio = 1000, kFreeBytes = 1U << 16U;

struct SectionHead {
    std::string name;           // four characters
    std::uint16_t version = 1;  // of this section's contents
    bool packed = false;        // by Zstandard (RFC 8878)
    std::uint64_t stored = 0;   // bytes in the file
    std::uint64_t plain = 0;    // bytes unpacked
    std::uint32_t sum = 0;      // of the unpacked ones
};

class SectionWriter {
public:
    // The first line tells what the file is; it ends with a line feed.
    SectionWriter(kernel::FileWriter& out, std::string_view firstLine) : out_(out) { out_.put(firstLine); }

    // `from` and `to`: which part of the progress this section is. False where it was asked to stop: the file is then not finished.
    [[nodiscard]] bool put(std::string_view name, std::uint16_t version, std::string_view bytes, kernel::Progress* progress, double from, double to);
    // After the last one.
    void end();

private:
    void head(const SectionHead& h);

    kernel::FileWriter& out_;
};

class SectionReader {
public:
    // Errors of one line: no such file, or another first line.
    [[nodiscard]] static kernel::Result<SectionReader> open(const std::string& file, const std::function<std::optional<std::string>(std::string_view firstLine)>& refuse);

    // The next head; nothing at the end. An error where the file is cut off or has something behind its end.
    [[nodiscard]] kernel::Result<std::optional<SectionHead>> next();
    // The bytes of the section whose head came last; without this call next() passes over them.
    [[nodiscard]] kernel::Result<kernel::Snapshot> take(kernel::Progress* progress = nullptr);

private:
    std::string file_;
    std::unique_ptr<std::ifstream> in_;
    std::uint64_t size_ = 0, at_ = 0;  // of the file, and where the next head begins
    SectionHead head_;
};

}  // namespace bramix::session
