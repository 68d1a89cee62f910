// One TCP connection at a time on the loopback interface: for a debugger or a program at a serial line that comes, goes, and may come back.
// Tested by tests/cli/gdb_test.cpp and tests/link/endpoint_test.cpp.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

#include "kernel/result.h"

namespace bramix::link {

class Listener {
public:
    // Port 0: any that is free. The error names the port and why it cannot be had.
    [[nodiscard]] static kernel::Result<std::unique_ptr<Listener>> open(std::uint16_t port);
    ~Listener();
    Listener(const Listener&) = delete;
    Listener& operator=(const Listener&) = delete;

    [[nodiscard]] std::uint16_t port() const { return port_; }
    // Takes whoever waits; true while somebody is there.
    bool connected();
    // True once after somebody new has come.
    [[nodiscard]] bool isNew() { return std::exchange(new_, false); }
    // What has come in; empty where nothing has. Notices when the other side has gone.
    // kMostAtOnce bytes and a little more at most: the rest waits for the next call.
    static constexpr std::size_t kMostAtOnce = 1U << 16U;
    [[nodiscard]] std::string read();
    // Waits a little for a reader that is slow; one that is slower is gone.
    void write(std::string_view bytes);
    // Never waits: what does not fit is dropped.
    void offer(std::string_view bytes);
    void disconnect();
    // Becomes readable when something comes in or somebody comes.
    [[nodiscard]] int descriptor() const { return peer_ >= 0 ? peer_ : listen_; }
    // Sleeps until something comes in or somebody comes, at most so long.
    void wait(int milliseconds);

private:
    Listener() = default;
    int listen_ = -1;
    int peer_ = -1;
    std::uint16_t port_ = 0;
    bool new_ = false;
};

}  // namespace bramix::link
