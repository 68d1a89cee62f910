#include "link/endpoint.h"

#include <cerrno>
#include <charconv>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <poll.h>
#include <termios.h>
#include <unistd.h>

#include <fmt/format.h>

#include "link/listener.h"

namespace bramix::link {

using kernel::fail;
using kernel::Result;

namespace {

bool readable(int fd)
{
    pollfd p{fd, POLLIN, 0};
    return poll(&p, 1, 0) > 0 && (p.revents & (POLLIN | POLLHUP)) != 0;
}

class StandardStreams final : public Endpoint {
public:
    void write(std::string_view bytes) override { std::fwrite(bytes.data(), 1, bytes.size(), stdout); }
    void flush() override { std::fflush(stdout); }

    std::string read() override
    {
        std::string out;
        char buffer[4096];
        while (!ended_ && out.size() < kMostAtOnce && readable(STDIN_FILENO)) {
            const ssize_t n = ::read(STDIN_FILENO, buffer, sizeof buffer);
            if (n <= 0) {
                ended_ = n == 0 || errno != EINTR;
                break;
            }
            out.append(buffer, static_cast<std::size_t>(n));
        }
        return out;
    }

    [[nodiscard]] int descriptor() const override { return ended_ ? -1 : STDIN_FILENO; }

private:
    bool ended_ = false;
};

class File final : public Endpoint {
public:
    explicit File(std::FILE* file) : file_(file) {}
    ~File() override { std::fclose(file_); }
    File(const File&) = delete;
    File& operator=(const File&) = delete;
    void write(std::string_view bytes) override { std::fwrite(bytes.data(), 1, bytes.size(), file_); }
    void flush() override { std::fflush(file_); }

private:
    std::FILE* file_;
};

// Whoever connects hears what comes from then on, and may leave and come back.
class Tcp final : public Endpoint {
public:
    explicit Tcp(std::unique_ptr<Listener> listener) : listener_(std::move(listener)) {}

    void write(std::string_view bytes) override
    {
        if (listener_->connected())
            listener_->offer(bytes);
    }
    std::string read() override { return listener_->connected() ? listener_->read() : std::string(); }
    [[nodiscard]] int descriptor() const override { return listener_->descriptor(); }
    [[nodiscard]] std::string name() const override { return fmt::format("127.0.0.1:{}", listener_->port()); }

private:
    std::unique_ptr<Listener> listener_;
};

class Nowhere final : public Endpoint {
public:
    void write(std::string_view) override {}
};

// Raw from the start. The far side is kept open here too, so that its users may leave and others come.
class PseudoTerminal final : public Endpoint {
public:
    PseudoTerminal(int near, int far, std::string name) : near_(near), far_(far), name_(std::move(name)) {}
    ~PseudoTerminal() override
    {
        close(near_);
        close(far_);
    }
    PseudoTerminal(const PseudoTerminal&) = delete;
    PseudoTerminal& operator=(const PseudoTerminal&) = delete;

    void write(std::string_view bytes) override
    {
        while (!bytes.empty()) {
            const ssize_t n = ::write(near_, bytes.data(), bytes.size());
            if (n < 0 && errno == EINTR)
                continue;
            if (n <= 0)
                return;  // nobody reads: a line does not wait either
            bytes.remove_prefix(static_cast<std::size_t>(n));
        }
    }

    std::string read() override
    {
        std::string out;
        char buffer[4096];
        while (out.size() < kMostAtOnce) {
            const ssize_t n = ::read(near_, buffer, sizeof buffer);
            if (n <= 0)
                break;
            out.append(buffer, static_cast<std::size_t>(n));
        }
        return out;
    }

    [[nodiscard]] int descriptor() const override { return near_; }
    [[nodiscard]] std::string name() const override { return name_; }

private:
    int near_;
    int far_;
    std::string name_;
};

Result<std::unique_ptr<Endpoint>> openPseudoTerminal()
{
    const auto broken = [](const char* what) { return fail("pty", fmt::format("{}: {}", what, std::strerror(errno))); };
    const int near = posix_openpt(O_RDWR | O_NOCTTY | O_CLOEXEC | O_NONBLOCK);
    if (near < 0 || grantpt(near) != 0 || unlockpt(near) != 0)
        return broken("cannot open a pseudo-terminal");
    char name[128];
    if (ptsname_r(near, name, sizeof name) != 0)
        return broken("cannot name a pseudo-terminal");
    const int far = open(name, O_RDWR | O_NOCTTY | O_CLOEXEC);
    if (far < 0)
        return broken("cannot open a pseudo-terminal's far side");
    termios settings{};
    tcgetattr(far, &settings);
    cfmakeraw(&settings);
    tcsetattr(far, TCSANOW, &settings);
    return std::make_unique<PseudoTerminal>(near, far, name);
}

}  // namespace

Result<std::unique_ptr<Endpoint>> openEndpoint(const std::string& where)
{
    if (where == "-")
        return std::make_unique<StandardStreams>();
    if (where == "none")
        return std::make_unique<Nowhere>();
    if (where == "pty")
        return openPseudoTerminal();
    if (where.starts_with("tcp:")) {
        unsigned port = 0;
        const char* const end = where.data() + where.size();
        if (const auto [rest, error] = std::from_chars(where.data() + 4, end, port); error != std::errc() || rest != end || port > 65535)
            return fail(where, "is not a port; expected tcp: and a number from 0 to 65535");
        auto listener = Listener::open(static_cast<std::uint16_t>(port));
        if (!listener)
            return tl::unexpected(listener.error());
        return std::make_unique<Tcp>(std::move(*listener));
    }
    std::FILE* file = std::fopen(where.c_str(), "wb");
    if (file == nullptr)
        return fail(where, fmt::format("cannot be written: {}", std::strerror(errno)));
    return std::make_unique<File>(file);
}

}  // namespace bramix::link
