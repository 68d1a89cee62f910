#include "kernel/files.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include <fmt/format.h>

namespace bramix::kernel {

namespace fs = std::filesystem;

namespace {

// A descriptor that is closed with its owner.
class Descriptor {
public:
    explicit Descriptor(int fd) : fd_(fd) {}
    ~Descriptor()
    {
        if (fd_ >= 0)
            ::close(fd_);
    }
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    [[nodiscard]] int get() const { return fd_; }
    // False where what was written could not be kept.
    [[nodiscard]] bool close()
    {
        const int fd = fd_;
        fd_ = -1;
        return ::close(fd) == 0;
    }

private:
    int fd_;
};

bool writeAll(int fd, std::string_view bytes)
{
    while (!bytes.empty()) {
        const ssize_t n = ::write(fd, bytes.data(), bytes.size());
        if (n < 0 && errno == EINTR)
            continue;
        if (n <= 0)
            return false;
        bytes.remove_prefix(static_cast<std::size_t>(n));
    }
    return true;
}

const char* kindOf(const struct stat& s)
{
    if (S_ISDIR(s.st_mode))
        return "a folder";
    if (S_ISFIFO(s.st_mode))
        return "a pipe";
    if (S_ISSOCK(s.st_mode))
        return "a socket";
    return "a device";
}

bool isInside(const fs::path& file, const fs::path& folder)
{
    const auto [end, rest] = std::mismatch(folder.begin(), folder.end(), file.begin(), file.end());
    return end == folder.end() || (std::next(end) == folder.end() && end->empty());
}

}  // namespace

Result<std::string> FileAccess::path(const std::string& name) const
{
    const fs::path given(name);
    const fs::path whole = given.is_absolute() || folder.empty() ? given : fs::path(folder) / given;
    if (!confined || folder.empty())
        return whole.string();
    std::error_code broken;
    const fs::path real = fs::weakly_canonical(fs::absolute(whole), broken);
    const fs::path home = fs::weakly_canonical(fs::absolute(folder), broken);
    if (broken)
        return fail(name, "cannot be looked up: " + broken.message());
    if (isInside(real, home) || std::any_of(allowed.begin(), allowed.end(), [&](const std::string& file) { return fs::weakly_canonical(fs::absolute(file), broken) == real; }))
        return whole.string();
    return fail(name, "lies outside the folder of the bench, which nobody has allowed", "choose the file yourself, or put it beside the bench");
}

Result<std::string> readFile(const std::string& file, std::size_t most)
{
    // Without waiting: a pipe that nobody writes to would never be opened.
    const Descriptor in(::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
    struct stat s{};
    if (in.get() < 0 || ::fstat(in.get(), &s) != 0)
        return fail(file, errno == ENOENT ? std::string("no such file") : fmt::format("cannot be read: {}", std::strerror(errno)));
    if (!S_ISREG(s.st_mode))
        return fail(file, fmt::format("is {}; expected a file", kindOf(s)));
    const auto tooLarge = [&] { return fail(file, fmt::format("is larger than {} bytes; expected less", most)); };
    if (static_cast<std::uint64_t>(s.st_size) > most)
        return tooLarge();
    std::string out;
    out.reserve(static_cast<std::size_t>(s.st_size));
    char block[65536];
    for (;;) {
        const ssize_t n = ::read(in.get(), block, sizeof block);
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0)
            return fail(file, fmt::format("cannot be read: {}", std::strerror(errno)));
        if (n == 0)
            return out;
        // Some files give more than they say that they have.
        if (out.size() + static_cast<std::size_t>(n) > most)
            return tooLarge();
        out.append(block, static_cast<std::size_t>(n));
    }
}

Result<void> writeFile(const std::string& file, std::string_view bytes)
{
    const auto broken = [&](const char* what) { return fail(file, fmt::format("cannot be saved: {}: {}", what, std::strerror(errno)), "what was there before is untouched"); };
    struct stat before{};
    const bool there = ::stat(file.c_str(), &before) == 0;
    if (there && S_ISDIR(before.st_mode))
        return fail(file, "is a folder; expected a file");
    if (there && !S_ISREG(before.st_mode)) {
        Descriptor out(::open(file.c_str(), O_WRONLY | O_CLOEXEC));
        if (out.get() < 0 || !writeAll(out.get(), bytes) || !out.close())
            return fail(file, fmt::format("cannot be written: {}", std::strerror(errno)));
        return {};
    }
    std::error_code none;
    const fs::path real = fs::is_symlink(file, none) ? fs::weakly_canonical(fs::absolute(file), none) : fs::path(file);
    const std::string temporary = fmt::format("{}.new-{}", real.string(), ::getpid());
    Descriptor out(::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0644));
    const auto undone = [&](const char* what) {
        const auto result = broken(what);
        ::unlink(temporary.c_str());
        return result;
    };
    if (out.get() < 0)
        return broken("creating a file beside it");
    if (!writeAll(out.get(), bytes) || ::fsync(out.get()) != 0)
        return undone("writing");
    if (there && ::fchmod(out.get(), before.st_mode & 07777) != 0)
        return undone("keeping its rights");
    if (!out.close())
        return undone("writing");
    if (::rename(temporary.c_str(), real.c_str()) != 0)
        return undone("renaming");
    return {};
}

}  // namespace bramix::kernel
