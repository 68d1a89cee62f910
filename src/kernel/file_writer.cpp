#include "kernel/file_writer.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>

#include <fmt/format.h>

namespace bramix::kernel {

namespace fs = std::filesystem;

namespace {

constexpr std::size_t kBuffer = 256U << 10U;

// The errno of what went wrong, or 0.
int writeAll(int fd, std::string_view bytes)
{
    while (!bytes.empty()) {
        const ssize_t n = ::write(fd, bytes.data(), bytes.size());
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return n < 0 ? errno : EIO;
        bytes.remove_prefix(static_cast<std::size_t>(n));
    }
    return 0;
}

}  // namespace

Result<std::unique_ptr<FileWriter>> FileWriter::create(const std::string& file)
{
    struct stat before{};
    const bool there = ::stat(file.c_str(), &before) == 0;
    if (there && S_ISDIR(before.st_mode))
        return fail(file, "is a folder; expected a file");
    if (there && !S_ISREG(before.st_mode)) {
        const int fd = ::open(file.c_str(), O_WRONLY | O_CLOEXEC);
        if (fd < 0)
            return fail(file, fmt::format("cannot be written: {}", std::strerror(errno)));
        std::unique_ptr<FileWriter> out(new FileWriter(file, fd));
        out->inPlace_ = true;
        return out;
    }
    std::error_code none;
    const fs::path real = fs::is_symlink(file, none) ? fs::weakly_canonical(fs::absolute(file), none) : fs::path(file);
    const std::string temporary = fmt::format("{}.new-{}", real.string(), ::getpid());
    const int fd = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, there ? before.st_mode & 0777 : 0644);
    std::unique_ptr<FileWriter> out(new FileWriter(file, fd));
    if (fd < 0)
        return tl::unexpected(out->broken("creating a file beside it").error());
    out->real_ = real.string();
    out->temporary_ = temporary;
    if (there)
        out->rights_ = static_cast<long>(before.st_mode & 07777);
    return out;
}

FileWriter::~FileWriter()
{
    if (fd_ >= 0)
        ::close(fd_);
    if (!temporary_.empty())
        ::unlink(temporary_.c_str());
}

Result<void> FileWriter::broken(const char* what) const
{
    if (inPlace_)
        return fail(file_, fmt::format("cannot be written: {}", std::strerror(errno)));
    return fail(file_, fmt::format("cannot be saved: {}: {}", what, std::strerror(errno)), "what was there before is untouched");
}

void FileWriter::flush()
{
    if (trouble_ == 0)
        trouble_ = writeAll(fd_, buffer_);
    buffer_.clear();
}

void FileWriter::put(std::string_view bytes)
{
    if (bytes.size() > kBuffer) {
        flush();
        if (trouble_ == 0)
            trouble_ = writeAll(fd_, bytes);
        return;
    }
    buffer_ += bytes;
    if (buffer_.size() > kBuffer)
        flush();
}

Result<void> FileWriter::finish()
{
    flush();
    errno = trouble_;
    if (trouble_ != 0 || (!inPlace_ && ::fsync(fd_) != 0))
        return broken("writing");
    if (rights_ >= 0 && ::fchmod(fd_, static_cast<mode_t>(rights_)) != 0)
        return broken("keeping its rights");
    const int closed = ::close(fd_);
    fd_ = -1;
    if (closed != 0)
        return broken("writing");
    if (inPlace_)
        return {};
    if (::rename(temporary_.c_str(), real_.c_str()) != 0)
        return broken("renaming");
    temporary_.clear();
    return {};
}

}  // namespace bramix::kernel
