#include "session/recording/section_file.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <filesystem>
#include <vector>

#include <fmt/format.h>
#include <zlib.h>
#include <zstd.h>

namespace bramix::session {

using kernel::fail;
using kernel::Result;

namespace {

constexpr std::size_t kName = 4;
constexpr std::size_t kHead = kName + 2 + 2 + 8 + 8 + 4;
constexpr std::string_view kEnd = "end ";
constexpr std::uint16_t kPacked = 1;          // flag
constexpr std::size_t kBlock = 1U << 20U;     // between two looks at whether to stop
constexpr std::size_t kLongestFirstLine = 64;
constexpr int kLevel = 3;                     // Zstandard's usual one: quick, and edges pack no better at higher ones

template <class T>
void store(char*& to, T value)
{
    for (std::size_t i = 0; i < sizeof value; ++i)
        *to++ = static_cast<char>(value >> (8 * i));
}
template <class T>
T load(const char*& from)
{
    T value = 0;
    for (std::size_t i = 0; i < sizeof value; ++i)
        value = static_cast<T>(value | static_cast<T>(static_cast<T>(static_cast<unsigned char>(*from++)) << (8 * i)));
    return value;
}

std::uint32_t sumOf(std::uint32_t before, const void* bytes, std::size_t count) { return static_cast<std::uint32_t>(crc32_z(before, static_cast<const Bytef*>(bytes), count)); }

bool mayBe(std::uint64_t plain, std::uint64_t stored) { return plain <= kFreeBytes || (plain - kFreeBytes) / kMostRatio <= stored; }

struct FreeContext {
    void operator()(ZSTD_CCtx* c) const { ZSTD_freeCCtx(c); }
    void operator()(ZSTD_DCtx* c) const { ZSTD_freeDCtx(c); }
};

}  // namespace

void SectionWriter::head(const SectionHead& h)
{
    std::array<char, kHead> out{};
    std::copy_n(h.name.begin(), std::min(kName, h.name.size()), out.begin());
    char* at = out.data() + kName;
    store(at, h.version);
    store(at, static_cast<std::uint16_t>(h.packed ? kPacked : 0));
    store(at, h.stored);
    store(at, h.plain);
    store(at, h.sum);
    out_.put({out.data(), out.size()});
}

bool SectionWriter::put(std::string_view name, std::uint16_t version, std::string_view bytes, kernel::Progress* progress, double from, double to)
{
    SectionHead h{std::string(name), version, false, bytes.size(), bytes.size(), sumOf(0, nullptr, 0)};
    std::vector<char> packed;
    const std::unique_ptr<ZSTD_CCtx, FreeContext> context(ZSTD_createCCtx());
    ZSTD_CCtx_setParameter(context.get(), ZSTD_c_compressionLevel, kLevel);
    std::vector<char> piece(ZSTD_CStreamOutSize());
    bool good = true;
    for (std::size_t at = 0; at < bytes.size(); at += kBlock) {
        if (progress != nullptr && progress->stopped())
            return false;
        if (progress != nullptr)
            progress->at(from + (to - from) * static_cast<double>(at) / static_cast<double>(bytes.size()));
        const std::string_view block = bytes.substr(at, kBlock);
        h.sum = sumOf(h.sum, block.data(), block.size());
        const bool last = at + kBlock >= bytes.size();
        ZSTD_inBuffer in{block.data(), block.size(), 0};
        for (bool done = false; good && !done;) {
            ZSTD_outBuffer out{piece.data(), piece.size(), 0};
            const std::size_t left = ZSTD_compressStream2(context.get(), &out, &in, last ? ZSTD_e_end : ZSTD_e_continue);
            good = ZSTD_isError(left) == 0;
            packed.insert(packed.end(), piece.data(), piece.data() + out.pos);
            done = last ? left == 0 : in.pos == in.size;
        }
    }
    h.packed = good && packed.size() < bytes.size() && mayBe(bytes.size(), packed.size());
    if (h.packed)
        h.stored = packed.size();
    head(h);
    out_.put(h.packed ? std::string_view(packed.data(), packed.size()) : bytes);
    return true;
}

void SectionWriter::end() { head({std::string(kEnd), 1, false, 0, 0, 0}); }

Result<SectionReader> SectionReader::open(const std::string& file, const std::function<std::optional<std::string>(std::string_view firstLine)>& refuse)
{
    SectionReader r;
    r.file_ = file;
    std::error_code none;
    if (!std::filesystem::is_regular_file(file, none))
        return fail(file, std::filesystem::exists(file, none) ? "is no regular file" : "cannot be read");
    r.in_ = std::make_unique<std::ifstream>(file, std::ios::binary);
    r.size_ = std::filesystem::file_size(file, none);
    if (!*r.in_ || none)
        return fail(file, "cannot be read");
    std::string line;
    for (char c = 0; line.size() < kLongestFirstLine && r.in_->get(c);) {
        line += c;
        if (c == '\n')
            break;
    }
    if (auto why = refuse(line))
        return fail(file, *why);
    r.in_->clear();
    r.at_ = line.size();
    return r;
}

Result<std::optional<SectionHead>> SectionReader::next()
{
    const auto cut = fail(file_, "is not whole: it was cut off, or something was added");
    std::array<char, kHead> bytes{};
    if (size_ - at_ < kHead)
        return cut;
    in_->seekg(static_cast<std::streamoff>(at_));
    if (!in_->read(bytes.data(), bytes.size()))
        return cut;
    head_ = {};
    head_.name.assign(bytes.data(), kName);
    const char* from = bytes.data() + kName;
    head_.version = load<std::uint16_t>(from);
    const auto flags = load<std::uint16_t>(from);
    head_.packed = flags == kPacked;
    head_.stored = load<std::uint64_t>(from);
    head_.plain = load<std::uint64_t>(from);
    head_.sum = load<std::uint32_t>(from);
    at_ += kHead;
    if (head_.name == kEnd) {
        if (at_ != size_ || head_.stored != 0)
            return cut;
        return std::optional<SectionHead>();
    }
    if (head_.stored > size_ - at_)
        return cut;
    if (flags > kPacked)
        return fail(file_, fmt::format("section \"{}\" is packed in a way that this version of Bramix does not know", head_.name));
    if (head_.packed ? !mayBe(head_.plain, head_.stored) : head_.plain != head_.stored)
        return fail(file_, fmt::format("is damaged: the length of section \"{}\" cannot be", head_.name));
    at_ += head_.stored;
    return std::optional<SectionHead>(head_);
}

Result<kernel::Snapshot> SectionReader::take(kernel::Progress* progress)
{
    const auto damaged = [&](std::string_view what) { return fail(file_, fmt::format("is damaged: {} of section \"{}\"", what, head_.name)); };
    in_->seekg(static_cast<std::streamoff>(at_ - head_.stored));
    kernel::Snapshot out;
    const std::unique_ptr<ZSTD_DCtx, FreeContext> context(head_.packed ? ZSTD_createDCtx() : nullptr);
    std::vector<char> block(std::min<std::uint64_t>(kBlock, head_.stored)), piece(head_.packed ? ZSTD_DStreamOutSize() : 0);
    std::uint32_t sum = sumOf(0, nullptr, 0);
    const auto add = [&](const char* bytes, std::size_t count) {
        sum = sumOf(sum, bytes, count);
        const auto* b = reinterpret_cast<const std::byte*>(bytes);
        out.bytes.insert(out.bytes.end(), b, b + count);
    };
    std::size_t more = 0;  // what Zstandard still waits for; 0 at the end of its frame
    for (std::uint64_t left = head_.stored; left > 0;) {
        if (progress != nullptr && progress->stopped())
            return fail(file_, "was not opened: it was stopped");
        if (progress != nullptr)
            progress->at(static_cast<double>(at_ - left) / static_cast<double>(size_));
        const std::size_t now = std::min<std::uint64_t>(block.size(), left);
        if (!in_->read(block.data(), static_cast<std::streamsize>(now)))
            return fail(file_, "cannot be read to its end");
        left -= now;
        if (!head_.packed) {
            add(block.data(), now);
            continue;
        }
        ZSTD_inBuffer in{block.data(), now, 0};
        for (bool full = false; in.pos < in.size || full;) {
            ZSTD_outBuffer to{piece.data(), piece.size(), 0};
            more = ZSTD_decompressStream(context.get(), &to, &in);
            if (ZSTD_isError(more) != 0)
                return damaged("the packing");
            if (to.pos > head_.plain - out.size())
                return damaged("the length");
            add(piece.data(), to.pos);
            full = to.pos == to.size;
        }
    }
    if (more != 0 || out.size() != head_.plain)
        return damaged("the length");
    if (sum != head_.sum)
        return damaged("the check sum");
    return out;
}

}  // namespace bramix::session
