#include "link/listener.h"

#include <arpa/inet.h>
#include <cerrno>
#include <cstring>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <fmt/format.h>

namespace bramix::link {

kernel::Result<std::unique_ptr<Listener>> Listener::open(std::uint16_t port)
{
    std::unique_ptr<Listener> out(new Listener);
    const auto broken = [&] { return kernel::fail(fmt::format("port {}", port), fmt::format("cannot be listened on: {}", std::strerror(errno)), "choose another port"); };
    out->listen_ = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
    if (out->listen_ < 0)
        return broken();
    const int yes = 1;
    (void)setsockopt(out->listen_, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(port);
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (bind(out->listen_, reinterpret_cast<const sockaddr*>(&address), sizeof address) != 0 || listen(out->listen_, 1) != 0)
        return broken();
    socklen_t length = sizeof address;
    if (getsockname(out->listen_, reinterpret_cast<sockaddr*>(&address), &length) != 0)
        return broken();
    out->port_ = ntohs(address.sin_port);
    return out;
}

Listener::~Listener()
{
    disconnect();
    if (listen_ >= 0)
        close(listen_);
}

bool Listener::connected()
{
    if (peer_ < 0) {
        peer_ = accept4(listen_, nullptr, nullptr, SOCK_NONBLOCK | SOCK_CLOEXEC);
        if (peer_ >= 0) {
            const int yes = 1;
            (void)setsockopt(peer_, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
            new_ = true;
        }
    }
    return peer_ >= 0;
}

std::string Listener::read()
{
    std::string out;
    char buffer[4096];
    while (peer_ >= 0 && out.size() < kMostAtOnce) {
        const ssize_t n = recv(peer_, buffer, sizeof buffer, 0);
        if (n > 0) {
            out.append(buffer, static_cast<std::size_t>(n));
            continue;
        }
        if (n < 0 && errno == EINTR)
            continue;
        if (n == 0 || (errno != EAGAIN && errno != EWOULDBLOCK))
            disconnect();
        break;
    }
    return out;
}

void Listener::write(std::string_view bytes)
{
    constexpr int kPatienceMs = 2000;  // a debugger that does not read for so long is gone
    while (peer_ >= 0 && !bytes.empty()) {
        const ssize_t n = send(peer_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
        if (n > 0) {
            bytes.remove_prefix(static_cast<std::size_t>(n));
        } else if (n < 0 && errno == EINTR) {
            continue;
        } else if (n < 0 && (errno == EAGAIN || errno == EWOULDBLOCK)) {
            pollfd p{peer_, POLLOUT, 0};
            if (poll(&p, 1, kPatienceMs) <= 0)
                disconnect();
        } else {
            disconnect();
        }
    }
}

void Listener::offer(std::string_view bytes)
{
    while (peer_ >= 0 && !bytes.empty()) {
        const ssize_t n = send(peer_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
        if (n > 0)
            bytes.remove_prefix(static_cast<std::size_t>(n));
        else if (n < 0 && errno == EINTR)
            continue;
        else if (n < 0 && (errno == EAGAIN || errno == EWOULDBLOCK))
            return;
        else
            disconnect();
    }
}

void Listener::disconnect()
{
    if (peer_ >= 0)
        close(peer_);
    peer_ = -1;
}

void Listener::wait(int milliseconds)
{
    pollfd p{descriptor(), POLLIN, 0};
    (void)poll(&p, 1, milliseconds);
}

}  // namespace bramix::link
