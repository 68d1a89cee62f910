#include "kernel/files.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include <fmt/format.h>

#include "kernel/file_writer.h"

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

private:
    int fd_;
};

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
    auto out = FileWriter::create(file);
    if (!out)
        return tl::unexpected(out.error());
    (*out)->put(bytes);
    return (*out)->finish();
}

}  // namespace bramix::kernel
